"""The steps about water that go tile by tile: filled ground, flow directions, accumulation, and indices."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk
from moss_step.large.tiling import Tile
from moss_step.large.water.flow import Amount, Rain, added_rims, weights_of, whole_amounts
from moss_step.large.water.ground import Ground, window_of
from moss_step.large.water.job import WaterJob, alone, ground_of, in_tile, like_ground
from moss_step.large.water.lakes import KeptLakes, kept_lakes
from moss_step.large.water.rising import Rising, rise_once
from moss_step.large.water.sharing import Sharing, Upstream, add_up
from moss_step.large.water.upstream import find_ways_once
from moss_step.large.whole import Fed
from moss_step.model.findings import Finding
from moss_step.model.frame import check_same_frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import BEARING, COUNT, SHARE
from moss_step.model.units import NONE as NO_UNIT
from moss_step.science.water.directions import bearings_of, facet_bearings
from moss_step.science.water.drainage import unit_of_accumulation
from moss_step.science.water.indices import mean_width, power_of, wetness_of
from moss_step.science.water.kernels.neighbours import NONE, OUT
from moss_step.science.water.kernels.tiles import told_amounts
from moss_step.science.water.neighbours import bearings
from moss_step.steps.floods import OF_WETNESS
from moss_step.steps.results import surface_outcome, unweighted_told
from moss_step.steps.shape import GRID_NORTH
from moss_step.steps.water import (
    FILLED_FIRST,
    UNWEIGHTED,
    changes_told,
    edge_warning,
    shares_told,
    weights_told,
)


@dataclass(frozen=True)
class FillJob(WaterJob):
    """The ground with its depressions filled, level or with a gradient; those that are deep or large enough
    may stay.
    """

    kept: dict[str, KeptLakes] = field(default_factory=dict)
    """Lakes that stay, under ``lakes``, once they are known."""

    @property
    def like(self) -> Surface:
        """As the ground."""
        return like_ground(self.grid)

    def for_tile(self, tile: Tile) -> FillJob:
        """It, with what one tile needs."""
        return replace(self, kept={name: lakes.for_tile(tile) for name, lakes in self.kept.items()})

    def prepare(self, ground: Ground, crew: Crew, progress: Progress) -> None:
        """Fill the ground, and find the lakes that stay."""
        depth, area = self.settings.keep_depth, self.settings.keep_area
        keeps, rising = depth is not None or area is not None, self._rising(ground)
        if rising is not None:
            rise_once(rising, crew, progress.part(0.0, 0.4))
        if keeps or rising is None:
            super().prepare(ground, crew, progress.part(0.4, 0.8))
        if keeps:
            self.kept["lakes"] = kept_lakes(ground, depth, area, crew, progress.part(0.8, 1.0))

    def _rising(self, ground: Ground) -> Rising | None:
        gradient = float(self.settings.gradient)
        return Rising(ground, gradient) if gradient > 0.0 else None

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """Heights in the precision of the ground, and what was put in."""
        before = reader.read(tile.rows, tile.cols)
        rising = self._rising(ground)
        filled = ground.scratch.load("filled", tile) if rising is None else rising.of(tile)
        for lakes in self.kept.values():
            filled = np.where(lakes.cells(tile, reader), ground.heights(reader, tile.rows, tile.cols), filled)
        after = filled.astype(np.float64) + self.grid.base if before.dtype == np.float64 else filled
        result = in_tile(self, tile, after)
        told = surface_outcome(result)
        return replace(told, findings=(*changes_told(in_tile(self, tile, before), result), *told.findings)), 0


class WaysJob(WaterJob):
    """Which way water leaves each cell."""

    @property
    def like(self) -> Surface:
        """Bearings."""
        return Surface(np.zeros((1, 1), np.float32), like_ground(self.grid).frame, BEARING, "aspect")

    def prepare(self, ground: Ground, crew: Crew, progress: Progress) -> None:
        """Fill the ground, and find its ways."""
        find_ways_once(ground, crew, progress)

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """Bearings, and how many outlets there are."""
        ways = ground.scratch.load("ways", tile)
        by_row = bearings(self.frame.part(tile.rows, slice(0, 1)))
        facets = None
        if self.settings.method == "dinf":
            shared = Sharing("dinf", 1.0).shared(ground, tile)
            facets = facet_bearings(shared.facets[1:-1, 1:-1], by_row)
        values = bearings_of(ways, by_row, facets)
        told = surface_outcome(in_tile(self, tile, values), (FILLED_FIRST, GRID_NORTH))
        outlets = Finding("outlets", int(np.count_nonzero(ways == OUT)), COUNT)
        return replace(told, findings=(outlets, *told.findings)), 0


@dataclass(frozen=True)
class AddJob(WaysJob):
    """How much lies upstream of each cell."""

    fed: dict[str, np.ndarray] = field(default_factory=dict)
    """What enters each tile at its rim, once that is known, where water runs to one receiver."""
    rain: Rain | None = None
    """Weights of the cells."""

    def for_tile(self, tile: Tile) -> AddJob:
        """It, with what enters one tile."""
        return replace(self, fed={tile.name: self.fed[tile.name]} if self.fed else {})

    @property
    def what(self) -> tuple[Amount, ...]:
        """What is added up."""
        return self.settings.unit, "edge"

    @property
    def like(self) -> Surface:
        """Cells or square metres, or the weights of these."""
        rain = None if self.rain is None else like_ground(self.rain.held)
        unit = unit_of_accumulation(self.settings.unit, rain)
        return Surface(np.zeros((1, 1), np.float32), like_ground(self.grid).frame, unit, "accumulation")

    def prepare(self, ground: Ground, crew: Crew, progress: Progress) -> None:
        """Find ways, and what passes from tile to tile."""
        super().prepare(ground, crew, progress.part(0.0, 0.8))
        part = progress.part(0.8, 1.0)
        if self.settings.method == "d8":
            self.fed.update(added_rims(ground, self.what, crew, part, self.rain))
        else:
            add_up(self._upstream(ground), crew, part)

    def _upstream(self, ground: Ground) -> Upstream:
        sharing = Sharing(self.settings.method, self.settings.exponent)
        return Upstream(ground, sharing, self.what, self.rain)

    def amounts(
        self, ground: Ground, tile: Tile, ways: np.ndarray, weights: np.ndarray | None = None
    ) -> np.ndarray:
        """What was added up, of the cells of a tile (amounts, rows, cols); ``ways`` have one more cell on
        each side.
        """
        if self.settings.method == "d8":
            return whole_amounts(ground, tile, self.what, ways, self.fed[tile.name], weights)
        found = self._upstream(ground).of(tile)
        found[1:] = found[1:].astype(np.float32)  # as in one piece: the least shares of edges come to nothing
        return found

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """Amounts, and the share of cells that may get water from beyond the edge."""
        ways, weights = ground.scratch.window("ways", tile, 1, NONE), weights_of(self.rain, tile)
        amounts, edge = self.amounts(ground, tile, ways, weights)
        values = np.empty(amounts.shape, np.float32)
        known, fed = told_amounts(ways, amounts, edge, self.settings.edges == "blank", values)
        told = surface_outcome(in_tile(self, tile, values), (FILLED_FIRST,))
        more = [Finding("edge_share", fed / max(known, 1), SHARE)]
        if weights is not None:
            missing = np.isnan(weights) & ~np.isnan(reader.read(tile.rows, tile.cols))
            more.append(Finding(UNWEIGHTED, int(np.count_nonzero(missing)), COUNT))
        return replace(told, findings=(*told.findings, *more)), known

    def remarks(self, findings: tuple[Finding, ...]) -> tuple[str, ...]:
        """The share of the whole ground, and what shares and weights are."""
        said = [edge_warning(float(f.value)) for f in findings if f.name == "edge_share"]
        said += shares_told(self.settings)
        if self.rain is not None:
            said += unweighted_told(sum(int(f.value) for f in findings if f.name == UNWEIGHTED))
            said += weights_told(self.settings, like_ground(self.rain.held))
        return tuple(said)


class IndexJob(AddJob):
    """An index of the area upstream of a metre of contour, and the slope."""

    @property
    def what(self) -> tuple[Amount, ...]:
        """Areas."""
        return ("area",)

    @property
    def like(self) -> Surface:
        """Without a unit."""
        return Surface(np.zeros((1, 1), np.float32), like_ground(self.grid).frame, NO_UNIT, self.quantity)

    @property
    def quantity(self) -> str:
        """Which index it is."""
        raise NotImplementedError

    def index(self, area: np.ndarray, tangent: np.ndarray) -> tuple[np.ndarray, tuple[str, ...]]:
        """It (float32), and what is said of it."""
        raise NotImplementedError

    def remarks(self, findings: tuple[Finding, ...]) -> tuple[str, ...]:
        """None."""
        return ()

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """The index."""
        ways = ground.scratch.window("ways", tile, 1, NONE)
        (area,) = self.amounts(ground, tile, ways)
        values, window = np.empty(area.shape, np.float32), window_of(tile, ground.tiling, 1)
        told_amounts(ways, area, np.zeros(area.shape), False, values)
        steep = ground.slope(window, reader.read(window.rows, window.cols), "percent") / np.float32(100.0)
        index, said = self.index(values / mean_width(self.frame.part(tile.rows, slice(0, 1))), steep)
        return surface_outcome(in_tile(self, tile, index), said), 0


class WetnessJob(IndexJob):
    """Topographic wetness."""

    quantity = "wetness"

    def index(self, area: np.ndarray, tangent: np.ndarray) -> tuple[np.ndarray, tuple[str, ...]]:
        """Wetness, and what level cells count for."""
        return wetness_of(area, tangent), OF_WETNESS


class PowerJob(IndexJob):
    """Stream power and the like."""

    quantity = "index"

    def index(self, area: np.ndarray, tangent: np.ndarray) -> tuple[np.ndarray, tuple[str, ...]]:
        """The index asked for."""
        return power_of(area, tangent, self.settings.index), (FILLED_FIRST,)


def filled(fed: Fed, settings: Any) -> WaterJob | None:
    """Filled ground."""
    return FillJob(ground_of(fed), settings) if alone(fed) else None


def directions(fed: Fed, settings: Any) -> WaterJob | None:
    """Flow directions."""
    return WaysJob(ground_of(fed), settings) if alone(fed) else None


def accumulation(fed: Fed, settings: Any) -> WaterJob | None:
    """Accumulation.

    Raises MossError for weights that do not lie cell on cell with the ground.
    """
    rain = fed.get("weights")
    if not isinstance(fed["dem"], OnDisk) or not (rain is None or isinstance(rain, OnDisk)):
        return None
    ground, weights = ground_of(fed), Rain(rain) if isinstance(rain, OnDisk) else None
    if weights is not None:
        check_same_frame(weights.held.frame, ground.frame, "The weights and the ground")
    return AddJob(ground, settings, {}, weights)


def wetness(fed: Fed, settings: Any) -> WaterJob | None:
    """Topographic wetness."""
    return WetnessJob(ground_of(fed), settings) if alone(fed) else None


def stream_power(fed: Fed, settings: Any) -> WaterJob | None:
    """Stream power and the like."""
    return PowerJob(ground_of(fed), settings) if alone(fed) else None

"""The steps about water that go tile by tile: filled ground, flow directions and accumulation by one
receiver.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk
from moss_step.large.tiling import Tile
from moss_step.large.water.flow import Amount, Rain, added_rims, weights_of, whole_amounts
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import WaterJob, alone, ground_of, in_tile, like_ground
from moss_step.large.water.upstream import find_ways_once
from moss_step.large.whole import Fed
from moss_step.model.findings import Finding
from moss_step.model.frame import check_same_frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import BEARING, COUNT, SHARE
from moss_step.science.water.drainage import bearings_of, unit_of_accumulation
from moss_step.science.water.kernels.neighbours import NONE, OUT
from moss_step.science.water.kernels.tiles import told_amounts
from moss_step.science.water.neighbours import bearings
from moss_step.steps.results import surface_outcome, unweighted_told
from moss_step.steps.shape import GRID_NORTH
from moss_step.steps.water import FILLED_FIRST, UNWEIGHTED, changes_told, edge_warning, weights_told


class FillJob(WaterJob):
    """The ground with all depressions filled, level."""

    @property
    def like(self) -> Surface:
        """As the ground."""
        return like_ground(self.grid)

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """Heights in the precision of the ground, and what was put in."""
        before, filled = reader.read(tile.rows, tile.cols), ground.scratch.load("filled", tile)
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
        told = surface_outcome(in_tile(self, tile, bearings_of(ways, by_row)), (FILLED_FIRST, GRID_NORTH))
        outlets = Finding("outlets", int(np.count_nonzero(ways == OUT)), COUNT)
        return replace(told, findings=(outlets, *told.findings)), 0


@dataclass(frozen=True)
class AddJob(WaysJob):
    """How much lies upstream of each cell."""

    fed: dict[str, np.ndarray] = field(default_factory=dict)
    """What enters each tile at its rim, once that is known."""
    rain: Rain | None = None
    """Weights of the cells."""

    def for_tile(self, tile: Tile) -> AddJob:
        """It, with what enters one tile."""
        return replace(self, fed={tile.name: self.fed[tile.name]})

    @property
    def like(self) -> Surface:
        """Cells or square metres, or the weights of these."""
        rain = None if self.rain is None else like_ground(self.rain.held)
        unit = unit_of_accumulation(self.settings.unit, rain)
        return Surface(np.zeros((1, 1), np.float32), like_ground(self.grid).frame, unit, "accumulation")

    def prepare(self, ground: Ground, crew: Crew, progress: Progress) -> None:
        """Find ways, and what passes from tile to tile."""
        super().prepare(ground, crew, progress.part(0.0, 0.8))
        what: tuple[Amount, ...] = (self.settings.unit, "edge")
        self.fed.update(added_rims(ground, what, crew, progress.part(0.8, 1.0), self.rain))

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """Amounts, and the share of cells that may get water from beyond the edge."""
        ways, weights = ground.scratch.window("ways", tile, 1, NONE), weights_of(self.rain, tile)
        what: tuple[Amount, ...] = (self.settings.unit, "edge")
        amounts, edge = whole_amounts(ground, tile, what, ways, self.fed[tile.name], weights)
        values = np.empty(amounts.shape, np.float32)
        known, fed = told_amounts(ways, amounts, edge, self.settings.edges == "blank", values)
        told = surface_outcome(in_tile(self, tile, values), (FILLED_FIRST,))
        more = [Finding("edge_share", fed / max(known, 1), SHARE)]
        if weights is not None:
            missing = np.isnan(weights) & ~np.isnan(reader.read(tile.rows, tile.cols))
            more.append(Finding(UNWEIGHTED, int(np.count_nonzero(missing)), COUNT))
        return replace(told, findings=(*told.findings, *more)), known

    def remarks(self, findings: tuple[Finding, ...]) -> tuple[str, ...]:
        """The share of the whole ground, and what the weights are."""
        said = [edge_warning(float(f.value)) for f in findings if f.name == "edge_share"]
        if self.rain is not None:
            said += unweighted_told(sum(int(f.value) for f in findings if f.name == UNWEIGHTED))
            said += weights_told(self.settings, like_ground(self.rain.held))
        return tuple(said)


def filled(fed: Fed, settings: Any) -> WaterJob | None:
    """Filled ground, where that is level and keeps no lake."""
    plain = settings.gradient == 0 and settings.keep_depth is None and settings.keep_area is None
    return FillJob(ground_of(fed), settings) if plain and alone(fed) else None


def directions(fed: Fed, settings: Any) -> WaterJob | None:
    """Flow directions to one receiver."""
    return WaysJob(ground_of(fed), settings) if settings.method == "d8" and alone(fed) else None


def accumulation(fed: Fed, settings: Any) -> WaterJob | None:
    """Accumulation by one receiver.

    Raises MossError for weights that do not lie cell on cell with the ground.
    """
    rain = fed.get("weights")
    on_disk = isinstance(fed["dem"], OnDisk) and (rain is None or isinstance(rain, OnDisk))
    if settings.method != "d8" or not on_disk:
        return None
    ground, weights = ground_of(fed), Rain(rain) if isinstance(rain, OnDisk) else None
    if weights is not None:
        check_same_frame(weights.held.frame, ground.frame, "The weights and the ground")
    return AddJob(ground, settings, {}, weights)

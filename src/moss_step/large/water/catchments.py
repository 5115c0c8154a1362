"""Catchments of places, and basins of links, on a ground in tiles, from the pieces that it is divided into;
what lies upstream of others is added to these.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk
from moss_step.large.outlines import outlined
from moss_step.large.water.drains import StreamsOn
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import WaterOn, ground_of, like_ground
from moss_step.large.water.pieces import Numbers, Pieces, find_pieces
from moss_step.large.water.upstream import add_up_once
from moss_step.large.whole import Fed, Told, told_of
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.typed import of_kind
from moss_step.science.water.basin_figures import Sums, figure_columns
from moss_step.science.water.catchments import catchment_shapes, check_outlets
from moss_step.science.water.network import last_own_cells
from moss_step.science.water.trace import Near
from moss_step.science.zones.tracing import by_number
from moss_step.steps.streams import catchment_outcome, named, places_of, stream_basins_outcome


def measured(
    ground: Ground,
    seeds: np.ndarray,
    nested: bool,
    names: list[str] | None,
    crew: Crew,
    progress: Progress,
) -> Shapes:
    """Catchments of cells, as ``basins.catchments`` gives them.

    Raises MossError for too many, or two nested ones in one cell.
    """
    check_outlets(len(seeds))
    places, piece = np.unique(seeds, return_inverse=True)
    if nested and len(places) < len(seeds):
        raise MossError("Two outlets lie in one cell.", "Move one of them.")
    parts = find_pieces(ground, places, crew, progress.part(0.0, 0.6))
    found, dem = parts if nested else parts.whole(), like_ground(ground.held)
    heights = ground.heights_at(places)[piece]
    ways = found.longest[piece], found.fall[piece]
    columns = figure_columns(
        Sums(*(some[piece] for some in found.counted)),
        ways,
        seeds,
        heights,
        (dem, ground.held.base),
        ground.held.frame,
    )
    geometry = _outlines(ground, parts, nested, crew, progress.part(0.6, 1.0))[piece]
    return catchment_shapes(geometry, columns, names, dem, ground.held.frame)


def _outlines(ground: Ground, parts: Pieces, nested: bool, crew: Crew, progress: Progress) -> np.ndarray:
    """Outlines of the pieces, or of each with all upstream of it: those with as many below them lie apart,
    and are outlined together.
    """
    n, frame = len(parts.below), ground.held.frame
    depth = np.zeros(n, np.int64) if nested else parts.depths()
    geometry, own = np.empty(n, object), np.arange(n)
    rounds = range(int(depth.max()) + 1)
    for k in rounds:
        at = own.copy()
        for _ in range(int(depth.max()) if not nested else 0):
            at = np.where(depth[at] > k, parts.below[at], at)
        number = np.append(0, np.where(depth[at] == k, at + 1, 0)).astype(np.int32)
        part = progress.part(k / len(rounds), (k + 1) / len(rounds))
        found, _ = outlined(Numbers(ground, number), ground.tiling, frame, crew, part)
        geometry[depth == k] = by_number(found, n)[depth == k]
    return geometry


@dataclass(frozen=True)
class PlaceJob(WaterOn):
    """Catchments of points."""

    outlets: Shapes | None = None

    def run(self, crew: Crew, target: TiledFile | None, folder: Path, cells: int, progress: Progress) -> Told:
        """Find the cells of the points, and what drains to them."""
        geometry, names = places_of(self.settings, self.outlets, self.frame)
        ground = self.ground_in(folder, cells)
        add_up_once(ground, crew, progress.part(0.0, 0.7))
        seeds = np.array([self._cell(ground, g.x, g.y) for g in geometry])
        shapes = named(
            measured(ground, seeds, self.settings.nested, names, crew, progress.part(0.7, 1.0)),
            self.settings.names,
        )
        return told_of(catchment_outcome(self.settings, shapes, geometry, list(seeds[:, None]), self.frame))

    def _cell(self, ground: Ground, x: float, y: float) -> int:
        """The cell of a point, or that of the largest stream around it.

        Raises MossError outside the ground.
        """
        there = self.frame.cell_at(x, y)
        if there is None:
            raise MossError(f"{x:g}, {y:g} lies outside the ground.", "Choose a place on it.")
        cell = there[0] * self.frame.cols + there[1]
        if np.isnan(ground.heights_at(np.array([cell]))[0]):
            raise MossError(f"{x:g}, {y:g} has no height.", "Choose a place that has data.")
        if self.settings.snap <= 0:
            return cell
        near = Near.of(self.frame, cell, self.settings.snap)
        return near.best(ground.scratch.part("upstream", near.rows, near.cols, 0))


class LinkJob(StreamsOn):
    """Basins of the links of streams."""

    def run(self, crew: Crew, target: TiledFile | None, folder: Path, cells: int, progress: Progress) -> Told:
        """Find the links, and what drains to each."""
        found = self.streams(folder, cells, crew, progress.part(0.0, 0.7))
        ends = last_own_cells(found.held, found.links)
        names = [f"Link {k + 1}" for k in range(len(ends))]
        basins = measured(found.ground, ends, True, names, crew, progress.part(0.7, 1.0))
        return told_of(stream_basins_outcome(basins))


def catchment(fed: Fed, settings: Any) -> PlaceJob | None:
    """Catchments of points."""
    outlets = of_kind(fed["outlets"], Shapes) if "outlets" in fed else None
    points = outlets.kind == "points" if outlets is not None else settings.at is not None
    grid = isinstance(fed["dem"], OnDisk)
    if not (grid and points) or settings.line is not None:
        return None
    return PlaceJob(ground_of(fed), settings, outlets)


def stream_basins(fed: Fed, settings: Any) -> LinkJob | None:
    """Basins by junction."""
    return LinkJob(ground_of(fed), settings) if isinstance(fed["dem"], OnDisk) else None

"""Catchments of places, and basins of links, on a ground in tiles, from the pieces that it is divided into;
what lies upstream of others is added to these.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk
from moss_step.large.outlines import outlined
from moss_step.large.water.drains import StreamsOn
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import WaterOn, ground_of, like_ground
from moss_step.large.water.pieces import Numbers, find_pieces, runs_to
from moss_step.large.water.upstream import add_up_once
from moss_step.large.whole import Fed, Told, told_of
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.typed import of_kind
from moss_step.science.water.basin_figures import Sums, figure_columns
from moss_step.science.water.catchments import catchment_shapes, cells_under, check_outlets, checked_seeds
from moss_step.science.water.kernels.neighbours import NONE
from moss_step.science.water.network import last_own_cells
from moss_step.science.water.trace import Near
from moss_step.science.zones.tracing import by_number
from moss_step.steps.streams import catchment_outcome, named, places_of, stream_basins_outcome


def measured(
    ground: Ground,
    seeds: list[np.ndarray],
    nested: bool,
    names: list[str] | None,
    crew: Crew,
    progress: Progress,
) -> Shapes:
    """Catchments of sets of cells, as ``basins.catchments`` gives them.

    Raises MossError for too many, or two nested ones in one cell.
    """
    check_outlets(len(seeds))
    every, each = np.concatenate(seeds), np.cumsum([len(cells) for cells in seeds])[:-1]
    ends = _last_of(ground, seeds, np.split(ground.at_cells("ways", every), each))
    places = np.unique(np.concatenate(ends))
    parts = find_pieces(ground, places, crew, progress.part(0.0, 0.6))
    depths = parts.depths()
    held = [parts.upstream(np.searchsorted(places, own), depths) for own in ends]
    if nested:
        upstream = np.split(ground.at_cells("upstream", every), each)
        _take_apart(held, [int(own.max()) for own in upstream])
    found = [parts.joined(inside, depths) for inside in held]
    heights = np.split(ground.held.above_base(ground.heights_at(every)), each)
    lows = np.array([cells[np.argmin(own)] for cells, own in zip(seeds, heights, strict=True)])
    counted = np.array([one.sums[: len(Sums._fields)] for one in found])
    ways = np.array([one.longest for one in found]), np.array([one.fall for one in found])
    dem, frame = like_ground(ground.held), ground.held.frame
    columns = figure_columns(
        Sums(*counted.T), ways, lows, ground.heights_at(lows), (dem, ground.held.base), frame
    )
    geometry = _outlines(ground, held, crew, progress.part(0.6, 1.0))
    return catchment_shapes(geometry, columns, names, dem, frame)


def _last_of(ground: Ground, seeds: list[np.ndarray], ways: list[np.ndarray]) -> list[np.ndarray]:
    """Those of the cells of each set whose water does not run on to another one of it."""
    frame = ground.held.frame
    onto = [runs_to(frame, cells, own) for cells, own in zip(seeds, ways, strict=True)]
    return [cells[~np.isin(to, cells)] for cells, to in zip(seeds, onto, strict=True)]


def _take_apart(held: list[np.ndarray], sizes: list[int]) -> None:
    """Leave each its own: those with less ground upstream take theirs first.

    Raises MossError for one that nothing is left of.
    """
    taken = np.zeros(len(held[0]), bool)
    for k in np.argsort(sizes, kind="stable").tolist():
        held[k] &= ~taken
        taken |= held[k]
        if not held[k].any():
            raise MossError("Two outlets lie in one cell.", "Move one of them.")


def _outlines(ground: Ground, held: list[np.ndarray], crew: Crew, progress: Progress) -> np.ndarray:
    """Outlines of sets of pieces: those that share none are outlined together."""
    rounds = list[tuple[np.ndarray, list[int]]]()
    for k, inside in enumerate(held):
        free = next((r for r in rounds if not r[0][inside].any()), None)
        if free is None:
            free = (np.zeros(len(inside), np.int32), [])
            rounds.append(free)
        free[0][inside] = k + 1
        free[1].append(k)
    geometry, frame = np.empty(len(held), object), ground.held.frame
    for n, (number, own) in enumerate(rounds):
        part = progress.part(n / len(rounds), (n + 1) / len(rounds))
        numbers = Numbers(ground, np.append(0, number).astype(np.int32))
        found, _ = outlined(numbers, ground.tiling, frame, crew, part)
        geometry[own] = by_number(found, len(held))[own]
    return geometry


@dataclass(frozen=True)
class PlaceJob(WaterOn):
    """Catchments of points, lines and areas."""

    outlets: Shapes | None = None

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find the cells of the points, and what drains to them."""
        geometry, names = places_of(self.settings, self.outlets, self.frame)
        ground = self.ground_in(folder, cells)
        add_up_once(ground, crew, progress.part(0.0, 0.7))
        seeds = [self._seeds(ground, g) for g in geometry]
        shapes = named(
            measured(ground, seeds, self.settings.nested, names, crew, progress.part(0.7, 1.0)),
            self.settings.names,
        )
        return told_of(catchment_outcome(self.settings, shapes, geometry, seeds, self.frame))

    def _seeds(self, ground: Ground, geometry: Any) -> np.ndarray:
        """Cells of a place, a line or an area.

        Raises MossError where there is no ground.
        """
        if geometry.geom_type == "Point":
            return np.array([self._cell(ground, ground.cell_at(geometry.x, geometry.y))])
        cells = cells_under(self.frame, geometry)
        return checked_seeds(cells[ground.at_cells("ways", cells) != NONE] if len(cells) else cells)

    def _cell(self, ground: Ground, cell: int) -> int:
        """A cell, or that of the largest stream around it."""
        if self.settings.snap <= 0:
            return cell
        near = Near.of(self.frame, cell, self.settings.snap)
        return near.best(ground.scratch.part("upstream", near.rows, near.cols, 0))


class LinkJob(StreamsOn):
    """Basins of the links of streams."""

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find the links, and what drains to each."""
        found = self.streams(folder, cells, crew, progress.part(0.0, 0.7))
        ends = last_own_cells(found.held, found.links)
        names = [f"Link {k + 1}" for k in range(len(ends))]
        seeds = list(ends[:, None])
        basins = measured(found.ground, seeds, True, names, crew, progress.part(0.7, 1.0))
        return told_of(stream_basins_outcome(basins))


def catchment(fed: Fed, settings: Any) -> PlaceJob | None:
    """Catchments of points, lines and areas."""
    outlets = of_kind(fed["outlets"], Shapes) if "outlets" in fed else None
    return PlaceJob(ground_of(fed), settings, outlets) if isinstance(fed["dem"], OnDisk) else None


def stream_basins(fed: Fed, settings: Any) -> LinkJob | None:
    """Basins by junction."""
    return LinkJob(ground_of(fed), settings) if isinstance(fed["dem"], OnDisk) else None

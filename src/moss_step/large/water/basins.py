"""Basins by outlet on a ground in tiles, and the pools that they end in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.held import OnDisk
from moss_step.large.outlines import find_parts, outlined
from moss_step.large.tiling import Tile
from moss_step.large.water.drains import least_area
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import WaterOn, alone, ground_of, like_ground
from moss_step.large.water.pieces import Numbers, OnGround, find_pieces
from moss_step.large.water.pool_basins import BasinNumbers, divide, measure
from moss_step.large.water.upstream import Streams, add_up_once, ground_area
from moss_step.large.whole import Fed, Told, told_of
from moss_step.model.progress import Progress
from moss_step.science.water.basin_figures import Sums, figure_columns, with_outlines
from moss_step.science.water.basins import check_basins, number_levels, of_size
from moss_step.science.water.kernels.neighbours import OUT
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.tracing import by_number
from moss_step.steps.streams import basins_outcome, named


class Outlets(NamedTuple):
    """Cells that water leaves the ground at, and the height of the water there."""

    cells: np.ndarray
    level: np.ndarray


class OutletWork(Work):
    """Lists the outlets of tiles."""

    side_by_side = True

    def __init__(self, ground: Ground) -> None:
        self.ground = ground

    def read(self, tile: Tile) -> np.ndarray:
        """Ways."""
        return self.ground.scratch.load("ways", tile)

    def work_out(self, tile: Tile, ways: np.ndarray) -> Outlets:
        """Cells and levels."""
        r, c = np.nonzero(ways == OUT)
        cells = (tile.top + r) * self.ground.held.frame.cols + tile.left + c
        return Outlets(cells, self.ground.scratch.load("filled", tile)[r, c])


@dataclass(frozen=True)
class Levels(OnGround):
    """Cells whose water stands as high as at an outlet: the place from 1 among the heights that do (in
    ascending order).
    """

    level: np.ndarray

    def numbers(self, tile: Tile, _: GridReader) -> np.ndarray:
        """The place of each cell."""
        return number_levels(self.ground.scratch.load("filled", tile), self.level)


class LowWork(Work):
    """Finds the lowest ground in each lake of a tile, and the lakes that its outlets are at."""

    side_by_side = True

    def __init__(self, levels: Levels, part: Mapping[str, np.ndarray]) -> None:
        self.levels, self.part, self._reader = levels, dict(part), levels.ground.reading()

    def for_tile(self, tile: Tile) -> LowWork:
        """What one tile needs."""
        return LowWork(self.levels, {tile.name: self.part[tile.name]})

    def read(self, tile: Tile) -> tuple[np.ndarray, np.ndarray]:
        """Numbers and heights."""
        reader: GridReader = self._reader.get()
        return self.levels.numbers(tile, reader), self.levels.ground.heights(reader, tile.rows, tile.cols)

    def work_out(self, tile: Tile, read: tuple[np.ndarray, np.ndarray]) -> tuple[np.ndarray, ...]:
        """Lakes and the lowest ground of each; outlets that water only reaches once these are full, and the
        lake of each.
        """
        numbers, z = read
        labels, number = label_components(numbers, 8, 0)
        part, low = self.part[tile.name], np.full(len(number), np.inf, np.float32)
        wet = labels > 0
        np.minimum.at(low, labels[wet], z[wet])
        scratch = self.levels.ground.scratch
        spills = scratch.load("ways", tile) == OUT
        spills.reshape(-1)[scratch.load("leaves", tile)] = False
        r, c = np.nonzero(spills)
        cells = (tile.top + r) * self.levels.ground.held.frame.cols + tile.left + c
        return part[1:], low[1:], cells, part[labels[r, c]]


def pool_depths(ground: Ground, outlets: Outlets, crew: Crew, progress: Progress) -> np.ndarray:
    """How deep the water stands that leaves over each outlet: from its height down to the lowest ground under
    all water that hangs together as high; 0 where water leaves without a pool.
    """
    levels, tiles = Levels(ground, np.unique(outlets.level)), list(ground.tiling)
    frame = ground.held.frame
    whole, _ = find_parts(levels, ground.tiling, frame, 8, crew, progress.part(0.0, 0.5))
    low, lake = np.full(len(whole.number) + 1, np.inf, np.float32), np.zeros(len(outlets.cells), np.int64)
    work = LowWork(levels, whole.part)
    for _, (parts, lows, cells, of) in crew.each(work, tiles, progress.part(0.5, 1.0), "Measuring pools"):
        np.minimum.at(low, parts, lows)
        lake[np.searchsorted(outlets.cells, cells)] = of
    deep = np.where(lake > 0, outlets.level - low[lake], np.float32(0.0))
    return deep.astype(np.float64)


class BasinJob(WaterOn):
    """Basins by outlet, where all pools spill."""

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find the outlets, divide the ground between them, and outline what is large enough."""
        ground = self.ground_in(folder, cells)
        add_up_once(ground, crew, progress.part(0.0, 0.6))
        tiles = list(ground.tiling)
        parts = [o for _, o in crew.each(OutletWork(ground), tiles, progress.part(0.6, 0.62), "Dividing")]
        every = Outlets(*(np.concatenate(some) for some in zip(*parts, strict=True)))
        every = Outlets(*(some[np.argsort(every.cells)] for some in every))
        streams = Streams(ground, least_area(ground, None))
        pieces = find_pieces(ground, every.cells, crew, progress.part(0.62, 0.8), streams)
        order = of_size(pieces.counted.area, self.settings.min_area)
        check_basins(len(order), self.settings.min_area)
        depth = pool_depths(ground, every, crew, progress.part(0.8, 0.9))[order]
        number = np.zeros(len(every.cells) + 1, np.int32)
        number[order + 1] = np.arange(1, len(order) + 1)
        found = Basins(
            Numbers(ground, number), every.cells[order], Sums(*(s[order] for s in pieces.counted)),
            (pieces.longest[order], pieces.fall[order]), pieces.stream_metres[order], depth,
            pieces.under_water[order],
        )  # fmt: skip
        return found.told(self, ground, crew, progress.part(0.9, 1.0))


class PoolBasinJob(WaterOn):
    """Basins by pool, where pools of some depth do not spill."""

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Divide the ground between pools and outlets, and outline what is large enough."""
        ground, least = self.ground_in(folder, cells), (self.settings.min_depth, self.settings.min_area)
        basins = divide(ground, least, crew, progress.part(0.0, 0.7))
        some = measure(ground, basins, crew, progress.part(0.7, 0.9))
        found = Basins(
            BasinNumbers(ground), basins.end, some.counted, (some.longest, some.fall), some.stream_metres,
            basins.depth, some.under_water,
        )  # fmt: skip
        return found.told(self, ground, crew, progress.part(0.9, 1.0))


class Basins(NamedTuple):
    """Basins, largest first: what numbers their cells, the cells that their water ends in, what was added up,
    the longest way in each in metres and how far water falls along it, metres of stream, how deep the pool is
    that each ends in, and square metres times the unit of the heights under its water.
    """

    numbered: OnGround
    ends: np.ndarray
    sums: Sums
    ways: tuple[np.ndarray, np.ndarray]
    stream_metres: np.ndarray
    depth: np.ndarray
    under_water: np.ndarray

    def told(self, job: WaterOn, ground: Ground, crew: Crew, progress: Progress) -> Told:
        """Outline them, and say what they are."""
        dem, frame = like_ground(job.grid), job.frame
        heights = ground.heights_at(self.ends)
        columns = figure_columns(self.sums, self.ways, self.ends, heights, (dem, job.grid.base), frame)
        columns["pool_depth"] = self.depth
        columns["pool_m3"] = np.where(self.depth > 0.0, self.under_water * dem.metres_per_height, 0.0)
        areas, _ = outlined(self.numbered, ground.tiling, frame, crew, progress)
        geometry = by_number(areas, len(self.ends))
        shapes = named(with_outlines(geometry, columns, self.stream_metres, dem, frame), job.settings.names)
        return told_of(basins_outcome(job.settings, shapes, ground_area(ground)))


def basins(fed: Fed, settings: Any) -> BasinJob | PoolBasinJob | None:
    """Basins by outlet, or by the pools that their water ends in."""
    if not (alone(fed) and isinstance(fed["dem"], OnDisk)):
        return None
    make = BasinJob if settings.min_depth is None else PoolBasinJob
    return make(ground_of(fed), settings)

"""Basins of a ground in tiles where deep pools end basins of their own: numbered by the pool that water ends
in, and measured tile by tile.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.tiling import Tile
from moss_step.large.water.drains import least_area
from moss_step.large.water.ends import Followed, follow
from moss_step.large.water.ground import Ground
from moss_step.large.water.passes import drop_pools, fill
from moss_step.large.water.pieces import (
    ADDED,
    Added,
    Around,
    OnGround,
    add_to,
    added_up,
    around_tile,
)
from moss_step.large.water.spilling import Ended, Kept, Spill, drop_spills, find_ends, looked_up, pools_once
from moss_step.large.water.upstream import Streams, add_up_once
from moss_step.model.progress import Progress
from moss_step.science.water.basins import check_basins, of_size
from moss_step.science.water.kernels.basins import longest_to
from moss_step.science.water.kernels.spilling import last_of_number

_NUMBERS = "basins"
"""What the basin of each cell of a tile is kept under."""


class Found(NamedTuple):
    """Pools that the water of a tile ends in, and the ground area there that it comes from; and of those
    that lie in the tile the pool, its cell, the height there, its depth, and the cell that it spills at
    (-1: none) and whether it runs on.
    """

    pool: np.ndarray
    area: np.ndarray
    own: np.ndarray
    at: np.ndarray
    bottom: np.ndarray
    depth: np.ndarray
    top: np.ndarray
    runs_on: np.ndarray


class CountWork(Work):
    """Measures the ground whose water ends in each pool."""

    side_by_side = True

    def __init__(self, ground: Ground, ended: Ended) -> None:
        self.ground, self.ended = ground, ended

    def for_tile(self, tile: Tile) -> CountWork:
        """What one tile needs."""
        return CountWork(self.ground, self.ended.for_tile(tile))

    def read(self, tile: Tile) -> np.ndarray:
        """The pool of each cell."""
        return self.ground.scratch.load("labels", tile)

    def work_out(self, tile: Tile, labels: np.ndarray) -> Found:
        """Areas; and what is known of the pools that end here."""
        kept, frame = Kept.of(self.ground.scratch, tile), self.ground.held.frame.part(tile.rows, tile.cols)
        ends, n = self.ended.ends(kept.ends), len(kept.ends)
        area: np.ndarray
        if frame.geographic:
            area = np.bincount(labels.reshape(-1), np.repeat(frame.row_areas, labels.shape[1]), n)
        else:
            area = np.bincount(labels.reshape(-1), minlength=n) * float(frame.row_areas[0])
        pool, place = np.unique(ends[1:], return_inverse=True)
        own = 1 + np.flatnonzero(ends[1:] == self.ended.first[tile.name] + np.arange(1, n))
        r, c = np.divmod(kept.cell[own], labels.shape[1])
        at = (tile.top + r).astype(np.int64) * self.ground.held.frame.cols + tile.left + c
        return Found(
            pool, np.bincount(place, area[1:], len(pool)), ends[own], at, kept.bottom[own], kept.depth[own],
            kept.top[own], kept.across[own] != 0,
        )  # fmt: skip


@dataclass(frozen=True)
class PoolBasins:
    """The basins of a ground, largest first: the pool that each ends in, the cell that its water ends in, how
    deep the pool is in the unit of the ground, and the height of the water, above the base of the ground.
    """

    pool: np.ndarray
    end: np.ndarray
    depth: np.ndarray
    level: np.ndarray


def _of_size(parts: list[Found], spill: Spill, area_least: float, depth_least: float) -> PoolBasins:
    """The basins that are large enough; ``spill`` says more of pools that spill over rims.

    Raises MossError when there are too many, or none.
    """
    own = [np.concatenate(some) for some in zip(*(p[2:] for p in parts), strict=True)]
    order = np.argsort(own[1])
    pool, at, bottom, depth, top, runs_on = (some[order] for some in own)
    number = np.argsort(pool)
    areas = np.zeros(len(pool))
    for part in parts:
        np.add.at(areas, number[np.searchsorted(pool[number], part.pool)], part.area)
    depth, top = (looked_up(spill.pool, a, pool, b) for a, b in ((spill.depth, depth), (spill.top, top)))
    runs_on = looked_up(spill.pool, spill.across != 0, pool, runs_on)
    kept = of_size(areas, area_least)
    check_basins(len(kept), area_least)
    pool, at, bottom, depth, top, runs_on = (some[kept] for some in (pool, at, bottom, depth, top, runs_on))
    deep = depth.astype(float)
    deep[deep < depth_least] = 0.0
    return PoolBasins(pool, np.where(~runs_on & (top >= 0), top, at), deep, bottom + depth)


class BasinOf(NamedTuple):
    """Pools (ascending), and the basins from 1 whose water ends in them."""

    pool: np.ndarray
    basin: np.ndarray

    def of(self, pool: np.ndarray) -> np.ndarray:
        """The basins of some pools (int32); 0 for none."""
        return looked_up(self.pool, self.basin, pool, np.zeros(len(pool), np.int32)).astype(np.int32)


class NumberWork(Work):
    """Numbers the cells of tiles by their basins."""

    side_by_side = True

    def __init__(self, ground: Ground, ended: Ended, numbered: Mapping[str, BasinOf]) -> None:
        self.ground, self.ended, self.numbered = ground, ended, numbered

    def for_tile(self, tile: Tile) -> NumberWork:
        """What one tile needs."""
        own = {tile.name: self.numbered[tile.name]}
        return NumberWork(self.ground, self.ended.for_tile(tile), own)

    def read(self, tile: Tile) -> np.ndarray:
        """The pool of each cell."""
        return self.ground.scratch.load("labels", tile)

    def work_out(self, tile: Tile, labels: np.ndarray) -> np.ndarray:
        """The basin from 1 that each cell is of; 0 for none."""
        numbers = self.numbered[tile.name].of(self.ended.ends(Kept.of(self.ground.scratch, tile).ends))
        result: np.ndarray = numbers[labels]
        return result

    def finish(self, tile: Tile, _: np.ndarray, numbers: np.ndarray) -> None:
        """Keep them."""
        self.ground.scratch.save(_NUMBERS, tile, numbers)


@dataclass(frozen=True)
class BasinNumbers(OnGround):
    """The basin of each cell."""

    def numbers(self, tile: Tile, _: GridReader) -> np.ndarray:
        """The number of each cell."""
        return self.ground.scratch.load(_NUMBERS, tile)


@dataclass(frozen=True)
class LastOwn:
    """Water is followed to the last cell that is of the same basin; the height of the water there counts."""

    lengths: bool = True

    def cells(self, ground: Ground, tile: Tile, _: GridReader) -> np.ndarray:
        """The cells whose water goes on to another basin, or leaves the ground."""
        numbers = ground.scratch.window(_NUMBERS, tile, 1, 0)
        found: np.ndarray = last_of_number(ground.scratch.load("ways", tile), numbers)
        return found

    def values(self, ground: Ground, tile: Tile, _: GridReader) -> np.ndarray:
        """Heights of the water."""
        return ground.scratch.load("filled", tile)


class Part(NamedTuple):
    """Of the basins that a tile has cells of: their numbers; what was added up, the longest way within each
    in metres, and how far water falls along it.
    """

    number: np.ndarray
    sums: np.ndarray
    longest: np.ndarray
    fall: np.ndarray


class MeasureWork(Work):
    """Measures basins in tiles."""

    side_by_side = True

    def __init__(self, ground: Ground, followed: Followed, level: np.ndarray, streams: Streams) -> None:
        self.ground, self.followed, self.level, self.streams = ground, followed, level, streams
        self._reader = ground.reading()

    def for_tile(self, tile: Tile) -> MeasureWork:
        """What one tile needs."""
        return MeasureWork(self.ground, self.followed.for_tile(tile), self.level, self.streams)

    def read(self, tile: Tile) -> Around:
        """Heights with a margin for the slope."""
        return around_tile(self.ground, tile, self._reader.get())

    def work_out(self, tile: Tile, read: Around) -> Part:
        """What its basins measure."""
        ends = self.followed.ends(self.ground, tile, read.reader)
        numbers = self.ground.scratch.load(_NUMBERS, tile)
        number, local = np.unique(np.append(0, numbers), return_inverse=True)
        numbered = local[1:].astype(np.int32).reshape(numbers.shape)
        level = np.append(np.float32(-np.inf), self.level)[number]
        sums = added_up(self.ground, tile, read, numbered, level, self.streams)
        longest, fall = np.zeros(len(number)), np.zeros(len(number))
        filled = self.ground.scratch.load("filled", tile)
        longest_to(numbered, ends.labels, ends.metres, filled, ends.value, longest, fall)
        return Part(number[1:], sums[1:], longest[1:], fall[1:])


@dataclass(frozen=True)
class Measured(Added):
    """Of all basins what was added up, the longest way in each in metres, and how far water falls there."""

    longest: np.ndarray
    fall: np.ndarray


def divide(ground: Ground, least: tuple[float, float], crew: Crew, progress: Progress) -> PoolBasins:
    """Divide a ground by the pools that its water ends in: ``least`` depth in the unit of the ground, and
    square metres of a basin. The number of each cell is kept.

    Raises MossError when there are too many, or none.
    """
    depth, area = least
    rims, tiles = pools_once(ground, crew, progress.part(0.0, 0.3)), list(ground.tiling)
    if not ground.scratch.finished("filled"):
        fill(ground, crew, progress.part(0.3, 0.5), keep=True)
    add_up_once(ground, crew, progress.part(0.5, 0.8))
    ended, spill = find_ends(ground, rims, depth, crew, progress.part(0.8, 0.9))
    counting = crew.each(CountWork(ground, ended), tiles, progress.part(0.9, 0.95), "Dividing")
    parts = dict(counting)
    basins = _of_size([parts[tile] for tile in tiles], spill, area, depth)
    order = np.argsort(basins.pool)
    every = BasinOf(basins.pool[order], order + 1)
    numbered = {t.name: BasinOf(part.pool, every.of(part.pool)) for t, part in parts.items()}
    for _ in crew.each(NumberWork(ground, ended, numbered), tiles, progress.part(0.95, 1.0), "Dividing"):
        pass
    drop_pools(ground)
    drop_spills(ground)
    return basins


def measure(ground: Ground, basins: PoolBasins, crew: Crew, progress: Progress) -> Measured:
    """Measure basins that a ground was divided into."""
    followed = follow(ground, LastOwn(), crew, progress.part(0.0, 0.4))
    n, tiles = len(basins.pool), list(ground.tiling)
    sums, longest, fall = np.zeros((n, ADDED)), np.zeros(n), np.zeros(n)
    sums[:, 2], sums[:, 3] = np.inf, -np.inf
    level = np.where(basins.depth > 0.0, basins.level, np.float32(-np.inf)).astype(np.float32)
    work = MeasureWork(ground, followed, level, Streams(ground, least_area(ground, None)))
    done = crew.each(work, tiles, progress.part(0.4, 1.0), "Measuring basins")
    for _, found in sorted(done, key=lambda d: d[0]):
        for k, number in enumerate(found.number - 1):
            add_to(sums, number, found.sums[k])
            near = 1e-9 * longest[number]
            if found.longest[k] > longest[number] + near or (
                found.longest[k] >= longest[number] - near and found.fall[k] > fall[number]
            ):
                longest[number], fall[number] = found.longest[k], found.fall[k]
    return Measured(sums, longest, fall)

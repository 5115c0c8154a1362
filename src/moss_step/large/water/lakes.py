"""Depressions of a ground in tiles: each tile measures its parts of them, which are put together; where a
depression spills is followed from its first cell to the first that is not under its water.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.outlines import find_parts, outlined
from moss_step.large.tiling import Tile
from moss_step.large.water.ends import Followed, follow
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import WaterOn, alone, ground_of, like_ground
from moss_step.large.water.pieces import OnGround
from moss_step.large.water.upstream import find_ways_once
from moss_step.large.whole import Fed, Told, told_of
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.science.water.depressions import LakeFigures, lake_columns, staying, worth_telling
from moss_step.science.water.kernels.depressions import measure_lakes
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.tracing import by_number
from moss_step.steps.water import depressions_outcome


@dataclass(frozen=True)
class UnderWater(OnGround):
    """Cells that would stand under water are 1."""

    def numbers(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """1 where the filled ground is higher than the ground."""
        filled = self.ground.scratch.load("filled", tile)
        under: np.ndarray = filled > self.ground.heights(reader, tile.rows, tile.cols)
        return under.astype(np.int32)


@dataclass(frozen=True)
class Dry:
    """Water is followed to the first cell that does not stand under it."""

    lengths: bool = False

    def cells(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """Cells that are not under water."""
        return (1 - UnderWater(ground).numbers(tile, reader)).astype(np.uint8)

    def values(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """Nothing more is known of them."""
        return np.zeros((tile.bottom - tile.top, tile.right - tile.left), np.float32)


@dataclass(frozen=True)
class LakesOf:
    """Which lake from 1 the parts of each tile belong to; and of each tile the first cells of lakes, where
    these lie in it.
    """

    under: UnderWater
    part: Mapping[str, np.ndarray]
    first: Mapping[str, np.ndarray]

    def for_tile(self, tile: Tile) -> LakesOf:
        """They, with what lies in one tile."""
        first = {tile.name: self.first[tile.name]} if tile.name in self.first else {}
        return replace(self, part={tile.name: self.part[tile.name]}, first=first)

    def of_cells(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """The lake of each cell of a tile (int32, 0 for none)."""
        labels, _ = label_components(self.under.numbers(tile, reader), 8, 0)
        result: np.ndarray = self.part[tile.name][labels].astype(np.int32)
        return result


class Measured(NamedTuple):
    """Of the lakes that a tile has cells of: their numbers; depth, volume, the last of their cells in the
    ground and the height of the water there; and where lakes spill that begin in it.
    """

    number: np.ndarray
    depth: np.ndarray
    volume: np.ndarray
    last: np.ndarray
    level: np.ndarray
    begins: np.ndarray
    spill: np.ndarray


class LakeWork(Work):
    """Measures the lakes of tiles; where they spill, too, where it is known how water is ``followed``."""

    side_by_side = True

    def __init__(self, lakes: LakesOf, followed: Followed | None) -> None:
        self.lakes, self.followed = lakes, followed
        self.ground = lakes.under.ground
        self._reader = self.ground.reading()

    def for_tile(self, tile: Tile) -> LakeWork:
        """What one tile needs."""
        followed = None if self.followed is None else self.followed.for_tile(tile)
        return LakeWork(self.lakes.for_tile(tile), followed)

    def read(self, _: Tile) -> GridReader:
        """Where heights are read from."""
        reader: GridReader = self._reader.get()
        return reader

    def work_out(self, tile: Tile, reader: GridReader) -> Measured:
        """Their figures."""
        ground, frame = self.ground, self.ground.held.frame
        lake = self.lakes.of_cells(tile, reader)
        number, local = np.unique(np.append(0, lake), return_inverse=True)
        own, n = local[1:].astype(np.int32).reshape(lake.shape), len(number)
        filled = ground.scratch.load("filled", tile)
        z = ground.heights(reader, tile.rows, tile.cols)
        areas = frame.part(tile.rows, tile.cols).row_areas
        depth, volume, level = measure_lakes(own, filled, z, areas, n)
        last, flat = np.zeros(n, np.int64), own.reshape(-1)
        wet = np.flatnonzero(flat)
        last[flat[wet]] = wet
        r, c = np.divmod(last, lake.shape[1])
        last = (tile.top + r) * frame.cols + tile.left + c
        return Measured(
            number[1:], depth[1:], volume[1:], last[1:], level[1:], *self._spills(tile, reader, lake)
        )

    def _spills(self, tile: Tile, reader: GridReader, lake: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Lakes whose first cell lies in the tile, and the first cell that their water meets outside."""
        if self.followed is None or tile.name not in self.lakes.first:
            return np.empty(0, np.int64), np.empty(0, np.int64)
        row, col = np.divmod(self.lakes.first[tile.name], self.ground.held.frame.cols)
        at = row - tile.top, col - tile.left
        ends = self.followed.ends(self.ground, tile, reader)
        return lake[at].astype(np.int64), ends.cell[ends.labels[at]]


@dataclass(frozen=True)
class LakeNumbers(OnGround):
    """Numbers of the lakes that are told of."""

    lakes: LakesOf
    number: np.ndarray
    """Of each lake, from 0: none."""

    def numbers(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """The number of each cell."""
        result: np.ndarray = self.number[self.lakes.of_cells(tile, reader)]
        return result

    def for_tile(self, tile: Tile) -> LakeNumbers:
        """They, with what one tile needs."""
        return replace(self, lakes=self.lakes.for_tile(tile))


def find_lakes(ground: Ground, crew: Crew, progress: Progress) -> tuple[LakesOf, np.ndarray, np.ndarray]:
    """The lakes of a ground that is filled, and cells and square metres of each.

    Raises MossError when there are more than can be held.
    """
    under = UnderWater(ground)
    whole, rims = find_parts(under, ground.tiling, ground.held.frame, 8, crew, progress)
    first = np.full(len(whole.number) + 1, np.iinfo(np.int64).max)
    for name, rim in rims.items():
        np.minimum.at(first, whole.part[name][1:], rim.first)
    at = {tile.name: first[1:][some] for tile, some in ground.by_tile(first[1:]).items()}
    return LakesOf(under, whole.part, at), whole.cells, whole.area


def measured(
    lakes: LakesOf,
    followed: Followed | None,
    cells: np.ndarray,
    area: np.ndarray,
    crew: Crew,
    progress: Progress,
) -> LakeFigures:
    """Figures of lakes that have so many cells and square metres; -1 for where they spill, where water is
    not followed.
    """
    ground, n = lakes.under.ground, len(cells) + 1
    depth, volume, level = np.zeros((3, n))
    last, spill = np.full(n, -1, np.int64), np.full(n, -1, np.int64)
    done = crew.each(LakeWork(lakes, followed), list(ground.tiling), progress, "Measuring depressions")
    for _, found in sorted(done, key=lambda d: d[0]):
        at = found.number
        depth[at] = np.maximum(depth[at], found.depth)
        volume[at] += found.volume
        later = found.last > last[at]
        level[at] = np.where(later, found.level, level[at])
        last[at] = np.maximum(last[at], found.last)
        spill[found.begins] = found.spill
    return LakeFigures(
        np.append(0, cells), np.append(0.0, area), depth, volume * ground.like().metres_per_height,
        level + ground.held.base, spill,
    )  # fmt: skip


@dataclass(frozen=True)
class KeptLakes:
    """Lakes that stay as they are."""

    lakes: LakesOf
    kept: np.ndarray
    """Whether each stays, from 0: none."""

    def for_tile(self, tile: Tile) -> KeptLakes:
        """They, with what one tile needs."""
        return replace(self, lakes=self.lakes.for_tile(tile))

    def cells(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """Whether each cell of a tile lies in one."""
        result: np.ndarray = self.kept[self.lakes.of_cells(tile, reader)]
        return result


def kept_lakes(
    ground: Ground, depth: float | None, area: float | None, crew: Crew, progress: Progress
) -> KeptLakes:
    """Lakes of a filled ground that are so deep, or so large."""
    lakes, cells, areas = find_lakes(ground, crew, progress.part(0.0, 0.5))
    figures = measured(lakes, None, cells, areas, crew, progress.part(0.5, 1.0))
    return KeptLakes(lakes, staying(figures, depth, area))


class LakeJob(WaterOn):
    """Depressions as areas."""

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find them, measure them, and outline what is large enough."""
        ground, dem = self.ground_in(folder, cells), like_ground(self.grid)
        find_ways_once(ground, crew, progress.part(0.0, 0.6))
        lakes, own, area = find_lakes(ground, crew, progress.part(0.6, 0.7))
        followed = follow(ground, Dry(), crew, progress.part(0.7, 0.8))
        figures = measured(lakes, followed, own, area, crew, progress.part(0.8, 0.85))
        order = worth_telling(figures, self.settings.least_depth, self.settings.least_area)
        number = np.zeros(len(figures.cells), np.int32)
        number[order] = np.arange(1, len(order) + 1)
        geometry = np.empty(0, object)
        if len(order):
            numbers = LakeNumbers(ground, lakes, number)
            parts, _ = outlined(numbers, ground.tiling, self.frame, crew, progress.part(0.85, 1.0))
            geometry = by_number(parts, len(order))
        columns, units = lake_columns(figures, order, self.frame, dem.unit)
        return told_of(depressions_outcome(Shapes(geometry, columns, self.frame.crs, units), dem.unit))


def depressions(fed: Fed, settings: object) -> LakeJob | None:
    """Depressions of a ground."""
    return LakeJob(ground_of(fed), settings) if alone(fed) else None

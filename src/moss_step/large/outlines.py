"""Outlines of numbered cells of a ground in tiles: each tile lists the corners of its parts, parts that meet
across rims are one, and the corners of all tiles are joined to rings.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from typing import Literal, Protocol, Self

import numpy as np

from moss_step.formats.windows import GridReader, GridSource
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.sides import Sides, around, ring, sides_of
from moss_step.large.tiling import Tile, Tiling
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.science.zones.kernels.tracing import list_corners
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.tracing import Parts, joined_parts

MOST_PARTS = 5_000_000
"""Parts of all tiles together that are held at a time."""
Neighbours = Literal[4, 8]


class Numbered(Protocol):
    """Numbers of the cells of a ground, tile by tile. It is sent to workers."""

    @property
    def source(self) -> GridSource:
        """A file that is read for them."""

    def numbers(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """The number of each cell of a tile (int32, 0 for none)."""

    def for_tile(self, tile: Tile, /) -> Self:
        """They, with no more than one tile needs."""
        return self


@dataclass(frozen=True)
class PartRim:
    """Parts of a tile: along its sides; of each from 1 its number, its first cell in the ground, how many
    cells it has, and their area in square metres.
    """

    sides: Sides
    number: np.ndarray
    first: np.ndarray
    cells: np.ndarray
    area: np.ndarray


class _NumberWork(Work):
    """Work on the numbers of tiles."""

    side_by_side = True

    def __init__(self, numbered: Numbered, frame: Frame, neighbours: Neighbours) -> None:
        self.numbered, self.frame, self.neighbours = numbered, frame, neighbours
        self._reader = Once(partial(GridReader, numbered.source))

    def read(self, tile: Tile) -> np.ndarray:
        """The numbers of a tile."""
        return self.numbered.numbers(tile, self._reader.get())


class PartWork(_NumberWork):
    """Finds the parts of tiles."""

    def for_tile(self, tile: Tile) -> PartWork:
        """What one tile needs."""
        return PartWork(self.numbered.for_tile(tile), self.frame, self.neighbours)

    def work_out(self, tile: Tile, numbers: np.ndarray) -> PartRim:
        """Its parts."""
        if not numbers.any():
            none = np.empty(0, np.int64)
            return PartRim(sides_of(np.zeros(numbers.shape, np.int32)), none, none, none, none.astype(float))
        labels, number = label_components(numbers, self.neighbours, 0)
        flat = labels.reshape(-1)
        known = np.flatnonzero(flat)
        n, first = len(number), np.zeros(len(number), np.int64)
        first[flat[known[::-1]]] = known[::-1]
        r, c = np.divmod(first[1:], labels.shape[1])
        areas = self.frame.part(tile.rows, tile.cols).row_areas
        cells = np.bincount(flat, minlength=n)[1:]
        by_row = np.repeat(areas, labels.shape[1]) if self.frame.geographic else None
        area = cells * float(areas[0]) if by_row is None else np.bincount(flat, by_row, n)[1:]
        where = (tile.top + r) * self.frame.cols + tile.left + c
        return PartRim(sides_of(labels), number[1:], where, cells, area)


@dataclass(frozen=True)
class AllParts:
    """Parts of a whole ground in the order of their first cells: number, cells and area of each; and of each
    tile the part from 1 that its own parts belong to (0 for 0).
    """

    number: np.ndarray
    cells: np.ndarray
    area: np.ndarray
    part: Mapping[str, np.ndarray]


def find_parts(
    numbered: Numbered, tiling: Tiling, frame: Frame, neighbours: Neighbours, crew: Crew, progress: Progress
) -> tuple[AllParts, dict[str, PartRim]]:
    """The parts of a ground, connected along edges or at corners too.

    Raises MossError when there are more than can be held.
    """
    rims, count = dict[str, PartRim](), 0
    work = PartWork(numbered, frame, neighbours)
    for tile, rim in crew.each(work, list(tiling), progress, "Joining cells"):
        rims[tile.name] = rim
        count += len(rim.number)
        if count > MOST_PARTS:
            raise MossError(
                f"There are more than {MOST_PARTS:,} parts.", "Smooth the classes, or crop the ground."
            )
    return _whole(tiling, rims, neighbours), rims


def _whole(tiling: Tiling, rims: Mapping[str, PartRim], neighbours: Neighbours) -> AllParts:
    number, first, cells, area = (
        np.concatenate([getattr(rims[t.name], f) for t in tiling])
        for f in ("number", "first", "cells", "area")
    )
    sides = {name: rim.sides for name, rim in rims.items()}
    found, joined = joined_over_rims(tiling, sides, {n: r.number for n, r in rims.items()}, neighbours)
    every, lowest = np.concatenate([joined[t.name] for t in tiling]), np.full(found, np.iinfo(np.int64).max)
    np.minimum.at(lowest, every, first)
    order = np.argsort(lowest)
    rank = np.empty(found, np.int64)
    rank[order] = np.arange(found)
    part = rank[every]
    by_part = np.empty(found, number.dtype)
    by_part[part] = number
    of = {t.name: np.append(0, rank[joined[t.name]] + 1) for t in tiling}
    return AllParts(
        by_part, np.bincount(part, cells, found).astype(np.int64), np.bincount(part, area, found), of
    )


def joined_over_rims(
    tiling: Tiling, sides: Mapping[str, Sides], number: Mapping[str, np.ndarray], neighbours: Neighbours
) -> tuple[int, dict[str, np.ndarray]]:
    """How many parts there are once those of one number that meet across rims are one; and of each tile which
    of them, from 0, its own parts are. ``sides`` hold these from 1 along the sides of tiles.
    """
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components  # takes long to load

    begin, count = dict[str, int](), 0
    for tile in tiling:
        begin[tile.name] = count
        count += len(number[tile.name])
    if not count:
        return 0, {tile.name: np.empty(0, np.int64) for tile in tiling}
    nodes = {t.name: _nodes(sides[t.name], begin[t.name]) for t in tiling}
    one, other = _seams(tiling, nodes, np.concatenate([number[t.name] for t in tiling]), neighbours)
    found, joined = connected_components(
        coo_matrix((np.ones(len(one), np.int8), (one, other)), (count, count)), directed=False
    )
    return found, {n: joined[b : b + len(number[n])] for n, b in begin.items()}


def _nodes(sides: Sides, begin: int) -> Sides:
    top, right, bottom, left = (np.where(s > 0, s + (begin - 1), -1).astype(np.int64) for s in sides)
    return top, right, bottom, left


def _seams(
    tiling: Tiling, nodes: Mapping[str, Sides], number: np.ndarray, neighbours: Neighbours
) -> tuple[np.ndarray, np.ndarray]:
    """Pairs of parts of one number that meet across rims."""
    pairs = [np.empty((2, 0), np.int64)]
    for tile in tiling:
        outer = around(tile, tiling, nodes, -1)
        rows, cols = tile.bottom - tile.top, tile.right - tile.left
        window = np.full((rows + 2, cols + 2), -1, np.int64)
        window[ring(rows, cols)] = outer
        own = nodes[tile.name]
        below, right, corners = window[-1], window[:, -1], neighbours == 8
        for shift in (-1, 0, 1) if corners else (0,):
            pairs.append(np.stack([own[2], below[1 + shift : cols + 1 + shift]]))
            pairs.append(np.stack([own[1], right[1 + shift : rows + 1 + shift]]))
    one, other = np.concatenate(pairs, axis=1)
    alike = (one >= 0) & (other >= 0)
    one, other = one[alike], other[alike]
    alike = number[one] == number[other]
    return one[alike], other[alike]


class CornerWork(_NumberWork):
    """Lists the corners of parts in tiles, whose parts around are known."""

    def __init__(
        self,
        numbered: Numbered,
        frame: Frame,
        part: Mapping[str, np.ndarray],
        rings: Mapping[str, np.ndarray],
    ) -> None:
        super().__init__(numbered, frame, 4)
        self.part, self.rings = dict(part), dict(rings)

    def for_tile(self, tile: Tile) -> CornerWork:
        """What one tile needs."""
        part, rings = {tile.name: self.part[tile.name]}, {tile.name: self.rings[tile.name]}
        return CornerWork(self.numbered.for_tile(tile), self.frame, part, rings)

    def work_out(self, tile: Tile, numbers: np.ndarray) -> np.ndarray:
        """Part, row and column in the ground, and turn of each corner."""
        rows, cols = numbers.shape
        window = np.zeros((rows + 2, cols + 2), np.int32)
        labels, _ = label_components(numbers, 4, 0)
        window[1:-1, 1:-1] = self.part[tile.name][labels]
        window[ring(rows, cols)] = self.rings[tile.name]
        ends = int(tile.bottom == self.frame.rows), int(tile.right == self.frame.cols)
        corners: np.ndarray = list_corners(window, *ends)
        corners[:, 1] += tile.top
        corners[:, 2] += tile.left
        return corners


def outlined(
    numbered: Numbered, tiling: Tiling, frame: Frame, crew: Crew, progress: Progress
) -> tuple[Parts, AllParts]:
    """Outlines of the cells of each number that hang together along edges, as ``tracing.parts_of`` gives
    them; and what else is known of these parts.

    Raises MossError when there are more than can be held.
    """
    whole, rims = find_parts(numbered, tiling, frame, 4, crew, progress.part(0.0, 0.4))
    sides = {t.name: _in_whole(rims[t.name], whole.part[t.name]) for t in tiling}
    rings = {t.name: around(t, tiling, sides) for t in tiling}
    work = CornerWork(numbered, frame, whole.part, rings)
    found = crew.each(work, list(tiling), progress.part(0.4, 0.8), "Tracing outlines")
    corners = np.concatenate([c for _, c in found])
    return joined_parts(corners, whole.number, frame, progress.part(0.8, 1.0)), whole


def _in_whole(rim: PartRim, part: np.ndarray) -> Sides:
    top, right, bottom, left = (part[side].astype(np.int32) for side in rim.sides)
    return top, right, bottom, left

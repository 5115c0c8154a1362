"""Depressions of a ground in tiles. Each tile finds its pools and the passes between them, and is reduced to
the lowest passes between those that reach its rim; the levels of these come from one small graph; then each
tile is filled.

Barnes 2016, Computers & Geosciences 96; levels by passes as in one piece (Cordonnier, Bovy & Braun 2019).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.scratch import Scratch
from moss_step.large.sides import Sides, sides_of
from moss_step.large.tiling import Tile, Tiling
from moss_step.large.water import flats
from moss_step.large.water.ground import Ground, framed, window_of
from moss_step.large.water.rounds import Rims
from moss_step.model.arrays import read_only
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.science.water.drainage import NO_VALUES
from moss_step.science.water.kernels.descent import descend
from moss_step.science.water.kernels.neighbours import DC, DR, NONE, OUT
from moss_step.science.water.kernels.pools import Tree, label_ends, levels, number_ends
from moss_step.science.water.kernels.tiles import (
    end_at_rim,
    lowest_tree,
    passes_between,
    spread_levels,
    under_water,
)
from moss_step.science.water.pools import spanning_tree

RIM, SPILLS = "rim", "spills"
"""What the rim of a tile, and what tells where its pools spill, are kept under."""


@dataclass(frozen=True)
class PoolRim:
    """What the rest of the ground has to know of a tile's pools: pool and height of the cells along its
    sides, lowest passes between pools there (0: the outside), and which of them only lead on: the pool, and
    the row and column of the cell that its water goes on to.
    """

    pools: Sides
    heights: Sides
    one: np.ndarray
    other: np.ndarray
    height: np.ndarray
    leads_on: np.ndarray
    row: np.ndarray
    col: np.ndarray
    known: bool
    """Whether any cell of the tile has a value."""

    def keep(self, scratch: Scratch, tile: Tile) -> None:
        """Keep it: the tile is reduced then, whatever becomes of the run."""
        rest = self.one, self.other, self.height, self.leads_on, self.row, self.col, np.array([self.known])
        scratch.save(RIM, tile, *self.pools, *self.heights, *rest)

    @classmethod
    def kept(cls, scratch: Scratch, tile: Tile) -> PoolRim | None:
        """That of a tile, where it has been kept.

        Raises MossError for one that is damaged.
        """
        if not scratch.has(RIM, tile):
            return None
        some = scratch.load_some(RIM, tile, 15)
        a, b, c, d, e, f, g, h, one, other, height, leads_on, row, col, known = some
        return cls((a, b, c, d), (e, f, g, h), one, other, height, leads_on, row, col, bool(known[0]))


class TilePasses(NamedTuple):
    """The passes between the pools of a tile, in ascending order; of each its code, nine times a cell of the
    tile and its direction, and the cell on its top; and of each pool its cell, the height of that, and
    whether water leaves the ground there.
    """

    tree: Tree
    code: np.ndarray
    top: np.ndarray
    cell: np.ndarray
    bottom: np.ndarray
    leaves: np.ndarray

    def keep(self, scratch: Scratch, tile: Tile) -> None:
        """Keep what levels do not need."""
        scratch.save(SPILLS, tile, *self[1:])

    @classmethod
    def kept(cls, scratch: Scratch, tile: Tile) -> TilePasses:
        """Those of a tile.

        Raises MossError where they are damaged.
        """
        pairs, code, top, cell, bottom, leaves = (
            scratch.load("pools", tile),
            *scratch.load_some(SPILLS, tile, 5),
        )
        at, way = (code // 9).astype(np.int32), (code % 9).astype(np.int8)
        tree = Tree(scratch.load("passes", tile), pairs[0], pairs[1], at, way)
        return cls(tree, code, top, cell, bottom, leaves)

    @classmethod
    def of(cls, z: np.ndarray, tree: Tree, cell: np.ndarray, leaves: np.ndarray) -> TilePasses:
        """Those of a tile with heights ``z``."""
        flat, way = z.reshape(-1), np.minimum(tree.way, 7)
        beyond = tree.at + DR[way] * z.shape[1] + DC[way]
        lower = (tree.way < OUT) & (flat[tree.at] < tree.height)
        bottom = np.append(np.float32(-np.inf), flat[cell[1:]]).astype(np.float32)
        code = tree.at.astype(np.int64) * 9 + tree.way
        return cls(tree, code, np.where(lower, beyond, tree.at), cell, bottom, leaves)


class Labelled(NamedTuple):
    """Pools of a tile: of each cell, of each pool its cell, and the cells and ways that water leaves over;
    and the ways that end there.
    """

    labels: np.ndarray
    cell: np.ndarray
    at: np.ndarray
    left: np.ndarray
    ways: np.ndarray


def labelled(ways: np.ndarray) -> Labelled:
    """Number the ends that water runs to in a tile, what it leaves over included; ``ways`` stay as they
    are.
    """
    ended, labels = ways.copy(), np.zeros(ways.shape, np.int32)
    at, left = end_at_rim(ended)
    cell = number_ends(ended, labels)
    label_ends(ended, labels)
    return Labelled(labels, cell, at, left, ended)


def reduced(ground: Ground, tile: Tile, z: np.ndarray, ways: np.ndarray, spills: bool) -> PoolRim:
    """Find the pools of a tile, keep their passes, with what tells where they spill if that is asked for, and
    reduce it to its rim.
    """
    z, found = read_only(z), labelled(ways)
    labels, flat = found.labels, found.labels.reshape(-1)
    leaves = np.append(False, ways.reshape(-1)[found.cell[1:]] == OUT)
    leads_on = flat[found.at]
    leaves[leads_on] = False
    tree = spanning_tree(z, labels, found.cell, leaves, silent(), ground.open_at(tile))
    order = np.argsort(tree.height)  # of passes that are as high any order gives the same levels
    tree = Tree(*(some[order] for some in tree))
    ground.scratch.save("passes", tile, tree.height)
    ground.scratch.save("pools", tile, np.stack([tree.one, tree.other]))
    ground.scratch.save("labels", tile, labels)
    if spills:
        TilePasses.of(z, tree, found.cell, leaves).keep(ground.scratch, tile)
    terminal = np.zeros(len(found.cell), bool)
    terminal[0] = True
    pools = sides_of(labels)
    for side in pools:
        terminal[side] = True
    one, other, height = passes_between(terminal, tree)
    r, c = np.divmod(found.at, ways.shape[1])
    row, col = tile.top + r + DR[found.left], tile.left + c + DC[found.left]
    rim = PoolRim(pools, sides_of(z), one, other, height, leads_on, row, col, bool(labels.any()))
    rim.keep(ground.scratch, tile)
    return rim


class DescendWork(Work):
    """Ways down of the ground as it lies; level ground that reaches the rim of a tile is left open. Tiles
    without any are reduced at once.
    """

    side_by_side = True

    def __init__(self, ground: Ground, spills: bool) -> None:
        self.ground, self.spills, self._reader = ground, spills, ground.reading()

    def read(self, tile: Tile) -> np.ndarray:
        """Heights with a margin of three cells: ways of the next cells are known then as in one piece."""
        window, reader = window_of(tile, self.ground.tiling, 3), self._reader.get()
        return self.ground.heights(reader, window.rows, window.cols)

    def work_out(self, tile: Tile, z: np.ndarray) -> tuple[np.ndarray, flats.Open | None]:
        """Ways in the tile with one more cell on each side, and its open cells."""
        window = window_of(tile, self.ground.tiling, 3)
        descent = np.empty(z.shape, np.uint8)
        descend(read_only(z), self.ground.metres(window.rows), 0, len(z), descent)
        ways, heights = framed(descent, tile, window, NONE), framed(z, tile, window, np.nan)
        count = flats.drain_closed(heights, ways)
        return ways, flats.open_cells(heights, ways, count) if count else None

    def finish(
        self, tile: Tile, z: np.ndarray, found: tuple[np.ndarray, flats.Open | None]
    ) -> PoolRim | None:
        """Keep the ways; gives the tile's rim, or none while it has open cells."""
        ways, left = found
        inner, scratch = np.ascontiguousarray(ways[1:-1, 1:-1]), self.ground.scratch
        if left is not None:
            scratch.save("raw-window", tile, ways)
            scratch.save("raw-cells", tile, left.cells)
            scratch.save("raw-beside", tile, left.beside)
            return None
        scratch.save("raw", tile, inner)
        own = np.ascontiguousarray(z[window_of(tile, self.ground.tiling, 3).inner])
        return reduced(self.ground, tile, own, inner, self.spills)


class OpenWork(Work):
    """Drains the open level ground of tiles, and reduces them."""

    side_by_side = True

    def __init__(self, ground: Ground, rims: Mapping[str, Rims], spills: bool) -> None:
        self.ground, self.rims, self.spills, self._reader = ground, dict(rims), spills, ground.reading()

    def for_tile(self, tile: Tile) -> OpenWork:
        """What one tile needs."""
        return OpenWork(self.ground, {tile.name: self.rims[tile.name]}, self.spills)

    def read(self, tile: Tile) -> np.ndarray:
        """Heights of the tile."""
        return self.ground.heights(self._reader.get(), tile.rows, tile.cols)

    def work_out(self, tile: Tile, z: np.ndarray) -> PoolRim:
        """Ways, then pools."""
        scratch = self.ground.scratch
        ways = scratch.load("raw-window", tile)
        flats.drained(scratch, "raw", tile, ways, self.rims[tile.name])
        inner = np.ascontiguousarray(ways[1:-1, 1:-1])
        scratch.save("raw", tile, inner)
        return reduced(self.ground, tile, z, inner, self.spills)


def pool_rims(ground: Ground, crew: Crew, progress: Progress, spills: bool = False) -> dict[str, PoolRim]:
    """Reduce all tiles to their rims; those that an earlier run has reduced are taken as they are. With
    ``spills`` it is kept where their pools spill.
    """
    scratch, every, rims = ground.scratch, list(ground.tiling), dict[str, PoolRim]()
    for tile in every:
        rim = PoolRim.kept(scratch, tile)
        if rim is not None:
            rims[tile.name] = rim
    fresh = [t for t in every if t.name not in rims and not scratch.has("raw-beside", t)]
    for tile, rim in crew.each(DescendWork(ground, spills), fresh, progress.part(0.0, 0.7), "Finding pools"):
        if rim is not None:
            rims[tile.name] = rim
    left = [t for t in every if t.name not in rims]
    if left:
        level = [t for t in every if scratch.has("raw-beside", t)]
        settled = flats.settle(crew, scratch, "raw", level, progress.part(0.7, 0.8))
        work = OpenWork(ground, settled, spills)
        rims.update({t.name: r for t, r in crew.each(work, left, progress.part(0.8, 1.0), "Finding pools")})
    for name in ("raw-window", "raw-cells", "raw-beside", "raw-far", "raw-noted"):
        scratch.drop(name)
    return rims


@dataclass(frozen=True)
class Levels:
    """Levels of the pools at a tile's rim, and of those that only lead on."""

    pools: np.ndarray
    level: np.ndarray
    leads_on: np.ndarray
    ends_at: np.ndarray


class Beside(NamedTuple):
    """Cells along a side of a tile: their pools, heights, rows and columns."""

    tile: Tile
    pools: np.ndarray
    heights: np.ndarray
    row: np.ndarray
    col: np.ndarray


class Seam(NamedTuple):
    """Pairs of cells of two tiles, those that come first in order of rows, and the way from these to the
    others.
    """

    first: Beside
    second: Beside
    way: int


class RimGraph:
    """The pools at the rims of all tiles as nodes of one graph; 0 is the outside."""

    def __init__(self, tiling: Tiling, rims: Mapping[str, PoolRim]) -> None:
        self._tiling, self._rims = tiling, rims
        self._pools: dict[str, np.ndarray] = {}
        self._first: dict[str, int] = {}
        self.nodes = 1
        for tile in tiling:
            known = np.unique(np.concatenate(rims[tile.name].pools))
            self._pools[tile.name], self._first[tile.name] = known[known > 0], self.nodes
            self.nodes += int(np.count_nonzero(known))

    def node(self, name: str, pools: np.ndarray) -> np.ndarray:
        """Nodes of pools of a tile; the outside for 0."""
        at = np.searchsorted(self._pools[name], pools)
        return np.where(pools > 0, self._first[name] + at, 0)

    def edges(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """All passes: both nodes, and the height; within tiles, and from tile to tile."""
        some = []
        for tile in self._tiling:
            rim = self._rims[tile.name]
            some.append((self.node(tile.name, rim.one), self.node(tile.name, rim.other), rim.height))
            some += [self._lowest(seam) for seam in self.seams(tile)]
        one, other, height = (np.concatenate(s) for s in zip(*some, strict=True))
        return one, other, height.astype(np.float32)

    def seams(self, tile: Tile) -> Iterator[Seam]:
        """Pairs of cells with one in the tile at the right, below, or at the lower corners."""
        for down, across, own, theirs, ways in ((0, 1, 1, 3, (3, 0, 1)), (1, 0, 2, 0, (3, 2, 1))):
            other = self._tile(tile.row + down, tile.col + across)
            if other is None:
                continue
            n = len(self._rims[tile.name].pools[own])
            for shift, way in zip((-1, 0, 1), ways, strict=True):
                mine = slice(max(0, -shift), n - max(0, shift))
                beyond = slice(max(0, shift), n - max(0, -shift))
                seam = Seam(self._beside(tile, own, mine), self._beside(other, theirs, beyond), way)
                # To the upper right the other cell comes first.
                yield seam._replace(first=seam.second, second=seam.first) if across and shift < 0 else seam
        for across, here, there, way in ((1, -1, 0, 1), (-1, 0, -1, 3)):
            other = self._tile(tile.row + 1, tile.col + across)
            if other is not None:
                cell = slice(here, here + 1 or None), slice(there, there + 1 or None)
                yield Seam(self._beside(tile, 2, cell[0]), self._beside(other, 0, cell[1]), way)

    def _beside(self, tile: Tile, side: int, some: slice) -> Beside:
        """Cells of a side of a tile."""
        rim, rows = self._rims[tile.name], (tile.top, None, tile.bottom - 1, None)[side]
        r = np.arange(tile.top, tile.bottom) if rows is None else np.full(tile.right - tile.left, rows)
        cols = (None, tile.right - 1, None, tile.left)[side]
        c = np.arange(tile.left, tile.right) if cols is None else np.full(tile.bottom - tile.top, cols)
        return Beside(tile, rim.pools[side][some], rim.heights[side][some], r[some], c[some])

    def _lowest(self, seam: Seam) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Passes between cells of two sides, the lowest of each pair of pools."""
        one, two = (self.node(side.tile.name, side.pools) for side in (seam.first, seam.second))
        z, w = seam.first.heights, seam.second.heights
        height = np.where(one == 0, w, np.where(two == 0, z, np.maximum(z, w)))
        kept = one != two
        one, two, height = one[kept], two[kept], height[kept]
        order = np.lexsort((height, two, one))
        one, two, height = one[order], two[order], height[order]
        first = np.append(True, (one[1:] != one[:-1]) | (two[1:] != two[:-1]))[: len(one)]
        return one[first], two[first], height[first]

    def _tile(self, row: int, col: int) -> Tile | None:
        there = 0 <= row < self._tiling.down and 0 <= col < self._tiling.across
        return self._tiling.tile(row, col) if there else None

    def solved(self) -> tuple[dict[str, Levels], int]:
        """Levels for every tile, and how many passes the graph had."""
        one, other, height = self.edges()
        order = np.argsort(height, kind="stable")
        taken = lowest_tree(self.nodes, one, other, height, order)
        ends, ways = np.zeros(len(taken), np.int32), np.zeros(len(taken), np.int8)
        tree = Tree(height[taken], one[taken].astype(np.int32), other[taken].astype(np.int32), ends, ways)
        level = levels(self.nodes, tree)
        end = self.ends()
        result = {}
        for tile in self._tiling:
            name, rim = tile.name, self._rims[tile.name]
            nodes = self.node(name, self._pools[name])
            on = self.node(name, rim.leads_on)
            result[name] = Levels(self._pools[name], level[nodes], rim.leads_on, level[end[on]])
        return result, len(height)

    def ends(self) -> np.ndarray:
        """Where the water of each node ends: itself, or for one that only leads on, what it comes to at
        last.
        """
        to = np.arange(self.nodes)
        for tile in self._tiling:
            rim = self._rims[tile.name]
            if len(rim.leads_on):
                to[self.node(tile.name, rim.leads_on)] = self._at(rim.row, rim.col)
        while True:
            further = to[to]
            if np.array_equal(further, to):
                return to
            to = further

    def _at(self, row: np.ndarray, col: np.ndarray) -> np.ndarray:
        """Nodes of cells on the sides of tiles."""
        tr, tc = row // self._tiling.high, col // self._tiling.wide
        out = np.zeros(len(row), np.int64)
        for r, c in set(zip(tr.tolist(), tc.tolist(), strict=True)):
            some, tile = (tr == r) & (tc == c), self._tiling.tile(r, c)
            pools = pool_at(self._rims[tile.name].pools, tile, row[some], col[some])
            out[some] = self.node(tile.name, pools)
        return out


def pool_at(sides: Sides, tile: Tile, row: np.ndarray, col: np.ndarray) -> np.ndarray:
    """Values of cells on the sides of a tile, by their rows and columns in the ground."""
    top, right, bottom, left = sides
    r, c = row - tile.top, col - tile.left
    across, down = np.clip(c, 0, len(top) - 1), np.clip(r, 0, len(left) - 1)
    result: np.ndarray = np.select(
        [row == tile.top, row == tile.bottom - 1, col == tile.left],
        [top[across], bottom[across], left[down]],
        right[down],
    )
    return result


class FillWork(Work):
    """Fills tiles to the levels of their pools, and marks what lies under water."""

    side_by_side = True

    def __init__(self, ground: Ground, levels: Mapping[str, Levels]) -> None:
        self.ground, self.levels, self._reader = ground, dict(levels), ground.reading()

    def for_tile(self, tile: Tile) -> FillWork:
        """What one tile needs."""
        return FillWork(self.ground, {tile.name: self.levels[tile.name]})

    def read(self, tile: Tile) -> np.ndarray:
        """Heights of the tile."""
        reader: GridReader = self._reader.get()
        return self.ground.heights(reader, tile.rows, tile.cols)

    def work_out(self, tile: Tile, z: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The filled ground, ways of what is dry, and the cells that water leaves the ground at before it is
        filled.
        """
        scratch, known = self.ground.scratch, self.levels[tile.name]
        ways = scratch.load("raw", tile)
        labels = scratch.load("labels", tile)
        pairs, height = scratch.load("pools", tile), scratch.load("passes", tile)
        level = np.full(int(labels.max()) + 1, np.inf, np.float32)
        level[0], level[known.pools] = -np.inf, known.level
        none = np.empty(0, np.int32)
        spread_levels(level, Tree(height, pairs[0], pairs[1], none, none.astype(np.int8)))
        level[known.leads_on] = known.ends_at
        leaves, filled = np.flatnonzero(ways == OUT), np.empty(z.shape, np.float32)
        under_water(z, labels, level, ways, filled)
        return filled, ways, leaves

    def finish(self, tile: Tile, _: np.ndarray, result: tuple[np.ndarray, np.ndarray, np.ndarray]) -> None:
        """Keep all."""
        self.ground.scratch.save("leaves", tile, result[2])
        self.ground.scratch.save("filled", tile, result[0])
        self.ground.scratch.save("dry", tile, result[1])


def fill(ground: Ground, crew: Crew, progress: Progress, keep: bool = False) -> int:
    """Fill a ground; gives the number of passes in the graph of the rims. With ``keep`` pools and passes
    stay.

    Raises MossError for one without values.
    """
    rims = pool_rims(ground, crew, progress.part(0.0, 0.6))
    if not any(rim.known for rim in rims.values()):
        raise MossError(*NO_VALUES)
    progress.at(0.6, "Finding levels")
    found, passes = RimGraph(ground.tiling, rims).solved()
    # What is dry is kept last of a tile.
    tiles = [t for t in ground.tiling if not ground.scratch.has("dry", t)]
    for _ in crew.each(FillWork(ground, found), tiles, progress.part(0.65, 1.0), "Filling pools"):
        pass
    ground.scratch.finish("filled")
    if not keep:
        drop_pools(ground)
    return passes


def drop_pools(ground: Ground) -> None:
    """Let go of pools and passes."""
    for name in (SPILLS, RIM, "raw", "passes", "pools", "labels"):  # without a rim a tile is reduced anew
        ground.scratch.drop(name)

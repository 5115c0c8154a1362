"""Which pools of a ground in tiles spill into which, and how deep they are by then: as
``science.water.pools`` tells of a ground in one piece. Each tile settles what spills within it, whatever
lies beyond; what is left is one small graph of the pools at the rims, and of those that are lower than all
that their tile knows; then each tile says where the water of its pools ends.

Persistence in parts as in Morozov & Weber 2013, Distributed merge trees, PPoPP; passes by Cordonnier, Bovy &
Braun 2019, Earth Surface Dynamics 7.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.scratch import Scratch
from moss_step.large.sides import Sides, around, ring
from moss_step.large.tiling import Tile
from moss_step.large.water.ground import Ground, framed, window_of
from moss_step.large.water.passes import RIM, SPILLS, Levels, PoolRim, RimGraph, Seam, TilePasses, pool_rims
from moss_step.model.progress import Progress
from moss_step.science.water.kernels.neighbours import Filled
from moss_step.science.water.kernels.pools import Tree, deaths, roots
from moss_step.science.water.kernels.spilling import one_flat, run_on, settle

_LEFT, _POOLS, _ENDS = "spill-left", "spill-pools", "spill-ends"
"""What passes that are left, the pools of a tile, and where the water of each of these ends are kept under.
"""


class Left(NamedTuple):
    """What a tile leaves to be settled with the rest of the ground: labels, bottoms and cells of pools that
    spill over passes not yet known, those at the rim that water leaves the ground from; those at the rim
    that are a part of the flat of another, and these; how many labels there are; and passes in ascending
    order: heights, codes and tops in the ground, labels that stand for their sides, and labels on these.
    """

    open: np.ndarray
    bottom: np.ndarray
    cell: np.ndarray
    leaves: np.ndarray
    joined: np.ndarray
    to: np.ndarray
    labels: np.ndarray
    height: np.ndarray
    code: np.ndarray
    top: np.ndarray
    one: np.ndarray
    other: np.ndarray
    by: np.ndarray
    across: np.ndarray


class Settled(NamedTuple):
    """The pools of a tile: their cells in it, their bottoms, how deep each is when it spills (0: not known),
    the cell in the tile that it spills at (-1: not known), and the label on the far side. One that is a
    part of the flat of another is less than 0 deep, and leads on to that.
    """

    cell: np.ndarray
    bottom: np.ndarray
    depth: np.ndarray
    top: np.ndarray
    far: np.ndarray


def _in_ground(ground: Ground, tile: Tile, cells: np.ndarray) -> np.ndarray:
    """Numbers in the ground of cells of a tile."""
    r, c = np.divmod(cells, tile.right - tile.left)
    return (tile.top + r).astype(np.int64) * ground.held.frame.cols + tile.left + c


class SettleWork(Work):
    """Settles what spills within a tile."""

    side_by_side = True

    def __init__(self, ground: Ground) -> None:
        self.ground = ground

    def read(self, tile: Tile) -> tuple[TilePasses, PoolRim]:
        """Its pools and passes, and what lies at its rim."""
        rim = PoolRim.kept(self.ground.scratch, tile)
        if rim is None:
            raise TypeError(f"{tile.name} was not reduced to its rim.")
        return TilePasses.kept(self.ground.scratch, tile), rim

    def work_out(self, tile: Tile, read: tuple[TilePasses, PoolRim]) -> tuple[Left, Settled]:
        """What is settled, and what is left."""
        some, rim = read
        order = np.lexsort((some.code, some.tree.height))
        tree, code, top = Tree(*(a[order] for a in some.tree)), some.code[order], some.top[order]
        bottom, leads_on, terminal = some.bottom.copy(), *np.zeros((2, len(some.cell)), bool)
        bottom[rim.leads_on], leads_on[rim.leads_on] = np.inf, True
        for side in rim.pools:
            terminal[side] = True
        terminal[0] = False
        first = one_flat(bottom, some.leaves, some.cell, tree)
        joined = first != np.arange(len(first))
        at_rim = np.flatnonzero(terminal & joined)
        terminal[first[at_rim]], terminal[at_rim] = True, False
        ends = tree._replace(one=first[tree.one], other=first[tree.other])
        spill, far, (e, by, across) = settle(bottom, some.leaves, terminal, ends)
        named = terminal.copy()
        named[by], named[across] = True, True
        named[0] = False
        open_, codes = np.flatnonzero(named & ~some.leaves & ~leads_on), code[e]
        left = Left(
            open_, bottom[open_], self._cells(tile, some.cell[open_]), np.flatnonzero(terminal & some.leaves),
            at_rim, first[at_rim], np.array([len(some.cell) - 1]), tree.height[e],
            self._cells(tile, codes // 9) * 9 + codes % 9, self._cells(tile, top[e]), tree.one[e],
            tree.other[e], by, across,
        )  # fmt: skip
        known = spill >= 0
        depth, at = np.zeros(len(bottom), np.float32), np.full(len(bottom), -1)
        depth[known], at[known] = tree.height[spill[known]] - bottom[known], top[spill[known]]
        depth[joined], far[joined] = -np.inf, first[joined]
        return left, Settled(some.cell, bottom, depth, at, far)

    def _cells(self, tile: Tile, cells: np.ndarray) -> np.ndarray:
        return _in_ground(self.ground, tile, cells)

    def finish(self, tile: Tile, read: tuple[TilePasses, PoolRim], found: tuple[Left, Settled]) -> None:
        """Keep both."""
        self.ground.scratch.save(_LEFT, tile, *found[0])
        self.ground.scratch.save(_POOLS, tile, *found[1])


class Spill(NamedTuple):
    """Where some pools spill: how deep each is by then, the cell of the ground (-1: nowhere), and the pool on
    the far side, later the one that water runs to.
    """

    pool: np.ndarray
    depth: np.ndarray
    top: np.ndarray
    across: np.ndarray


class SpillGraph:
    """What the tiles have left, as one graph. Pools are numbered through the ground from 1: those of a tile
    from its ``first`` on; 0 is the outside.
    """

    def __init__(self, ground: Ground, rims: Mapping[str, PoolRim]) -> None:
        self._ground, self._rims = ground, rims
        self._graph = RimGraph(ground.tiling, rims)
        self.left = {t.name: Left(*ground.scratch.load_some(_LEFT, t, 14)) for t in ground.tiling}
        self.first, count = dict[str, int](), 0
        for tile in ground.tiling:
            self.first[tile.name] = count
            count += int(self.left[tile.name].labels[0])
        self._firsts = np.array(list(self.first.values()))
        self._tiles = list(ground.tiling)
        self._inner = dict[str, tuple[np.ndarray, int]]()
        self._nodes = self._graph.nodes
        for tile in ground.tiling:
            inner = np.setdiff1d(self.left[tile.name].open, np.concatenate(rims[tile.name].pools))
            self._inner[tile.name] = inner, self._nodes
            self._nodes += len(inner)

    def levels(self) -> Mapping[str, Levels]:
        """How high water stands in the pools at the rims of the tiles when all is filled."""
        return self._graph.solved()[0]

    def pools(self, name: str, labels: np.ndarray) -> np.ndarray:
        """Numbers of labels of a tile."""
        return np.where(labels > 0, self.first[name] + labels.astype(np.int64), 0)

    def tile_of(self, pool: np.ndarray) -> np.ndarray:
        """Places of the tiles that pools are of."""
        return np.searchsorted(self._firsts, pool, side="left") - 1

    def by_tile(self, pool: np.ndarray) -> dict[Tile, np.ndarray]:
        """Of each tile that some pools are of their places among these."""
        at = self.tile_of(pool)
        return {self._tiles[k]: np.flatnonzero(at == k) for k in np.unique(at).tolist()}

    def _node(self, name: str, labels: np.ndarray) -> np.ndarray:
        """Nodes of labels of a tile that lie at its rim, or are left open."""
        inner, first = self._inner[name]
        at = np.minimum(np.searchsorted(inner, labels), max(len(inner) - 1, 0))
        is_inner = inner[at] == labels if len(inner) else np.zeros(len(labels), bool)
        node = np.array(first + at)
        node[~is_inner] = self._graph.node(name, labels[~is_inner])
        return node

    def _meant(self) -> np.ndarray:
        """What each node stands for: itself; that which its water runs to in another tile; or the outside."""
        to = np.append(self._ends, np.arange(self._graph.nodes, self._nodes))
        outside = np.zeros(self._nodes, bool)
        for name, left in self.left.items():
            outside[self._node(name, left.leaves)] = True
        hop = np.arange(self._nodes)
        for name, left in self.left.items():
            hop[self._node(name, left.joined)] = self._node(name, left.to)
        return np.where(outside[to], 0, hop[to])

    def leads_to(self, name: str) -> tuple[np.ndarray, np.ndarray]:
        """Labels of a tile whose water only leads on, and the pools that it comes to."""
        rim = self._rims[name]
        return rim.leads_on, self._pool_of_node[self._ends[self._graph.node(name, rim.leads_on)]]

    @cached_property
    def _ends(self) -> np.ndarray:
        return self._graph.ends()

    @cached_property
    def _pool_of_node(self) -> np.ndarray:
        pools = np.zeros(self._nodes, np.int64)
        for tile in self._tiles:
            rim = np.unique(np.concatenate(self._rims[tile.name].pools))
            both = np.concatenate([rim[rim > 0], self._inner[tile.name][0]])
            pools[self._node(tile.name, both)] = self.pools(tile.name, both)
        return pools

    def _edges(self) -> tuple[np.ndarray, ...]:
        """All passes that are left: height, code, top, both nodes, and both pools."""
        meant, some = self._meant(), []
        cols = self._ground.held.frame.cols
        for tile in self._tiles:
            name, left = tile.name, self.left[tile.name]
            sides = [meant[np.where(s > 0, self._node(name, s), 0)] for s in (left.by, left.across)]
            both = [self.pools(name, s) for s in (left.one, left.other)]
            some.append((left.height, left.code, left.top, *sides, *both))
            for seam in self._graph.seams(tile):
                some.append(self._over(seam, meant, cols))
        found = [np.concatenate(column) for column in zip(*some, strict=True)]
        kept = found[3] != found[4]
        return tuple(column[kept] for column in found)

    def _over(self, seam: Seam, meant: np.ndarray, cols: int) -> tuple[np.ndarray, ...]:
        """Passes between cells of two tiles; out of the ground where one of them is none."""
        two = seam.first, seam.second
        nodes = [meant[self._node(side.tile.name, side.pools)] for side in two]
        pools = [self.pools(side.tile.name, side.pools) for side in two]
        first, second = (side.row.astype(np.int64) * cols + side.col for side in two)
        z, w, none = seam.first.heights, seam.second.heights, seam.first.pools == 0
        out = none | (seam.second.pools == 0)
        height = np.where(none, w, np.where(out, z, np.fmax(z, w)))
        at = np.where(none, second, first)
        top = np.where(~out & (z < height), second, at)
        sides = [np.where(none, some[j], some[1 - j]) for some in (nodes, pools) for j in (1, 0)]
        return height, at * 9 + np.where(out, 8, seam.way), top, *sides

    def solved(self) -> Spill:
        """Where the pools spill that tiles had left open."""
        height, code, top, one, other, by, across = self._edges()
        order = np.lexsort((code, height))
        height, top, one, other, by, across = (a[order] for a in (height, top, one, other, by, across))
        bottom, cell = np.full(self._nodes, np.inf, np.float32), np.full(self._nodes, -1)
        bottom[0] = -np.inf
        asked = []
        for tile in self._tiles:
            left = self.left[tile.name]
            nodes = self._node(tile.name, left.open)
            bottom[nodes], cell[nodes] = left.bottom, left.cell
            asked.append(nodes)
        node, none, pools = np.concatenate(asked), np.empty(0, np.int32), self._pool_of_node
        depth, at = np.zeros(len(node), np.float32), np.full(len(node), -1)
        runs, leaves = np.zeros(len(node), np.int64), np.zeros(self._nodes, bool)
        tree = Tree(height, one.astype(np.int32), other.astype(np.int32), none, none.astype(np.int8))
        first = one_flat(bottom, leaves, cell, tree)
        tree = tree._replace(one=first[tree.one], other=first[tree.other])
        spill, far = deaths(bottom, leaves, tree)
        some = np.flatnonzero(spill[node] >= 0)
        e = spill[node[some]]
        depth[some], at[some] = height[e] - bottom[node[some]], top[e]
        runs[some] = np.where(far[node[some]] == tree.other[e], across[e], by[e])
        joined = first[node] != node
        depth[joined], runs[joined] = -np.inf, pools[first[node[joined]]]
        return Spill(pools[node], depth, at, runs)


class Asked(NamedTuple):
    """What a tile needs to say where the water of its pools ends: the pools around it; labels that lead on,
    the pools that these come to and the height of the water there; the first of its own pools; tops in it
    that others ask for, and the pools on their far sides.
    """

    around: np.ndarray
    leads_on: np.ndarray
    leads_to: np.ndarray
    level: np.ndarray
    first: int
    open: np.ndarray
    top: np.ndarray
    far: np.ndarray


class RunWork(Work):
    """Says where the water of the pools of tiles runs, when pools shallower than ``least`` spill."""

    side_by_side = True

    def __init__(self, ground: Ground, least: float, asked: Mapping[str, Asked]) -> None:
        self.ground, self.least, self.asked, self._reader = ground, least, dict(asked), ground.reading()

    def for_tile(self, tile: Tile) -> RunWork:
        """What one tile needs."""
        return RunWork(self.ground, self.least, {tile.name: self.asked[tile.name]})

    def read(self, tile: Tile) -> np.ndarray:
        """Heights with one more cell on each side; no-data beyond the ground."""
        window, reader = window_of(tile, self.ground.tiling, 1), self._reader.get()
        return framed(self.ground.heights(reader, window.rows, window.cols), tile, window, np.nan)

    def work_out(self, tile: Tile, z: np.ndarray) -> tuple[np.ndarray, np.ndarray, Spill, np.ndarray]:
        """The pool that the water of each label ends in, as far as this tile tells, with those that it leaves
        open; and what water runs to from the tops that were asked for.
        """
        asked, scratch = self.asked[tile.name], self.ground.scratch
        pools = Settled(*scratch.load_some(_POOLS, tile, 5))
        n, wide = len(pools.cell), z.shape[1]
        beyond = np.concatenate([asked.around, asked.far, asked.leads_to])
        filled = scratch.window("filled", tile, 1, np.float32(np.nan))
        r, c = ring(z.shape[0] - 2, z.shape[1] - 2)
        labels = np.zeros(z.shape, np.int32)
        labels[1:-1, 1:-1] = scratch.load("labels", tile)
        labels[r, c] = np.where(asked.around > 0, n + np.arange(len(r)), 0)
        level = np.full(n + len(beyond), -np.inf, np.float32)
        pr, pc = np.divmod(pools.cell[1:], wide - 2)
        level[1:n], level[asked.leads_on] = filled[pr + 1, pc + 1], asked.level
        level[n : n + len(r)] = filled[r, c]
        tr, tc = np.divmod(np.append(pools.top, asked.top), wide - 2)
        top = np.where(np.append(pools.top, asked.top) >= 0, (tr + 1) * wide + tc + 1, -1)
        far = np.append(pools.far, n + len(r) + np.arange(len(asked.far)))
        runs = run_on(Filled(z, labels, level), self.ground.metres_around(tile, 1), top, far)
        across, depth = np.zeros(n + len(beyond), np.int32), np.zeros(n + len(beyond), np.float32)
        across[:n], depth[:n] = np.where(pools.depth < 0.0, pools.far, runs[:n]), pools.depth
        across[asked.leads_on] = n + len(r) + len(asked.far) + np.arange(len(asked.leads_to))
        depth[asked.leads_on] = -np.inf
        number = np.concatenate([np.arange(n), np.zeros(len(beyond), np.int64)])
        number[1:n] += asked.first
        number[n:] = beyond
        ends = roots(across, depth, self.least)[:n]
        left = np.union1d(number[ends[ends >= n]], number[asked.open[ends[asked.open] == asked.open]])
        cells = np.where(pools.top >= 0, _in_ground(self.ground, tile, pools.top), -1)
        return number[ends], left[left > 0], Spill(number[:n], depth[:n], cells, across[:n]), number[runs[n:]]

    def finish(
        self, tile: Tile, _: np.ndarray, found: tuple[np.ndarray, np.ndarray, Spill, np.ndarray]
    ) -> tuple[np.ndarray, np.ndarray]:
        """Keep where the water of each label ends, and where it spills; gives the pools that are left open,
        and what water runs to.
        """
        ends, left, spill, runs = found
        self.ground.scratch.save(_ENDS, tile, ends, *spill[1:])
        return left, runs


def looked_up(keys: np.ndarray, values: np.ndarray, asked: np.ndarray, else_: np.ndarray) -> np.ndarray:
    """The values of what is asked for among some keys (ascending); ``else_`` where it is none of them."""
    if not len(keys):
        return else_
    at = np.minimum(np.searchsorted(keys, asked), len(keys) - 1)
    return np.where(keys[at] == asked, values[at], else_)


@dataclass(frozen=True)
class Ended:
    """Where water ends when pools of less than some depth spill: what tiles had left open, by the numbers of
    the pools (ascending); which of these each tile asks for, and the first pool of each.
    """

    pool: np.ndarray
    end: np.ndarray
    asked: Mapping[str, np.ndarray]
    first: Mapping[str, int]

    def for_tile(self, tile: Tile) -> Ended:
        """What one tile asks for."""
        name, some = tile.name, self.asked[tile.name]
        return Ended(some, self.ends(some), {name: some}, {name: self.first[name]})

    def ends(self, kept: np.ndarray) -> np.ndarray:
        """Where water ends that a tile says ends in some pools."""
        return looked_up(self.pool, self.end, kept, kept)


def find_ends(
    ground: Ground, rims: Mapping[str, PoolRim], least: float, crew: Crew, progress: Progress
) -> tuple[Ended, Spill]:
    """Settle which pools spill into which, and keep of each tile where the water of its pools ends; gives
    what tiles leave open: where it ends, and where these pools spill (ascending).
    """
    tiles = list(ground.tiling)
    for _ in crew.each(SettleWork(ground), tiles, progress.part(0.0, 0.3), "Settling pools"):
        pass
    progress.at(0.3, "Settling pools")
    graph = SpillGraph(ground, rims)
    spill, levels = graph.solved(), graph.levels()
    asked, where = _asked(ground, graph, rims, levels, spill)
    across, left = spill.across.copy(), dict[str, np.ndarray]()
    work = RunWork(ground, least, asked)
    for tile, (open_, runs) in crew.each(work, tiles, progress.part(0.3, 1.0), "Following pools"):
        left[tile.name] = open_
        if tile.name in where:
            across[where[tile.name]] = runs
    order = np.argsort(spill.pool)
    spill = Spill(*(a[order] for a in spill._replace(across=across)))
    return _followed(ground, graph, spill, least, left), spill


def _asked(
    ground: Ground,
    graph: SpillGraph,
    rims: Mapping[str, PoolRim],
    levels: Mapping[str, Levels],
    spill: Spill,
) -> tuple[dict[str, Asked], dict[str, np.ndarray]]:
    """What each tile needs, and which of the spills each is asked for."""
    sides: dict[str, Sides] = {}
    for name, rim in rims.items():
        top, right, bottom, left = (graph.pools(name, side) for side in rim.pools)
        sides[name] = top, right, bottom, left
    over = np.flatnonzero(spill.top >= 0)
    by = {t.name: over[some] for t, some in ground.by_tile(spill.top[over]).items()}
    result, cols = {}, ground.held.frame.cols
    for tile in ground.tiling:
        some = by.get(tile.name, np.empty(0, np.int64))
        r, c = np.divmod(spill.top[some], cols)
        inside = (r - tile.top) * (tile.right - tile.left) + c - tile.left
        leads_on, leads_to = graph.leads_to(tile.name)
        result[tile.name] = Asked(
            around(tile, ground.tiling, sides), leads_on, leads_to, levels[tile.name].ends_at,
            graph.first[tile.name], graph.left[tile.name].open, inside, spill.across[some],
        )  # fmt: skip
    return result, by


def _followed(
    ground: Ground, graph: SpillGraph, spill: Spill, least: float, left: Mapping[str, np.ndarray]
) -> Ended:
    """Follow pools from tile to tile until each ends."""
    goes_on = (spill.depth < least) & (spill.across != 0)
    own, to = spill.pool, np.where(goes_on, spill.across, spill.pool)
    known, follows = np.empty((2, 0), np.int64)
    due = np.unique(np.concatenate([*left.values(), known]))
    while len(due):
        found = looked_up(own, to, due, np.full(len(due), -1))
        elsewhere = np.flatnonzero(found < 0)
        for tile, some in graph.by_tile(due[elsewhere]).items():
            ends = ground.scratch.load(_ENDS, tile)
            found[elsewhere[some]] = ends[due[elsewhere[some]] - graph.first[tile.name]]
        known, follows = np.append(known, due), np.append(follows, found)
        due = np.setdiff1d(found, known)
    order = np.argsort(known)
    known, place = known[order], np.searchsorted(known[order], follows[order])
    while not np.array_equal(further := place[place], place):
        place = further
    return Ended(known, known[place], left, graph.first)


class Kept(NamedTuple):
    """Of the pools of a tile where the water of each ends as far as the tile tells, how deep it is when it
    spills, the cell of the ground that it spills at (-1: none) and what it runs to from there (0: it
    leaves the ground); its cell in the tile, and the height of that.
    """

    ends: np.ndarray
    depth: np.ndarray
    top: np.ndarray
    across: np.ndarray
    cell: np.ndarray
    bottom: np.ndarray

    @classmethod
    def of(cls, scratch: Scratch, tile: Tile) -> Kept:
        """Those of a tile.

        Raises MossError where they are damaged.
        """
        return cls(*scratch.load_some(_ENDS, tile, 4), *scratch.load_some(_POOLS, tile, 2))


def drop_spills(ground: Ground) -> None:
    """Let go of what was kept on the way."""
    for name in (_LEFT, _POOLS, _ENDS):
        ground.scratch.drop(name)


def pools_once(ground: Ground, crew: Crew, progress: Progress) -> dict[str, PoolRim]:
    """Have the pools and passes of all tiles at hand, with all that is to be known of them."""
    scratch = ground.scratch
    if not all(scratch.has(SPILLS, tile) for tile in ground.tiling):
        scratch.drop(RIM)
    return pool_rims(ground, crew, progress, spills=True)

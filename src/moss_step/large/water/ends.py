"""Where the water of each cell of a ground in tiles first ends: at cells that it is followed to, or where it
leaves the ground. Each tile is reduced to where the water of its rim goes, the rims are followed as one
graph, and each tile is finished: as accumulation is, the other way up.

Barnes 2017, Environmental Modelling & Software 92.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple, Protocol

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.tiling import Tile
from moss_step.large.water.flow import first_nodes, nodes_at, rim_cells
from moss_step.large.water.ground import Ground
from moss_step.large.water.passes import labelled
from moss_step.model.progress import Progress, silent
from moss_step.science.water.kernels.accumulation import count_donors
from moss_step.science.water.kernels.neighbours import DC, DR, OUT, Course
from moss_step.science.water.kernels.tiles import follow_on
from moss_step.science.water.kernels.trace import down_order_cells, lengths_down
from moss_step.science.water.neighbours import distances

_NO_AREAS = np.empty((0, 0), np.int32)


class Goal(Protocol):
    """What water is followed to. It is sent to workers."""

    @property
    def lengths(self) -> bool:
        """Whether the way there is measured."""

    def cells(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """The cells of a tile that water is followed to (uint8); it ends there."""

    def values(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """What is known of each cell of a tile (float32); that of the cell where it ends is told."""


class Ends(NamedTuple):
    """Where the water of the cells of a tile ends: the number of the end of each (0: no ground); of each end
    from each cell, if these are measured.
    """

    labels: np.ndarray
    cell: np.ndarray
    value: np.ndarray
    metres: np.ndarray


@dataclass(frozen=True)
class EndRim:
    """Of each cell on the rim of a tile: row and column in the next tile that its water goes on to (-1: it
    ends within), the cell that it ends at in the ground, the value there, and the metres in the tile.
    """

    row: np.ndarray
    col: np.ndarray
    cell: np.ndarray
    value: np.ndarray
    metres: np.ndarray


class _Within(NamedTuple):
    """Ends within a tile alone: labels; of each label the cell in the tile, in the ground (-1: none) and its
    value; metres to it (0 where they are not measured); and the labels, cells and ways that lead on.
    """

    labels: np.ndarray
    at: np.ndarray
    cell: np.ndarray
    value: np.ndarray
    metres: np.ndarray | None
    on: np.ndarray
    left: np.ndarray


def _within(ground: Ground, goal: Goal, tile: Tile, reader: GridReader) -> _Within:
    ways, goals = ground.scratch.load("ways", tile), goal.cells(ground, tile, reader)
    ways[goals == 1] = OUT
    labels, at, on, left, ways = labelled(ways)
    r, c = np.divmod(at[1:], ways.shape[1])
    reached = goals[r, c] == 1
    cell = np.where(reached, (tile.top + r) * ground.held.frame.cols + tile.left + c, -1)
    value = np.where(reached, goal.values(ground, tile, reader)[r, c], np.float32(np.nan))
    metres = _metres(ground, tile, ways) if goal.lengths else None
    return _Within(labels, at, np.append(-1, cell), np.append(np.float32(np.nan), value), metres, on, left)


def _spans(ground: Ground, rows: slice) -> np.ndarray:
    return distances(ground.held.frame.part(rows, slice(0, 1)))


def _metres(ground: Ground, tile: Tile, ways: np.ndarray) -> np.ndarray:
    donors, out = np.empty(ways.shape, np.uint8), np.zeros(ways.shape)
    count_donors(ways, donors)
    with silent().pulse(1) as pulse:
        order = down_order_cells(ways, donors, pulse)
        lengths_down(Course(ways, _spans(ground, tile.rows), order), _NO_AREAS, out, pulse)
    return out


class RimWork(Work):
    """Follows water within tiles, and reduces them to their rims."""

    side_by_side = True

    def __init__(self, ground: Ground, goal: Goal) -> None:
        self.ground, self.goal, self._reader = ground, goal, ground.reading()

    def read(self, _: Tile) -> GridReader:
        """Where heights are read from, as far as they are needed."""
        reader: GridReader = self._reader.get()
        return reader

    def work_out(self, tile: Tile, reader: GridReader) -> EndRim:
        """Where the water of the rim goes."""
        found = _within(self.ground, self.goal, tile, reader)
        rows, cols = found.labels.shape
        rim = rim_cells(rows, cols)
        # Of each label that leads on: where to, and how far the step is.
        row, col = np.full((2, len(found.at)), -1)
        step, labels = np.zeros(len(found.at)), found.labels.reshape(-1)[found.on]
        r, c = np.divmod(found.on, cols)
        row[labels], col[labels] = tile.top + r + DR[found.left], tile.left + c + DC[found.left]
        ends = found.labels.reshape(-1)[rim]
        if found.metres is not None:
            step[labels] = self._steps(tile, np.minimum(tile.top + r, row[labels]), found.left)
            metres = step[ends] + found.metres.reshape(-1)[rim]
        else:
            metres = step[ends]
        return EndRim(row[ends], col[ends], found.cell[ends], found.value[ends], metres)

    def _steps(self, tile: Tile, rows: np.ndarray, ways: np.ndarray) -> np.ndarray:
        """Metres of steps out of a tile, by the upper of the two rows that they go between."""
        first = max(tile.top - 1, 0)
        spans = _spans(self.ground, slice(first, tile.bottom)).astype(np.float64)
        steps: np.ndarray = spans[rows - first, np.where(ways & 1, 1, np.where(ways & 2, 2, 0))]
        return steps


@dataclass(frozen=True)
class Followed:
    """Where the water of a ground ends, as far as the rims of its tiles go: of each tile the cells, values
    and metres at its rim.
    """

    goal: Goal
    rims: Mapping[str, tuple[np.ndarray, np.ndarray, np.ndarray]]

    def for_tile(self, tile: Tile) -> Followed:
        """It, with what is known at the rim of one tile."""
        return Followed(self.goal, {tile.name: self.rims[tile.name]})

    def ends(self, ground: Ground, tile: Tile, reader: GridReader) -> Ends:
        """Where the water of the cells of a tile ends."""
        found = _within(ground, self.goal, tile, reader)
        rows, cols = found.labels.shape
        rim = rim_cells(rows, cols)
        place = np.full(rows * cols, -1, np.int32)
        place[rim] = np.arange(len(rim))
        labels, at = found.labels.reshape(-1)[found.on], place[found.on]
        cell, value, metres = self.rims[tile.name]
        found.cell[labels], found.value[labels] = cell[at], value[at]
        if found.metres is None:
            return Ends(found.labels, found.cell, found.value, np.empty((0, 0)))
        further = np.zeros(len(found.at))
        further[labels] = metres[at]
        return Ends(found.labels, found.cell, found.value, found.metres + further[found.labels])


def follow(ground: Ground, goal: Goal, crew: Crew, progress: Progress) -> Followed:
    """Follow the water of a ground over the rims of its tiles."""
    tiles = list(ground.tiling)
    rims = {t.name: r for t, r in crew.each(RimWork(ground, goal), tiles, progress, "Following water")}
    first, nodes = first_nodes(ground.tiling, {name: len(r.row) for name, r in rims.items()})
    cell, value = np.empty(nodes, np.int64), np.empty(nodes, np.float32)
    metres, target = np.empty(nodes), np.empty(nodes, np.int64)
    for tile in tiles:
        rim, part = rims[tile.name], slice(first[tile.name], first[tile.name] + len(rims[tile.name].row))
        cell[part], value[part], metres[part] = rim.cell, rim.value, rim.metres
        target[part] = nodes_at(ground.tiling, first, rim.row, rim.col)
    last = follow_on(target, metres)
    parts = {t.name: slice(first[t.name], first[t.name] + len(rims[t.name].row)) for t in tiles}
    return Followed(goal, {n: (cell[last[p]], value[last[p]], metres[p]) for n, p in parts.items()})

"""The longest ways of water to places, on a ground in tiles: all that drains to a place is followed up, from
tile to tile.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.tiling import Tile
from moss_step.large.water.ground import Ground
from moss_step.model.progress import Progress
from moss_step.science.water.kernels.neighbours import DC, DR, NONE
from moss_step.science.water.kernels.trace import climb
from moss_step.science.water.neighbours import distances


class Upstream(NamedTuple):
    """Cells of a ground upstream of places: their numbers, how many metres and cells it is from each down to
    its place, and the number of that.
    """

    cells: np.ndarray
    along: np.ndarray
    steps: np.ndarray
    place: np.ndarray

    def some(self, which: np.ndarray) -> Upstream:
        """Some of them."""
        return Upstream(*(of[which] for of in self))


class ClimbWork(Work):
    """Follows water up from cells of tiles to where it begins, or to cells of other tiles."""

    side_by_side = True

    def __init__(self, ground: Ground, begin: Mapping[str, Upstream]) -> None:
        self.ground, self.begin = ground, dict(begin)

    def for_tile(self, tile: Tile) -> ClimbWork:
        """What one tile needs."""
        return ClimbWork(self.ground, {tile.name: self.begin[tile.name]})

    def read(self, tile: Tile) -> np.ndarray:
        """Ways of the tile with one more cell on each side."""
        return self.ground.scratch.window("ways", tile, 1, NONE)

    def work_out(self, tile: Tile, ways: np.ndarray) -> tuple[Upstream, Upstream]:
        """Of each cell where the longest way to it begins in the tile; and the cells of other tiles that
        drain to it.
        """
        begin, ground = self.begin[tile.name], self.ground
        rows = np.arange(tile.top - 1, tile.bottom + 1).clip(0, ground.tiling.shape[0] - 1)
        metres = distances(ground.held.frame)[rows]
        found, beyond = climb(ways, metres, ground.in_frame(tile, begin.cells), begin.along, begin.steps)
        (far, along, steps), (ring, ring_along, ring_steps, of) = found, beyond
        return (
            Upstream(ground.out_of_frame(tile, far), along, steps, begin.place),
            Upstream(ground.out_of_frame(tile, ring), ring_along, ring_steps, begin.place[of]),
        )


def farthest(ground: Ground, places: Sequence[int], crew: Crew, progress: Progress) -> list[np.ndarray]:
    """Of each place, which is a cell of a ground whose ways are known, the cells where the longest ways to it
    begin: one, but where several are as long and have as many cells.
    """
    n = len(places)
    waiting = Upstream(np.array(places, np.int64), np.zeros(n), np.zeros(n, np.int64), np.arange(n))
    best = waiting
    while len(waiting.cells):
        tiles = ground.by_tile(waiting.cells)
        work = ClimbWork(ground, {tile.name: waiting.some(own) for tile, own in tiles.items()})
        found = [both for _, both in crew.each(work, list(tiles), progress, "Following the water up")]
        best = _longest([best, *(far for far, _ in found)], n)
        waiting = _joined([ring for _, ring in found])
    return [best.cells[best.place == k] for k in range(n)]


def _joined(parts: Sequence[Upstream]) -> Upstream:
    return Upstream(*(np.concatenate(of) for of in zip(*parts, strict=True)))


def _longest(parts: Sequence[Upstream], places: int) -> Upstream:
    """Those of the longest ways to each place, of these those of the fewest cells."""
    every = _joined(parts)
    most = np.full(places, -1.0)
    np.maximum.at(most, every.place, every.along)
    every = every.some(every.along == most[every.place])
    least = np.full(places, np.iinfo(np.int64).max)
    np.minimum.at(least, every.place, every.steps)
    return every.some(every.steps == least[every.place])


def first_of(paths: Sequence[np.ndarray], cols: int) -> np.ndarray:
    """Of paths as long as each other that end in one cell the one that ``kernels.trace.longest_up`` comes to
    first: it looks at neighbours in their order.
    """
    return min(paths, key=lambda path: _turns(path, cols)) if len(paths) > 1 else paths[0]


def _turns(path: np.ndarray, cols: int) -> tuple[int, ...]:
    """By which neighbours a path goes up, from its end on."""
    order = {(int(r), int(c)): k for k, (r, c) in enumerate(zip(DR, DC, strict=True))}
    row, col = np.divmod(path[::-1], cols)
    steps = zip(np.diff(row).tolist(), np.diff(col).tolist(), strict=True)
    return tuple(order[step] for step in steps)

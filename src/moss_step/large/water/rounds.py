"""Rounds over tiles: what they hold along their sides is passed on to those around until nothing changes."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

import numpy as np

from moss_step.large.crew import Crew, TileWork
from moss_step.large.sides import Sides, around
from moss_step.large.tiling import Tile, Tiling
from moss_step.model.progress import Progress

Rims = tuple[np.ndarray, ...]
"""What lies around a tile: of each field, in the order of ``ring``."""
_FROM = ((1, 1), (-1, -1), (1, -1), (-1, 1))
"""Which ways down and across rounds go over the tiles, in turn."""


class Known:
    """What is known along the sides of tiles so far, of some fields: ``blank`` where nothing is. It is asked
    while it learns.
    """

    def __init__(self, tiling: Tiling, fields: int, dtype: type, blank: float = 0) -> None:
        self.tiling, self._dtype, self._blank, self._lock = tiling, dtype, blank, threading.Lock()
        self._sides = [dict[str, Sides]() for _ in range(fields)]

    def around(self, tile: Tile) -> Rims:
        """What lies around a tile."""
        with self._lock:
            found = [around(tile, self.tiling, sides, self._blank) for sides in self._sides]
        return tuple(field.astype(self._dtype) for field in found)

    def learn(self, tile: Tile, fields: Sequence[Sides]) -> bool:
        """Take what there is along the sides of a tile now; says whether it is new."""
        name = tile.name
        with self._lock:
            before = [sides.get(name) for sides in self._sides]
            for sides, now in zip(self._sides, fields, strict=True):
                sides[name] = now
        return not all(a is not None and _alike(a, b) for a, b in zip(before, fields, strict=True))


@dataclass(frozen=True)
class Fixed:
    """What is known around one tile, for a worker that is sent this tile alone."""

    rims: Rims

    def around(self, _: Tile) -> Rims:
        """What lies around the tile."""
        return self.rims


def settle(
    crew: Crew,
    known: Known,
    tiles: Collection[Tile],
    work_of: Callable[[bool], TileWork[tuple[Sequence[Sides], Rims]]],
    progress: Progress,
    doing: str,
) -> dict[str, Rims]:
    """Go over tiles until none changes; gives what lies around each tile then. A work, which is told whether
    this is the first round, gives what there is along the sides of a tile, and what lay around it.

    Rounds go over the tiles along their diagonals, from one corner of the ground after another: what one tile
    learns, the next ones of the same round know (fast sweeping, Zhao 2005, Mathematics of Computation 74).
    """
    waiting, some = list(tiles), {t.name for t in tiles}
    came_of = dict[str, Rims]()
    done = 0
    while waiting:
        changed = set[Tile]()
        part = progress.part(1 - 0.7**done, 1 - 0.7 ** (done + 1))
        down, across = _FROM[done % len(_FROM)]
        waiting.sort(key=lambda t: (down * t.row + across * t.col, t.row))
        for tile, (fields, rims) in crew.each(work_of(done == 0), waiting, part, doing):
            came_of[tile.name] = rims
            if known.learn(tile, fields):
                changed.add(tile)
        near = {n for t in changed for n in _near(t, known.tiling) if n.name in some}
        waiting = [t for t in near if not _alike(known.around(t), came_of[t.name])]
        done += 1
    return came_of


def _alike(some: Sequence[np.ndarray], others: Sequence[np.ndarray]) -> bool:
    return all(np.array_equal(a, b, equal_nan=True) for a, b in zip(some, others, strict=True))


def _near(tile: Tile, tiling: Tiling) -> list[Tile]:
    return [
        tiling.tile(r, c)
        for r in range(max(tile.row - 1, 0), min(tile.row + 2, tiling.down))
        for c in range(max(tile.col - 1, 0), min(tile.col + 2, tiling.across))
        if (r, c) != (tile.row, tile.col)
    ]

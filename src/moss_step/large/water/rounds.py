"""Rounds over tiles: what they hold along their sides is passed on to those around until nothing changes."""

from __future__ import annotations

import heapq
import threading
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from moss_step.large.crew import Crew, TileWork, Work
from moss_step.large.scratch import Scratch
from moss_step.large.sides import Sides, around
from moss_step.large.tiling import Tile, Tiling
from moss_step.model.progress import Progress

Rims = tuple[np.ndarray, ...]
"""What lies around a tile: of each field, in the order of ``ring``."""
Round = TileWork[tuple[Sequence[Sides], Rims]]
"""What is done with a tile each time: it gives what there is along its sides, and what lay around it."""
_FROM = ((1, 1), (-1, -1), (1, -1), (-1, 1))
"""Which ways down and across rounds go over the tiles, in turn."""
_LEFT = 0.7
"""What is taken to be left once all tiles were gone over once more: nobody knows how often that will be."""


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

    @property
    def fields(self) -> int:
        """How many fields there are."""
        return len(self._sides)

    def first(self, tile: Tile) -> bool:
        """Whether nothing was learnt of a tile yet."""
        return tile.name not in self._sides[0]

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
    """What was known when one tile was sent."""

    rims: Rims
    new: bool

    @classmethod
    def of(cls, known: Known | Fixed, tile: Tile) -> Fixed:
        """What is known of one tile now, for a worker that is sent this tile alone."""
        return cls(known.around(tile), known.first(tile))

    def around(self, _: Tile) -> Rims:
        """What lies around the tile."""
        return self.rims

    def first(self, _: Tile) -> bool:
        """Whether nothing had been learnt of it."""
        return self.new


@dataclass(frozen=True)
class Notes:
    """What was found along the sides of tiles, and what lay around each then, kept under a name: a run that
    was ended goes on from there. A tile keeps its own before that is noted: a note is never ahead.
    """

    scratch: Scratch
    name: str

    def keep(self, tile: Tile, fields: Sequence[Sides], rims: Rims) -> None:
        """Keep those of a tile."""
        self.scratch.save(self.name, tile, *(side for sides in fields for side in sides), *rims)

    def of(self, tile: Tile, fields: int) -> tuple[list[Sides], Rims] | None:
        """Those of a tile, where there are any.

        Raises MossError for some that are damaged.
        """
        if not self.scratch.has(self.name, tile):
            return None
        kept = self.scratch.load_some(self.name, tile, 5 * fields)
        sides = [tuple(kept[4 * n : 4 * n + 4]) for n in range(fields)]
        return [(a, b, c, d) for a, b, c, d in sides], tuple(kept[4 * fields :])

    def drop(self) -> None:
        """Let go of all."""
        self.scratch.drop(self.name)


class NotedRound(Work):
    """A work whose findings are noted."""

    def __init__(self, work: Round, notes: Notes) -> None:
        self._work, self._notes = work, notes
        self.side_by_side = work.side_by_side

    def for_tile(self, tile: Tile) -> NotedRound:
        """What one tile needs."""
        return NotedRound(self._work.for_tile(tile), self._notes)

    def read(self, tile: Tile) -> Any:
        """What the work reads."""
        return self._work.read(tile)

    def work_out(self, tile: Tile, read: Any) -> Any:
        """What the work works out."""
        return self._work.work_out(tile, read)

    def finish(self, tile: Tile, read: Any, found: Any) -> tuple[Sequence[Sides], Rims]:
        """Have it finished, then noted."""
        fields, rims = self._work.finish(tile, read, found)
        self._notes.keep(tile, fields, rims)
        return fields, rims


class _Sweeps:
    """Tiles to go over, each round along their diagonals and from another corner of the ground: what one tile
    learns, the next ones of the same round know (fast sweeping, Zhao 2005, Mathematics of Computation 74).
    Nobody waits for a round to end.
    """

    def __init__(self, tiles: Iterable[Tile]) -> None:
        self._waiting: list[tuple[int, int, Tile]] = []
        self._busy = dict[str, int]()
        for tile in tiles:
            self._put(tile, 0)

    def __len__(self) -> int:
        """How many wait."""
        return len(self._waiting)

    def popleft(self) -> Tile:
        """The next one."""
        return heapq.heappop(self._waiting)[2]

    def over(self, tile: Tile) -> int:
        """Have a tile done; gives in which round."""
        return self._busy.pop(tile.name)

    def join(self, tile: Tile, turn: int) -> None:
        """Have a tile gone over in a round, or sooner where it waits or is worked on already."""
        if tile.name not in self._busy:
            self._put(tile, turn)

    def _put(self, tile: Tile, turn: int) -> None:
        down, across = _FROM[turn % len(_FROM)]
        self._busy[tile.name] = turn
        heapq.heappush(self._waiting, (turn, down * tile.row + across * tile.col, tile))


def settle(
    crew: Crew,
    known: Known,
    tiles: Collection[Tile],
    work: Round,
    notes: Notes,
    progress: Progress,
    doing: str,
) -> dict[str, Rims]:
    """Go over tiles until none changes; gives what lies around each tile then. The work gives what there is
    along the sides of a tile, and what lay around it; it asks ``known``. A run that was ended is gone on with
    from its notes, which whoever asks lets go of.
    """
    some, came_of = {t.name for t in tiles}, dict[str, Rims]()
    for tile in tiles:
        kept = notes.of(tile, known.fields)
        if kept is not None:
            known.learn(tile, kept[0])
            came_of[tile.name] = kept[1]

    def stale(tile: Tile) -> bool:
        return not _alike(known.around(tile), came_of[tile.name])

    visits, line = 0, _Sweeps(t for t in tiles if t.name not in came_of or stale(t))
    gone_over = progress.measured(lambda: 1 - _LEFT ** (visits / max(len(tiles), 1)))
    for tile, (fields, rims) in crew.each(NotedRound(work, notes), line, gone_over, doing):
        visits += 1
        came_of[tile.name], turn = rims, line.over(tile)
        near = _near(tile, known.tiling) if known.learn(tile, fields) else []
        for one in (tile, *near):
            if one.name in some and one.name in came_of and stale(one):
                line.join(one, turn + 1)
    progress.at(1.0, doing)
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

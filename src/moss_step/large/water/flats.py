"""Level ground that crosses the rims of tiles: steps from lower and from higher ground are passed from tile
to tile until they change no more, which gives the ways of the ground in one piece.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces, Computers &
Geosciences 62.
"""

from __future__ import annotations

import threading
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.scratch import Scratch
from moss_step.large.sides import Sides, around, sides_of
from moss_step.large.tiling import Tile, Tiling
from moss_step.model.progress import Progress, silent
from moss_step.science.water.flats import drain_flats
from moss_step.science.water.kernels.flats import HIGHER, LOWER
from moss_step.science.water.kernels.neighbours import DC, DR, DRY, Filled
from moss_step.science.water.kernels.tiles import (
    drain_open,
    list_open,
    mark_open,
    number_open,
    spread_open,
    steps_at_rim,
)

Rims = tuple[np.ndarray, np.ndarray]
"""What lies around a tile: steps from lower, and from higher ground, in the order of ``ring``."""
_FROM = ((1, 1), (-1, -1), (1, -1), (-1, 1))
"""Which ways down and across rounds go over the tiles, in turn."""


def drain_closed(z: np.ndarray, ways: np.ndarray) -> int:
    """Give the level cells of a window their ways, but for those whose flats reach its rim of one cell: these
    are marked OPEN. Gives their number.
    """
    count = int(mark_open(z, ways))
    zeros = np.zeros(z.shape, np.int32)
    drain_flats(Filled(z, zeros, DRY), ways, np.zeros(z.shape, np.int32), silent())
    return count


@dataclass(frozen=True)
class Open:
    """The open cells of a tile: their flat indices in its window, and what lies beside each."""

    cells: np.ndarray
    beside: np.ndarray


def open_cells(z: np.ndarray, ways: np.ndarray, count: int) -> Open:
    """List the open cells of a window."""
    return Open(*list_open(z, ways, count))


class Known:
    """What is known along the sides of tiles so far: steps from lower, and from higher ground. It is asked
    while it learns.
    """

    def __init__(self, tiling: Tiling) -> None:
        self.tiling, self._lock = tiling, threading.Lock()
        self._toward, self._away = dict[str, Sides](), dict[str, Sides]()

    def around(self, tile: Tile) -> Rims:
        """What lies around a tile."""
        with self._lock:
            toward, away = (around(tile, self.tiling, sides) for sides in (self._toward, self._away))
        return toward.astype(np.int32), away.astype(np.int32)

    def learn(self, tile: Tile, low: Sides, high: Sides) -> bool:
        """Take what there is along the sides of a tile now; says whether it is new."""
        name = tile.name
        with self._lock:
            new = not (_same(self._toward.get(name), low) and _same(self._away.get(name), high))
            self._toward[name], self._away[name] = low, high
        return new


@dataclass(frozen=True)
class Fixed:
    """What is known around one tile, for a worker that is sent this tile alone."""

    rims: Rims

    def around(self, _: Tile) -> Rims:
        """What lies around the tile."""
        return self.rims


class Before(NamedTuple):
    """What there is of a tile before a round: its open cells, what lies beside them, the steps that are known
    of them, and what lies around it.
    """

    cells: np.ndarray
    beside: np.ndarray
    far: np.ndarray
    rims: Rims


class Spread(NamedTuple):
    """Steps to the open cells of a tile along its sides, from lower and from higher ground; and whether any
    has changed.
    """

    toward: Sides
    away: Sides
    changed: bool


class SpreadWork(Work):
    """One round: steps to the open cells of tiles, from what is known around each by the time that it is
    worked on.
    """

    side_by_side = True

    def __init__(self, scratch: Scratch, name: str, known: Known | Fixed, first: bool) -> None:
        self.scratch, self.name, self.known, self.first = scratch, name, known, first

    def for_tile(self, tile: Tile) -> SpreadWork:
        """What one tile needs."""
        return SpreadWork(self.scratch, self.name, Fixed(self.known.around(tile)), self.first)

    def read(self, tile: Tile) -> Before:
        """The open cells, and what is known of them."""
        cells, beside = (self.scratch.load(f"{self.name}-{what}", tile) for what in ("cells", "beside"))
        if self.first:
            far = np.zeros((2, len(cells)), np.int32)
        else:
            far = self.scratch.load(f"{self.name}-far", tile)
        return Before(cells, beside, far, self.known.around(tile))

    def work_out(self, tile: Tile, read: Before) -> Spread:
        """Steps from lower and from higher ground, in place of those that were known."""
        cells, beside, far, rims = read
        places, changed = placed(tile, cells), 0
        for field, flag, rim in zip(far, (LOWER, HIGHER), rims, strict=True):
            sources = steps_at_rim(cells, beside, places, flag if self.first else 0, rim)
            changed += spread_open(cells, beside, places, sources, field)
        shape = tile.bottom - tile.top + 2, tile.right - tile.left + 2
        numbers = sides_of(places[1].reshape(shape)[1:-1, 1:-1])
        toward, away = (_along(field, numbers) for field in far)
        return Spread(toward, away, changed > 0)

    def finish(self, tile: Tile, read: Before, found: Spread) -> tuple[Sides, Sides, Rims]:
        """Keep the steps that have changed; gives what there is along the sides now, and what it comes
        of.
        """
        if self.first or found.changed:
            self.scratch.save(f"{self.name}-far", tile, read.far)
        return found.toward, found.away, read.rims


def _along(field: np.ndarray, numbers: Sides) -> Sides:
    top, right, bottom, left = (np.where(n > 0, field[n - 1], 0) for n in numbers)
    return top, right, bottom, left


def placed(tile: Tile, cells: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Steps to neighbours in a tile's window, and the number of each open cell in it, as ``number_open``
    gives them.
    """
    rows, cols = tile.bottom - tile.top, tile.right - tile.left
    place = np.empty((rows + 2, cols + 2), np.int32)
    number_open(cells, place)
    return DR * (cols + 2) + DC, place.reshape(-1)


def settle(
    crew: Crew, scratch: Scratch, name: str, tiles: Collection[Tile], progress: Progress
) -> dict[str, Rims]:
    """Pass steps from tile to tile until none changes; gives what lies around each tile then.

    Rounds go over the tiles along their diagonals, from one corner of the ground after another: what one tile
    learns, the next ones of the same round know (fast sweeping, Zhao 2005, Mathematics of Computation 74).
    """
    known, waiting = Known(scratch.tiling), list(tiles)
    some = {t.name for t in tiles}
    came_of = dict[str, Rims]()
    done = 0
    while waiting:
        work, changed = SpreadWork(scratch, name, known, done == 0), set[Tile]()
        part = progress.part(1 - 0.7**done, 1 - 0.7 ** (done + 1))
        down, across = _FROM[done % len(_FROM)]
        waiting.sort(key=lambda t: (down * t.row + across * t.col, t.row))
        for tile, (low, high, rims) in crew.each(work, waiting, part, "Draining level ground"):
            came_of[tile.name] = rims
            if known.learn(tile, low, high):
                changed.add(tile)
        near = {n for t in changed for n in _near(t, scratch.tiling) if n.name in some}
        waiting = [t for t in near if not _alike(known.around(t), came_of[t.name])]
        done += 1
    return came_of


def _same(a: Sides | None, b: Sides) -> bool:
    return a is not None and _alike(a, b)


def _alike(some: Sequence[np.ndarray], others: Sequence[np.ndarray]) -> bool:
    return all(np.array_equal(a, b) for a, b in zip(some, others, strict=True))


def _near(tile: Tile, tiling: Tiling) -> list[Tile]:
    return [
        tiling.tile(r, c)
        for r in range(max(tile.row - 1, 0), min(tile.row + 2, tiling.down))
        for c in range(max(tile.col - 1, 0), min(tile.col + 2, tiling.across))
        if (r, c) != (tile.row, tile.col)
    ]


def drained(scratch: Scratch, name: str, tile: Tile, ways: np.ndarray, rims: Rims) -> None:
    """Give the open cells of a tile their ways; ``ways`` is its window with one more cell on each side."""
    cells, beside = scratch.load(f"{name}-cells", tile), scratch.load(f"{name}-beside", tile)
    far = scratch.load(f"{name}-far", tile)
    drain_open(ways.reshape(-1), cells, beside, placed(tile, cells), (far[0], far[1]), rims)

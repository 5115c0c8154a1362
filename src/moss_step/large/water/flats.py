"""Level ground that crosses the rims of tiles: steps from lower and from higher ground are passed from tile
to tile until they change no more, which gives the ways of the ground in one piece.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces, Computers &
Geosciences 62.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.scratch import Scratch
from moss_step.large.sides import Sides, sides_of
from moss_step.large.tiling import Tile
from moss_step.large.water import rounds
from moss_step.large.water.rounds import Fixed, Known, Notes, Rims
from moss_step.model.arrays import read_only
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


def drain_closed(z: np.ndarray, ways: np.ndarray) -> int:
    """Give the level cells of a window their ways, but for those whose flats reach its rim of one cell: these
    are marked OPEN. Gives their number.
    """
    count = int(mark_open(z, ways))
    zeros = np.zeros(z.shape, np.int32)
    drain_flats(Filled(read_only(z), zeros, DRY), ways, np.zeros(z.shape, np.int32), silent())
    return count


@dataclass(frozen=True)
class Open:
    """The open cells of a tile: their flat indices in its window, and what lies beside each."""

    cells: np.ndarray
    beside: np.ndarray


def open_cells(z: np.ndarray, ways: np.ndarray, count: int) -> Open:
    """List the open cells of a window."""
    return Open(*list_open(z, ways, count))


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

    def __init__(self, scratch: Scratch, name: str, known: Known | Fixed) -> None:
        self.scratch, self.name, self.known = scratch, name, known

    def for_tile(self, tile: Tile) -> SpreadWork:
        """What one tile needs."""
        return SpreadWork(self.scratch, self.name, Fixed.of(self.known, tile))

    def read(self, tile: Tile) -> Before:
        """The open cells, and what is known of them."""
        cells, beside = (self.scratch.load(f"{self.name}-{what}", tile) for what in ("cells", "beside"))
        if self.known.first(tile):
            far = np.zeros((2, len(cells)), np.int32)
        else:
            far = self.scratch.load(f"{self.name}-far", tile)
        return Before(cells, beside, far, self.known.around(tile))

    def work_out(self, tile: Tile, read: Before) -> Spread:
        """Steps from lower and from higher ground, in place of those that were known."""
        cells, beside, far, rims = read
        places, changed = placed(tile, cells), 0
        for field, flag, rim in zip(far, (LOWER, HIGHER), rims, strict=True):
            sources = steps_at_rim(cells, beside, places, flag if self.known.first(tile) else 0, rim)
            changed += spread_open(cells, beside, places, sources, field)
        shape = tile.bottom - tile.top + 2, tile.right - tile.left + 2
        numbers = sides_of(places[1].reshape(shape)[1:-1, 1:-1])
        toward, away = (_along(field, numbers) for field in far)
        return Spread(toward, away, changed > 0)

    def finish(self, tile: Tile, read: Before, found: Spread) -> tuple[tuple[Sides, Sides], Rims]:
        """Keep the steps that have changed; gives what there is along the sides now, and what it comes
        of.
        """
        if self.known.first(tile) or found.changed:
            self.scratch.save(f"{self.name}-far", tile, read.far)
        return (found.toward, found.away), read.rims


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
    """Pass steps from tile to tile until none changes; gives what lies around each tile then."""
    known = Known(scratch.tiling, 2, np.int32)
    work = SpreadWork(scratch, name, known)
    return rounds.settle(
        crew, known, tiles, work, Notes(scratch, f"{name}-noted"), progress, "Draining level ground"
    )


def drained(scratch: Scratch, name: str, tile: Tile, ways: np.ndarray, rims: Rims) -> None:
    """Give the open cells of a tile their ways; ``ways`` is its window with one more cell on each side."""
    cells, beside = scratch.load(f"{name}-cells", tile), scratch.load(f"{name}-beside", tile)
    far = scratch.load(f"{name}-far", tile)
    drain_open(ways.reshape(-1), cells, beside, placed(tile, cells), (far[0], far[1]), rims)

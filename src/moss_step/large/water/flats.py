"""Level ground that crosses the rims of tiles: steps from lower and from higher ground are passed from tile
to tile until they change no more, which gives the ways of the ground in one piece.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces, Computers &
Geosciences 62.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.scratch import Scratch
from moss_step.large.sides import Sides, around, ring, sides_of
from moss_step.large.tiling import Tile, Tiling
from moss_step.model.progress import Progress, silent
from moss_step.science.water.flats import drain_flats
from moss_step.science.water.kernels.flats import HIGHER, LOWER
from moss_step.science.water.kernels.neighbours import DC, DR, DRY, Filled
from moss_step.science.water.kernels.tiles import (
    drain_open,
    list_open,
    mark_open,
    spread_open,
    steps_at_rim,
)

Rims = tuple[np.ndarray, np.ndarray]
"""What lies around a tile: steps from lower, and from higher ground, in the order of ``ring``."""


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


class Spread(NamedTuple):
    """Steps to the open cells of a tile, and along its sides, from lower and from higher ground."""

    far: np.ndarray
    toward: Sides
    away: Sides


class SpreadWork(Work):
    """One round: steps to the open cells of tiles, from what the tiles around know."""

    side_by_side = True

    def __init__(self, scratch: Scratch, name: str, rims: Mapping[str, Rims], first: bool) -> None:
        self.scratch, self.name, self.rims, self.first = scratch, name, dict(rims), first

    def for_tile(self, tile: Tile) -> SpreadWork:
        """What one tile needs."""
        return SpreadWork(self.scratch, self.name, {tile.name: self.rims[tile.name]}, self.first)

    def read(self, tile: Tile) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The open cells, what lies beside them, and the steps that are known of them."""
        cells, beside = (self.scratch.load(f"{self.name}-{what}", tile) for what in ("cells", "beside"))
        known = self.scratch.load(f"{self.name}-far", tile) if not self.first else None
        return cells, beside, np.zeros((2, len(cells)), np.int32) if known is None else known

    def work_out(self, tile: Tile, read: tuple[np.ndarray, np.ndarray, np.ndarray]) -> Spread:
        """Steps from lower and from higher ground."""
        cells, beside, known = read
        place, steps = placed(tile, cells)
        far = known.copy()
        for field, flag, rim in zip(far, (LOWER, HIGHER), self.rims[tile.name], strict=True):
            sources = steps_at_rim(cells, beside, place, steps, flag if self.first else 0, rim)
            spread_open(cells, beside, place, steps, sources, field)
        shape = tile.bottom - tile.top + 2, tile.right - tile.left + 2
        numbers = sides_of(place.reshape(shape)[1:-1, 1:-1])
        toward, away = (np.append(field, np.int32(0)) for field in far)  # 0 where a cell is none of these
        return Spread(far, _along(toward, numbers), _along(away, numbers))

    def finish(self, tile: Tile, read: tuple[np.ndarray, ...], found: Spread) -> tuple[Sides, Sides]:
        """Keep the steps that have changed; gives what there is along the sides now."""
        if self.first or not np.array_equal(found.far, read[2]):
            self.scratch.save(f"{self.name}-far", tile, found.far)
        return found.toward, found.away


def _along(field: np.ndarray, numbers: Sides) -> Sides:
    top, right, bottom, left = (field[n - 1] for n in numbers)
    return top, right, bottom, left


def placed(tile: Tile, cells: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The number of each open cell of a tile's window from 1, of those on its rim below 0, and the steps to
    neighbours in it.
    """
    rows, cols = tile.bottom - tile.top, tile.right - tile.left
    place = np.zeros((rows + 2, cols + 2), np.int32)
    r, c = ring(rows, cols)
    place[r, c] = -1 - np.arange(len(r))
    flat = place.reshape(-1)
    flat[cells] = np.arange(1, len(cells) + 1)
    return flat, DR * (cols + 2) + DC


def settle(
    crew: Crew, scratch: Scratch, name: str, tiles: Collection[Tile], progress: Progress
) -> dict[str, Rims]:
    """Pass steps from tile to tile until none changes; gives what lies around each tile then."""
    toward, away, waiting = dict[str, Sides](), dict[str, Sides](), list(tiles)
    some = {t.name for t in tiles}
    rims = {t.name: _rims(t, scratch.tiling, toward, away) for t in tiles}
    done = 0
    while waiting:
        work, changed = (
            SpreadWork(scratch, name, {t.name: rims[t.name] for t in waiting}, done == 0),
            set[Tile](),
        )
        part = progress.part(1 - 0.7**done, 1 - 0.7 ** (done + 1))
        for tile, (low, high) in crew.each(work, waiting, part, "Draining level ground"):
            if not (_same(toward.get(tile.name), low) and _same(away.get(tile.name), high)):
                changed.add(tile)
            toward[tile.name], away[tile.name] = low, high
        near = {n for t in changed for n in _near(t, scratch.tiling) if n.name in some}
        fresh = {t.name: _rims(t, scratch.tiling, toward, away) for t in near}
        waiting = sorted(t for t in near if not _alike(fresh[t.name], rims[t.name]))
        rims.update(fresh)
        done += 1
    return rims


def _rims(
    tile: Tile, tiling: Tiling, toward: Mapping[str, Sides], away: Mapping[str, Sides]
) -> tuple[np.ndarray, np.ndarray]:
    return around(tile, tiling, toward).astype(np.int32), around(tile, tiling, away).astype(np.int32)


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
    place, steps = placed(tile, cells)
    far = scratch.load(f"{name}-far", tile)
    drain_open(ways.reshape(-1), cells, beside, place, steps, (far[0], far[1]), rims)

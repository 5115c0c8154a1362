"""Filling the ground of tiles with a gradient: each cell is raised along the way out on which that takes the
least. Tiles are gone over until none learns anything new of those around.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.sides import Sides, ring, sides_of
from moss_step.large.tiling import Tile
from moss_step.large.water import rounds
from moss_step.large.water.ground import Ground, framed, window_of
from moss_step.large.water.rounds import Fixed, Known, Notes, Rims
from moss_step.model.progress import Progress
from moss_step.science.water.kernels.depressions import rise_in_tile


@dataclass(frozen=True)
class Rising:
    """A ground that is filled with a gradient, in metres a metre."""

    ground: Ground
    gradient: float

    @property
    def name(self) -> str:
        """What tiles keep it under."""
        return f"risen-{self.gradient!r}"

    def of(self, tile: Tile) -> np.ndarray:
        """Heights of the cells of a tile above the base (float32)."""
        return np.ascontiguousarray(self.ground.scratch.load(self.name, tile)[1:-1, 1:-1])


class _Read(NamedTuple):
    """Heights of a tile and of one more cell on each side, what they were raised to so far, which cells
    around were learnt since, and what lies around.
    """

    z: np.ndarray
    risen: np.ndarray
    changed: np.ndarray
    rims: Rims


class RiseWork(Work):
    """One round: raises the cells of tiles, from what is known around each when it is worked on."""

    side_by_side = True

    def __init__(self, rising: Rising, known: Known | Fixed) -> None:
        self.rising, self.known = rising, known
        self._reader = rising.ground.reading()

    def for_tile(self, tile: Tile) -> RiseWork:
        """What one tile needs."""
        return RiseWork(self.rising, Fixed.of(self.known, tile))

    def read(self, tile: Tile) -> _Read:
        """Heights, and what is known."""
        ground = self.rising.ground
        reader: GridReader = self._reader.get()
        window = window_of(tile, ground.tiling, 1)
        z = framed(ground.heights(reader, window.rows, window.cols), tile, window, np.float32(np.nan))
        if self.known.first(tile):
            risen = np.full(z.shape, np.float32(np.inf))
        else:
            risen = ground.scratch.load(self.rising.name, tile)
        rims = self.known.around(tile)
        at, changed = ring(*(n - 2 for n in z.shape)), np.zeros(z.shape, np.bool_)
        changed[at] = rims[0] != risen[at]
        risen[at] = rims[0]
        return _Read(z, risen, changed, rims)

    def work_out(self, tile: Tile, read: _Read) -> np.ndarray:
        """What its cells are raised to."""
        metres = self.rising.ground.metres_around(tile, 1)
        rise_in_tile(read.z, read.risen, self.known.first(tile), read.changed, metres, self.rising.gradient)
        return read.risen

    def finish(self, tile: Tile, read: _Read, risen: np.ndarray) -> tuple[list[Sides], Rims]:
        """Keep them; gives those along the sides, and what they come of."""
        self.rising.ground.scratch.save(self.rising.name, tile, risen)
        return [sides_of(risen[1:-1, 1:-1])], read.rims


def rise_once(rising: Rising, crew: Crew, progress: Progress) -> None:
    """Have the raised ground at hand."""
    scratch = rising.ground.scratch
    if scratch.finished(rising.name):
        return
    known = Known(scratch.tiling, 1, np.float32, np.inf)
    work = RiseWork(rising, known)
    notes = Notes(scratch, f"{rising.name}-noted")
    rounds.settle(crew, known, list(scratch.tiling), work, notes, progress, "Filling with a gradient")
    scratch.finish(rising.name)
    notes.drop()

"""What the works on water of a tile read: heights above the base of the whole ground, and distances."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Once
from moss_step.large.held import OnDisk, value_of
from moss_step.large.scratch import Scratch
from moss_step.large.tiling import Tile, Tiling, widened, within
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.water.neighbours import distances


class Window(NamedTuple):
    """A part of a ground: its rows and columns, and those of a tile within it."""

    rows: slice
    cols: slice
    inner: tuple[slice, slice]


def window_of(tile: Tile, tiling: Tiling, margin: int) -> Window:
    """A tile with a margin, as far as the ground goes."""
    rows = widened(tile.rows, margin, tiling.shape[0])
    cols = widened(tile.cols, margin, tiling.shape[1])
    return Window(rows, cols, (within(tile.rows, rows), within(tile.cols, cols)))


def framed(array: np.ndarray, tile: Tile, window: Window, blank: Any) -> np.ndarray:
    """A tile with one more cell on each side, out of a window that has these as far as the ground goes:
    ``blank`` beyond it.
    """
    out = np.full((tile.bottom - tile.top + 2, tile.right - tile.left + 2), blank, array.dtype)
    rows = slice(max(tile.top - 1, window.rows.start), min(tile.bottom + 1, window.rows.stop))
    cols = slice(max(tile.left - 1, window.cols.start), min(tile.right + 1, window.cols.stop))
    here = slice(tile.top - 1, tile.bottom + 1), slice(tile.left - 1, tile.right + 1)
    out[within(rows, here[0]), within(cols, here[1])] = array[
        within(rows, window.rows), within(cols, window.cols)
    ]
    return out


@dataclass(frozen=True)
class Ground:
    """A ground on the disk in tiles, with a folder for what is worked out on the way."""

    held: OnDisk
    scratch: Scratch

    @property
    def tiling(self) -> Tiling:
        """Its tiles."""
        return self.scratch.tiling

    def like(self) -> Surface:
        """A surface of one cell that is like it.

        Raises MossError, when its heights are asked for, where it holds none.
        """
        frame = self.held.frame.part(slice(0, 1), slice(0, 1))
        cell = np.zeros((1, 1), self.held.source.dtype)
        return as_kind(value_of(self.held.kind, self.held.about, cell, frame), Surface)

    def heights(self, reader: GridReader, rows: slice, cols: slice) -> np.ndarray:
        """Heights of a window above the base, in single precision."""
        return self.held.above_base(reader.read(rows, cols))

    def heights_at(self, cells: np.ndarray) -> np.ndarray:
        """Heights of cells in their own precision, by their numbers row by row."""
        with GridReader(self.held.source) as reader:
            places = (divmod(cell, self.held.frame.cols) for cell in cells.tolist())
            return np.array([reader.read(slice(r, r + 1), slice(c, c + 1))[0, 0] for r, c in places])

    def metres(self, rows: slice) -> np.ndarray:
        """Distances to the neighbours by row in the unit of the heights, as ``neighbours.distances`` gives
        them.
        """
        frame = self.held.frame.part(rows, slice(0, 1))
        scaled: np.ndarray = distances(frame) / np.float32(self.like().metres_per_height)
        return scaled

    def reading(self) -> Once:
        """A reader of it for each thread."""
        return Once(partial(GridReader, self.held.source))

    def open_at(self, tile: Tile) -> tuple[bool, bool, bool, bool]:
        """Whether the top, right, bottom and left side of a tile are sides of the ground."""
        rows, cols = self.tiling.shape
        return tile.top == 0, tile.right == cols, tile.bottom == rows, tile.left == 0

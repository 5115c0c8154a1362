"""What the works on water of a tile read: heights above the base of the whole ground, and distances."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any, Literal, NamedTuple

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Once
from moss_step.large.held import OnDisk, value_of
from moss_step.large.scratch import Scratch
from moss_step.large.tiling import Tile, Tiling, widened, within
from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water.neighbours import distances
from moss_step.study.declared import as_part


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
        row, col = np.divmod(cells, self.held.frame.cols)
        result = np.empty(len(cells), self.held.source.dtype)
        with GridReader(self.held.source) as reader:
            for some in self.by_tile(cells).values():
                r, c = row[some], col[some]
                rows, cols = slice(r.min(), r.max() + 1), slice(c.min(), c.max() + 1)
                result[some] = reader.read(rows, cols)[r - rows.start, c - cols.start]
        return result

    def cell_at(self, x: float, y: float) -> int:
        """Number of the cell at a place.

        Raises MossError outside of the ground, and where it has no height.
        """
        there = self.held.frame.cell_at(x, y)
        if there is None:
            raise MossError(f"{x:g}, {y:g} lies outside the ground.", "Choose a place on it.")
        cell = there[0] * self.held.frame.cols + there[1]
        if np.isnan(self.heights_at(np.array([cell]))[0]):
            raise MossError(f"{x:g}, {y:g} has no height.", "Choose a place that has data.")
        return cell

    def tile_of(self, cell: int) -> Tile:
        """The tile that holds a cell."""
        row, col = divmod(cell, self.held.frame.cols)
        return self.tiling.tile(row // self.tiling.high, col // self.tiling.wide)

    def by_tile(self, cells: np.ndarray) -> dict[Tile, np.ndarray]:
        """Of each tile that holds any of some cells their places among these."""
        row, col = np.divmod(cells, self.held.frame.cols)
        number = row // self.tiling.high * self.tiling.across + col // self.tiling.wide
        order = np.argsort(number, kind="stable")
        parts = np.split(order, np.flatnonzero(np.diff(number[order])) + 1) if len(cells) else []
        return {self.tiling.tile(*divmod(int(number[p[0]]), self.tiling.across)): p for p in parts}

    def at_cells(self, name: str, cells: np.ndarray) -> np.ndarray:
        """Values at some cells, at least one, of an array that the tiles keep."""
        row, col = np.divmod(cells, self.held.frame.cols)
        found = [
            (some, self.scratch.load(name, tile)[row[some] - tile.top, col[some] - tile.left])
            for tile, some in self.by_tile(cells).items()
        ]
        result = np.empty(len(cells), found[0][1].dtype)
        for some, values in found:
            result[some] = values
        return result

    def in_frame(self, tile: Tile, cells: np.ndarray) -> np.ndarray:
        """Flat places of cells, by their numbers, in a tile with one more cell on each side."""
        row, col = np.divmod(cells, self.held.frame.cols)
        result: np.ndarray = (row - tile.top + 1) * (tile.right - tile.left + 2) + col - tile.left + 1
        return result

    def out_of_frame(self, tile: Tile, flat: np.ndarray) -> np.ndarray:
        """Numbers of cells by their flat places in a tile with one more cell on each side."""
        row, col = np.divmod(flat, tile.right - tile.left + 2)
        result: np.ndarray = (row + tile.top - 1) * self.held.frame.cols + col + tile.left - 1
        return result

    def metres(self, rows: slice) -> np.ndarray:
        """Distances to the neighbours by row in the unit of the heights, as ``neighbours.distances`` gives
        them.
        """
        frame = self.held.frame.part(rows, slice(0, 1))
        scaled: np.ndarray = distances(frame) / np.float32(self.like().metres_per_height)
        return scaled

    def metres_around(self, tile: Tile, margin: int) -> np.ndarray:
        """The same of the rows of a tile with a margin; beyond the ground those of its first or last row."""
        rows = np.arange(tile.top - margin, tile.bottom + margin).clip(0, self.tiling.shape[0] - 1)
        around: np.ndarray = self.metres(slice(int(rows[0]), int(rows[-1]) + 1))[rows - rows[0]]
        return around

    def slope(self, window: Window, heights: np.ndarray, unit: Literal["degrees", "percent"]) -> np.ndarray:
        """Slope of the cells of a tile, from heights in their own precision with a cell around it."""
        part, frame = self.like(), self.held.frame.part(window.rows, window.cols)
        surface = as_part(Surface(heights, frame, part.unit, part.quantity), self.held.base)
        return np.ascontiguousarray(derive_slope(as_kind(surface, Surface), unit).values[window.inner])

    def reading(self) -> Once:
        """A reader of it for each thread."""
        return Once(partial(GridReader, self.held.source))

    def open_at(self, tile: Tile) -> tuple[bool, bool, bool, bool]:
        """Whether the top, right, bottom and left side of a tile are sides of the ground."""
        rows, cols = self.tiling.shape
        return tile.top == 0, tile.right == cols, tile.bottom == rows, tile.left == 0

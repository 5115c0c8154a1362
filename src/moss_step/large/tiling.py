"""A ground in tiles: which rows and columns each has, and what it needs around itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from moss_step.formats.stored_tiles import SIDE

_FEW = 8
CELLS = 8_000_000
"""Cells that a tile has about, where the ground is that large."""


@dataclass(frozen=True, order=True)
class Tile:
    """A part of a ground: its place among the tiles, and its rows and columns of cells."""

    row: int
    col: int
    top: int
    bottom: int
    left: int
    right: int

    @property
    def rows(self) -> slice:
        """Its rows."""
        return slice(self.top, self.bottom)

    @property
    def cols(self) -> slice:
        """Its columns."""
        return slice(self.left, self.right)

    @property
    def size(self) -> int:
        """How many cells it has."""
        return (self.bottom - self.top) * (self.right - self.left)

    @property
    def name(self) -> str:
        """What its files are called."""
        return f"r{self.row}c{self.col}"


@dataclass(frozen=True)
class Tiling:
    """Tiles of a ground of ``shape``, each of ``high`` rows and ``wide`` columns but the last ones."""

    shape: tuple[int, int]
    high: int
    wide: int

    @property
    def down(self) -> int:
        """Rows of tiles."""
        return -(-self.shape[0] // self.high)

    @property
    def across(self) -> int:
        """Columns of tiles."""
        return -(-self.shape[1] // self.wide)

    def __len__(self) -> int:
        return self.down * self.across

    def __iter__(self) -> Iterator[Tile]:
        for r in range(self.down):
            for c in range(self.across):
                yield self.tile(r, c)

    def meeting(self, rows: slice, cols: slice) -> Iterator[Tile]:
        """The tiles that meet some rows and columns of the ground."""
        rows, cols = widened(rows, 0, self.shape[0]), widened(cols, 0, self.shape[1])
        for r in range(rows.start // self.high, (rows.stop - 1) // self.high + 1):
            for c in range(cols.start // self.wide, (cols.stop - 1) // self.wide + 1):
                yield self.tile(r, c)

    def tile(self, row: int, col: int) -> Tile:
        """The tile of a place."""
        (rows, cols), high, wide = self.shape, self.high, self.wide
        return Tile(
            row, col, row * high, min((row + 1) * high, rows), col * wide, min((col + 1) * wide, cols)
        )


def bands(shape: tuple[int, int], cells: int = CELLS) -> Tiling:
    """Tiles as wide as the ground where that is not too wide: one after another they read each byte of a file
    once, and rows that are cut off them lie side by side.
    """
    whole = -(-shape[1] // SIDE) * SIDE
    wide = whole if whole * SIDE <= 2 * cells else max(cells // SIDE // SIDE, 1) * SIDE
    return Tiling(shape, max(cells // wide // SIDE, 1) * SIDE, wide)


def strips(shape: tuple[int, int], cells: int = CELLS) -> Tiling:
    """Tiles as wide as the ground, however wide that is."""
    return Tiling(shape, max(cells // shape[1] // SIDE, 1) * SIDE, shape[1])


def squares(shape: tuple[int, int], cells: int = CELLS) -> Tiling:
    """Square tiles: of all they have the shortest rims."""
    side = max(int(cells**0.5) // SIDE, 1) * SIDE
    return Tiling(shape, side, side)


def widened(part: slice, margin: int, most: int) -> slice:
    """Rows or columns with a margin, as far as the ground goes."""
    return slice(max(part.start - margin, 0), min(part.stop + margin, most))


def grown(part: slice, most: int) -> slice:
    """Rows or columns, with some before them where they are few: no step needs more to look at all."""
    return slice(max(min(part.start, part.stop - _FEW), 0), max(part.stop, min(_FEW, most)))


def within(part: slice, outer: slice) -> slice:
    """Rows or columns as they are counted in an outer part."""
    return slice(part.start - outer.start, part.stop - outer.start)

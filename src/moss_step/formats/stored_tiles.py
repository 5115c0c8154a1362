"""Grids behind an address, in tiles of their own: what workers read and write that see no folder together."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from blake3 import blake3

from moss_step.formats.address import Address
from moss_step.formats.plain_array import array_bytes, arrays_in

SIDE = 512
"""Rows and columns of a tile."""
_DONE, _INFINITE = "all.done", b"infinite"


@dataclass(frozen=True)
class StoredTiles:
    """Where the tiles of a grid of some rows and columns lie, north up; plain enough to be sent to another
    process. No-data is NaN, or ``no_data`` where the values are whole numbers.
    """

    folder: Address
    rows: int
    cols: int
    no_data: float = float("nan")
    infinite: bool = False
    """Whether there were infinite values, which were taken as no-data."""

    def begin(self) -> None:
        """Make the folder, where the store knows any.

        Raises MossError when it cannot be made.
        """
        self.folder.make()

    @property
    def finished(self) -> bool:
        """Whether all of it was said to be there."""
        return _DONE in self.folder.names()

    def finish(self, infinite: bool) -> None:
        """Say that all of it is there, and whether there were infinite values."""
        (self.folder / _DONE).write(_INFINITE if infinite else b"finite")

    @property
    def had_infinite(self) -> bool:
        """Whether there were infinite values, as was said when all of it was there."""
        return (self.folder / _DONE).read() == _INFINITE

    def write(self, rows: slice, cols: slice, values: np.ndarray) -> str:
        """Write a window that begins at a tile's corner, and ends at one or with the grid. Gives the hash of
        what was written.

        Raises MossError when it cannot be written.
        """
        files = {}
        for name, down, across in self._meeting(rows, cols):
            part = values[_within(down, rows), _within(across, cols)]
            files[name] = array_bytes([part])
        self.folder.write_some(files)
        return _hash_of(files.values())

    def digest(self, rows: slice, cols: slice) -> str:
        """The hash of what a window holds now; of nothing where a part of it is not there.

        Raises MossError when nothing answers.
        """
        names = [name for name, *_ in self._meeting(rows, cols)]
        if not set(names) <= set(self.folder.names()):
            return _hash_of([])
        return _hash_of(self.folder.read_some(names))

    def raw(self, rows: slice, cols: slice) -> np.ndarray:
        """Values of a window as they were written.

        Raises MossError when a tile is not there, ValueError when one is damaged.
        """
        meeting, out = list(self._meeting(rows, cols)), None
        for (_, down, across), data in zip(
            meeting, self.folder.read_some([name for name, *_ in meeting]), strict=True
        ):
            (tile,) = arrays_in(data)
            if out is None:
                out = np.empty((rows.stop - rows.start, cols.stop - cols.start), tile.dtype)
            own = _cut(down, rows), _cut(across, cols)
            out[_within(own[0], rows), _within(own[1], cols)] = tile[
                _within(own[0], down), _within(own[1], across)
            ]
        if out is None:
            raise ValueError("no tile meets the window")
        return out

    def read(self, rows: slice, cols: slice) -> np.ndarray:
        """Values of a window in floating point, no-data as NaN.

        Raises MossError when a tile is not there, ValueError when one is damaged.
        """
        cells = self.raw(rows, cols)
        if cells.dtype.kind == "f":
            return cells
        return np.where(cells == self.no_data, np.float32(np.nan), cells.astype(np.float32))

    def _meeting(self, rows: slice, cols: slice) -> Iterator[tuple[str, slice, slice]]:
        """Tiles that meet a window: their files, and their rows and columns of the grid."""
        for r in range(rows.start // SIDE, -(-rows.stop // SIDE)):
            for c in range(cols.start // SIDE, -(-cols.stop // SIDE)):
                down = slice(r * SIDE, min((r + 1) * SIDE, self.rows))
                yield f"{r}-{c}.cells", down, slice(c * SIDE, min((c + 1) * SIDE, self.cols))


def _cut(tile: slice, window: slice) -> slice:
    return slice(max(tile.start, window.start), min(tile.stop, window.stop))


def _within(part: slice, outer: slice) -> slice:
    return slice(part.start - outer.start, part.stop - outer.start)


def _hash_of(parts: Iterable[bytes]) -> str:
    digest = blake3()
    for part in parts:
        digest.update(part)
    return digest.hexdigest()

"""Grids behind an address, in tiles of their own: what workers read and write that see no folder together."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from blake3 import blake3

from moss_step.formats.address import Address
from moss_step.formats.plain_array import array_bytes, arrays_in
from moss_step.model.errors import MossError

SIDE = 512
"""Rows and columns of a tile, here and in files that workers fill in."""
_DONE, _LONG = "all.done", 1 << 26
"""What is said when all of it is there, and bytes that are read of it at the most."""


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
    missing: tuple[str, ...] = ()
    """Tiles that could not be read where the grid came from."""

    def begin(self) -> None:
        """Make the folder, where the store knows any.

        Raises MossError when it cannot be made.
        """
        self.folder.make()

    @property
    def finished(self) -> bool:
        """Whether all of it was said to be there."""
        return _DONE in self.folder.names()

    def finish(self, infinite: bool, missing: Sequence[tuple[slice, slice]]) -> None:
        """Say that all of it is there, whether there were infinite values, and but for which windows."""
        names = sorted({name for window in missing for name, *_ in self._meeting(*window)})
        (self.folder / _DONE).write(json.dumps({"infinite": infinite, "missing": names}).encode())

    def as_said(self) -> StoredTiles:
        """It, with what was said of it when all of it was there.

        Raises MossError where that is damaged.
        """
        try:
            said = json.loads((self.folder / _DONE).read(0, _LONG))
            missing = tuple(str(name) for name in said["missing"])
            return replace(self, infinite=bool(said["infinite"]), missing=missing)
        except (ValueError, KeyError, TypeError) as error:
            raise self._damaged(_DONE) from error

    def _damaged(self, name: str) -> MossError:
        return MossError(
            f"{self.folder / name} is damaged.", "Remove the folder that it lies in, and run it again."
        )

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

        Raises ValueError for tiles that could not be read where the grid came from; MossError when another is
        not there or damaged.
        """
        meeting = list(self._meeting(rows, cols))
        names = [name for name, *_ in meeting]
        if not set(self.missing).isdisjoint(names):
            raise ValueError("a tile could not be read")
        tiles = [self._tile(n, data) for n, data in zip(names, self.folder.read_some(names), strict=True)]
        out = np.empty((rows.stop - rows.start, cols.stop - cols.start), tiles[0].dtype)
        for (_, down, across), tile in zip(meeting, tiles, strict=True):
            own = _cut(down, rows), _cut(across, cols)
            part = tile[_within(own[0], down), _within(own[1], across)]
            out[_within(own[0], rows), _within(own[1], cols)] = part
        return out

    def _tile(self, name: str, data: bytes) -> np.ndarray:
        try:
            (tile,) = arrays_in(data)
        except ValueError as error:
            raise self._damaged(name) from error
        return tile

    def read(self, rows: slice, cols: slice) -> np.ndarray:
        """Values of a window in floating point, no-data as NaN.

        Raises what ``raw`` does.
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

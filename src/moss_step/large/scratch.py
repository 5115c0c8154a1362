"""Arrays of tiles that are needed again: a file each, that every worker sees."""

from __future__ import annotations

import math
import os
import shutil
import tempfile
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.address import Address, Place
from moss_step.formats.plain_array import (
    HEAD,
    array_bytes,
    arrays_in,
    is_sound,
    map_array,
    read_arrays,
    shape_in,
    write_array,
)
from moss_step.formats.whole import in_words
from moss_step.large.tiling import Tile, Tiling, within
from moss_step.model.errors import MossError

_KIND, _ASIDE = ".cells", "aside-"
_BEGIN_ANEW = "Remove the folder that it lies in, and run it again."


@dataclass(frozen=True)
class Scratch:
    """A folder for arrays of the tiles of a ground, each under a name."""

    folder: Path
    tiling: Tiling

    def save(self, name: str, tile: Tile, *arrays: np.ndarray) -> None:
        """Keep an array of a tile, or some together, whole or not at all.

        Raises MossError when the disk is full.
        """
        target = self._path(name, tile)
        half = target.with_name(f"{target.name}.{os.getpid()}")
        with in_words(target, "written"):
            with half.open("wb") as file:
                for array in arrays:
                    write_array(file, array)
            half.replace(target)

    def load(self, name: str, tile: Tile) -> np.ndarray:
        """An array of a tile.

        Raises MossError for one that is missing or damaged.
        """
        return self.load_some(name, tile, 1)[0]

    def load_some(self, name: str, tile: Tile, count: int) -> list[np.ndarray]:
        """Some arrays of a tile that were kept together.

        Raises MossError for those that are missing or damaged.
        """
        with in_words(self._path(name, tile), "read", _BEGIN_ANEW):
            return read_arrays(self._path(name, tile), count)

    def has(self, name: str, tile: Tile) -> bool:
        """Whether there is one."""
        return self._path(name, tile).is_file()

    def drop(self, name: str) -> None:
        """Let go of all arrays of a name. They are put aside, and removed while other work goes on: a disk
        takes its time over files that it has not written yet.
        """
        aside = Path(tempfile.mkdtemp(prefix=_ASIDE, dir=self.folder))
        for tile in self.tiling:
            with suppress(FileNotFoundError):
                self._path(name, tile).rename(aside / tile.name)
        threading.Thread(target=shutil.rmtree, args=(aside, True)).start()

    def window(self, name: str, tile: Tile, margin: int, blank: Any) -> np.ndarray:
        """An array of a tile with as much of those around it: ``blank`` beyond the ground."""
        rows = slice(tile.top - margin, tile.bottom + margin)
        return self.part(name, rows, slice(tile.left - margin, tile.right + margin), blank)

    def part(self, name: str, rows: slice, cols: slice, blank: Any) -> np.ndarray:
        """Rows and columns of the ground, out of the arrays of its tiles: ``blank`` beyond it.

        Raises MossError for an array that is missing or damaged.
        """
        out: np.ndarray | None = None
        for other in self.tiling.meeting(rows, cols):
            down = slice(max(rows.start, other.top), min(rows.stop, other.bottom))
            across = slice(max(cols.start, other.left), min(cols.stop, other.right))
            cut = self.rows_of(name, other, within(down, other.rows))[:, within(across, other.cols)]
            if out is None:
                out = np.full((rows.stop - rows.start, cols.stop - cols.start), blank, cut.dtype)
            out[within(down, rows), within(across, cols)] = cut
        return np.empty((0, 0)) if out is None else out

    def finished(self, name: str) -> bool:
        """Whether all tiles have a kind of array, in this run or an earlier one."""
        return (self.folder / f"{name}.done").is_file()

    def finish(self, name: str) -> None:
        """Note that all have."""
        (self.folder / f"{name}.done").touch()

    def rows_of(self, name: str, tile: Tile, rows: slice) -> np.ndarray:
        """Some rows of an array of a tile.

        Raises MossError for one that is missing or damaged.
        """
        with in_words(self._path(name, tile), "read", _BEGIN_ANEW):
            return map_array(self._path(name, tile))[rows]

    def _path(self, name: str, tile: Tile) -> Path:
        return self.folder / _name_of(name, tile)


@dataclass(frozen=True)
class ScratchAt(Scratch):
    """The same behind an address: a file there is read again each time, as another worker may have written
    it.
    """

    folder: Path = field(init=False, default=Path())
    at: Address = field(kw_only=True)

    def save(self, name: str, tile: Tile, *arrays: np.ndarray) -> None:
        """Keep an array of a tile, or some together.

        Raises MossError when it cannot be written.
        """
        (self.at / _name_of(name, tile)).write(array_bytes(arrays))

    def load_some(self, name: str, tile: Tile, count: int) -> list[np.ndarray]:
        """Some arrays of a tile that were kept together.

        Raises MossError for those that are missing or damaged.
        """
        place = self.at / _name_of(name, tile)
        with _sound(place):
            found = [a.copy() for a in arrays_in(place.read())[:count]]
            if len(found) < count:
                raise ValueError("it is cut short")
            return found

    def has(self, name: str, tile: Tile) -> bool:
        """Whether there is one."""
        return (self.at / _name_of(name, tile)).is_there()

    def drop(self, name: str) -> None:
        """Let go of all arrays of a name."""
        own = {_name_of(name, tile) for tile in self.tiling}
        for file in own.intersection(self.at.names()):
            (self.at / file).remove()

    def finished(self, name: str) -> bool:
        """Whether all tiles have a kind of array, in this run or an earlier one."""
        return f"{name}.done" in self.at.names()

    def finish(self, name: str) -> None:
        """Note that all have."""
        (self.at / f"{name}.done").write(b"all")

    def rows_of(self, name: str, tile: Tile, rows: slice) -> np.ndarray:
        """Some rows of an array of a tile.

        Raises MossError for one that is missing or damaged.
        """
        place = self.at / _name_of(name, tile)
        with _sound(place):
            dtype, shape = shape_in(place.read(0, HEAD))
            line = dtype.itemsize * math.prod(shape[1:])
            data = place.read(HEAD + rows.start * line, HEAD + rows.stop * line)
            return np.frombuffer(data, dtype).reshape(rows.stop - rows.start, *shape[1:])


@contextmanager
def _sound(place: Address) -> Iterator[None]:
    try:
        yield
    except ValueError as error:
        raise MossError(f"{place} could not be read: {error}.", _BEGIN_ANEW) from error


def scratch_in(place: Place, tiling: Tiling) -> Scratch:
    """A folder for arrays of tiles, here or behind an address."""
    return ScratchAt(tiling=tiling, at=place) if isinstance(place, Address) else Scratch(place, tiling)


def _name_of(name: str, tile: Tile) -> str:
    return f"{name}-{tile.name}{_KIND}"


def begin_or_go_on(place: Place) -> None:
    """Make a folder for arrays of tiles, or see to one that an earlier run has left: where any file is not as
    it was written, by its hash, all go at once, as what is later came of what is earlier.

    Raises MossError where that cannot be done.
    """
    if isinstance(place, Address):
        _go_on_at(place)
    else:
        _go_on_in(place)


def _go_on_at(place: Address) -> None:
    place.make()
    sound = all(_is_whole(place / name) for name in place.names() if name.endswith(_KIND))
    if not sound:
        place.clear()
        place.make()


def _is_whole(file: Address) -> bool:
    try:
        arrays_in(file.read())
    except ValueError:
        return False
    return True


def _go_on_in(folder: Path) -> None:
    with in_words(folder, "written"):
        folder.mkdir(exist_ok=True)
        for left in folder.iterdir():
            if left.is_dir() and left.name.startswith(_ASIDE):
                shutil.rmtree(left, ignore_errors=True)
            elif f"{_KIND}." in left.name:  # not yet whole
                left.unlink()
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            sound = all(pool.map(is_sound, sorted(folder.glob(f"*{_KIND}"))))
        if not sound:
            aside = Path(tempfile.mkdtemp(prefix=_ASIDE, dir=folder.parent))
            folder.rename(aside)  # in one stroke: a kill among removals could leave what looks sound
            folder.mkdir()
            shutil.rmtree(aside, ignore_errors=True)

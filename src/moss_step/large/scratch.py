"""Arrays of tiles that are needed again: a file each, that every worker sees."""

from __future__ import annotations

import math
import os
import shutil
import tempfile
import threading
from abc import ABC, abstractmethod
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass
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
class Scratch(ABC):
    """A place for arrays of the tiles of a ground, each under a name."""

    tiling: Tiling

    @abstractmethod
    def save(self, name: str, tile: Tile, *arrays: np.ndarray) -> None:
        """Keep an array of a tile, or some together, whole or not at all.

        Raises MossError when that cannot be done.
        """

    @abstractmethod
    def load_some(self, name: str, tile: Tile, count: int) -> list[np.ndarray]:
        """Some arrays of a tile that were kept together.

        Raises MossError for those that are missing or damaged.
        """

    @abstractmethod
    def has(self, name: str, tile: Tile) -> bool:
        """Whether there is one."""

    @abstractmethod
    def drop(self, name: str) -> None:
        """Let go of all arrays of a name."""

    @abstractmethod
    def rows_of(self, name: str, tile: Tile, rows: slice) -> np.ndarray:
        """Some rows of an array of a tile.

        Raises MossError for one that is missing or damaged.
        """

    @abstractmethod
    def finished(self, name: str) -> bool:
        """Whether all tiles have a kind of array, in this run or an earlier one."""

    @abstractmethod
    def finish(self, name: str) -> None:
        """Note that all have."""

    def load(self, name: str, tile: Tile) -> np.ndarray:
        """An array of a tile.

        Raises MossError for one that is missing or damaged.
        """
        return self.load_some(name, tile, 1)[0]

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


@dataclass(frozen=True)
class ScratchIn(Scratch):
    """A folder that all who work see."""

    folder: Path

    def save(self, name: str, tile: Tile, *arrays: np.ndarray) -> None:
        """Keep arrays of a tile: in a file beside theirs, which takes its place."""
        target = self._path(name, tile)
        half = target.with_name(f"{target.name}.{os.getpid()}")
        with in_words(target, "written"):
            with half.open("wb") as file:
                for array in arrays:
                    write_array(file, array)
            half.replace(target)

    def load_some(self, name: str, tile: Tile, count: int) -> list[np.ndarray]:
        """Arrays of a tile."""
        with in_words(self._path(name, tile), "read", _BEGIN_ANEW):
            return read_arrays(self._path(name, tile), count)

    def has(self, name: str, tile: Tile) -> bool:
        """Whether there is a file of them."""
        return self._path(name, tile).is_file()

    def drop(self, name: str) -> None:
        """Put all arrays of a name aside, and remove them while other work goes on: a disk takes its time
        over files that it has not written yet.
        """
        aside = Path(tempfile.mkdtemp(prefix=_ASIDE, dir=self.folder))
        for tile in self.tiling:
            with suppress(FileNotFoundError):
                self._path(name, tile).rename(aside / tile.name)
        threading.Thread(target=shutil.rmtree, args=(aside, True)).start()

    def rows_of(self, name: str, tile: Tile, rows: slice) -> np.ndarray:
        """Rows that stay in their file."""
        with in_words(self._path(name, tile), "read", _BEGIN_ANEW):
            return map_array(self._path(name, tile))[rows]

    def finished(self, name: str) -> bool:
        """Whether a file says so."""
        return (self.folder / f"{name}.done").is_file()

    def finish(self, name: str) -> None:
        """Have a file say so."""
        (self.folder / f"{name}.done").touch()

    def _path(self, name: str, tile: Tile) -> Path:
        return self.folder / _name_of(name, tile)


@dataclass(frozen=True)
class ScratchAt(Scratch):
    """A folder at an address: a file there is read again each time, as another worker may have written it."""

    folder: Address

    def save(self, name: str, tile: Tile, *arrays: np.ndarray) -> None:
        """Keep arrays of a tile: half of a file is told by its hash."""
        (self.folder / _name_of(name, tile)).write(array_bytes(arrays))

    def load_some(self, name: str, tile: Tile, count: int) -> list[np.ndarray]:
        """Arrays of a tile."""
        place = self.folder / _name_of(name, tile)
        with _sound(place):
            found = [a.copy() for a in arrays_in(place.read())[:count]]
            if len(found) < count:
                raise ValueError("it is cut short")
            return found

    def has(self, name: str, tile: Tile) -> bool:
        """Whether there is a file of them."""
        return (self.folder / _name_of(name, tile)).is_there()

    def drop(self, name: str) -> None:
        """Remove all arrays of a name."""
        own = {_name_of(name, tile) for tile in self.tiling}
        for file in own.intersection(self.folder.names()):
            (self.folder / file).remove()

    def rows_of(self, name: str, tile: Tile, rows: slice) -> np.ndarray:
        """Rows, and no more of the file but its head."""
        place = self.folder / _name_of(name, tile)
        with _sound(place):
            dtype, shape = shape_in(place.read(0, HEAD))
            line = dtype.itemsize * math.prod(shape[1:])
            data = place.read(HEAD + rows.start * line, HEAD + rows.stop * line)
            return np.frombuffer(data, dtype).reshape(rows.stop - rows.start, *shape[1:])

    def finished(self, name: str) -> bool:
        """Whether a file says so."""
        return f"{name}.done" in self.folder.names()

    def finish(self, name: str) -> None:
        """Have a file say so."""
        (self.folder / f"{name}.done").write(b"all")


@contextmanager
def _sound(place: Address) -> Iterator[None]:
    try:
        yield
    except ValueError as error:
        raise MossError(f"{place} could not be read: {error}.", _BEGIN_ANEW) from error


def scratch_in(place: Place, tiling: Tiling) -> Scratch:
    """A folder for arrays of tiles, here or behind an address."""
    return ScratchAt(tiling, place) if isinstance(place, Address) else ScratchIn(tiling, place)


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

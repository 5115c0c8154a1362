"""Arrays of tiles that are needed again: a file each, that every worker sees."""

from __future__ import annotations

import os
import shutil
import tempfile
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.plain_array import is_sound, map_array, read_arrays, write_array
from moss_step.formats.whole import in_words
from moss_step.large.tiling import Tile, Tiling, widened, within

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
        for other in self._meeting(rows, cols):
            with in_words(self._path(name, other), "read", _BEGIN_ANEW):
                array = map_array(self._path(name, other))
            if out is None:
                out = np.full((rows.stop - rows.start, cols.stop - cols.start), blank, array.dtype)
            down = slice(max(rows.start, other.top), min(rows.stop, other.bottom))
            across = slice(max(cols.start, other.left), min(cols.stop, other.right))
            cut = array[within(down, other.rows), within(across, other.cols)]
            out[within(down, rows), within(across, cols)] = cut
        return np.empty((0, 0)) if out is None else out

    def finished(self, name: str) -> bool:
        """Whether all tiles have a kind of array, in this run or an earlier one."""
        return (self.folder / f"{name}.done").is_file()

    def finish(self, name: str) -> None:
        """Note that all have."""
        (self.folder / f"{name}.done").touch()

    def _meeting(self, rows: slice, cols: slice) -> list[Tile]:
        rows, cols = widened(rows, 0, self.tiling.shape[0]), widened(cols, 0, self.tiling.shape[1])
        high, wide = self.tiling.high, self.tiling.wide
        return [
            self.tiling.tile(r, c)
            for r in range(rows.start // high, (rows.stop - 1) // high + 1)
            for c in range(cols.start // wide, (cols.stop - 1) // wide + 1)
        ]

    def _path(self, name: str, tile: Tile) -> Path:
        return self.folder / f"{name}-{tile.name}{_KIND}"


def begin_or_go_on(folder: Path) -> None:
    """Make a folder for arrays of tiles, or see to one that an earlier run has left: where any file is not as
    it was written, by its hash, all go at once, as what is later came of what is earlier.

    Raises MossError where that cannot be done.
    """
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

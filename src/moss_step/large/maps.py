"""Grids of a run in files that all who work map: what one writes the others see."""

from __future__ import annotations

import math
import os
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.whole import in_words
from moss_step.model.errors import MossError
from moss_step.model.mapped import MOST_OF_DISK


def begin_map(path: Path, shape: tuple[int, int], kind: Any) -> None:
    """Have a file of zeros for a grid; one that is there is another's, and goes.

    Raises MossError when the disk has no room.
    """
    size = math.prod(shape) * np.dtype(kind).itemsize
    with in_words(path, "written"):
        path.unlink(missing_ok=True)
        state = os.statvfs(path.parent)
        if size > MOST_OF_DISK * state.f_bavail * state.f_frsize:
            raise MossError(
                f"{path.parent} has no room for {size / 1e9:,.1f} GB.", "Make room there, or crop the ground."
            )
        with path.open("wb") as file:
            os.posix_fallocate(file.fileno(), 0, size)  # a hole would end the program when the disk is full


def map_grid(path: Path, shape: tuple[int, int], kind: Any, writing: bool = False) -> np.ndarray:
    """The grid of a file, mapped.

    Raises MossError for one that is not there.
    """
    with in_words(path, "read"):
        return np.asarray(np.memmap(path, kind, "r+" if writing else "r", 0, shape))


def write_rows(path: Path, first: int, part: np.ndarray) -> None:
    """Write rows of a grid into its file, from the one with the number ``first`` on.

    Raises MossError when that cannot be done.
    """
    plain = np.ascontiguousarray(part)
    with in_words(path, "written"), path.open("r+b") as file:
        file.seek(first * plain.nbytes // len(plain))
        file.write(plain.data)

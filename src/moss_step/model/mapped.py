"""Arrays too large for memory: mapped from files without a name, which are gone when nothing holds them."""

from __future__ import annotations

import math
import mmap
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.memory import check_grid, free_memory

_ROOMY = Path("/var/tmp")  # noqa: S108 - where large files go by convention: /tmp may be memory
SHARE = 0.5
"""Share of the free memory that a value takes at the most; larger ones are mapped."""
LARGE = 3_000_000_000
"""Bytes from which a value is mapped, whatever is free: the system then keeps what is used of it."""

_BLOCK = 4_000_000
"""Cells of a grid that are worked on at a time."""
MOST_OF_DISK = 0.7
"""Share of the free disk that an array takes at the most, so that a claim leaves others their room."""


def too_large(need: int) -> bool:
    """Whether so many bytes are better mapped than held."""
    return need > min(SHARE * free_memory(), LARGE)


def room_to_map() -> int:
    """Bytes that the disk has for one array."""
    return int(MOST_OF_DISK * shutil.disk_usage(roomy_folder()).free)


def roomy_folder() -> Path:
    """Where large files go that nobody keeps: `/var/tmp` by convention, as `/tmp` may be memory."""
    return _ROOMY if os.access(_ROOMY, os.W_OK) else Path(tempfile.gettempdir())


def check_room(cells: int, what: str, do: str) -> None:
    """Raise MossError when neither memory nor disk has room for a grid of so many cells."""
    need = cells * np.dtype(np.float32).itemsize
    if not too_large(need) or need > room_to_map():
        check_grid(cells, what, do)


def map_of(array: np.ndarray) -> np.memmap | None:
    """What an array looks into, where that is mapped from a file."""
    at: Any = array
    while at is not None and not isinstance(at, np.memmap):
        at = getattr(at, "base", None)
    return at


def held_bytes(array: np.ndarray) -> int:
    """Bytes of memory that an array takes: none where it is mapped."""
    return 0 if map_of(array) is not None else int(array.nbytes)


def let_go(*arrays: np.ndarray) -> None:
    """Take what was read or written of mapped arrays out of the program's memory: it stands in their files,
    and comes back when somebody looks.
    """
    for array in arrays:
        whole = map_of(array)
        pages = None if whole is None else getattr(whole, "_mmap", None)
        if isinstance(pages, mmap.mmap):
            pages.madvise(mmap.MADV_DONTNEED)


def room_for(count: int, kind: Any, mapped: bool) -> np.ndarray:
    """An array of its own, in memory or mapped; nothing stands in it yet.

    Raises MossError when the disk has no room.
    """
    dtype = np.dtype(kind)
    if not mapped or count == 0:
        return np.empty(count, dtype)
    size = count * dtype.itemsize
    folder = roomy_folder()
    no_room = MossError(f"{folder} has no room for {size / 1e9:,.1f} GB.", "Make room there, or read a part.")
    if size > room_to_map():
        raise no_room
    try:
        with tempfile.TemporaryFile(dir=folder) as file:
            os.posix_fallocate(file.fileno(), 0, size)  # a hole would end the program when the disk is full
            return np.memmap(file, dtype, "r+", shape=(count,))
    except OSError as error:
        raise no_room from error


def blocks_of(grid: np.ndarray, cells: int = 0, least: int = 1) -> Iterator[slice]:
    """Rows of an array, some at a time, and at ``least`` so many: what is worked out of them is small beside
    all of it. Of small grids, too, where they are to hold no more than so many ``cells``.
    """
    high = max(least, (cells or _BLOCK) * grid.shape[0] // max(grid.size, 1))
    for first in range(0, grid.shape[0], high):
        yield slice(first, min(first + high, grid.shape[0]))


def grid_beside(grid: np.ndarray, kind: Any, fill: float = 0) -> np.ndarray:
    """A grid of the shape of another one, with one value everywhere; it is mapped where that one is.

    Raises MossError when the disk has no room.
    """
    return _filled(grid.shape, kind, fill, map_of(grid) is not None)


def new_grid(shape: tuple[int, int], kind: Any, fill: float = 0) -> np.ndarray:
    """A grid with one value everywhere; it is mapped where it would be too large for memory.

    Raises MossError when the disk has no room.
    """
    return _filled(shape, kind, fill, too_large(shape[0] * shape[1] * np.dtype(kind).itemsize))


def _filled(shape: tuple[int, ...], kind: Any, fill: float, mapped: bool) -> np.ndarray:
    if not mapped:
        return np.full(shape, fill, kind)
    out = np.asarray(room_for(math.prod(shape), kind, True)).reshape(shape)
    if fill != 0:  # a new file holds zeros
        for rows in blocks_of(out):
            out[rows] = fill
            let_go(out)
    return out


def compact(part: np.ndarray, kind: Any = None) -> np.ndarray:
    """Cells one after another, in their own type or another one: as they are where they are so already, else
    a copy, which is mapped where the part is, and too large for memory.

    Raises MossError when the disk has no room.
    """
    dtype = part.dtype if kind is None else np.dtype(kind)
    as_is = part.flags.c_contiguous and part.dtype == dtype
    if not as_is and map_of(part) is not None and too_large(part.size * dtype.itemsize):
        return row_by_row(lambda rows: rows, dtype, part)
    return np.ascontiguousarray(part, dtype)


def row_by_row(change: Callable[..., np.ndarray], kind: Any, *grids: np.ndarray) -> np.ndarray:
    """What some rows at a time of grids of one shape become, as a grid that is mapped where the first one is.

    Raises MossError when the disk has no room.
    """
    first = grids[0]
    out = np.asarray(room_for(first.size, kind, map_of(first) is not None)).reshape(first.shape)
    for rows in blocks_of(first):
        out[rows] = change(*(g[rows] for g in grids))
        let_go(out, *grids)
    return out

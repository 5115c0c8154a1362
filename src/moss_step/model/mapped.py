"""Arrays too large for memory: mapped from files without a name, which are gone when nothing holds them."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.memory import free_memory

_ROOMY = Path("/var/tmp")  # noqa: S108 - where large files go by convention: /tmp may be memory
SHARE = 0.5
"""Share of the free memory that a value takes at the most; larger ones are mapped."""
LARGE = 3_000_000_000
"""Bytes from which a value is mapped, whatever is free: the system then keeps what is used of it."""

MOST_OF_DISK = 0.7
"""Share of the free disk that an array takes at the most, so that a claim leaves others their room."""


def too_large(need: int) -> bool:
    """Whether so many bytes are better mapped than held."""
    return need > min(SHARE * free_memory(), LARGE)


def room_for(count: int, kind: Any, mapped: bool) -> np.ndarray:
    """An array of its own, in memory or mapped; nothing stands in it yet.

    Raises MossError when the disk has no room.
    """
    dtype = np.dtype(kind)
    if not mapped or count == 0:
        return np.empty(count, dtype)
    size = count * dtype.itemsize
    folder = _ROOMY if os.access(_ROOMY, os.W_OK) else Path(tempfile.gettempdir())
    no_room = MossError(
        f"{folder} has no room for {size / 1e9:,.1f} GB of points.", "Make room there, or read a part."
    )
    if size > MOST_OF_DISK * shutil.disk_usage(folder).free:
        raise no_room
    try:
        with tempfile.TemporaryFile(dir=folder) as file:
            os.posix_fallocate(file.fileno(), 0, size)  # a hole would end the program when the disk is full
            return np.memmap(file, dtype, "r+", shape=(count,))
    except OSError as error:
        raise no_room from error

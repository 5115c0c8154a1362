"""Refusing grids that do not fit in this machine's memory, before they are made."""

from __future__ import annotations

import ctypes
import os
from pathlib import Path

from moss_step.model.errors import MossError

BYTES_PER_CELL = 16
"""Memory that a grid needs in work: its values, one result, and the plan's copies."""


def check_memory(cells: int, what: str, do: str) -> None:
    """Raise MossError when a grid of so many cells needs more memory than is free."""
    available = free_memory()
    need = cells * BYTES_PER_CELL
    if need > available:
        raise MossError(
            f"{what} has {cells:,} cells and needs about {need / 1e9:.1f} GB; {available / 1e9:.1f} GB are free.",
            do,
        )


def free_memory() -> int:
    """Bytes of memory that a new result may take now."""
    for line in Path("/proc/meminfo").read_text().splitlines():
        if line.startswith("MemAvailable:"):
            return int(line.split()[1]) * 1024
    return os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")


def give_back() -> None:
    """Return memory that was let go to the machine: the allocator keeps arrays of a few megabytes for later otherwise."""
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)  # a C library other than glibc gives it back, or cannot
    if trim is not None:
        trim(0)

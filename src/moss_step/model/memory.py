"""Refusing grids that do not fit in this machine's memory, before they are made."""

from __future__ import annotations

import ctypes
import os
import sys
from pathlib import Path

from moss_step.model.errors import MossError

BYTES_PER_CELL = 16
"""Memory that a grid needs in work: its values, one result, and the plan's copies."""
_KEEPING = ((-8, 1), (-4, 0), (-1, 2**31 - 1))
"""Of mallopt(3): one arena, no array mapped on its own, and no limit from which memory is given back."""
KEPT_FREED = {"MALLOC_ARENA_MAX": "1", "MALLOC_MMAP_MAX_": "0", "MALLOC_TRIM_THRESHOLD_": str(2**31 - 1)}
"""The same for a program that is begun: what its environment says."""
_CGROUP = Path("/sys/fs/cgroup")


def check_grid(cells: int, what: str, do: str) -> None:
    """Raise MossError when a grid of so many cells needs more memory than is free."""
    check_memory(cells * BYTES_PER_CELL, f"{what} of {cells:,} cells", do)


def fits(need: int) -> bool:
    """Whether so many bytes are free."""
    return need <= free_memory()


def check_memory(need: int, what: str, do: str) -> None:
    """Raise MossError when something needs more bytes than are free."""
    available = free_memory()
    if need > available:
        raise MossError(
            f"{what} needs about {need / 1e9:,.1f} GB of memory; {available / 1e9:,.1f} GB are free.", do
        )


def free_memory() -> int:
    """Bytes of memory that a new result may take now: of the machine, or of the container that the program
    runs in.
    """
    return min(_of_machine(), _of_container())


def _of_machine() -> int:
    for line in Path("/proc/meminfo").read_text().splitlines():
        if line.startswith("MemAvailable:"):
            return int(line.split()[1]) * 1024
    return os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")


def _of_container() -> int:
    """What is left under the limit of a control group (version 2), where there is one; copies of files may go
    any time.
    """
    try:
        most, now = ((_CGROUP / name).read_text().strip() for name in ("memory.max", "memory.current"))
        kept = (_CGROUP / "memory.stat").read_text().splitlines()
    except OSError:
        return sys.maxsize
    if not (most.isdecimal() and now.isdecimal()):
        return sys.maxsize
    files = next((int(line.split()[1]) for line in kept if line.startswith("inactive_file ")), 0)
    return max(int(most) - int(now) + files, 0)


def give_back() -> None:
    """Return memory that was let go to the machine: the allocator keeps arrays of a few megabytes for later
    otherwise.
    """
    trim = getattr(
        ctypes.CDLL(None), "malloc_trim", None
    )  # a C library other than glibc gives it back, or cannot
    if trim is not None:
        trim(0)


def keep_freed() -> None:
    """Keep memory that is let go for what is made next, until the process ends: it pays where large
    arrays of the same sizes come and go, as taking them from the machine anew costs more than filling them.
    """
    option = getattr(ctypes.CDLL(None), "mallopt", None)
    if option is not None:  # as above
        for name, value in _KEEPING:
            option(name, value)

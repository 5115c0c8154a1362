"""Coarse looks at large grids before all of one is read: from the coarser copies that a file holds, or row by
row where it has none; what was read that way is kept in the cache.
"""

from __future__ import annotations

import hashlib
import json
import logging
from contextlib import suppress
from pathlib import Path

import numpy as np
from platformdirs import user_cache_path

from moss_step.formats.plain_array import map_array, write_array
from moss_step.formats.source import files_of
from moss_step.formats.whole import whole_file
from moss_step.formats.windows import GridReader, GridSource
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface

LARGE = 16_000_000
"""Cells from which a grid takes so long to read that it is looked at before."""
SIDE, KEPT = 1600, 64
"""Rows and columns that a look has at the most, and how many looks the cache keeps."""
_ROWS = 32
"""Rows of a look between two reports."""
_ENDING = ".look"
_log = logging.getLogger(__name__)


def overview_folder() -> Path:
    """Where looks are kept on this machine."""
    return user_cache_path("moss-step") / "overviews"


def overviews() -> list[tuple[Path, int]]:
    """The looks that are kept, the oldest first, and their bytes."""
    found = []
    for path in overview_folder().glob(f"*{_ENDING}"):
        with suppress(OSError):
            found.append((path.stat().st_mtime_ns, path, path.stat().st_size))
    return [(path, size) for _, path, size in sorted(found)]


def clear_overviews(but: int = 0) -> None:
    """Let all looks go but some of the newest."""
    looks = overviews()
    for path, _ in looks[: len(looks) - but]:
        with suppress(OSError):
            path.unlink()


def coarse_look(source: GridSource, progress: Progress) -> Surface | None:
    """A large grid in few cells, each the value of one of those that it stands for; None for one that is read
    at once.

    Raises MossError for what cannot be read, and StoppedError.
    """
    frame = source.frame
    if frame.rows * frame.cols < LARGE:
        return None
    every = max(frame.rows, frame.cols) / SIDE
    rows, cols = max(round(frame.rows / every), 1), max(round(frame.cols / every), 1)
    name = overview_folder() / f"{_named(source, rows, cols)}{_ENDING}"
    values = _kept(name, (rows, cols))
    if values is None:
        values, slow = _read(source, rows, cols, progress)
        if slow:
            _keep(name, values)
    coarse = Frame(
        rows, cols, frame.x0, frame.y0, frame.cols * frame.dx / cols, frame.rows * frame.dy / rows, frame.crs
    )
    return Surface(values, coarse, source.measured_in, source.quantity)


def _read(source: GridSource, rows: int, cols: int, progress: Progress) -> tuple[np.ndarray, bool]:
    """The look, and whether it took reading all of the file."""
    out, frame = np.empty((rows, cols), np.float32), source.frame
    with GridReader(source) as reader:
        slow = not reader.has_copies
        for first, last in progress.blocks(rows, _ROWS if slow else rows, "Looking at the grid"):
            part = slice(round(first * frame.rows / rows), round(last * frame.rows / rows))
            out[first:last] = reader.read(part, slice(0, frame.cols), (last - first, cols))
    return out, slow


def _named(source: GridSource, rows: int, cols: int) -> str:
    """A name that changes whenever the file, or what is read of it, does."""
    stats = [(str(p), p.stat().st_size, p.stat().st_mtime_ns) for p in files_of(source.path)]
    what = [stats, source.band, source.no_data, source.box, rows, cols]
    return hashlib.blake2b(json.dumps(what, default=str).encode(), digest_size=16).hexdigest()


def _kept(name: Path, shape: tuple[int, int]) -> np.ndarray | None:
    """What was kept; None where there is nothing, or something else."""
    with suppress(OSError, ValueError):
        values = map_array(name)  # of a damaged size nothing is read
        if values.dtype == np.float32 and values.shape == shape:
            return np.array(values)
    return None


def _keep(name: Path, values: np.ndarray) -> None:
    """Keep a look, and let the oldest go. Without a cache the next look takes as long as this one."""
    try:
        name.parent.mkdir(parents=True, exist_ok=True)
        with whole_file(name) as half, half.open("wb") as file:
            write_array(file, values)
        clear_overviews(but=KEPT)
    except (OSError, MossError):
        _log.warning("a coarse look was not kept in %s", name.parent, exc_info=True)

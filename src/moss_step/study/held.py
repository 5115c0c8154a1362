"""Which studies are open, so that a second window or run is told; and whether a study file is still the one
that was read.
"""

from __future__ import annotations

import hashlib
import json
import os
from pathlib import Path

from moss_step.folders import state_path
from moss_step.formats.whole import write_text
from moss_step.study.autosave import process_started

Stamp = tuple[int, int] | None
"""Size and time of a file as it was read or written; None when there is none."""


class Held:
    """Marks the study that this program has open."""

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = _marks(folder)
        self._folder.mkdir(parents=True, exist_ok=True)
        self._mark: Path | None = None

    def take(self, path: Path | None) -> bool:
        """Mark a study as open here, and no other; tells whether another program has it open."""
        self.let_go()
        if path is None:
            return False
        mark = self._folder / _mark_of(path)
        if _is_held(mark):
            return True
        write_text(
            mark,
            json.dumps({"pid": os.getpid(), "started": process_started(os.getpid()), "study": str(path)}),
        )
        self._mark = mark
        return False

    def let_go(self) -> None:
        """Take the mark away."""
        if self._mark is not None:
            self._mark.unlink(missing_ok=True)
            self._mark = None

    @staticmethod
    def elsewhere(path: Path, folder: Path | None = None) -> bool:
        """Whether another program has a study open; leaves no mark."""
        return _is_held(_marks(folder) / _mark_of(path))


def _marks(folder: Path | None) -> Path:
    return (folder or state_path()) / "open"


def _mark_of(path: Path) -> str:
    text = str(path.resolve()).encode("utf-8", "backslashreplace")
    return f"{hashlib.blake2b(text, digest_size=16).hexdigest()}.json"


def _is_held(mark: Path) -> bool:
    try:
        data = json.loads(mark.read_text(encoding="utf-8"))
        pid = int(data["pid"])
        return process_started(pid) == data["started"] and pid != os.getpid()
    except (OSError, ValueError, KeyError, TypeError):
        return False


def stamp_of(path: Path | None) -> Stamp:
    """Size and time of a file."""
    try:
        about = path.stat() if path is not None else None
    except OSError:
        return None
    return None if about is None else (about.st_size, about.st_mtime_ns)

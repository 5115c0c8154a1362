"""Autosave and recovery: a copy of unsaved work that outlives the program."""

from __future__ import annotations

import json
import os
import time
import uuid
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from moss_step.folders import state_path
from moss_step.formats.whole import write_text
from moss_step.model.errors import MossError
from moss_step.study.graph import Study
from moss_step.study.saving import as_data, from_data


def state_folder() -> Path:
    """Folder for autosaves and recent studies; made when it is missing."""
    folder = state_path()
    folder.mkdir(parents=True, exist_ok=True)
    return folder


MOST_OLD, OLDEST = 10, 7 * 24 * 3600.0
"""How many old copies are kept, and for how many seconds."""


@dataclass(frozen=True)
class Recovered:
    """Unsaved work of a program that ended without saving it."""

    study: Study
    saved_as: Path | None
    file: Path


class Autosave:
    """Writes one running program's unsaved study beside those of others, under its process id; keeps old
    copies for a while.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = (folder or state_folder()) / "autosave"
        self.old = self.folder / "old"
        self.old.mkdir(parents=True, exist_ok=True)
        self._file = self.folder / f"{uuid.uuid4().hex}.json"

    def write(self, study: Study, saved_as: Path | None) -> None:
        """Write the study as it is now."""
        data = {
            "pid": os.getpid(),
            "started": process_started(os.getpid()),
            "saved_as": str(saved_as) if saved_as else None,
            "study": as_data(study),
        }
        write_text(self._file, json.dumps(data))

    def clear(self) -> None:
        """The work is saved, or was given up knowingly: its autosave becomes an old copy."""
        self.retire(self._file)

    def retire(self, file: Path) -> None:
        """Put an autosave among the old copies, of which the newest ten of the last week are kept."""
        with suppress(OSError):
            file.replace(self.old / file.name)
        written = sorted(((_written(copy), copy) for copy in self.old.glob("*.json")), reverse=True)
        for number, (when, copy) in enumerate(written):
            if number >= MOST_OLD or time.time() - when > OLDEST:
                copy.unlink(missing_ok=True)

    def left_behind(self) -> list[Recovered]:
        """Autosaves of programs that no longer run, newest first; those that cannot be read stay where they
        are.
        """
        result = []
        for file in sorted(self.folder.glob("*.json"), key=lambda p: p.stat().st_mtime, reverse=True):
            try:
                data = json.loads(file.read_text(encoding="utf-8"))
                if process_started(int(data["pid"])) == data["started"]:
                    continue
                saved_as = Path(data["saved_as"]) if data["saved_as"] else None
                result.append(Recovered(from_data(data["study"], file), saved_as, file))
            except (OSError, ValueError, KeyError, TypeError, MossError):
                continue
        return result


def _written(copy: Path) -> float:
    """When a copy was written, in seconds; long ago when another program has just removed it."""
    try:
        return copy.stat().st_mtime
    except OSError:
        return 0.0


def process_started(pid: int) -> str | None:
    """When a process started, as the system states it; None when it does not run."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except OSError:
        return None

"""Autosave and recovery: a copy of unsaved work that outlives the program."""

from __future__ import annotations

import json
import os
import uuid
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_state_path

from moss_step.formats.whole import write_text
from moss_step.model.errors import MossError
from moss_step.study.graph import Study
from moss_step.study.saving import as_data, from_data


def state_folder() -> Path:
    """Folder for autosaves and recent studies; made when it is missing."""
    folder = user_state_path("moss-step")
    folder.mkdir(parents=True, exist_ok=True)
    return folder


@dataclass(frozen=True)
class Recovered:
    """Unsaved work of a program that ended without saving it."""

    study: Study
    saved_as: Path | None
    file: Path


class Autosave:
    """Writes one running program's unsaved study beside those of others, under its process id."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = (folder or state_folder()) / "autosave"
        self.folder.mkdir(parents=True, exist_ok=True)
        self._file = self.folder / f"{uuid.uuid4().hex}.json"

    def write(self, study: Study, saved_as: Path | None) -> None:
        """Write the study as it is now."""
        data = {
            "pid": os.getpid(),
            "started": _started(os.getpid()),
            "saved_as": str(saved_as) if saved_as else None,
            "study": as_data(study),
        }
        write_text(self._file, json.dumps(data))

    def clear(self) -> None:
        """Remove this program's autosave: the work is saved, or was given up knowingly."""
        self._file.unlink(missing_ok=True)

    def left_behind(self) -> list[Recovered]:
        """Autosaves of programs that no longer run, newest first; those that cannot be read stay where they are."""
        found = []
        for file in sorted(self.folder.glob("*.json"), key=lambda p: p.stat().st_mtime, reverse=True):
            try:
                data = json.loads(file.read_text(encoding="utf-8"))
                if _started(int(data["pid"])) == data["started"]:
                    continue
                saved_as = Path(data["saved_as"]) if data["saved_as"] else None
                found.append(Recovered(from_data(data["study"], file), saved_as, file))
            except (OSError, ValueError, KeyError, TypeError, MossError):
                continue
        return found


def _started(pid: int) -> str | None:
    """When a process started, as the system states it; None when it does not run."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except OSError:
        return None

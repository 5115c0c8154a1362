"""Recordings of devices: where they are written, and those that a program which ended had not kept yet."""

from __future__ import annotations

import json
import os
import time
from pathlib import Path

from moss_step.formats.whole import make_folder, write_text
from moss_step.study.autosave import process_started, state_folder

_MARK = ".unkept"


def recordings_folder() -> Path:
    """Folder of the recordings; made when something is written there."""
    return state_folder() / "recordings"


def new_recording(folder: Path | None = None) -> Path:
    """A free name for a recording that begins now, marked as one that is not kept yet.

    Raises MossError where nothing can be written.
    """
    folder = folder or recordings_folder()
    name, number = time.strftime("%Y-%m-%d %H.%M.%S"), 0
    path = folder / f"{name}.nmea"
    while path.exists() or _mark(path).exists():
        number += 1
        path = folder / f"{name} ({number}).nmea"
    make_folder(path)
    write_text(_mark(path), json.dumps({"pid": os.getpid(), "started": process_started(os.getpid())}))
    return path


def keep_recording(path: Path) -> None:
    """It is kept in a study, or was given up knowingly; the file stays."""
    _mark(path).unlink(missing_ok=True)


def unkept_recordings(folder: Path | None = None) -> list[Path]:
    """Recordings with something in them whose program runs no more, the newest first."""
    result = []
    for mark in sorted((folder or recordings_folder()).glob(f"*{_MARK}"), reverse=True):
        path = mark.with_suffix(".nmea")
        try:
            data = json.loads(mark.read_text(encoding="utf-8"))
            runs = process_started(int(data["pid"])) == data["started"]
            if not runs and path.stat().st_size:
                result.append(path)
        except (OSError, ValueError, KeyError, TypeError):
            continue
    return result


def _mark(path: Path) -> Path:
    return path.with_suffix(_MARK)

"""Recently used studies, grids and shapes."""

from __future__ import annotations

import json
from pathlib import Path

from moss_step.formats.whole import write_text
from moss_step.study.autosave import state_folder

_MOST = 8


def _file() -> Path:
    return state_folder() / "recent.json"


def recent() -> list[Path]:
    """Files used lately that are still there, newest first."""
    try:
        listed = json.loads(_file().read_text(encoding="utf-8"))
        return [Path(p) for p in listed if Path(p).is_file()]
    except (OSError, ValueError, TypeError):
        return []


def remember(path: Path) -> list[Path]:
    """Put a file at the head of the list; gives the list."""
    path = path.resolve()
    kept = [path, *(p for p in recent() if p != path)][:_MOST]
    write_text(_file(), json.dumps([str(p) for p in kept]))
    return kept

"""Where the window stood when it was closed, for the next start."""

from __future__ import annotations

import json
from contextlib import suppress

from PySide6.QtCore import QByteArray
from PySide6.QtWidgets import QMainWindow

from moss_step.folders import state_path
from moss_step.formats.whole import make_folder, write_text
from moss_step.model.errors import MossError

_NAME = "window.json"


def keep_place(geometry: str) -> None:
    """Write a place, as ``place_of`` gives it; where nothing can be kept the next start is as usual.

    Not for the window's thread.
    """
    with suppress(OSError, MossError):
        make_folder(state_path() / _NAME)
        write_text(state_path() / _NAME, json.dumps({"geometry": geometry}) + "\n")


def place_of(window: QMainWindow) -> str:
    """Size, place and whether it fills the screen, as text."""
    return bytes(window.saveGeometry().toBase64().data()).decode("ascii")


def take_place(window: QMainWindow) -> None:
    """Put a window where the last one stood, as far as the screens of today allow; before it is shown."""
    with suppress(OSError, ValueError, TypeError, KeyError, UnicodeEncodeError):
        kept = json.loads((state_path() / _NAME).read_text(encoding="utf-8"))["geometry"]
        window.restoreGeometry(QByteArray.fromBase64(str(kept)[:4096].encode("ascii")))

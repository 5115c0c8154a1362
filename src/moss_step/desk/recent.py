"""Recently used studies, grids and shapes, with a small picture and when they were last written."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from moss_step.desk.png import write_png
from moss_step.desk.runner import Helper
from moss_step.formats.whole import write_text
from moss_step.model.errors import MossError
from moss_step.study.autosave import state_folder

_MOST = 8


@dataclass(frozen=True)
class Recent:
    """A file used lately: where it is, when it was last written, and how its plan looked; None unknown."""

    path: Path
    when: str = ""
    picture: QImage | None = None


def _file() -> Path:
    return state_folder() / "recent.json"


def _picture_file(path: Path) -> Path:
    return state_folder() / "pictures" / f"{hashlib.sha256(str(path).encode()).hexdigest()[:24]}.png"


def paths() -> list[Path]:
    """Files used lately that are still there, newest first."""
    try:
        listed = json.loads(_file().read_text(encoding="utf-8"))
        return [Path(p) for p in listed if Path(p).is_file()]
    except (OSError, ValueError, TypeError):
        return []


def recent() -> list[Recent]:
    """The files used lately with what is known of them. Not for the window's thread."""
    return [_known(path) for path in paths()]


def _known(path: Path) -> Recent:
    picture = QImage(str(_picture_file(path)))
    try:
        when = datetime.fromtimestamp(path.stat().st_mtime).astimezone()
    except OSError:  # it is gone since it was listed
        return Recent(path)
    return Recent(path, f"{when.day} {when:%B %Y}", None if picture.isNull() else picture)


def remember(path: Path) -> list[Recent]:
    """Put a file at the head of the list; gives the list."""
    path = path.resolve()
    kept = [path, *(p for p in paths() if p != path)][:_MOST]
    write_text(_file(), json.dumps([str(p) for p in kept]))
    return recent()


def keep_picture(path: Path, picture: QImage) -> list[Recent]:
    """Keep how the plan of a study looked; those of files that are no longer listed go. Gives the list."""
    file = _picture_file(path.resolve())
    file.parent.mkdir(parents=True, exist_ok=True)
    write_png(picture, file)
    listed = {_picture_file(p) for p in paths()}
    for old in file.parent.glob("*.png"):
        if old not in listed and old != file:
            old.unlink(missing_ok=True)
    return recent()


class Recents(QObject):
    """The files used lately, as far as the files' thread has read them."""

    changed = Signal()
    """The list changed."""
    failed = Signal(str, bool)
    """The list could not be kept, and that this is bad."""

    def __init__(self, files: Helper, parent: QObject) -> None:
        super().__init__(parent)
        self._files = files
        self.listed: list[Recent] = []
        files.ask(recent, self._take)

    def remember(self, path: Path) -> None:
        """Put a file at the head of those used lately."""
        self._files.ask(lambda: remember(path), self._take)

    def keep_picture(self, path: Path, picture: QImage) -> None:
        """Keep how the plan of a study looks."""
        self._files.ask(lambda: keep_picture(path, picture), self._take)

    def _take(self, result: list[Recent] | MossError) -> None:
        if isinstance(result, MossError):
            self.failed.emit(str(result), True)
        elif result != self.listed:
            self.listed = result
            self.changed.emit()

"""Where the study stands: its file as it was read or saved last, and whether others have it open."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal

from moss_step.desk.runner import Helper
from moss_step.model.errors import MossError
from moss_step.study.graph import Study
from moss_step.study.held import Held, Stamp, stamp_of
from moss_step.study.saving import load_study, save_study

_LARGE = 100_000
"""Bytes of a study that takes longer to read than the window should wait."""


class StudyPlace(QObject):
    """The file of the study; it is touched in the files' thread alone."""

    shared = Signal(str, bool)
    """Somebody else has the file open; it is bad."""

    def __init__(self, files: Helper, marks: Path, parent: QObject) -> None:
        """``marks`` is the folder of what tells other windows of open files."""
        super().__init__(parent)
        self.path: Path | None = None
        self._files, self._held = files, Held(marks)
        self._stamp: Stamp = None

    def is_large(self, path: Path) -> bool:
        """Whether a study file takes long to read."""
        return (self.stamp(path) or (0, 0))[0] > _LARGE

    def stamp(self, path: Path | None) -> Stamp:
        """Size and time of a file as it is now."""
        return self._files.now(lambda: stamp_of(path))

    def is_newer(self, path: Path) -> bool:
        """Whether a study file is another than the one that was read or saved last: somebody else wrote
        it.
        """
        here = self.path

        def other() -> bool:
            there = stamp_of(path)
            return there is not None and (
                here is None or path.resolve() != here.resolve() or there != self._stamp
            )

        return self._files.now(other)

    def save(self, study: Study, path: Path) -> None:
        """Save the study there from now on.

        Raises MossError when it cannot be written; an older file stays as it was.
        """

        def write() -> Stamp:
            save_study(study, path)
            return stamp_of(path)

        self._stamp = self._files.now(write)
        self.path = path
        self._files.ask(lambda: self._held.take(path), lambda _: None)

    def move(self, path: Path | None, stamp: Stamp) -> None:
        """Another study is worked on: that of a file as it was read, or of none."""
        self.path, self._stamp = path, stamp
        self._files.ask(lambda: self._held.take(path), lambda taken: self._on_taken(taken, path))

    def let_go(self) -> None:
        """The file is worked on no more."""
        self._files.ask(self._held.let_go, lambda _: None)

    def _on_taken(self, taken: bool | MossError, path: Path | None) -> None:
        if isinstance(taken, MossError):
            self.shared.emit(str(taken), True)
        elif taken and path is not None:
            said = f"{path.name} is open in another window too."
            self.shared.emit(f"{said} Save under another name, or close one.", True)


def read_study(path: Path) -> tuple[Study, Stamp]:
    """A study file as it is now. Raises MossError when it cannot be read."""
    stamp = stamp_of(path)
    return load_study(path), stamp

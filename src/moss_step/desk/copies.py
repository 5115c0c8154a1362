"""Copies of unsaved work: written a little after each change, and retired once the work is safe."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from moss_step.desk.runner import Helper
from moss_step.model.errors import MossError
from moss_step.study.autosave import Autosave
from moss_step.study.graph import Study


class Copies(QObject):
    """What is kept of work that is not saved; ``unsaved`` gives the study and its file, or None."""

    failed = Signal(str, bool)
    """Why no copy could be written; it is bad."""

    def __init__(
        self, autosave: Autosave, files: Helper, unsaved: Callable[[], tuple[Study, Path | None] | None],
        parent: QObject,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.autosave, self._files, self._unsaved = autosave, files, unsaved
        self._recovered: Path | None = None
        self.timer = QTimer(self, singleShot=True)
        self.timer.timeout.connect(self._write)

    def soon(self) -> None:
        """Something changed: a copy is written when its time has come."""
        if not self.timer.isActive():
            self.timer.start()

    def take_up(self, file: Path) -> None:
        """The work is that of an earlier run: its copy stays until this is safe."""
        self._recovered = file
        self.timer.start()

    def forget(self) -> None:
        """The work is safe, or given up knowingly: what was kept of it becomes an old copy."""
        recovered, self._recovered = self._recovered, None

        def retire() -> None:
            self.autosave.clear()
            if recovered is not None:
                self.autosave.retire(recovered)

        self._files.ask(retire, lambda _: None)

    def _write(self) -> None:
        wanted = self._unsaved()
        if wanted is None:
            return

        def tell(answer: MossError | None) -> None:
            if answer is not None:
                self.failed.emit(f"Autosave failed. {answer}", True)

        self._files.ask(lambda: self.autosave.write(*wanted), tell)

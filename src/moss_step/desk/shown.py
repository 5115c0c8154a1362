"""What is drawn beside the rows of the Key: results that are compared, those of a page, and all coverings at
once.
"""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from moss_step.study.graph import Study


class Shown(QObject):
    """What else is drawn; results that the study has no more are drawn no more."""

    changed = Signal()
    """Something else is drawn."""
    wanted = Signal()
    """Other results are needed."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.all = False
        self._compared: tuple[str, ...] = ()
        self._paged: tuple[str, ...] = ()

    def show_all(self) -> None:
        """Let other coverings step back before the one that is made or looked at, or show them too."""
        self.all = not self.all
        self.changed.emit()

    def compare(self, *refs: str) -> None:
        """Draw two results against each other; none ends that."""
        self._compared = refs
        self.changed.emit()

    def lay_on_page(self, refs: tuple[str, ...]) -> None:
        """Keep results ready that a page shows; none ends that."""
        if refs != self._paged:
            self._paged = refs
            self.changed.emit()
            self.wanted.emit()

    def compared(self, study: Study) -> tuple[str, ...]:
        """Two results that are drawn against each other; none otherwise, or when one is gone."""
        return self._compared if all(study.has(ref) for ref in self._compared) else ()

    def on_page(self, study: Study) -> list[str]:
        """Results that a page shows."""
        return [ref for ref in self._paged if study.has(ref)]

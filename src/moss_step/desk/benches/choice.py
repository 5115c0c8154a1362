"""The choice of steps on a bench: its questions under headings in the order of the work, filtered as one
types.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from moss_step.desk.parts import ElidedButton, clear, column, label
from moss_step.steps.catalogue import GROUPS
from moss_step.steps.declare import StepKind

_SIDE_BY_SIDE = 2
LAST = "Used last"


class StepChoice(QWidget):
    """Steps to pick from; the question of the one pointed at, or that has the keyboard, is said below."""

    picked = Signal(str)

    def __init__(self, bench: str, kinds: Sequence[StepKind], last: Sequence[StepKind]) -> None:
        super().__init__()
        self._kinds, self._last, self._groups = kinds, last, GROUPS.get(bench, ())
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Type to find: steepness, pour point, mast …")
        self.filter.setAccessibleName("Find a step of this bench")
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(lambda _: self._fill())
        self.filter.installEventFilter(self)
        self._list = column(gap=3)
        self.said = label("", "muted", wrap=True)
        self.said.setAccessibleName("What the step answers")
        self.said.setMinimumHeight(52)
        self.said.setAlignment(Qt.AlignmentFlag.AlignTop)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self.filter)
        layout.addWidget(self._list)
        layout.addStretch(1)
        layout.addWidget(self.said)
        self.buttons: dict[str, QPushButton] = {}
        self._fill()

    def _fill(self) -> None:
        """List the steps that fit what is typed."""
        inner = self._list.layout()
        if inner is None:
            return
        clear(inner)
        self.buttons.clear()
        fitting = [k for k in self._kinds if fits(self.filter.text(), k)]
        sections = [(LAST, list(self._last))] if self._last and not self.filter.text().strip() else []
        sections += [(title, [k for k in fitting if k.group == title]) for title in self._groups]
        for title, kinds in sections:
            if kinds:
                inner.addWidget(label(title, "muted"))
                inner.addWidget(self._grid(kinds))
        self.said.setText("" if fitting else "No step of this bench. Ctrl+K looks on all benches.")

    def _grid(self, kinds: Sequence[StepKind]) -> QWidget:
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 3)
        grid.setSpacing(4)
        for column_ in range(_SIDE_BY_SIDE):
            grid.setColumnStretch(column_, 1)
        for place, kind in enumerate(kinds):
            result = ElidedButton(kind.title, kind.question, partial(self.picked.emit, kind.kind))
            result.setAccessibleName(f"Step: {kind.title}")
            result.setAccessibleDescription(kind.question)
            result.setProperty("step", kind.kind)
            result.installEventFilter(self)
            self.buttons.setdefault(kind.kind, result)
            grid.addWidget(result, place // _SIDE_BY_SIDE, place % _SIDE_BY_SIDE)
        return holder

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Say the question of a step that is pointed at; Return in the field takes the first one listed."""
        if event.type() in (QEvent.Type.Enter, QEvent.Type.FocusIn) and watched is not self.filter:
            kind = next((k for k in self._kinds if k.kind == watched.property("step")), None)
            if kind is not None:
                self.said.setText(f"{kind.question} {kind.help}")
        if watched is self.filter and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            first = next(iter(self.buttons.values()), None)
            if first is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                first.click()
                return True
            if first is not None and event.key() == Qt.Key.Key_Down:
                first.setFocus(Qt.FocusReason.TabFocusReason)
                return True
        return super().eventFilter(watched, event)


def fits(text: str, kind: StepKind) -> bool:
    """Whether every word of a text begins a word of a step's title, its trade words or its question."""
    said = " ".join((kind.title, *kind.words, kind.question)).lower().replace("?", " ").split()
    return all(any(word.startswith(part) for word in said) for part in text.lower().split())

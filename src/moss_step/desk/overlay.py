"""A sheet that lies over the window until it is closed: as large as what it holds, and scrolled where there
is less room.
"""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

_MARGIN = 8


class Overlay(QFrame):
    """A card in the middle of the window."""

    def __init__(self, parent: QWidget, name: str, body: QWidget) -> None:
        super().__init__(parent)
        self.setProperty("role", "card")
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._body, self._scroll = body, QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setFrameShape(QFrame.Shape.NoFrame)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._scroll.setWidget(body)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(2, 2, 2, 2)
        layout.addWidget(self._scroll)
        self.hide()

    def open(self) -> None:
        """Show it in the middle of the window."""
        parent = self.parentWidget()
        if parent is None:
            return
        wanted = self._body.sizeHint()
        bar = self._scroll.verticalScrollBar().sizeHint().width()
        width = min(wanted.width() + 6 + bar, parent.width() - 2 * _MARGIN)
        height = min(wanted.height() + 6, parent.height() - 2 * _MARGIN)
        self.setGeometry((parent.width() - width) // 2, (parent.height() - height) // 2, width, height)
        self.show()
        self.raise_()
        self.setFocus()

"""Plain text wherever a name may come from a file: tooltips and questions never read it as markup."""

from __future__ import annotations

import html

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QHelpEvent
from PySide6.QtWidgets import QAbstractItemView, QMessageBox, QToolTip, QWidget

Answer = QMessageBox.StandardButton


class PlainTips(QObject):
    """Shows every tooltip of the application as plain text."""

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Take over what a tooltip shows."""
        if event.type() != QEvent.Type.ToolTip or not isinstance(watched, QWidget) or not isinstance(event, QHelpEvent):
            return False
        text = tip_of(watched, event)
        if not text:
            return False
        QToolTip.showText(event.globalPos(), as_plain(text), watched)
        return True


def tip_of(widget: QWidget, event: QHelpEvent) -> str:
    """The tooltip under the pointer: of a widget, or of a row in a list or table."""
    view = widget.parent()
    if isinstance(view, QAbstractItemView) and widget is view.viewport():
        return str(view.indexAt(event.pos()).data(Qt.ItemDataRole.ToolTipRole) or "")
    return widget.toolTip()


def as_plain(text: str) -> str:
    """Text that a tooltip shows as it is written."""
    return f"<span>{html.escape(text)}</span>".replace("\n", "<br>")


def ask(parent: QWidget, title: str, text: str, answers: Answer, usual: Answer) -> Answer:
    """Ask a question in plain text; Escape is the answer that leaves things as they are."""
    box = QMessageBox(QMessageBox.Icon.Question, title, "", answers, parent)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(text)
    box.setDefaultButton(usual)
    return Answer(box.exec())

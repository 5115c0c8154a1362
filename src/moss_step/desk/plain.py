"""Plain text wherever a name may come from a file: tooltips and questions never read it as markup."""

from __future__ import annotations

import html
from typing import Protocol

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget

Answer = QMessageBox.StandardButton


class Tipped(Protocol):
    """What has a tooltip: a control, an action, a row of a list or table."""

    def setToolTip(self, text: str, /) -> None:
        """Show a text."""


def set_tip(of: Tipped, text: str) -> None:
    """Give something a tooltip that is shown as it is written. An event filter would do as much, and be
    called for every event of the window.
    """
    of.setToolTip(as_plain(text))


def speak(of: QWidget, value: str, keys: str = "") -> None:
    """Give a picture the value that a screen reader says, and then its keys."""
    said = f"{value} {keys}".strip()
    if said != of.accessibleDescription():
        of.setAccessibleDescription(said)  # this tells the reader, too


def as_plain(text: str) -> str:
    """Text that a tooltip shows as it is written: what could be taken for markup is made harmless."""
    return f"<span>{html.escape(text)}</span>".replace("\n", "<br>") if "<" in text or "&" in text else text


def ask(parent: QWidget, title: str, text: str, answers: Answer, usual: Answer) -> Answer:
    """Ask a question in plain text; Escape is the answer that leaves things as they are."""
    box = QMessageBox(QMessageBox.Icon.Question, title, "", answers, parent)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(text)
    box.setDefaultButton(usual)
    return Answer(box.exec())

"""Colours of the window by day and by night: what lies on the plan keeps its own."""

from __future__ import annotations

from PySide6.QtCore import QCoreApplication
from PySide6.QtGui import QColor

from moss_step.scene.colors import BY_NIGHT

_DARK_WINDOW = "dark window"
"""Property of the application."""


def darken(dark: bool) -> None:
    """Have what is made from now on in the colours of a dark window, or of a light one."""
    app = QCoreApplication.instance()
    if app is not None:
        app.setProperty(_DARK_WINDOW, dark)


def is_dark() -> bool:
    """Whether the window is dark."""
    app = QCoreApplication.instance()
    return app is not None and bool(app.property(_DARK_WINDOW))


def tone(color: str) -> str:
    """A colour of the window as it is now."""
    return BY_NIGHT.get(color, color) if is_dark() else color


def shade(color: str) -> QColor:
    """A colour of the window as it is now, to paint with."""
    return QColor(tone(color))

"""Pens for paths in the coordinates of the ground."""

from __future__ import annotations

from PySide6.QtGui import QColor, QPainter, QPen


def screen_pen(painter: QPainter, color: QColor, width: float) -> QPen:
    """A pen of a width in pixels of the screen, however the painter is scaled; Qt itself counts those of the
    device.
    """
    pen = QPen(color, width * painter.device().devicePixelRatio())
    pen.setCosmetic(True)
    return pen

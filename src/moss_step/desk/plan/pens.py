"""Pens for paths in the coordinates of the ground."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPainter, QPen

from moss_step.scene.colors import SLATE


def screen_pen(painter: QPainter, color: QColor, width: float) -> QPen:
    """A pen of a width in pixels of the screen, however the painter is scaled; Qt itself counts those of the
    device. What is hidden is dotted.
    """
    pen = QPen(color, width * painter.device().devicePixelRatio())
    pen.setCosmetic(True)
    if color == QColor(SLATE):
        pen.setStyle(Qt.PenStyle.DotLine)
    return pen

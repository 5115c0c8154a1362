"""Pens for paths in the coordinates of the ground, and letters, on the screen and on paper."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPen

from moss_step.desk.theme import font
from moss_step.scene.colors import SLATE


def screen_pen(painter: QPainter, color: QColor, width: float) -> QPen:
    """A pen of a width in pixels of the screen, however the painter is scaled; Qt itself counts those of the
    device. What is hidden is dotted.
    """
    pen = paper_pen(color, width * painter.device().devicePixelRatio())
    pen.setCosmetic(True)
    return pen


def paper_pen(color: QColor, width: float) -> QPen:
    """A pen that is as broad as the painter's scale makes it. What is hidden is dotted."""
    pen = QPen(color, width)
    if color == QColor(SLATE):
        pen.setStyle(Qt.PenStyle.DotLine)
    return pen


def on_paper(painter: QPainter) -> bool:
    """Whether lines are as broad as the painter's scale makes them: pages are drawn in their own units, the
    screen in its pixels.
    """
    return painter.worldTransform().isScaling()


def in_letters(painter: QPainter) -> bool:
    """Whether what is written stays text: in a file of lines and letters. Whoever draws one asks for pictures
    without loss, which nothing else does.
    """
    return painter.testRenderHint(QPainter.RenderHint.LosslessImageRendering)


def letters(painter: QPainter, pixels: int, weight: QFont.Weight) -> QFont:
    """The typeface at a size. In files of letters figures have their own width: those of one width could
    not be found as text.
    """
    return font(pixels, weight, tabular=not in_letters(painter))

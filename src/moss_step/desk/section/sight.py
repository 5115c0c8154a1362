"""A sight line in the section: what blocks, the ray, seen and hidden ground, and each obstacle."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from moss_step.desk.theme import font
from moss_step.scene.colors import CARD, DEEP, INK, LICHEN, OCHRE
from moss_step.science.sight.line import SightLine, runs_of
from moss_step.steps.results import measured

_MOST_NAMED = 8


def heights_in(seen: SightLine) -> np.ndarray:
    """All heights that the picture must hold."""
    return np.concatenate([seen.ground, seen.ray, np.where(np.isfinite(seen.top), seen.top, np.nan)])


def paint_sight(
    painter: QPainter, plot: QRectF, xs: np.ndarray, y_of: Callable[[np.ndarray], np.ndarray], seen: SightLine
) -> None:
    """Draw a sight line over a ground that is already drawn."""
    ground, top, ray = (
        y_of(seen.ground),
        y_of(np.where(np.isfinite(seen.top), seen.top, seen.ground)),
        y_of(seen.ray),
    )
    _paint_standing(painter, xs, ground, top)
    for a, b in seen.stretches:
        painter.setPen(
            QPen(
                QColor(LICHEN if seen.seen[a] else OCHRE), 4.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap
            )
        )
        painter.drawPolyline(
            [QPointF(x, y) for x, y in zip(xs[a : b + 1], ground[a : b + 1], strict=True) if y == y]
        )
    painter.setPen(QPen(QColor(INK), 1.4, Qt.PenStyle.SolidLine if seen.open else Qt.PenStyle.DashLine))
    painter.drawLine(QPointF(xs[0], ray[0]), QPointF(xs[-1], ray[-1]))
    painter.setPen(QPen(QColor(INK), 3.0))
    for end in (0, -1):
        painter.drawLine(QPointF(xs[end], ground[end]), QPointF(xs[end], ray[end]))
    painter.setPen(QPen(QColor(CARD), 1.5))
    painter.setBrush(QColor(DEEP))
    painter.drawEllipse(QPointF(xs[0], ray[0]), 6, 6)
    _paint_obstacles(painter, plot, xs, y_of, seen)
    _paint_words(painter, plot)


def _paint_words(painter: QPainter, plot: QRectF) -> None:
    """What the two colours of the ground mean."""
    painter.setFont(font(11))
    right = plot.right() - 4
    for word, color in (("hidden", OCHRE), ("seen", LICHEN)):
        width = painter.fontMetrics().horizontalAdvance(word)
        painter.setPen(QColor(INK))
        painter.drawText(QPointF(right - width, plot.bottom() - 6), word)
        painter.fillRect(QRectF(right - width - 18, plot.bottom() - 12, 14, 4), QColor(color))
        right -= width + 30


def _paint_standing(painter: QPainter, xs: np.ndarray, ground: np.ndarray, top: np.ndarray) -> None:
    """What stands on the ground."""
    color = QColor(OCHRE)
    color.setAlpha(110)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color)
    for a, b in runs_of(top < ground - 0.5):
        up = [QPointF(x, y) for x, y in zip(xs[a:b], top[a:b], strict=True)]
        down = [QPointF(x, y) for x, y in zip(xs[a:b][::-1], ground[a:b][::-1], strict=True)]
        painter.drawPolygon(QPolygonF([*up, *down]))


def _paint_obstacles(
    painter: QPainter, plot: QRectF, xs: np.ndarray, y_of: Callable[[np.ndarray], np.ndarray], seen: SightLine
) -> None:
    """A mark on each obstacle, with its distance and height above the ray where there is room."""
    length, taken = float(seen.distance[-1]), -1e9
    painter.setFont(font(11))
    for k, obstacle in enumerate(seen.obstacles):
        x = xs[0] + obstacle.peak / length * (xs[-1] - xs[0])
        ray = float(np.interp(obstacle.peak, seen.distance, seen.ray))
        y = float(y_of(np.array([ray + obstacle.over]))[0])
        painter.setPen(QPen(QColor(CARD), 1.0))
        painter.setBrush(QColor(OCHRE))
        painter.drawPolygon(QPolygonF([QPointF(x, y - 2), QPointF(x - 5, y - 11), QPointF(x + 5, y - 11)]))
        text = f"{measured(obstacle.distance)} m, {measured(obstacle.over)} m over"
        width = painter.fontMetrics().horizontalAdvance(text)
        left = min(max(x - width / 2, plot.left()), plot.right() - width)
        if k < _MOST_NAMED and left > taken:
            painter.setPen(QColor(INK))
            painter.drawText(QPointF(left, max(y - 15, plot.top() + 10)), text)
            taken = left + width + 8

"""What follows the pointer on the plan: lines and a veil over some cells, drawn on top and kept nowhere."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QImage, QPainter, QPainterPath, QPen, QTransform

from moss_step.desk.plan.pens import screen_pen
from moss_step.desk.theme import font
from moss_step.model.findings import Finding
from moss_step.model.frame import Box, Frame
from moss_step.model.surface import Surface
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD, DEEP, INK, LICHEN, WATER
from moss_step.scene.ramps import colors_along

_MOST_PIXELS = 1400
_HUES, _SHADES = 37, 200
_DOT, _MOST_DOTS = 5.0, 20_000
"""Pixels across a dot, and the most that are drawn: of more each so many."""


@dataclass(frozen=True, eq=False)
class Veil:
    """A picture of some cells and the box that it covers; the picture's bytes live as long as it does."""

    image: QImage
    box: Box
    data: np.ndarray


@dataclass(frozen=True, eq=False)
class Dots:
    """Places (n, 2) with a class each (n, int), the colours of the classes, and the shape of all."""

    xy: np.ndarray
    classes: np.ndarray
    colors: tuple[str, ...]
    shape: Literal["disc", "cross", "ring"] = "disc"


@dataclass(frozen=True, eq=False)
class Live:
    """Lines as coordinates with a colour, a veil, dots, and marks at places; ``box`` holds it all, and is
    shown where nothing else has a place; the section draws a ``level``, too.
    """

    lines: tuple[tuple[np.ndarray, str], ...] = ()
    veil: Veil | None = None
    marks: tuple[tuple[float, float], ...] = ()
    dots: tuple[Dots, ...] = ()
    box: Box | None = None
    level: float | None = None


@dataclass(frozen=True, eq=False)
class Preview:
    """What follows the pointer, what is said of it, and its figures."""

    said: str
    live: Live
    findings: tuple[Finding, ...] = ()


def mask_veil(cells: np.ndarray, frame: Frame, color: str = WATER, alpha: int = 120) -> Veil:
    """Veil the cells of a boolean grid that lies in a frame."""
    paint = QColor(color)
    paint.setAlpha(alpha)
    return _veil(_thinned(cells), [0, paint.rgba()], frame)


def number_veil(numbers: np.ndarray, frame: Frame, alpha: int = 130) -> Veil:
    """Veil a grid of numbers, neighbours in different colours and 0 in none."""
    thin = _thinned(numbers)
    return _veil(
        np.where(thin > 0, (thin * 11) % _HUES + 1, 0), [0, *(_hue(k, alpha) for k in range(_HUES))], frame
    )


def graded_veil(grades: np.ndarray, frame: Frame, color: str, most: int, alpha: int = 150) -> Veil:
    """Veil a grid of grades, denser from 1 to ``most``, and 0 not at all."""
    paints = [0]
    for grade in range(1, most + 1):
        paint = QColor(color)
        paint.setAlpha(alpha * grade // most)
        paints.append(paint.rgba())
    return _veil(_thinned(grades), paints, frame)


def surface_veil(
    surface: Surface, ramp_name: str, span: tuple[float, float] | None = None, alpha: int = 255
) -> Veil:
    """Draw a surface over the plan, in the colours of a ramp from its lowest to its highest value, or over a
    span.
    """
    low, high = span or surface.range or (0.0, 1.0)
    thin = _thinned(surface.values)
    share = np.clip((np.nan_to_num(thin, nan=low) - low) / ((high - low) or 1.0), 0.0, 1.0)
    grades = np.where(np.isnan(thin), 0, np.rint(share * _SHADES) + 1)
    paints = [0]
    for color in colors_along(ramp_name, _SHADES + 1):
        paint = QColor(color)
        paint.setAlpha(alpha)
        paints.append(paint.rgba())
    return _veil(grades.astype(np.uint8), paints, surface.frame)


def draw_live(painter: QPainter, live: Live, camera: Camera) -> None:
    """Draw the veil, then the lines on a light rim, then the marks."""
    if live.veil is not None:
        xmin, ymin, xmax, ymax = live.veil.box
        (x0, y0), (x1, y1) = camera.pixel(xmin, ymax), camera.pixel(xmax, ymin)
        painter.drawImage(QRectF(x0, y0, x1 - x0, y1 - y0), live.veil.image)
    sx, sy = camera.scale, camera.scale * camera.stretch
    painter.save()
    painter.setTransform(QTransform(sx, 0, 0, -sy, -camera.left * sx, camera.top * sy), True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for xy, color in live.lines:
        path = polyline(xy)
        for ink, width in ((CARD, 5.0), (color, 2.6)):
            painter.setPen(screen_pen(painter, QColor(ink), width))
            painter.drawPath(path)
    painter.restore()
    for dots in live.dots:
        _draw_dots(painter, dots, camera)
    painter.save()
    painter.setPen(QPen(QColor(CARD), 2.0))
    painter.setBrush(QColor(DEEP))
    for x, y in live.marks:
        painter.drawEllipse(QPointF(*camera.pixel(x, y)), 6, 6)
    painter.restore()


def _draw_dots(painter: QPainter, dots: Dots, camera: Camera) -> None:
    """Draw all dots of one class at once: there may be many thousands."""
    painter.save()
    painter.setBrush(Qt.BrushStyle.NoBrush)
    step = max(1, len(dots.xy) // _MOST_DOTS)
    px, py = camera.pixels(dots.xy[::step]).T
    for k, color in enumerate(dots.colors):
        held = dots.classes[::step] == k
        places = [QPointF(x, y) for x, y in zip(px[held].tolist(), py[held].tolist(), strict=True)]
        if dots.shape == "disc":
            pen = QPen(QColor(color), _DOT)
            pen.setCapStyle(Qt.PenCapStyle.RoundCap)
            painter.setPen(pen)
            painter.drawPoints(places)
            continue
        painter.setPen(QPen(QColor(color), 2.0))
        for at in places:
            if dots.shape == "ring":
                painter.drawEllipse(at, _DOT, _DOT)
            else:
                painter.drawLine(at - QPointF(_DOT, _DOT), at + QPointF(_DOT, _DOT))
                painter.drawLine(at - QPointF(_DOT, -_DOT), at + QPointF(_DOT, -_DOT))
    painter.restore()


def draw_handles(painter: QPainter, places: tuple[tuple[float, float], ...], camera: Camera) -> None:
    """Draw places that can be dragged: a ring with its number, the first one filled."""
    painter.save()
    painter.setFont(font(11, QFont.Weight.DemiBold))
    for i, place in enumerate(places):
        at = QPointF(*camera.pixel(*place))
        painter.setPen(QPen(QColor(DEEP), 2.0))
        painter.setBrush(QColor(LICHEN if i == 0 else CARD))
        painter.drawEllipse(at, 9, 9)
        painter.setPen(QColor(INK))
        painter.drawText(QRectF(at.x() - 9, at.y() - 9, 18, 18), Qt.AlignmentFlag.AlignCenter, str(i + 1))
    painter.restore()


def polyline(xy: np.ndarray) -> QPainterPath:
    """A painter path along coordinates."""
    path = QPainterPath(QPointF(*xy[0]))
    for x, y in xy[1:]:
        path.lineTo(x, y)
    return path


def _thinned(values: np.ndarray) -> np.ndarray:
    step = max(1, max(values.shape) // _MOST_PIXELS)
    return values[::step, ::step]


def _veil(numbers: np.ndarray, colors: list[int], frame: Frame) -> Veil:
    """A picture of a byte a pixel, whose colours are looked up only where it is drawn."""
    rows, cols = numbers.shape
    data = np.zeros((rows, -(-cols // 4) * 4), np.uint8)  # lines of a picture start at every fourth byte
    data[:, :cols] = numbers
    image = QImage(data.data, cols, rows, data.shape[1], QImage.Format.Format_Indexed8)
    image.setColorTable(colors)
    return Veil(image, frame.box, data)


def _hue(k: int, alpha: int) -> int:
    paint = QColor.fromHsv((k * 360) // _HUES, 150, 190, alpha)
    return paint.rgba()

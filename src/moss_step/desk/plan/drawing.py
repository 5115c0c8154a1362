"""Drawing what lies on top of the grids: shapes, pins and the scale bar."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QColor,
    QFont,
    QFontMetricsF,
    QPainter,
    QPainterPath,
    QPen,
    QPixmap,
    QTransform,
)

from moss_step.desk.plan.lettering import draw_mark, write_haloed
from moss_step.desk.plan.paths import path_of_part, path_of_parts
from moss_step.desk.plan.pens import on_paper, paper_pen, screen_pen
from moss_step.desk.theme import font
from moss_step.model.frame import overlap
from moss_step.model.telling import Telling
from moss_step.model.typed import as_kind
from moss_step.model.units import METRE, Unit
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD, DEEP, INK, LICHEN, MOSS, MUTED, OCHRE, VIOLET, WATER
from moss_step.scene.detail import Outlines
from moss_step.scene.grading import Grading, grading_of
from moss_step.scene.kinds.shapes import ShapesPicture
from moss_step.scene.layers import Layer
from moss_step.scene.readings import Reading
from moss_step.scene.rounding import round_below
from moss_step.study.graph import KeyRow

_OUTLINES = (DEEP, WATER, OCHRE, MOSS, VIOLET)
_MOST_LABELS, _LEAST_LINE = 300, 90.0
_DISC = 11
"""Half the side of a pin's disc with its rim, in pixels."""
_CROWDED = 4_000
"""Points in view from which lines are drawn thin and without a rim: they would run into one another."""


def shape_color(order: int) -> str:
    """Colour of the shapes at a place among the shapes of the study."""
    return _OUTLINES[order % len(_OUTLINES)]


def draw_shapes(painter: QPainter, layer: Layer, camera: Camera, color: str, flat: bool = False) -> None:
    """Draw a layer of shapes without their names; ``flat`` leaves out points, which stand upright where the
    ground is seen from the side.
    """
    picture = as_kind(layer.picture, ShapesPicture)
    box = picture.value.box
    if box is None or not overlap(box, camera.box) or (flat and picture.value.kind == "points"):
        return
    painter.save()
    painter.setOpacity(layer.row.opacity)
    if picture.value.kind == "points":
        _draw_points(painter, picture, layer.row, camera, color)
    else:
        _draw_outlines(painter, picture, layer.row, camera, color)
    painter.restore()


def _draw_outlines(
    painter: QPainter, picture: ShapesPicture, row: KeyRow, camera: Camera, color: str
) -> None:
    outlines, seen = picture.detail.seen_in(camera.box, 1.0 / camera.scale)
    crowded = outlines.points_of(seen) > _CROWDED
    paper, way = on_paper(painter), _transform(camera)
    painter.save()
    if not paper:
        painter.setTransform(way, True)
    for ink in _inks(picture, row, color):
        parts = (seen & ink.shapes[outlines.owner]).tobytes()
        whole = _on(paper, way, _paths(outlines, parts, together=True))
        if ink.fill is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(ink.fill)
            painter.drawPath(whole[0])
        if crowded or 0 < ink.width <= 1.0:
            _stroke(painter, whole, ink.line, min(ink.width, 1.0), paper)
        elif ink.width:
            # broad lines over one another cost far more in one path than each
            pieces = _on(paper, way, _paths(outlines, parts, together=False))
            if ink.rim:
                _stroke(painter, pieces, QColor(255, 255, 255, 150), ink.width + 1.8, paper)
            _stroke(painter, pieces, ink.line, ink.width, paper)
    painter.restore()


@dataclass(frozen=True)
class _Ink:
    """How some of the shapes (mask) are drawn."""

    shapes: np.ndarray
    line: QColor
    width: float
    fill: QColor | None
    rim: bool = False


def _inks(picture: ShapesPicture, row: KeyRow, color: str) -> list[_Ink]:
    """The inks of a layer, lowest first: plain or by class, then shapes that were painted by hand."""
    count = len(picture.value.geometry)
    areas, grading = picture.value.kind == "areas", grading_of(picture.value, row)
    shown = np.ones(count, bool)
    shown[[k for k in row.hidden if k < count]] = False
    painted = {k: ink for k, ink in row.paint if k < count and shown[k]}
    plain = shown.copy()
    if grading is None:
        fill = _alpha(color, 26)
        inks = [_Ink(plain, QColor(color), row.width or 1.6, fill if areas else None, rim=True)]
        if row.outline == "none" and areas:
            inks = [replace(inks[0], width=0.0, fill=_alpha(color, 120))]
        own = row.width or 2.0
    else:
        plain[list(painted)] = False
        outline = None if row.outline == "none" and areas else row.outline
        inks = [
            _graded_ink(grading, k, plain, outline, areas, picture.value.columns[row.column], row.width)
            for k in range(-1, len(grading.classes))
        ]
        own = row.width or (0.8 if areas else 2.0)
    for k, ink in painted.items():
        one = np.zeros(count, bool)
        one[k] = True
        inks.append(_Ink(one, QColor(ink), own, QColor(ink) if areas else None))
    return [ink for ink in inks if ink.shapes.any()]


def _alpha(color: str, alpha: int) -> QColor:
    """A colour that others show through."""
    result = QColor(color)
    result.setAlpha(alpha)
    return result


def _graded_ink(
    grading: Grading,
    k: int,
    shapes: np.ndarray,
    outline: str | None,
    areas: bool,
    column: np.ndarray,
    width: float | None,
) -> _Ink:
    own, top = QColor(grading.class_color(k)), max(len(grading.classes) - 1, 1)
    broad = (
        1.4 + 2.8 * max(k, 0) / top if column.dtype.kind in "iuf" else 2.0
    )  # higher classes of lines are broader
    line = QColor(DEEP) if outline == "own" and areas else own
    return _Ink(
        shapes & (grading.places == k),
        line,
        0.0 if outline is None else width or (0.8 if areas else broad),
        own if areas else None,
    )


@lru_cache(maxsize=64)
def _paths(outlines: Outlines, parts: bytes, together: bool) -> list[QPainterPath]:
    """Some parts as one path or a path each, kept while the plan is moved over the same ones."""
    chosen = np.frombuffer(parts, bool)
    return (
        [path_of_parts(outlines, chosen)]
        if together
        else [path_of_part(outlines, int(k)) for k in np.flatnonzero(chosen)]
    )


def _on(paper: bool, way: QTransform, paths: list[QPainterPath]) -> list[QPainterPath]:
    """Paths as a painter takes them: of the ground on the screen, of the page on paper."""
    return [way.map(path) for path in paths] if paper else paths


def _transform(camera: Camera) -> QTransform:
    sx, sy = camera.scale, camera.scale * camera.stretch
    return QTransform(sx, 0, 0, -sy, -camera.left * sx, camera.top * sy)


def _stroke(
    painter: QPainter, paths: Sequence[QPainterPath], line: QColor, width: float, paper: bool
) -> None:
    painter.setPen(paper_pen(line, width) if paper else screen_pen(painter, line, width))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for path in paths:
        painter.drawPath(path)


def draw_marked(painter: QPainter, paths: Sequence[QPainterPath], camera: Camera) -> None:
    """Draw selected shapes with a broad bright line on a dark one."""
    if not paths:
        return
    painter.save()
    painter.setTransform(_transform(camera), True)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for color, width in ((DEEP, 6.0), (LICHEN, 3.4)):
        pen = screen_pen(painter, QColor(color), width)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        painter.setPen(pen)
        for path in paths:
            painter.drawPath(path)
    painter.restore()
    painter.save()
    painter.setPen(QPen(QColor(DEEP), 2.0))
    painter.setBrush(QColor(LICHEN))
    for path in paths:
        if path.boundingRect().isNull():  # a point has no line to draw
            start = path.elementAt(0)
            painter.drawEllipse(QPointF(*camera.pixel(start.x, start.y)), 7, 7)
    painter.restore()


def _draw_points(painter: QPainter, picture: ShapesPicture, row: KeyRow, camera: Camera, color: str) -> None:
    grading = grading_of(picture.value, row)
    window, reach = QRectF(-20, -20, camera.width + 40, camera.height + 40), row.size / 2
    painter.setPen(QPen(QColor(CARD), 2.0))
    for k, (x, y) in enumerate(camera.pixels(picture.points).tolist()):
        if window.contains(x, y):
            painter.setBrush(QColor(grading.color(k) if grading else color))
            draw_mark(painter, QPointF(x, y), row.mark, reach)


def draw_pin(painter: QPainter, at: QPointF, number: int, rows: Sequence[Reading]) -> QRectF:
    """Draw a pinned reading: a numbered mark and a card of its values; gives the card's place."""
    face, bold = font(12), font(12, QFont.Weight.DemiBold)
    names = max((QFontMetricsF(face).horizontalAdvance(r.name) for r in rows), default=0.0)
    texts = max((QFontMetricsF(bold).horizontalAdvance(r.text) for r in rows), default=0.0)
    card = QRectF(at.x() + 14, at.y() - 12, names + texts + 30, 17 * len(rows) + 12)
    draw_pin_marks(painter, [at], [number])
    painter.save()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(255, 255, 255, 235))
    painter.drawRoundedRect(card, 5, 5)
    for i, row in enumerate(rows):
        line = QRectF(card.x() + 9, card.y() + 6 + 17 * i, card.width() - 18, 17)
        painter.setFont(face)
        painter.setPen(QColor(MUTED))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, row.name)
        painter.setFont(bold)
        painter.setPen(QColor(INK))
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, row.text)
    painter.restore()
    return card


def draw_pin_marks(painter: QPainter, places: list[QPointF], numbers: list[int]) -> None:
    """Draw the numbered marks of pins: one disc for all of them, as there may be many."""
    painter.save()
    painter.setPen(QColor(INK))
    disc, fonts = _pin_disc(), [font(size, QFont.Weight.DemiBold) for size in (12, 8)]
    for few in (True, False):
        painter.setFont(fonts[0] if few else fonts[1])
        for at, number in zip(places, numbers, strict=True):
            if (number < 100) == few:
                painter.drawPixmap(QPointF(at.x() - _DISC, at.y() - _DISC), disc)
                painter.drawText(
                    QRectF(at.x() - 12, at.y() - 10, 24, 20), Qt.AlignmentFlag.AlignCenter, str(number)
                )
    painter.restore()


@lru_cache(maxsize=1)
def _pin_disc() -> QPixmap:
    disc = QPixmap(4 * _DISC, 4 * _DISC)
    disc.setDevicePixelRatio(2.0)
    disc.fill(Qt.GlobalColor.transparent)
    with QPainter(disc) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(DEEP), 1.5))
        painter.setBrush(QColor(LICHEN))
        painter.drawEllipse(QPointF(_DISC, _DISC), 9, 9)
    return disc


def scale_length(
    metres_per_pixel: float, most_pixels: float = 150.0, unit: Unit = METRE
) -> tuple[float, str]:
    """The longest round distance that fits: its length in pixels and its text."""
    most = metres_per_pixel * most_pixels / unit.factor
    if not (0 < most < 1e9):
        return 0.0, ""
    distance = round_below(most)
    if unit == METRE and distance >= 1000:
        text = f"{distance / 1000:g} km"
    elif unit == METRE and distance < 1:
        text = f"{distance * 100:g} cm"
    else:
        text = f"{distance:,.10g} {unit.symbol}".replace(",", " ")
    return distance * unit.factor / metres_per_pixel, text


def scale_bar_room(camera: Camera) -> QRectF:
    """The room at the lower right that names leave to the scale bar."""
    return QRectF(camera.width - 180.0, camera.height - 46.0, 180.0, 46.0)


def draw_scale_bar(
    painter: QPainter, right: float, bottom: float, metres_per_pixel: float, telling: Telling
) -> None:
    """Draw the scale bar with its right end at a place."""
    length, text = scale_length(metres_per_pixel, unit=telling.length or METRE)
    if not text:
        return
    painter.save()
    painter.setFont(font(12, QFont.Weight.DemiBold))
    for color, width in ((QColor(255, 255, 255, 190), 5.0), (QColor(INK), 1.8)):
        pen = QPen(color, width)
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        bar = QPainterPath(QPointF(right - length, bottom - 5))
        bar.lineTo(right - length, bottom)
        bar.lineTo(right, bottom)
        bar.lineTo(right, bottom - 5)
        painter.drawPath(bar)
    painter.translate(right - length / 2, bottom - 11)
    write_haloed(painter, text, 12)
    painter.restore()


def draw_section_line(painter: QPainter, start: QPointF, end: QPointF) -> None:
    """Draw the line of a section; a filled mark shows where it starts."""
    painter.save()
    for color, width in ((CARD, 5.0), (DEEP, 2.2)):
        painter.setPen(QPen(QColor(color), width))
        painter.drawLine(start, end)
    painter.setBrush(QColor(DEEP))
    painter.setPen(QPen(QColor(CARD), 2.0))
    painter.drawEllipse(start, 6, 6)
    painter.restore()


def draw_frame_box(painter: QPainter, start: QPointF, end: QPointF) -> None:
    """Draw a box that is being pulled up, with the rest of the plan veiled."""
    painter.save()
    box = QRectF(start, end).normalized()
    painter.setPen(QPen(QColor(DEEP), 1.6, Qt.PenStyle.DashLine))
    painter.setBrush(QColor(217, 194, 74, 60))
    painter.drawRect(box)
    painter.restore()

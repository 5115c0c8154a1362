"""Names on the plan: written above all lines, where they leave the Key, the bars, the pins and each other
free.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import shapely
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPainterPathStroker, QPen

from moss_step.desk.plan.pens import in_letters, letters
from moss_step.desk.theme import font
from moss_step.model.frame import overlap
from moss_step.model.typed import as_kind
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD, INK
from moss_step.scene.grading import grading_of
from moss_step.scene.kinds.shapes import ShapesPicture
from moss_step.scene.layers import Layer
from moss_step.study.graph import KeyRow

_MOST_LABELS, _LEAST_LINE, _CROWD = 300, 90.0, 250
_NAME_HIGH, _RIM = 20.0, 2.0


class Room:
    """What of a picture is still free to be written in; a name that is cut by its edge is not."""

    def __init__(self, width: float, height: float, taken: Iterable[QRectF] = ()) -> None:
        self._window = QRectF(_RIM, _RIM, width - 2 * _RIM, height - 2 * _RIM)
        self._boxes = np.empty((64, 4))
        self._count = 0
        for box in taken:
            self.take(box)

    @property
    def taken(self) -> list[QRectF]:
        """What is taken."""
        return [QRectF(x0, y0, x1 - x0, y1 - y0) for x0, y0, x1, y1 in self._boxes[: self._count].tolist()]

    def take(self, box: QRectF) -> None:
        """Take a box."""
        self.take_all(np.array([[box.left(), box.top(), box.right(), box.bottom()]]))

    def take_all(self, boxes: np.ndarray) -> None:
        """Take boxes: left, top, right and bottom of each, (n, 4)."""
        needed = self._count + len(boxes)
        if needed > len(self._boxes):
            self._boxes = np.concatenate([self._boxes, np.empty((max(needed, len(self._boxes)), 4))])
        self._boxes[self._count : needed] = boxes
        self._count = needed

    def is_free(self, box: QRectF) -> bool:
        """Whether a box lies within the picture and nothing is there yet."""
        if not self._window.contains(box):
            return False
        x0, y0, x1, y1 = self._boxes[: self._count].T
        over = (x0 < box.right()) & (x1 > box.left()) & (y0 < box.bottom()) & (y1 > box.top())
        return not bool(over.any())


def take_marks(layer: Layer, camera: Camera, room: Room) -> None:
    """Leave the marks of a layer of points free of names; among a crowd of them no name would have room."""
    picture = layer.picture.shapes
    if picture is None or picture.value.kind != "points" or picture.value.box is None:
        return
    at, reach = camera.pixels(picture.points), layer.row.size / 2 + 2
    x, y = at.T
    seen = (x > -20) & (x < camera.width + 20) & (y > -20) & (y < camera.height + 20)
    if np.count_nonzero(seen) <= _CROWD:
        room.take_all(np.concatenate([at[seen] - reach, at[seen] + reach], axis=1))


def write_names(painter: QPainter, layer: Layer, camera: Camera, room: Room, flat: bool = False) -> None:
    """Write the names of a layer of shapes, or the values of its column of labels, where there is room.

    ``flat`` leaves out names of points and areas, which stand upright where the ground is seen from the side.
    """
    picture, row = as_kind(layer.picture, ShapesPicture), layer.row
    box, kind = picture.value.box, picture.value.kind
    if box is None or not overlap(box, camera.box) or (flat and kind != "lines"):
        return
    painter.save()
    if kind == "points":
        _name_points(painter, picture, row, camera, room)
    elif row.labels in picture.value.columns:
        (_label_lines if kind == "lines" else _label_areas)(painter, picture, row.labels, camera, room)
    painter.restore()


def names_of(picture: ShapesPicture, row: KeyRow) -> list[str]:
    """Name of each shape: the value of the column of labels, or its own."""
    shapes = picture.value
    labelled = row.labels in shapes.columns
    return [cell_label(v) for v in shapes.columns[row.labels]] if labelled else shapes.names()


def _name_points(painter: QPainter, picture: ShapesPicture, row: KeyRow, camera: Camera, room: Room) -> None:
    reach = row.size / 2
    names = names_of(picture, row)
    named = [k for k, name in enumerate(names) if name][:_MOST_LABELS]
    places = camera.pixels(picture.points[named]).tolist()
    for (x, y), name in zip(places, (names[k] for k in named), strict=True):
        if -20 < x < camera.width + 20 and -20 < y < camera.height + 20:
            draw_name(painter, QPointF(x, y), name, reach + 6, room)


@dataclass(frozen=True)
class Standing:
    """A name that stands upright at a place, with the mark of a point (none for an area)."""

    name: str
    at: QPointF
    color: str
    mark: str
    reach: float


def standing(layer: Layer, color: str) -> list[Standing]:
    """What of a layer stands upright: points with their names, and names of areas, the largest first."""
    picture, row = layer.picture.shapes, layer.row
    if picture is None or picture.value.kind == "lines":
        return []
    shapes, names = picture.value, names_of(picture, row)
    if shapes.kind == "points":
        grading = grading_of(picture.value, row)
        inks = [grading.color(k) if grading else color for k in range(len(shapes))]
        places = [QPointF(x, y) for x, y in picture.points.tolist()]
        return [
            Standing(n, p, ink, row.mark, row.size / 2) for n, p, ink in zip(names, places, inks, strict=True)
        ]
    if row.labels not in shapes.columns:
        return []
    return [
        Standing(names[k], QPointF(*picture.points[k].tolist()), color, "", 0.0)
        for k in np.argsort(-shapely.area(shapes.geometry))[:_MOST_LABELS]
    ]


def draw_standing(painter: QPainter, result: Standing, at: QPointF, room: Room) -> None:
    """Draw a mark and its name at a pixel, where nothing is written yet."""
    if result.mark:
        painter.setPen(QPen(QColor(CARD), 2.0))
        painter.setBrush(QColor(result.color))
        draw_mark(painter, at, result.mark, result.reach)
    if result.name:
        draw_name(painter, at, result.name, result.reach + 6, room)


def draw_mark(painter: QPainter, at: QPointF, mark: str, reach: float) -> None:
    """Draw a mark of a point: round, square or a triangle."""
    if mark == "square":
        painter.drawRect(QRectF(at.x() - reach, at.y() - reach, 2 * reach, 2 * reach))
    elif mark == "triangle":
        up = QPointF(0, -1.2 * reach)
        painter.drawPolygon([at + up, at + QPointF(reach, 0.8 * reach), at + QPointF(-reach, 0.8 * reach)])
    else:
        painter.drawEllipse(at, reach, reach)


def _label_lines(painter: QPainter, picture: ShapesPicture, column: str, camera: Camera, room: Room) -> None:
    """Write values along lines, upright, with a gap of ground around them; never two over one another."""
    values = picture.value.columns[column]
    face = font(11, QFont.Weight.DemiBold)
    painter.setFont(face)
    outlines = picture.detail.at(1.0 / camera.scale)
    for k in np.argsort(-picture.detail.lengths, kind="stable")[:_MOST_LABELS]:
        xy = outlines.line(int(k))
        px = (xy[:, 0] - camera.left) * camera.scale
        py = (camera.top - xy[:, 1]) * camera.scale * camera.stretch
        steps = np.hypot(np.diff(px), np.diff(py))
        if steps.sum() < _LEAST_LINE:
            continue
        text = cell_label(values[k])
        width = QFontMetricsF(face).horizontalAdvance(text)
        along = np.concatenate([[0.0], np.cumsum(steps)])
        for share in (0.5, 0.3, 0.7, 0.15, 0.85):
            middle = share * along[-1]
            ends = np.interp([middle - width / 2, middle + width / 2, middle], along, np.arange(len(px)))
            (xa, xb, x), (ya, yb, y) = (
                np.interp(ends, np.arange(len(px)), px),
                np.interp(ends, np.arange(len(py)), py),
            )
            box = QRectF(x - width / 2 - 4, y - width / 2 - 4, width + 8, width + 8)
            straight = np.hypot(xb - xa, yb - ya) > 0.9 * width
            if straight and room.is_free(box):
                _write_turned(painter, QPointF(x, y), np.degrees(np.arctan2(yb - ya, xb - xa)), text)
                room.take(box)
                break


def _write_turned(painter: QPainter, at: QPointF, angle: float, text: str) -> None:
    upright = angle - 180.0 if angle > 90.0 else angle + 180.0 if angle < -90.0 else angle
    painter.save()
    painter.translate(at)
    painter.rotate(upright)
    painter.translate(0, 4)
    write_haloed(painter, text, 11)
    painter.restore()


def write_haloed(painter: QPainter, text: str, size: int) -> None:
    """Write a text, its middle at the painter's origin, with a light rim that parts it from the ground."""
    path, rim = _lettering(text, size)
    painter.fillPath(rim, QColor(255, 255, 255, 210))
    if not in_letters(painter):
        painter.fillPath(path, QColor(INK))
        return
    face = letters(painter, size, QFont.Weight.DemiBold)
    painter.setFont(face)
    painter.setPen(QColor(INK))
    painter.drawText(QPointF(-QFontMetricsF(face).horizontalAdvance(text) / 2, 0), text)


@lru_cache(maxsize=512)
def _lettering(text: str, size: int) -> tuple[QPainterPath, QPainterPath]:
    face = font(size, QFont.Weight.DemiBold)
    path, stroker = QPainterPath(), QPainterPathStroker()
    path.addText(QPointF(-QFontMetricsF(face).horizontalAdvance(text) / 2, 0), face, text)
    stroker.setWidth(3.4)
    return path, stroker.createStroke(path)


def cell_label(value: object) -> str:
    """Write a value as a label on the plan."""
    return f"{value:.5g}" if isinstance(value, float | np.floating) else str(value)


def _label_areas(painter: QPainter, picture: ShapesPicture, column: str, camera: Camera, room: Room) -> None:
    """Write values in areas, largest first, where the area is large enough and nothing is written yet."""
    values = picture.value.columns[column]
    bounds = shapely.bounds(picture.value.geometry)
    sizes = (bounds[:, 2] - bounds[:, 0]) * (bounds[:, 3] - bounds[:, 1])
    face = font(11, QFont.Weight.DemiBold)
    written = 0
    for k in np.argsort(-sizes):
        text = cell_label(values[k])
        width = QFontMetricsF(face).horizontalAdvance(text)
        if written >= _MOST_LABELS or (bounds[k, 2] - bounds[k, 0]) * camera.scale < width:
            continue
        at = QPointF(*camera.pixel(*picture.points[k].tolist()))
        box = QRectF(at.x() - width / 2 - 3, at.y() - 9, width + 6, 18)
        if room.is_free(box):
            _write_turned(painter, at, 0.0, text)
            room.take(box)
            written += 1


def draw_name(painter: QPainter, mark: QPointF, name: str, gap: float, room: Room) -> None:
    """Write a name beside a mark: at its right or left, above, below, or aslant; nowhere without room."""
    face = letters(painter, 12, QFont.Weight.DemiBold)
    width, high = QFontMetricsF(face).horizontalAdvance(name) + 14, _NAME_HIGH
    right, left, middle = mark.x() + gap, mark.x() - gap - width, mark.x() - width / 2
    level, above, below = mark.y() - high / 2, mark.y() - gap - high, mark.y() + gap
    places = [(right, level), (left, level), (middle, above), (middle, below)]
    places += [(right, above), (right, below), (left, above), (left, below)]
    box = next((b for b in (QRectF(x, y, width, high) for x, y in places) if room.is_free(b)), None)
    if box is None:
        return
    room.take(box)
    painter.save()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(255, 255, 255, 225))
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(QColor(INK))
    painter.setFont(face)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
    painter.restore()

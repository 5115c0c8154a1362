"""Measuring on the plan: from click to click, with length, bearing, rise, slope and area as it is drawn."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen, QPolygonF

from moss_step.desk.plan.tools.tool import Place, Tool
from moss_step.desk.theme import font
from moss_step.model.units import METRE
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD, DEEP, LICHEN, MOSS, PAPER
from moss_step.scene.measuring import Measures, measured_along
from moss_step.steps.catalogue import keeper

_LINE, _PAD, _WIDTH = 17, 8, 236
_CLOSES = 12


class MeasureTool(Tool):
    """A click sets a vertex, Backspace takes it back, Return begins anew; K keeps it as a line, or as an area
    where its end lies on its start.
    """

    title = "Measure"
    picture = "ruler"
    tip = "distance, bearing, rise, slope and area from click to click"
    once = False

    def __init__(self) -> None:
        super().__init__()
        self.vertices: tuple[Place, ...] = ()
        self._at: QPointF | None = None

    # --- pointer and keys

    def press(self, at: QPointF) -> None:
        """A click, or a pull of the ground."""
        self.grip(at)

    def move(self, at: QPointF, held: bool) -> None:
        """The end of the way follows; a pull moves the ground."""
        if held:
            self.pull_ground(at)
        self._at = at
        self.plan.draw_again()

    def release(self, at: QPointF, left: bool) -> None:
        """Set a vertex."""
        if left and not self.dragged:
            self.vertices = (*self.vertices, self.place(at))
            self.plan.draw_again()
        self.gripped = None

    def back(self) -> bool:
        """Begin anew; with nothing measured the tool is laid down."""
        had, self.vertices = bool(self.vertices), ()
        self.plan.draw_again()
        return had

    def key(self, event: QKeyEvent) -> bool:
        """Backspace takes a vertex back, Return begins anew, Insert sets one at the pointer."""
        key = Qt.Key(event.key())
        if key == Qt.Key.Key_Backspace:
            self.vertices = self.vertices[:-1]
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.vertices = ()
        elif key == Qt.Key.Key_K and len(self.vertices) > 1:
            self._keep("areas" if len(self.vertices) > 2 and self._closes() else "lines")
        elif key == Qt.Key.Key_Insert:
            middle = QPointF(self.plan.camera.width / 2, self.plan.camera.height / 2)
            self.vertices = (*self.vertices, self.place(self._at or middle))
        else:
            return False
        self.plan.draw_again()
        return True

    def _closes(self) -> bool:
        """Whether the last vertex lies on the first: what is measured is an area then."""
        (x0, y0), (x1, y1) = (self.plan.camera.pixel(*self.vertices[k]) for k in (0, -1))
        return abs(x0 - x1) + abs(y0 - y1) < _CLOSES

    def _keep(self, kind: str) -> None:
        """Keep what is measured as shapes of the study, and begin anew."""
        vertices = self.vertices[:-1] if kind == "areas" else self.vertices
        frame = self.plan.work.frame
        places = [list(v if frame is None else frame.rounded(*v)) for v in vertices]
        keeps = keeper("shapes")
        settings: dict[str, object] = {
            "kind": kind,
            keeps.setting_by("drawn"): [{"name": "Measured", "vertices": places}],
        }
        self.vertices = ()
        self.plan.work.add_step(keeps.kind, {}, settings, choose=False)

    def leave(self) -> None:
        """Nothing of it stays."""
        self.vertices, self._at, self.gripped = (), None, None

    # --- what is measured

    def way(self) -> tuple[Place, ...]:
        """The vertices with the place under the pointer."""
        return self.vertices if self._at is None else (*self.vertices, self.place(self._at))

    def measures(self) -> Measures | None:
        """What is measured now; None without two different vertices."""
        frame, way, ground = self.plan.work.frame, self.way(), self.plan.work.now.scene.ground
        if frame is None or len(set(way)) < 2:
            return None
        return measured_along(frame, way, None if ground is None else ground.value)

    def lines(self) -> list[tuple[str, str]]:
        """What is measured, in words."""
        found = self.measures()
        if found is None:
            return [("Measure", "click from place to place")]
        telling = self.plan.work.study.telling
        rows = [("Length", telling.length_text(found.length)), ("Bearing", f"{found.bearing:.1f}°")]
        if not math.isnan(found.along):
            rows.insert(1, ("Over the ground", telling.length_text(found.along)))
            sign = "+" if found.rise >= 0 else ""
            rows.append(("Rise", f"{sign}{telling.value(found.rise, METRE)}"))
            rows.append(("Slope, straight", f"{found.slope:.1f}°"))
        if not math.isnan(found.area):
            rows.append(("Area", telling.area_text(found.area)))
        if len(self.vertices) > 1:
            rows.append(("K keeps it", "Return begins anew"))
        return rows

    def paint(self, painter: QPainter, camera: Camera) -> None:
        """Draw the way and its vertices."""
        painter.save()
        points = [QPointF(*camera.pixel(*v)) for v in self.way()]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for color, width in ((CARD, 4.5), (MOSS, 2.2)):
            painter.setPen(QPen(QColor(color), width))
            painter.drawPolyline(QPolygonF(points))
        painter.setPen(QPen(QColor(DEEP), 1.6))
        painter.setBrush(QColor(LICHEN))
        for at in points[: len(self.vertices)]:
            painter.drawEllipse(at, 4, 4)
        painter.restore()

    def paint_words(self, painter: QPainter, camera: Camera) -> None:
        """Write what is measured beside the end of the way."""
        way = self.way()
        if not way:
            return
        at, rows = QPointF(*camera.pixel(*way[-1])), self.lines()
        height = len(rows) * _LINE + 2 * _PAD
        left = at.x() + 14 if at.x() + 14 + _WIDTH < camera.width else at.x() - 14 - _WIDTH
        card = QRectF(left, min(max(at.y() - height / 2, 4), camera.height - height - 4), _WIDTH, height)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(DEEP))
        painter.drawRoundedRect(card, 5, 5)
        painter.setFont(font(12))
        painter.setPen(QColor(PAPER))
        for k, (name, text) in enumerate(rows):
            line = QRectF(card.x() + _PAD, card.y() + _PAD + k * _LINE, _WIDTH - 2 * _PAD, _LINE)
            painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
            painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)

"""Drawing and editing shapes by their vertices: click to add one, pull one to move it, pull the middle of an
edge to bend it.

Double click or Return ends a shape; Backspace takes back the last vertex of one that is drawn, Delete the
vertex that is chosen. Page down chooses the next vertex, arrows move it by a pixel (with Shift by ten),
Insert sets one at the pointer. What is near snaps; Alt lets it be.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QGuiApplication, QKeyEvent, QPainter, QPen, QPolygonF

from moss_step.desk.plan.tools.tool import Place, Plan, Tool
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD, DEEP, LICHEN, MOSS, OCHRE
from moss_step.scene.sketch import Sketch, Spot, nearest
from moss_step.steps.drawn import LEAST

_REACH, _SNAP = 9.0, 8.0
"""Pixels within which a vertex is taken, and within which it snaps."""
_MOST_DRAWN = 4_000
_STEPS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}


class VertexTool(Tool):
    """Its result is the sketch after each change that is whole; ``drawing`` tells of the vertices of the
    shape that is not whole yet.
    """

    drawing = Signal(object)
    pulling = Signal(object)
    """The sketch while a vertex of it is pulled."""
    chosen = Signal(object)
    """The vertex that is chosen, or None."""
    once = False

    def __init__(
        self,
        sketch: Sketch,
        snaps: Callable[[], np.ndarray],
        rounded: Callable[..., tuple[float, ...]],
        adding: bool,
        parent: QObject | None = None,
    ) -> None:
        """``snaps`` gives places (n, 2) of other shapes that vertices snap to, ``rounded`` coordinates
        without digits that mean nothing.

        ``adding`` says whether a click begins a shape.
        """
        super().__init__(parent)
        self.sketch, self.adding, self._rounded = sketch, adding, rounded
        self.begun: tuple[Place, ...] = ()
        self.spot: Spot | None = None
        self._snaps = snaps
        self._others = np.empty((0, 2))
        self._at: QPointF | None = None
        self._held: Spot | None = None
        self._snapped: Place | None = None

    # --- what is drawn

    def show(self, sketch: Sketch) -> None:
        """Show shapes as they are now, such as after an undo."""
        if sketch != self.sketch:
            self.sketch = sketch
            self.choose(self.spot if sketch.has(self.spot) else None)
            self.plan.draw_again()

    def choose(self, spot: Spot | None) -> None:
        """Choose a vertex."""
        if spot != self.spot:
            self.spot = spot
            self.chosen.emit(spot)
            self.plan.draw_again()

    def finish(self) -> bool:
        """End the shape that is drawn, when it has vertices enough; tells whether it had."""
        kept = self.begun
        if len(kept) > 1 and kept[-1] == kept[-2]:
            kept = kept[:-1]  # two clicks at one place end a shape
        if len(kept) < LEAST[self.sketch.kind]:
            return False
        self._begin(())
        self._change(self.sketch.adding(kept))
        return True

    def _begin(self, vertices: tuple[Place, ...]) -> None:
        self.begun = vertices
        self.drawing.emit(vertices)
        self.plan.draw_again()

    def _change(self, sketch: Sketch) -> None:
        self.sketch = sketch
        self.plan.draw_again()
        self.give(sketch)

    # --- pointer

    def begin(self, plan: Plan) -> None:
        """Look for what to snap to."""
        super().begin(plan)
        self._others = self._snaps()

    def back(self) -> bool:
        """Forget the shape that is not whole yet."""
        if not self.begun:
            return False
        self._begin(())
        return True

    def leave(self) -> None:
        """A shape that has vertices enough is kept; one that has too few goes."""
        self.finish()
        self.begun, self._held, self.gripped = (), None, None
        self.choose(None)

    def press(self, at: QPointF) -> None:
        """Take a vertex, or the middle of an edge."""
        self.grip(at)
        self._held = None if self.begun else self._near(at)

    def move(self, at: QPointF, held: bool) -> None:
        """Pull what is held; pull the ground beside it; show where a vertex would come."""
        self._at = at
        if not held or self.gripped is None:
            self._snapped = self.snapped(at) if self.adding else None
            self.plan.draw_again()
            return
        if not self.drags(at):
            return
        if self._held is not None:
            self.sketch = self.sketch.moving(self._held, self.snapped(at, self._held))
            if self._held.between:
                self._held = Spot(self._held.shape, self._held.vertex + 1)
            self.choose(self._held)
            self.plan.draw_again()
            self.pulling.emit(self.sketch)
        else:
            self.pull_ground(at)

    def release(self, at: QPointF, left: bool) -> None:
        """Let go: a vertex that was pulled stays, a click chooses one or adds one."""
        held, self._held, moved = self._held, None, self.dragged
        self.gripped = None
        if held is not None and moved:
            self._change(self.sketch)
        elif held is not None and not held.between:
            self.choose(held)
        elif not moved and left:
            self._click(self.snapped(at))

    def _click(self, place: Place) -> None:
        if not self.adding:
            self.choose(None)
        elif self.sketch.kind == "points":
            self._change(self.sketch.adding((place,)))
        elif self.sketch.kind == "areas" and len(self.begun) >= LEAST["areas"] and place == self.begun[0]:
            self.finish()
        else:
            self._begin((*self.begun, place))

    def double(self, at: QPointF) -> None:
        """End the shape."""
        self.finish()

    def snapped(self, at: QPointF, leaving: Spot | None = None) -> Place:
        """The place of a vertex at a pixel: that of another vertex near it, unless Alt is held."""
        x, y = self._rounded(*self.place(at))
        place = (x, y)
        if QGuiApplication.keyboardModifiers() & Qt.KeyboardModifier.AltModifier:
            return place
        own = [self.sketch.place(s) for s in self.sketch.spots() if not s.between and s != leaving]
        near = np.array([*own, *self.begun[:1], *self.begun[1:-1]]).reshape(-1, 2)
        everything = np.concatenate([near, self._others])
        pixels = self.plan.camera.pixels(everything) if len(everything) else everything
        result = nearest(pixels, (at.x(), at.y()), _SNAP)
        return place if result is None else (float(everything[result, 0]), float(everything[result, 1]))

    def _near(self, at: QPointF) -> Spot | None:
        spots = self.sketch.spots()
        if not spots:
            return None
        pixels = self.plan.camera.pixels(np.array([self.sketch.place(s) for s in spots]))
        result = nearest(pixels, (at.x(), at.y()), _REACH)
        return None if result is None else spots[result]

    # --- keys

    def key(self, event: QKeyEvent) -> bool:
        """Choose, move, add and take away vertices; end a shape."""
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.begun:
            self.finish()
        elif key == Qt.Key.Key_Backspace and self.begun:
            self._begin(self.begun[:-1])
        elif key == Qt.Key.Key_Insert and self.adding:
            self._click(
                self.snapped(self._at or QPointF(self.plan.camera.width / 2, self.plan.camera.height / 2))
            )
        elif key in (Qt.Key.Key_PageDown, Qt.Key.Key_PageUp) and self.sketch.shapes:
            self.choose(self.sketch.next_spot(self.spot, 1 if key == Qt.Key.Key_PageDown else -1))
        elif self.spot is not None and key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            spot, self.spot = self.spot, None
            self.chosen.emit(None)
            self._change(self.sketch.removing(spot))
        elif self.spot is not None and key in _STEPS:
            self._nudge(self.spot, key, 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
        else:
            return False
        return True

    def _nudge(self, spot: Spot, key: Qt.Key, pixels: int) -> None:
        dx, dy = _STEPS[key]
        x, y = self.plan.camera.pixel(*self.sketch.place(spot))
        u, v = self._rounded(*self.place(QPointF(x + dx * pixels, y + dy * pixels)))
        self._change(self.sketch.moving(spot, (u, v)))

    # --- painting

    def paint(self, painter: QPainter, camera: Camera) -> None:
        """Draw outlines, vertices, middles of edges, and the shape that is being drawn."""
        painter.save()
        for shape in self.sketch.shapes[:_MOST_DRAWN]:
            self._paint_outline(painter, camera.pixels(np.array(shape.vertices)), self.sketch.kind == "areas")
        spots = self.sketch.spots()[:_MOST_DRAWN]
        pixels = camera.pixels(np.array([self.sketch.place(s) for s in spots]).reshape(-1, 2))
        for spot, (x, y) in zip(spots, pixels, strict=True):
            _paint_spot(painter, QPointF(x, y), spot.between, spot == self.spot)
        if self.begun:
            at = [] if self._at is None else [(self._at.x(), self._at.y())]
            line = [*map(tuple, camera.pixels(np.array(self.begun))), *at]
            self._paint_outline(
                painter, np.array(line), self.sketch.kind == "areas" and len(line) > LEAST["lines"]
            )
            for x, y in camera.pixels(np.array(self.begun)):
                _paint_spot(painter, QPointF(x, y), False, False)
        if self._snapped is not None and self.adding and self._at is not None:
            x, y = camera.pixel(*self._snapped)
            if abs(x - self._at.x()) + abs(y - self._at.y()) > 0.5:
                painter.setPen(QPen(QColor(OCHRE), 2.0))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawEllipse(QPointF(x, y), _SNAP, _SNAP)
        painter.restore()

    def _paint_outline(self, painter: QPainter, pixels: np.ndarray, closed: bool) -> None:
        if len(pixels) < LEAST["lines"]:
            return
        line = QPolygonF([QPointF(x, y) for x, y in pixels])
        for color, width in ((CARD, 4.5), (MOSS, 2.2)):
            painter.setPen(QPen(QColor(color), width))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if closed:
                painter.drawPolygon(line)
            else:
                painter.drawPolyline(line)


def _paint_spot(painter: QPainter, at: QPointF, between: bool, chosen: bool) -> None:
    """A vertex is a square, the middle of an edge a small ring."""
    painter.setPen(QPen(QColor(DEEP), 1.6))
    if between:
        painter.setBrush(QColor(CARD))
        painter.drawEllipse(at, 2.6, 2.6)
        return
    half = 6.0 if chosen else 4.5
    painter.setBrush(QColor(LICHEN if chosen else CARD))
    painter.drawRect(QRectF(at.x() - half, at.y() - half, 2 * half, 2 * half))

"""The tool at rest: a pull moves the ground or a handle, a click is told, two clicks pin the reading."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QObject, QPointF, Qt, Signal
from PySide6.QtGui import QPainter

from moss_step.desk.plan.live import draw_handles
from moss_step.desk.plan.tools.tool import Place, Tool
from moss_step.scene.camera import Camera

_REACH = 14
"""Pixels within which a handle is taken."""


class LookTool(Tool):
    """Moves the ground and the handles of a panel; its result is a place that was clicked."""

    handle_moved = Signal(int, float, float, bool)
    """A handle is dragged to a place; True when it was let go."""
    pinned = Signal(QPointF)
    cursor = Qt.CursorShape.ArrowCursor
    once = False

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.handles: tuple[Place, ...] = ()
        self._handle: int | None = None

    def show_handles(self, places: Sequence[Place]) -> None:
        """Show places that can be dragged."""
        if tuple(places) != self.handles:
            self.handles = tuple(places)
            self.plan.draw_again()

    def press(self, at: QPointF) -> None:
        """Take what lies under the pointer."""
        self.grip(at)
        self._handle = self._handle_near(at)

    def move(self, at: QPointF, held: bool) -> None:
        """Move the handle that is held, or the ground."""
        if not held:
            return
        if self._handle is None:
            self.pull_ground(at)
        else:
            self.dragged = True
            self._drag(self._handle, at, False)

    def release(self, at: QPointF, left: bool) -> None:
        """Let go; a press that moved nothing is a click."""
        if self._handle is not None:
            if self.dragged:
                self._drag(self._handle, at, True)
        elif self.gripped is not None and not self.dragged and left:
            self.give(self.place(at))
        self._handle = self.gripped = None

    def double(self, at: QPointF) -> None:
        """Pin the reading."""
        self.pinned.emit(at)

    def paint(self, painter: QPainter, camera: Camera) -> None:
        """Draw the handles."""
        draw_handles(painter, self.handles, camera)

    def _handle_near(self, at: QPointF) -> int | None:
        for i, place in enumerate(self.handles):
            px, py = self.plan.camera.pixel(*place)
            if abs(px - at.x()) + abs(py - at.y()) < _REACH:
                return i
        return None

    def _drag(self, held: int, at: QPointF, ended: bool) -> None:
        x, y = self.place(at)
        self.handles = tuple((x, y) if i == held else p for i, p in enumerate(self.handles))
        self.handle_moved.emit(held, x, y, ended)
        self.plan.draw_again()

"""A box pulled from corner to corner."""

from __future__ import annotations

from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter

from moss_step.desk.plan.drawing import draw_frame_box
from moss_step.desk.plan.tools.tool import Tool
from moss_step.scene.camera import Camera

_LEAST = 2
"""Pixels that a box is wide and high at least."""


class BoxTool(Tool):
    """Its result is a box: xmin, ymin, xmax, ymax."""

    def __init__(self) -> None:
        super().__init__()
        self._corners: tuple[QPointF, QPointF] | None = None

    def press(self, at: QPointF) -> None:
        """The first corner."""
        self._corners = (at, at)

    def move(self, at: QPointF, held: bool) -> None:
        """The second corner follows."""
        if self._corners is not None and held:
            self._corners = (self._corners[0], at)
            self.plan.draw_again()

    def release(self, at: QPointF, left: bool) -> None:
        """Give the box, unless it is too small to be meant."""
        if self._corners is None:
            return
        start, self._corners = self._corners[0], None
        self.plan.draw_again()
        if abs(at.x() - start.x()) > _LEAST and abs(at.y() - start.y()) > _LEAST:
            (xa, ya), (xb, yb) = self.place(start), self.place(at)
            self.give((min(xa, xb), min(ya, yb), max(xa, xb), max(ya, yb)))

    def leave(self) -> None:
        """Forget a box that is half drawn."""
        self._corners = None

    def paint(self, painter: QPainter, camera: Camera) -> None:
        """Draw the box."""
        if self._corners is not None:
            draw_frame_box(painter, *self._corners)

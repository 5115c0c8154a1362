"""A straight line pulled from end to end."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Signal
from PySide6.QtGui import QPainter

from moss_step.desk.plan.drawing import draw_section_line
from moss_step.desk.plan.tools.tool import Place, Tool
from moss_step.scene.camera import Camera

Line = tuple[float, float, float, float]


class LineTool(Tool):
    """Its result is a line: x1, y1, x2, y2; ``pulled`` gives it while it is drawn. The last one stays to be
    seen while the tool is in use.
    """

    pulled = Signal(object)

    def __init__(self, once: bool = True) -> None:
        super().__init__()
        self.once = once
        self.line: Line | None = None
        self._start: Place | None = None

    def press(self, at: QPointF) -> None:
        """One end."""
        self._start = self.place(at)

    def move(self, at: QPointF, held: bool) -> None:
        """The other end follows."""
        if self._start is not None and held:
            self.pull((*self._start, *self.place(at)))

    def pull(self, line: Line) -> None:
        """Show a line, and tell it."""
        self.line = line
        self.pulled.emit(line)
        self.plan.draw_again()

    def release(self, at: QPointF, left: bool) -> None:
        """Give the line."""
        if self._start is not None:
            self._start = None
            if self.line is not None:
                self.give(self.line)

    def leave(self) -> None:
        """Nothing of it stays."""
        self.line = self._start = None

    def paint(self, painter: QPainter, camera: Camera) -> None:
        """Draw the line."""
        if self.line is not None:
            ends = [QPointF(*camera.pixel(*self.line[:2])), QPointF(*camera.pixel(*self.line[2:]))]
            draw_section_line(painter, *ends)

"""A tool of the plan: what a press, a move, a release and a key mean while it is in use, and what it draws
over the ground.
"""

from __future__ import annotations

from typing import ClassVar, Protocol

from PySide6.QtCore import QObject, QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter

from moss_step.desk.work import Work
from moss_step.scene.camera import Camera

Place = tuple[float, float]
"""East and north in the plan's system."""


_STILL = 3
"""Pixels that a click may move."""


class Plan(Protocol):
    """What a tool may ask of the plan, and do with it."""

    work: Work
    camera: Camera

    def show_camera(self, camera: Camera) -> None:
        """Show another part of the ground."""

    def draw_again(self) -> None:
        """Draw what lies over the ground anew."""

    def use(self, tool: Tool | None = None) -> None:
        """Take another tool; none is the one at rest."""


class Tool(QObject):
    """Base of the tools: it does nothing by itself."""

    result = Signal(object)
    """What was drawn; what it is depends on the tool."""
    title: ClassVar[str] = ""
    """Name of its button beside the views; empty for a tool that a panel or a drawer makes."""
    picture: ClassVar[str] = ""
    tip: ClassVar[str] = ""
    cursor = Qt.CursorShape.CrossCursor
    once = True
    """Whether it is laid down as soon as it gave a result."""

    gripped: QPointF | None = None
    """Where the button went down, or the ground was pulled to since."""
    dragged = False

    def begin(self, plan: Plan) -> None:
        """It is taken into use."""
        self.plan = plan

    def leave(self) -> None:
        """It is laid down; what is half drawn is forgotten."""

    def press(self, at: QPointF) -> None:
        """A button went down at a pixel."""

    def move(self, at: QPointF, held: bool) -> None:
        """The pointer moved, with a button down or not."""

    def release(self, at: QPointF, left: bool) -> None:
        """The button that went down was let go; whether it was the left one."""

    def double(self, at: QPointF) -> None:
        """Two presses, one soon after the other."""

    def key(self, event: QKeyEvent) -> bool:
        """A key went down; whether the tool took it."""
        return False

    def back(self) -> bool:
        """Go back by one, as Escape says; False when there is nothing to go back from: the tool is laid down
        then.
        """
        return False

    def paint(self, painter: QPainter, camera: Camera) -> None:
        """Draw over the ground."""

    def paint_words(self, painter: QPainter, camera: Camera) -> None:
        """Write over all names."""

    # --- for tools that move the ground when they are pulled beside what they hold

    def grip(self, at: QPointF) -> None:
        """A press that may become a pull of the ground, or a click."""
        self.gripped, self.dragged = at, False

    def drags(self, at: QPointF) -> bool:
        """Whether the pointer has moved more than a click may since the press."""
        self.dragged = self.dragged or (
            self.gripped is not None and (at - self.gripped).manhattanLength() > _STILL
        )
        return self.dragged

    def pull_ground(self, at: QPointF) -> None:
        """Let the ground follow the pointer."""
        if self.gripped is not None and self.drags(at):
            step, self.gripped = at - self.gripped, at
            self.plan.show_camera(self.plan.camera.moved(step.x(), step.y()))

    def give(self, result: object) -> None:
        """Hand the result on."""
        if self.once:
            self.plan.use()
        self.result.emit(result)

    def place(self, at: QPointF) -> Place:
        """The place under a pixel."""
        return self.plan.camera.world(at.x(), at.y())

"""The divider of a comparison: what lies left of it is one result, what lies right of it another."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QKeyEvent, QPainter, QPen

from moss_step.desk.names import fitted
from moss_step.desk.plan.tools.tool import Tool
from moss_step.desk.theme import font
from moss_step.scene.colors import CARD, DEEP, INK

_REACH, _EDGE, _GRIP = 9, 24, 13
_STEP = 0.02
_TAG_HEIGHT, _TAG_GAP = 24, 20


class Divider(Tool):
    """Is dragged across the plan, and moved by the keys [ and ]."""

    cursor = Qt.CursorShape.SplitHCursor
    once = False

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.on = False
        self.share = 0.5
        """Where it stands, as a share of the plan's width."""

    @property
    def pixel(self) -> float:
        """Where it stands, in pixels."""
        return round(self.plan.camera.width * self.share)

    def near(self, at: QPointF) -> bool:
        """Whether the pointer can take it."""
        return self.on and abs(at.x() - self.pixel) <= _REACH

    def move_to(self, x: float) -> None:
        """Stand at a pixel, within the plan."""
        width = max(self.plan.camera.width, 1)
        self.share = min(max(x, _EDGE), max(width - _EDGE, _EDGE)) / width
        self.plan.draw_again()

    def move(self, at: QPointF, held: bool) -> None:
        """Follow the pointer."""
        if held:
            self.move_to(at.x())

    def key(self, event: QKeyEvent) -> bool:
        """The keys [ and ] move it."""
        way = {Qt.Key.Key_BracketLeft: -_STEP, Qt.Key.Key_BracketRight: _STEP}.get(Qt.Key(event.key()))
        if way is None:
            return False
        self.move_to(self.pixel + way * self.plan.camera.width)
        return True

    def draw(self, painter: QPainter, left: str, right: str) -> None:
        """Draw the line with its grip, and what is on either side."""
        x, height = self.pixel, self.plan.camera.height
        painter.setPen(QPen(QColor(CARD), 4.0))
        painter.drawLine(QPointF(x, 0), QPointF(x, height))
        painter.setPen(QPen(QColor(DEEP), 1.6))
        painter.drawLine(QPointF(x, 0), QPointF(x, height))
        middle = QPointF(x, height / 2)
        painter.setBrush(QColor(CARD))
        painter.drawEllipse(middle, _GRIP, _GRIP)
        for way in (-1, 1):
            tip = middle + QPointF(8 * way, 0)
            painter.drawLine(middle + QPointF(3 * way, -4), tip)
            painter.drawLine(middle + QPointF(3 * way, 4), tip)
        painter.setFont(font(12, QFont.Weight.DemiBold))
        metrics = QFontMetricsF(painter.font())
        room = {True: x - 2 * _TAG_GAP, False: self.plan.camera.width - x - 2 * _TAG_GAP}
        for on_left, text in ((True, left), (False, right)):
            shown = fitted(text, metrics, max(room[on_left] - 16, 0))
            width = metrics.horizontalAdvance(shown) + 16
            start = x - _TAG_GAP - width if on_left else x + _TAG_GAP
            if width < 40:
                continue
            tag = QRectF(start, middle.y() - _TAG_HEIGHT / 2, width, _TAG_HEIGHT)
            painter.setPen(QPen(QColor(DEEP), 1.0))
            painter.setBrush(QColor(CARD))
            painter.drawRoundedRect(tag, 5, 5)
            painter.setPen(QColor(INK))
            painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, shown)

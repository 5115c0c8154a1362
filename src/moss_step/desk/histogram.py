"""A histogram with class ranges: bars in the classes' colours, and bounds that are dragged; counts on a
logarithmic axis, and handed on.
"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QAction,
    QColor,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QMenu, QToolTip

from moss_step.desk.chart import DrawnChart, Handed
from moss_step.desk.plain import set_tip, speak
from moss_step.desk.theme import font
from moss_step.desk.tones import shade
from moss_step.desk.work import Work
from moss_step.model.rules import RuleSet, number_text
from moss_step.scene.colors import BLANK, CARD, DIM, INK, LICHEN, MUTED
from moss_step.science.classes.histogram import Histogram

_HANDLE, _TOP, _FOOT = 5.0, 14.0, 20.0


class HistogramView(DrawnChart):
    """Shows how often each value occurs; tells when a bound is dragged or a new one is asked for."""

    moved = Signal(float, float)
    """A bound's old value and its new one."""
    released = Signal()
    added = Signal(float)
    """A bound is wanted at a value (double click)."""
    pointed = Signal(object)
    """The value under the pointer, or None."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.offer(work, "histogram", self._held_columns)
        self.is_log = False
        self._bins: Histogram | None = None
        self._rules: RuleSet | None = None
        self._unit = ""
        self._held: float | None = None
        self._focused = 0
        self.setFixedHeight(84)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Histogram with class bounds")
        set_tip(
            self,
            "Drag a bound; double-click adds one. Keys: Tab to it, up and down choose a bound, left and "
            "right move it. Right-click: logarithmic counts, hand on",
        )

    def show_values(self, bins: Histogram | None, rules: RuleSet | None, unit: str) -> None:
        """Show counts and ranges."""
        self._bins, self._rules, self._unit = bins, rules, unit
        self.update()

    @property
    def bounds(self) -> list[float]:
        """Bounds that can be dragged: those within the values' range."""
        if self._rules is None or self._bins is None:
            return []
        result = sorted(
            {b for r in self._rules.rules for b in (r.low, r.high) if b is not None and not r.is_point}
        )
        return [b for b in result if self._bins.low <= b <= self._bins.high]

    @property
    def is_held(self) -> bool:
        """Whether a bound is being dragged."""
        return self._held is not None

    @property
    def _span(self) -> tuple[float, float]:
        """Lowest and highest value that are shown; 0 and 1 while none are."""
        return (0.0, 1.0) if self._bins is None else (self._bins.low, self._bins.high)

    def x_of(self, value: float) -> float:
        """Pixel of a value."""
        low, high = self._span
        return 6 + (value - low) / (high - low) * (self.width() - 12)

    def value_at(self, x: float) -> float:
        """Value at a pixel, rounded to what a pixel can tell."""
        low, high = self._span
        value = low + (x - 6) / (self.width() - 12) * (high - low)
        digits = int(np.ceil(-np.log10((high - low) / max(self.width(), 1)))) if high > low else 0
        return round(min(max(value, low), high), max(digits, 0))

    def value(self) -> str:
        """Range, bounds and the chosen bound in words."""
        if self._bins is None:
            return "No values yet."
        low, high, *bounds = (
            number_text(round(b, 3)) + self._unit for b in (self._bins.low, self._bins.high, *self.bounds)
        )
        chosen = f"; chosen: {bounds[min(self._focused, len(bounds) - 1)]}" if bounds else ""
        return f"Values from {low} to {high}; bounds: {', '.join(bounds) or 'none'}{chosen}."

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw bars, bounds and their values."""
        speak(self, self.value())
        with QPainter(self) as painter:
            if self._bins is None:
                painter.setPen(shade(MUTED))
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "No values yet")
                return
            self._paint_bars(painter, self._bins)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setFont(font(11))
            last = -1e9
            for i, bound in enumerate(self.bounds):
                x = self.x_of(bound)
                held = bound == self._held or (self.hasFocus() and i == self._focused)
                painter.setPen(QPen(shade(INK), 1.3))
                painter.drawLine(QPointF(x, _TOP), QPointF(x, self.height() - _FOOT))
                painter.setBrush(shade(LICHEN if held else CARD))
                painter.drawEllipse(QPointF(x, _TOP - 5), _HANDLE, _HANDLE)
                text = number_text(round(bound, 3)) + self._unit
                width = painter.fontMetrics().horizontalAdvance(text)
                left = min(max(x - width / 2, 0), self.width() - width)
                if left > last + 4 or held:
                    painter.setPen(shade(MUTED))
                    painter.drawText(QPointF(left, self.height() - 5), text)
                    last = left + width

    def _paint_bars(self, painter: QPainter, bins: Histogram) -> None:
        base, room = self.height() - _FOOT, self.height() - _FOOT - _TOP
        middles = (bins.edges[:-1] + bins.edges[1:]) / 2.0
        colors = self._bar_colors(middles)
        width = (self.width() - 12) / len(bins.counts)
        for i, share in enumerate(self._heights(bins)):
            height = max(share * room, 1.0) if share else 0.0
            painter.fillRect(QRectF(6 + i * width, base - height, width + 0.5, height), colors[i])
        painter.setPen(shade(DIM))
        painter.drawLine(QPointF(6, base), QPointF(self.width() - 6, base))

    def _bar_colors(self, middles: np.ndarray) -> list[QColor]:
        blank = shade(BLANK)
        if self._rules is None:
            return [blank] * len(middles)
        result = []
        for value in middles:
            held = [r for r in self._rules.rules if r.holds(float(value), self._rules.closed)]
            result.append(QColor(held[0].color) if held else blank)
        return result

    def _heights(self, bins: Histogram) -> np.ndarray:
        """Height of each bar between 0 and 1."""
        if self.is_log:
            # One cell is still to be seen: it stands for half a decade.
            grown = np.log10(np.maximum(bins.counts, 1)) + 0.5
            return np.where(bins.counts > 0, grown / grown.max(), 0.0)
        # A single huge bin (flat ground) would press all others to nothing.
        tallest = max(float(np.sort(bins.counts)[-3:].min()), float(bins.counts.max()) / 4.0, 1.0)
        return np.minimum(bins.counts / tallest, 1.0)

    # --- handing on

    def menu(self) -> QMenu:
        """What else can be done with it."""
        menu = super().menu()
        log = QAction("Counts on a logarithmic axis", menu)
        log.setCheckable(True)
        log.setChecked(self.is_log)
        log.toggled.connect(self.show_log)
        menu.insertAction(menu.actions()[0], log)
        return menu

    def show_log(self, on: bool) -> None:
        """Draw the counts on a logarithmic axis, or as they are."""
        self.is_log = on
        self.update()

    def _held_columns(self) -> Handed | None:
        """The bins as a table."""
        if self._bins is None:
            return None
        edges = self._bins.edges
        columns = {"from": edges[:-1], "to": edges[1:], "count": self._bins.counts}
        return columns, {"from": self._unit, "to": self._unit}

    # --- dragging

    def _near(self, x: float) -> float | None:
        near = [b for b in self.bounds if abs(self.x_of(b) - x) <= 7]
        return min(near, key=lambda b: abs(self.x_of(b) - x)) if near else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of a bound."""
        if self._bins is not None and event.button() == Qt.MouseButton.LeftButton:
            self._held = self._near(event.position().x())
            if self._held is not None:
                self._focused = self.bounds.index(self._held)
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move the bound that is held; otherwise say the value under the pointer."""
        if self._bins is None:
            return
        x = event.position().x()
        if self._held is None:
            near = self._near(x)
            self.setCursor(Qt.CursorShape.SizeHorCursor if near is not None else Qt.CursorShape.ArrowCursor)
            i = min(
                max(int((x - 6) / max(self.width() - 12, 1) * len(self._bins.counts)), 0),
                len(self._bins.counts) - 1,
            )
            self.pointed.emit(self.value_at(x))
            text = f"{number_text(self.value_at(x))}{self._unit} · {int(self._bins.counts[i]):,} cells"
            QToolTip.showText(event.globalPosition().toPoint(), text, self)
            return
        self._shift(self._held, self._between(self._held, self.value_at(x)))

    def leaveEvent(self, event: QEvent) -> None:
        """Nothing is pointed at any more."""
        self.pointed.emit(None)
        super().leaveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go."""
        if self._held is not None:
            self._held = None
            self.released.emit()
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Ask for a bound here."""
        if self._bins is not None and self._near(event.position().x()) is None:
            self.added.emit(self.value_at(event.position().x()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down choose a bound, left and right move it."""
        bounds, key = self.bounds, event.key()
        if not bounds or self._bins is None:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._focused = (self._focused + (1 if key == Qt.Key.Key_Up else -1)) % len(bounds)
            self.update()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            bound = bounds[min(self._focused, len(bounds) - 1)]
            step = (1 if key == Qt.Key.Key_Right else -1) * (
                10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            )
            self._shift(bound, self._between(bound, self.value_at(self.x_of(bound) + step)))
            self.released.emit()
        else:
            super().keyPressEvent(event)

    def _between(self, bound: float, value: float) -> float:
        """Keep a bound between its neighbours."""
        bounds = self.bounds
        i = bounds.index(bound)
        pixel = abs(self.value_at(7) - self.value_at(6)) or 1e-6
        low = bounds[i - 1] + pixel if i else -np.inf
        high = bounds[i + 1] - pixel if i + 1 < len(bounds) else np.inf
        return float(min(max(value, low), high))

    def _shift(self, old: float, new: float) -> None:
        if new == old:
            return
        if self._held is not None:
            self._held = new
        self.moved.emit(old, new)

"""The trail: a card for each step, joined by lines that show what feeds what."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QPushButton, QScrollArea, QVBoxLayout, QWidget

from moss_step.desk.parts import Later, label, row, tool
from moss_step.desk.theme import LICHEN, TRAIL, TRAIL_HEIGHT
from moss_step.desk.trail.card import HEIGHT, WIDTH, Card
from moss_step.desk.work import Work

GAP = 22
_LINE, _TOP = "#A9A693", 2


class Cards(QWidget):
    """The cards side by side with their lines."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.cards: dict[str, Card] = {}
        self.next = QPushButton("+ Next step", self)
        self.next.setToolTip("Find the next step (Ctrl+K)")
        self.next.setStyleSheet("color: #4C6B34; font-weight: 600; background: transparent;")
        self.setAutoFillBackground(False)

    def place(self) -> None:
        """Put the cards in the order of the study."""
        x = 18
        for step in self.work.study.steps:
            self.cards[step.id].move(x, _TOP)
            self.cards[step.id].show()
            x += WIDTH + GAP
        self.next.setGeometry(x, _TOP, WIDTH, HEIGHT)
        self.next.setVisible(bool(self.work.study.steps))
        self.setFixedSize(x + WIDTH + 18, HEIGHT + 16)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw a line from each step to those that it feeds; lines to distant cards run below."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        steps = self.work.study.steps
        place = {s.id: i for i, s in enumerate(steps)}
        lane = 0
        for i, step in enumerate(steps):
            for source in step.inputs.values():
                marked = self.work.chosen_id in (step.id, source)
                painter.setPen(QPen(QColor(LICHEN if marked else _LINE), 2.2 if marked else 1.4))
                if place[source] == i - 1:
                    y = _TOP + HEIGHT / 2
                    painter.drawLine(QPointF(self._x(i - 1) + WIDTH, y), QPointF(self._x(i), y))
                else:
                    painter.drawPath(self._round(place[source], i, lane % 3))
                    lane += 1

    def _round(self, source: int, target: int, lane: int) -> QPainterPath:
        """A way from the foot of one card, below those between, to the foot of another."""
        y0, y = _TOP + HEIGHT, _TOP + HEIGHT + 4 + 3.5 * lane
        xa, xb = self._x(source) + WIDTH - 18 - 6 * lane, self._x(target) + 18
        path = QPainterPath(QPointF(xa, y0))
        path.lineTo(xa, y)
        path.lineTo(xb, y)
        path.lineTo(xb, y0)
        return path

    def _x(self, i: int) -> float:
        return 18 + i * (WIDTH + GAP)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """A click beside the cards chooses none."""
        self.work.choose("")


class Trail(QWidget):
    """The strip along the bottom of the window."""

    next_wanted = Signal()
    export_wanted = Signal(str)
    record_wanted = Signal(str)

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.setFixedHeight(TRAIL_HEIGHT)
        self.setAccessibleName("Trail")
        self._summary = label("", "muted")
        self._run = tool("play", "Run what waits (F5)", work.run)
        self._cards = Cards(work)
        self._cards.next.clicked.connect(self.next_wanted)
        self._scroll = QScrollArea()
        self._scroll.setWidget(self._cards)
        self._scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 3, 0, 0)
        layout.setSpacing(0)
        head = row(label("Trail", "head"), self._summary, self._run, 1, sides=18)
        head.setFixedHeight(26)
        layout.addWidget(head)
        layout.addWidget(self._scroll)
        later = Later(self.refresh, self, after=30)
        for signal in (work.changed, work.results, work.chosen):
            signal.connect(later.ask)
        work.running.connect(self._on_running)
        work.chosen.connect(self._show_chosen)
        self.refresh()

    @property
    def cards(self) -> dict[str, Card]:
        """The cards by step id."""
        return self._cards.cards

    def refresh(self) -> None:
        """Bring the cards up to date with the study."""
        steps = self.work.study.steps
        wanted = {s.id for s in steps}
        for gone in set(self.cards) - wanted:
            card = self.cards.pop(gone)
            card.hide()
            card.deleteLater()
        for step in steps:
            if step.id not in self.cards:
                card = Card(self.work, step.id, self._cards)
                card.export_wanted.connect(self.export_wanted)
                card.record_wanted.connect(self.record_wanted)
                self.cards[step.id] = card
            self.cards[step.id].refresh()
        self._cards.place()
        self._summary.setText(self.summary())
        self._run.setVisible(any(self.work.state(s.id) in ("waiting", "failed") for s in steps) and not self.work.busy)

    def summary(self) -> str:
        """Number of steps and what is the matter with them."""
        states = [self.work.state(s.id) for s in self.work.study.steps]
        if not states:
            return "no steps yet"
        parts = [f"{len(states)} step{'s' if len(states) != 1 else ''}"]
        for state in ("running", "waiting", "failed"):
            if state in states:
                parts.append(f"{states.count(state)} {state}")
        return " · ".join(parts if len(parts) > 1 else [*parts, "all up to date"])

    def _on_running(self, step_id: str, fraction: float, doing: str, left: float) -> None:
        card = self.cards.get(step_id)
        if card is not None:
            card.fraction = fraction
            card.update()

    def _show_chosen(self) -> None:
        card = self.cards.get(self.work.chosen_id)
        if card is not None:
            self._scroll.ensureWidgetVisible(card, 40, 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the strip's ground."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(TRAIL))
        painter.fillRect(QRectF(0, 0, self.width(), 1), QColor("#DAD7CA"))

"""The trail: a card for each step, joined by lines that show what feeds what."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QEvent, QObject, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QPushButton, QScrollArea, QVBoxLayout, QWidget

from moss_step.desk.parts import Later, label, row, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.theme import TRAIL_HEIGHT
from moss_step.desk.trail.card import HEIGHT, WIDTH, Card
from moss_step.desk.work import Work
from moss_step.scene.colors import LICHEN, LINE, MOSS, THREAD, TRAIL
from moss_step.study.graph import Study

GAP = 22
_LONGEST_TURN = 0.02
_LINE, _TOP = THREAD, 2


class OnDemand(dict[str, Card]):
    """Cards by the ids of their steps, each made when it is asked for first."""

    def __init__(self, make: Callable[[str], Card]) -> None:
        super().__init__()
        self._make = make

    def __missing__(self, step_id: str) -> Card:
        self[step_id] = result = self._make(step_id)
        return result


class Cards(QWidget):
    """The cards side by side with their lines. A card is made when it comes into view: a study may have
    thousands of steps.
    """

    export_wanted = Signal(str)
    record_wanted = Signal(str)
    folded = Signal()
    """A group was folded, or laid out."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.cards = OnDemand(self._new_card)
        self._places: dict[str, int] = {}
        self._listed: list[str] = []
        self._open: set[str] = set()
        self._marked = ""
        self._placed: tuple[Study | None, frozenset[str]] = (None, frozenset())
        self._stale: list[str] = []
        self._again = QTimer(self, singleShot=True, interval=0)
        self._again.timeout.connect(self._refresh_some)
        self._lines = np.empty((0, 3), np.int64)
        self.next = QPushButton("+ Next step", self)
        set_tip(self.next, "Find the next step (Ctrl+K)")
        self.next.setStyleSheet(f"color: {MOSS}; font-weight: 600; background: transparent;")
        self.setAutoFillBackground(False)

    def place(self) -> None:
        """Put the cards in the order of the study; those of steps that are gone go."""
        study, unfolded = self.work.study, frozenset(self._open)
        if self._marked != self.work.chosen_id:
            self._marked = self.work.chosen_id
            self.update()  # its lines are bright
        if self._placed[0] is study and self._placed[1] == unfolded:
            return  # results came, and no card moves
        self._placed = (study, unfolded)
        folded = {i: last for last, ids in study.groups.items() if last not in self._open for i in ids}
        listed = [step for step in study.steps if folded.get(step.id, step.id) == step.id]
        self._listed = [step.id for step in listed]
        self._places = {step_id: i for i, step_id in enumerate(self._listed)}
        shown = {step.id: folded.get(step.id, step.id) for step in study.steps}
        for gone in self.cards.keys() - self._places.keys():
            card = self.cards.pop(gone)
            card.hide()
            card.deleteLater()
        lines, below = list[tuple[int, int, int]](), 0
        for step in study.steps:
            i = self._places[shown[step.id]]
            for source in step.sources:
                fed = self._places[shown[source]]
                if fed != i:  # lines within a folded group are not seen
                    lines.append((fed, i, below % 3))
                    below += fed != i - 1
        self._lines = np.array(lines, np.int64).reshape(-1, 3)
        x = round(self._x(len(listed)))
        self.next.setGeometry(x, _TOP, WIDTH, HEIGHT)
        self.next.setVisible(bool(listed))
        self.setFixedSize(x + WIDTH + 18, HEIGHT + 16)
        for step_id, card in self.cards.items():
            card.move(round(self._x(self._places[step_id])), _TOP)
        self.update()

    def show_between(self, left: int, right: int) -> None:
        """Bring the cards that lie in view up to date, and those beside them, so that the keyboard finds
        them.
        """
        first, last = (int((x - 18) / (WIDTH + GAP)) for x in (left, right))
        self._stale = self._listed[max(first - 2, 0) : last + 3]
        self._refresh_some()

    def _refresh_some(self) -> None:
        """Bring cards up to date for as long as the window can wait, and the others at its next turn: small
        pictures take a while.
        """
        end = time.monotonic() + _LONGEST_TURN
        while self._stale and time.monotonic() < end:
            step_id = self._stale.pop(0)
            if step_id in self._places:
                self.cards[step_id].refresh()
        if self._stale:
            self._again.start()

    def fold(self, group: str) -> None:
        """Fold the steps of a group to one card, or lay them out."""
        self._open ^= {group}
        self.folded.emit()

    def open_for(self, step_id: str) -> None:
        """Lay a group out when a step within it is chosen."""
        for last, ids in self.work.study.groups.items():
            if step_id in ids and step_id != last and last not in self._open:
                self.fold(last)

    def x_of(self, step_id: str) -> int | None:
        """Where a step's card begins; None for a step that is not in the study."""
        return round(self._x(self._places[step_id])) if step_id in self._places else None

    def _new_card(self, step_id: str) -> Card:
        card = Card(self.work, step_id, self)
        card.export_wanted.connect(self.export_wanted)
        card.record_wanted.connect(self.record_wanted)
        card.fold_wanted.connect(self.fold)
        card.move(round(self._x(self._places[step_id])), _TOP)
        card.show()
        return card

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw a line from each step to those that it feeds; lines to distant cards run below."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        chosen, seen = self._places.get(self.work.chosen_id, -1), event.rect()
        first, last = (int((x - 18) // (WIDTH + GAP)) for x in (seen.left(), seen.right()))
        marked = (self._lines[:, :2] == chosen).any(axis=1)
        # Beyond the view thousands of lines may end: of those that look the same one is drawn.
        looks = np.column_stack([np.clip(self._lines[:, :2], first - 2, last + 2), self._lines[:, 2], marked])
        drawn = np.unique(looks[(looks[:, 0] != looks[:, 1])], axis=0).tolist()
        for source, target, lane, bright in sorted(drawn, key=lambda line: line[3]):
            painter.setPen(QPen(QColor(LICHEN if bright else _LINE), 2.2 if bright else 1.4))
            if source == target - 1:
                y = _TOP + HEIGHT / 2
                painter.drawLine(QPointF(self._x(source) + WIDTH, y), QPointF(self._x(target), y))
            else:
                painter.drawPath(self._round(source, target, lane))

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
        self._seen = ""
        self._run = tool("play", "Run what waits (F5)", work.run)
        self._cards = Cards(work)
        self._cards.next.clicked.connect(self.next_wanted)
        self._cards.folded.connect(self.refresh)
        self._cards.export_wanted.connect(self.export_wanted)
        self._cards.record_wanted.connect(self.record_wanted)
        self._scroll = QScrollArea()
        self._scroll.setWidget(self._cards)
        self._scroll.viewport().installEventFilter(self)
        self._scroll.horizontalScrollBar().valueChanged.connect(lambda _: self._show_view())
        self._scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 3, 0, 0)
        layout.setSpacing(0)
        head = row(label("Trail", "head"), self._summary, self._run, 1, sides=18)
        head.setFixedHeight(26)
        layout.addWidget(head)
        layout.addWidget(self._scroll)
        later = Later(self.refresh, self, after=30)
        work.published.connect(later.ask)
        work.running.connect(self._on_running)
        work.chosen.connect(self._show_chosen)
        self.refresh()

    @property
    def cards(self) -> dict[str, Card]:
        """The cards by step id."""
        return self._cards.cards

    def laid_out(self, group: str) -> bool:
        """Whether the steps of a group are shown as cards of their own."""
        ids = self.work.study.groups.get(group, [])
        return bool(ids) and all(self._cards.x_of(i) is not None for i in ids)

    def refresh(self) -> None:
        """Bring the cards up to date with the study."""
        self._cards.place()
        if self.work.chosen_id != self._seen:  # a card that was just made has its place only now
            self._show_chosen()
        self._show_view()
        states = list(self.work.now.states.values())
        self._summary.setText(_summary(states))
        self._run.setVisible(("waiting" in states or "failed" in states) and not self.work.busy)

    def summary(self) -> str:
        """Number of steps and what is the matter with them."""
        return _summary(list(self.work.now.states.values()))

    def _show_view(self) -> None:
        left = self._scroll.horizontalScrollBar().value()
        self._cards.show_between(left, left + self._scroll.viewport().width())

    def resizeEvent(self, event: QResizeEvent) -> None:
        """More cards may have come into view."""
        super().resizeEvent(event)
        self._show_view()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The wheel moves sideways: there is nowhere else to go."""
        if isinstance(event, QWheelEvent) and watched is self._scroll.viewport():
            turned = event.angleDelta()
            bar = self._scroll.horizontalScrollBar()
            bar.setValue(bar.value() - (turned.y() or turned.x()))
            return True
        return super().eventFilter(watched, event)

    def _on_running(self, step_id: str, fraction: float, doing: str, left: float) -> None:
        card = self.cards.get(step_id)
        if card is not None:
            card.fraction = fraction
            card.update()

    def _show_chosen(self) -> None:
        self._cards.open_for(self.work.chosen_id)
        x = self._cards.x_of(self.work.chosen_id)
        self._seen = self.work.chosen_id if x is not None else ""
        if x is not None:
            self._scroll.ensureVisible(x + WIDTH // 2, 0, WIDTH // 2 + 40, 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the strip's ground."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(TRAIL))
        painter.fillRect(QRectF(0, 0, self.width(), 1), QColor(LINE))


def _summary(states: list[str]) -> str:
    """Number of steps and what is the matter with them."""
    if not states:
        return "no steps yet"
    parts = [f"{len(states):,} step{'s' if len(states) != 1 else ''}".replace(",", " ")]
    for state in ("running", "waiting", "failed"):
        if state in states:
            parts.append(f"{states.count(state)} {state}")
    return " · ".join(parts if len(parts) > 1 else [*parts, "all up to date"])

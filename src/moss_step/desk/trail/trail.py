"""The trail: a card for each step, along the bottom of the window."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, QRect, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QLineEdit, QScrollArea, QVBoxLayout, QWidget

from moss_step.desk.parts import Later, label, row, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.theme import TRAIL_HEIGHT, icon
from moss_step.desk.tones import shade
from moss_step.desk.trail.card import HEIGHT, WIDTH, Card
from moss_step.desk.trail.cards import DOWN, GAP, Cards
from moss_step.desk.work import Work
from moss_step.scene.colors import LINE, TRAIL

_HEAD, _BAR, _MORE_ROWS, _FOLDED = 30, 16, 2, 36


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
        self._matches: list[str] = []
        self.folded = False
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
        self._scroll.verticalScrollBar().valueChanged.connect(lambda _: self._show_view())
        self._scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.rows = tool("rows", "Lay the cards out in rows, or in one", self.lay_out)
        self.rows.setCheckable(True)
        self.opener = tool(
            "caret-up", "Show the cards, or fold them away", lambda: self.fold(not self.folded)
        )
        self.opener.hide()
        self.seeker = QLineEdit()
        self.seeker.setPlaceholderText("Find a card")
        self.seeker.setAccessibleName("Find a card")
        self.seeker.setClearButtonEnabled(True)
        set_tip(self.seeker, "Show the cards alone whose names hold these words; Return chooses the first")
        self.seeker.setMaximumWidth(180)
        self.seeker.textChanged.connect(self._seek)
        self.seeker.returnPressed.connect(self._choose_found)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 3, 0, 0)
        layout.setSpacing(0)
        head = row(
            label("Trail", "head"), self._summary, self._run, 1, self.seeker, self.rows, self.opener, sides=18
        )
        head.setFixedHeight(_HEAD)
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
        return bool(ids) and all(self._cards.spot_of(i) is not None for i in ids)

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

    def fold(self, folded: bool) -> None:
        """Fold the cards away, so that the plan has their room, or show them."""
        self.folded = folded
        self.opener.setIcon(icon("caret-up" if folded else "caret-down"))
        self.lay_out()

    def give_room(self, little: bool) -> None:
        """In a low window the cards are folded away until they are asked for."""
        if little != self.opener.isVisibleTo(self):
            self.opener.setVisible(little)
            self.rows.setVisible(not little)
            self.fold(little)

    def lay_out(self) -> None:
        """Lay the cards out in rows on a taller trail, or in one row."""
        in_rows = self.rows.isChecked()
        self._scroll.setVisible(not self.folded)
        whole = TRAIL_HEIGHT + (_MORE_ROWS * DOWN if in_rows else 0)
        self.setFixedHeight(_FOLDED if self.folded else whole)
        bars = Qt.ScrollBarPolicy
        self._scroll.setVerticalScrollBarPolicy(
            bars.ScrollBarAsNeeded if in_rows else bars.ScrollBarAlwaysOff
        )
        self._scroll.setHorizontalScrollBarPolicy(
            bars.ScrollBarAlwaysOff if in_rows else bars.ScrollBarAsNeeded
        )
        self._fit_rows()
        self._show_chosen()
        self._show_view()

    def _fit_rows(self) -> None:
        room = self._scroll.width() - _BAR
        self._cards.lay_out(max(int((room - GAP) // (WIDTH + GAP)), 1) if self.rows.isChecked() else 0)

    def _seek(self, text: str) -> None:
        self._matches = self._cards.seek(text)
        self._scroll.horizontalScrollBar().setValue(0)
        self._scroll.verticalScrollBar().setValue(0)
        self._show_view()

    def _choose_found(self) -> None:
        """Choose the first card that was found, and show all again."""
        matches = self._matches if self.seeker.text().strip() else []
        self.seeker.clear()
        if matches:
            self.work.choose(matches[0])

    def _show_view(self) -> None:
        corner = QPoint(self._scroll.horizontalScrollBar().value(), self._scroll.verticalScrollBar().value())
        self._cards.show_in(QRect(corner, self._scroll.viewport().size()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """More cards may have come into view."""
        super().resizeEvent(event)
        self._fit_rows()
        self._show_view()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The wheel moves sideways where there is one row: there is nowhere else to go."""
        along = isinstance(event, QWheelEvent) and watched is self._scroll.viewport()
        if isinstance(event, QWheelEvent) and along and not self.rows.isChecked():
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
        at = self._cards.spot_of(self.work.chosen_id)
        self._seen = self.work.chosen_id if at is not None else ""
        if at is not None:
            middle = at + QPointF(WIDTH / 2, HEIGHT / 2)
            down = HEIGHT // 2 + 8 if self.rows.isChecked() else 0
            self._scroll.ensureVisible(round(middle.x()), round(middle.y()), WIDTH // 2 + 40, down)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the strip's ground."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), shade(TRAIL))
            painter.fillRect(QRectF(0, 0, self.width(), 1), shade(LINE))


def _summary(states: list[str]) -> str:
    """Number of steps and what is the matter with them."""
    if not states:
        return "no steps yet"
    parts = [f"{len(states):,} step{'s' if len(states) != 1 else ''}".replace(",", " ")]
    for state in ("running", "waiting", "failed"):
        if state in states:
            parts.append(f"{states.count(state)} {state}")
    return " · ".join(parts if len(parts) > 1 else [*parts, "all up to date"])

"""The cards of the trail: one for each step, joined by lines that show what feeds what."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRect, QTimer, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QPushButton, QWidget

from moss_step.desk.plain import set_tip
from moss_step.desk.tones import shade, tone
from moss_step.desk.trail.card import HEIGHT, WIDTH, Card
from moss_step.desk.work import Work
from moss_step.scene.colors import LICHEN, MOSS, THREAD
from moss_step.study.graph import Step, Study

GAP = 22
DOWN = HEIGHT + 22
"""From one row of cards to the next."""
_LONGEST_TURN = 0.02
_LINE, _TOP, _LEFT = THREAD, 2, 18


class OnDemand(dict[str, Card]):
    """Cards by the ids of their steps, each made when it is asked for first."""

    def __init__(self, make: Callable[[str], Card]) -> None:
        super().__init__()
        self._make = make

    def __missing__(self, step_id: str) -> Card:
        self[step_id] = result = self._make(step_id)
        return result


class Cards(QWidget):
    """The cards side by side with their lines, in one row or in several. A card is made when it comes into
    view: a study may have thousands of steps.
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
        self._marked = self._sought = ""
        self._across = 0
        self._placed: tuple[object, ...] = ()
        self._stale: list[str] = []
        self._again = QTimer(self, singleShot=True, interval=0)
        self._again.timeout.connect(self._refresh_some)
        self._lines = np.empty((0, 3), np.int64)
        self.next = QPushButton("+ Next step", self)
        set_tip(self.next, "Find the next step (Ctrl+K)")
        self.next.setStyleSheet(f"color: {tone(MOSS)}; font-weight: 600; background: transparent;")
        self.setAutoFillBackground(False)

    def place(self) -> None:
        """Put the cards in the order of the study; those of steps that are gone go."""
        study, unfolded = self.work.study, frozenset(self._open)
        if self._marked != self.work.chosen_id:
            self._marked = self.work.chosen_id
            self.update()  # its lines are bright
        placed = (study, unfolded, self._sought, self._across)
        if len(self._placed) == len(placed) and self._placed[0] is study and self._placed[1:] == placed[1:]:
            return  # results came, and no card moves
        self._placed = placed
        folded = {} if self._sought else self._folded(study)
        listed = [s for s in study.steps if folded.get(s.id, s.id) == s.id and self._is_sought(study, s)]
        self._listed = [step.id for step in listed]
        self._places = {step_id: i for i, step_id in enumerate(self._listed)}
        shown = {step.id: folded.get(step.id, step.id) for step in study.steps}
        for gone in self.cards.keys() - self._places.keys():
            card = self.cards.pop(gone)
            card.hide()
            card.deleteLater()
        lines, below = list[tuple[int, int, int]](), 0
        for step in study.steps:
            i = self._places.get(shown[step.id])
            for source in step.sources:
                fed = self._places.get(shown[source])
                if fed is not None and i is not None and fed != i:  # lines within a folded group are not seen
                    lines.append((fed, i, below % 3))
                    below += fed != i - 1
        self._lines = np.array(lines, np.int64).reshape(-1, 3)
        end = self._spot(len(listed))
        self.next.setGeometry(round(end.x()), round(end.y()), WIDTH, HEIGHT)
        self.next.setVisible(bool(listed) and not self._sought)
        if self._across:
            self.setFixedSize(round(self._x(self._across)), round(end.y()) + HEIGHT + 16)
        else:
            self.setFixedSize(round(end.x()) + WIDTH + _LEFT, HEIGHT + 16)
        for step_id, card in self.cards.items():
            card.move(self._spot(self._places[step_id]).toPoint())
        self.update()

    def _folded(self, study: Study) -> dict[str, str]:
        """The step whose card stands for each step of a folded group."""
        return {i: last for last, ids in study.groups.items() if last not in self._open for i in ids}

    def _is_sought(self, study: Study, step: Step) -> bool:
        said = f"{study.name_of(step.id)} {step.declared.title}".lower()
        return all(word in said for word in self._sought.split())

    def lay_out(self, across: int) -> None:
        """Put so many cards in a row; 0 puts all in one."""
        self._across = across
        self.place()

    def seek(self, text: str) -> list[str]:
        """Show the cards alone whose names hold these words; gives the ids of their steps."""
        self._sought = text.strip().lower()
        self.place()
        return list(self._listed)

    def show_in(self, view: QRect) -> None:
        """Bring the cards that lie in view up to date, and those beside them, so that the keyboard finds
        them.
        """
        if self._across:
            first, last = (int(y // DOWN) * self._across for y in (view.top(), view.bottom() + DOWN))
        else:
            first, last = (int((x - _LEFT) / (WIDTH + GAP)) for x in (view.left(), view.right()))
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
                self.cards[step_id].branch = self._branch(step_id)
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

    def _branch(self, step_id: str) -> str:
        """What a card goes on from, where that is not the card to its left and not all are in view."""
        around = self.parentWidget()
        if around is None or self.width() <= around.width():
            return ""
        study, place = self.work.study, self._places[step_id]
        sources = [s for s in study.step(step_id).sources if study.has(s)]
        left = self._listed[place - 1] if place else ""
        if not sources or left in sources:
            return ""
        return study.name_of(sources[0])

    def spot_of(self, step_id: str) -> QPointF | None:
        """Where a step's card begins; None for a step that has none now."""
        return self._spot(self._places[step_id]) if step_id in self._places else None

    def _new_card(self, step_id: str) -> Card:
        card = Card(self.work, step_id, self)
        card.export_wanted.connect(self.export_wanted)
        card.record_wanted.connect(self.record_wanted)
        card.fold_wanted.connect(self.fold)
        card.move(self._spot(self._places[step_id]).toPoint())
        card.show()
        return card

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw a line from each step to those that it feeds; lines to distant cards run below."""
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            chosen, seen = self._places.get(self.work.chosen_id, -1), event.rect()
            if self._across:
                first, last = (int(y // DOWN) * self._across for y in (seen.top(), seen.bottom() + DOWN))
            else:
                first, last = (int((x - _LEFT) // (WIDTH + GAP)) for x in (seen.left(), seen.right()))
            marked = (self._lines[:, :2] == chosen).any(axis=1)
            # Beyond the view thousands of lines may end: of those that look the same one is drawn.
            ends = np.clip(self._lines[:, :2], first - 2, last + 2)
            looks = np.column_stack([ends, self._lines[:, 2], marked])
            drawn = np.unique(looks[(looks[:, 0] != looks[:, 1])], axis=0).tolist()
            for source, target, lane, bright in sorted(drawn, key=lambda line: line[3]):
                painter.setPen(QPen(shade(LICHEN if bright else _LINE), 2.2 if bright else 1.4))
                a, b = self._spot(source), self._spot(target)
                if source == target - 1 and a.y() == b.y():
                    down = QPointF(0, HEIGHT / 2)
                    painter.drawLine(a + down + QPointF(WIDTH, 0), b + down)
                else:
                    painter.drawPath(_round(a, b, lane))

    def _spot(self, i: int) -> QPointF:
        """Corner of the card at a place."""
        if not self._across:
            return QPointF(self._x(i), _TOP)
        return QPointF(self._x(i % self._across), _TOP + i // self._across * DOWN)

    @staticmethod
    def _x(i: int) -> float:
        return _LEFT + i * (WIDTH + GAP)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """A click beside the cards chooses none."""
        self.work.choose("")


def _round(a: QPointF, b: QPointF, lane: int) -> QPainterPath:
    """A way from the foot of the card at ``a``, below those between, to the foot of the one at ``b``, or to
    its head from the row above.
    """
    under, out = 4 + 3.5 * lane, WIDTH - 18 - 6 * lane
    path = QPainterPath(a + QPointF(out, HEIGHT))
    path.lineTo(a + QPointF(out, HEIGHT + under))
    if b.y() == a.y():
        path.lineTo(b + QPointF(18, HEIGHT + under))
        path.lineTo(b + QPointF(18, HEIGHT))
        return path
    above = b.y() - DOWN + HEIGHT + under
    between = b.x() - GAP / 2 + 3 * (lane - 1)
    path.lineTo(between, a.y() + HEIGHT + under)
    path.lineTo(between, above)
    path.lineTo(b.x() + 18, above)
    path.lineTo(b.x() + 18, b.y())
    return path

"""Short walks through the demo, step by step in the real window: each stop says what to do next and where,
and goes on when it is done.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QRect, Qt, QTimer
from PySide6.QtWidgets import QFrame, QPushButton, QVBoxLayout, QWidget

from moss_step.desk.parts import button, label, row, tool
from moss_step.scene.colors import LICHEN

if TYPE_CHECKING:
    from moss_step.desk.window import MainWindow

_LOOK_EVERY = 200
_WIDTH, _AROUND = 380, 4


@dataclass(frozen=True)
class Stop:
    """One thing to do: in words, where, and whether it is done."""

    text: str
    where: Callable[[MainWindow], QWidget | None]
    done: Callable[[MainWindow], bool]


@dataclass(frozen=True)
class Walk:
    """A way through the window to the answer of one question."""

    title: str
    question: str
    stops: tuple[Stop, ...]
    end: str


def _named(parent: QWidget | None, name: str) -> QWidget | None:
    """The control that is shown under an accessible name."""
    if parent is None:
        return None
    found = (w for w in parent.findChildren(QWidget) if w.accessibleName() == name and w.isVisible())
    return next(found, None)


def _bench(name: str, words: str) -> Stop:
    return Stop(
        f"Turn to the {words} bench.",
        lambda w: w.header.benches[name],
        lambda w: w.bench == name,
    )


def _step(bench: str, kind: str, title: str, why: str) -> Stop:
    return Stop(
        f"Choose “{title}”. {why}",
        lambda w: _named(w.benches[bench], f"Step: {title}"),
        lambda w: _making(w, kind),
    )


def _making(window: MainWindow, kind: str) -> bool:
    panel = getattr(window.benches[window.bench], "panel", None)
    return panel is not None and panel.kind.kind == kind


def _drafted(window: MainWindow) -> bool:
    return window.work.draft is not None


def _keep(kind: str) -> Stop:
    return Stop(
        "Keep it: it becomes a card of the trail, linked to what it was made from.",
        lambda w: _named(w.benches[w.bench], "Keep this step"),
        lambda w: _kept(w, kind),
    )


def _kept(window: MainWindow, kind: str) -> bool:
    work = window.work
    return work.draft is None and bool(work.chosen_id) and work.study.step(work.chosen_id).kind == kind


def _plan(window: MainWindow) -> QWidget | None:
    return window.plan.view


WALKS: tuple[Walk, ...] = (
    Walk(
        "A watershed",
        "What drains to the foot of the moss?",
        (
            _bench("water", "Water"),
            _step("water", "catchment", "Catchment", "It answers what drains to a place."),
            Stop(
                "Move over the ground: all that drains to the pointer is veiled. Click where a stream leaves "
                "the estate.",
                _plan,
                _drafted,
            ),
            _keep("catchment"),
            Stop(
                "Open the table: area, lowest and highest place, longest way of the water.",
                lambda w: w.plan.views.button("table"),
                lambda w: w.views.is_open("table"),
            ),
        ),
        "That is a watershed. Drag its place on the plan, or change the ground: all that follows runs again.",
    ),
    Walk(
        "A view",
        "Which ground does a lookout watch?",
        (
            _bench("sight", "Sight"),
            _step("sight", "viewshed", "Viewshed", "It tells what is seen, and by how many."),
            Stop("Click where the lookout stands, such as on Harrow Top.", _plan, _drafted),
            Stop(
                "Drag the numbered mark: the view follows. Then click a second place.",
                _plan,
                lambda w: len(w.plan.view.look.handles) > 1,
            ),
            _keep("viewshed"),
        ),
        "The Key tells the area seen by none, one and two. Hover over the plan to read it.",
    ),
    Walk(
        "A hazard map",
        "Which slopes could fail in a wet winter?",
        (
            _bench("classes", "Classes"),
            _step("classes", "hazard", "Hazard from criteria", "It lays several bounds over one another."),
            Stop(
                "Choose Bogs as areas that count as one more criterion.",
                lambda w: _named(w.benches["classes"], "And inside"),
                lambda w: w.work.draft is not None and "inside" in w.work.draft.step.inputs,
            ),
            _keep("combine"),
            Stop(
                "Lay out the five steps behind the card: click “5 steps” on it.",
                lambda w: w.trail.cards.get(w.work.chosen_id),
                lambda w: w.trail.laid_out(w.work.chosen_id),
            ),
        ),
        "Each of its steps can be changed alone; what follows runs again. Ctrl+E hands the map on.",
    ),
)


class WalkCard(QFrame):
    """Says the next stop of a walk at the foot of the plan, and marks where it is done."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window = window
        self.setProperty("role", "card")
        self.setFixedWidth(_WIDTH)
        self.walk: Walk | None = None
        self.at = 0
        self.head, self.text = label("", "head"), label("", "", wrap=True)
        leave = tool("x", "Leave the walk", self.leave)
        self.next: QPushButton = button("Another walk", "Choose the next walk", self._another, "plain")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 8, 8, 10)
        layout.setSpacing(4)
        layout.addWidget(row(self.head, 1, leave))
        layout.addWidget(self.text)
        layout.addWidget(row(1, self.next))
        self.mark = QFrame(window)
        self.mark.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.mark.setStyleSheet(f"border: 3px solid {LICHEN}; border-radius: 8px; background: transparent;")
        self.mark.hide()
        self._clock = QTimer(self, interval=_LOOK_EVERY)
        self._clock.timeout.connect(self.look)
        self.hide()

    def begin(self, walk: Walk) -> None:
        """Take the first step of a walk."""
        self.walk, self.at = walk, 0
        self._clock.start()
        self.look()

    def leave(self) -> None:
        """End the walk, wherever it stands; nothing of the study changes."""
        self.walk = None
        self._clock.stop()
        self.mark.hide()
        self.hide()

    def look(self) -> None:
        """Go on when what is asked was done, and show what is next."""
        walk = self.walk
        if walk is None:
            return
        while self.at < len(walk.stops) and walk.stops[self.at].done(self._window):
            self.at += 1
        ended = self.at == len(walk.stops)
        self.head.setText(f"{walk.title} · {'done' if ended else f'{self.at + 1} of {len(walk.stops)}'}")
        self.text.setText(walk.end if ended else walk.stops[self.at].text)
        self.setAccessibleName(f"{self.head.text()}: {self.text.text()}")
        self.next.setVisible(ended)
        self._point(None if ended else walk.stops[self.at].where(self._window))
        self.adjustSize()
        views = self._window.views
        corner = views.mapTo(self._window, views.rect().bottomLeft())
        self.move(corner.x() + (views.width() - self.width()) // 2, corner.y() - self.height() - 58)
        self.show()
        self.raise_()

    def _point(self, target: QWidget | None) -> None:
        """Mark what is to be used."""
        if target is None or not target.isVisible():
            self.mark.hide()
            return
        at = target.mapTo(self._window, target.rect().topLeft())
        place = QRect(at, target.size()).adjusted(-_AROUND, -_AROUND, _AROUND, _AROUND)
        self.mark.setGeometry(place & self._window.rect())
        self.mark.show()
        self.mark.raise_()

    def _another(self) -> None:
        at = WALKS.index(self.walk) if self.walk in WALKS else -1
        self._window.take_walk(WALKS[(at + 1) % len(WALKS)])

"""One search over every step, named place, result and action."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget
from rapidfuzz import fuzz

from moss_step.desk.benches.bench import TITLES
from moss_step.desk.plain import set_tip
from moss_step.desk.work import Work
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import StepKind

_MOST, _LEAST_SCORE = 12, 62.0
_EXACT, _BEGINS, _WITHIN, _A_WORD = 130.0, 120.0, 110.0, 105.0
"""Scores of a title, of its beginning, of a word within it, and of a word of the trade."""
_SMALL_WORDS = frozenset(
    {"a", "an", "and", "by", "for", "in", "of", "on", "over", "per", "the", "to", "with"}
)


@dataclass(frozen=True)
class Hit:
    """Something found: its text, what it is, and what choosing it does."""

    text: str
    what: str
    score: float
    choose: Callable[[], object]


class Search(QObject):
    """Finds by trade word, synonym, question and name."""

    step_wanted = Signal(str)
    place_wanted = Signal(float, float)
    result_wanted = Signal(str)

    def __init__(
        self, work: Work, actions: dict[str, Callable[[], object]], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self.work, self.actions = work, actions

    def find(self, text: str) -> list[Hit]:
        """Best hits for a text, best first; all steps when it is empty."""
        text = text.strip().lower()
        hits = [
            Hit(
                k.title,
                f"{TITLES[k.bench]} · {k.question}",
                _step_score(text, k),
                partial(self.step_wanted.emit, k.kind),
            )
            for k in catalogue().values()
        ]
        if text:
            hits += self._places(text) + self._results(text)
            hits += [Hit(n, "Action", _score(text, n.lower()), run) for n, run in self.actions.items()]
        result = [h for h in hits if h.score >= _LEAST_SCORE]
        return sorted(result, key=lambda h: -h.score)[:_MOST]

    def _places(self, text: str) -> list[Hit]:
        result = []
        for ref in self.work.study.refs(asked=False):
            drawn = self.work.picture(ref)
            picture = drawn.shapes if drawn is not None else None
            if picture is None or len(picture.value) > 20_000:
                continue
            for name, (x, y) in zip(picture.value.names(), picture.points.tolist(), strict=True):
                score = _score(text, name.lower()) if name else 0.0
                if score >= _LEAST_SCORE:
                    go = partial(self.place_wanted.emit, x, y)
                    result.append(Hit(name, f"Place · {self.work.study.name_of(ref)}", score, go))
        return result

    def _results(self, text: str) -> list[Hit]:
        names = [(ref, self.work.study.name_of(ref)) for ref in self.work.study.refs()]
        return [
            Hit(
                name, "Result in the trail", _score(text, name.lower()), partial(self.result_wanted.emit, ref)
            )
            for ref, name in names
        ]


class SearchBox(QLineEdit):
    """The field in the header with its list of hits below."""

    def __init__(self, search: Search, window: QWidget) -> None:
        super().__init__()
        self._search = search
        self._hits: list[Hit] = []
        self.setPlaceholderText("Find a step or a place")
        self.setAccessibleName("Find a step or a place")
        set_tip(self, "Ctrl+K")
        self.popup = QFrame(window)
        self.popup.setProperty("role", "card")
        self.list = QListWidget()
        self.list.setAccessibleName("Found")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.itemClicked.connect(lambda item: self.choose(self.list.row(item)))
        layout = QVBoxLayout(self.popup)
        layout.setContentsMargins(4, 4, 4, 4)
        layout.addWidget(self.list)
        self.popup.hide()
        self.textChanged.connect(lambda _: self.show_hits())

    def begin(self) -> None:
        """Take the keyboard and show all steps."""
        self.setFocus()
        self.selectAll()
        self.show_hits()

    def show_hits(self) -> None:
        """List what is found for the text."""
        self._hits = self._search.find(self.text())
        self.list.clear()
        for hit in self._hits:
            self.list.addItem(QListWidgetItem(f"{hit.text}\n{hit.what}"))
        if not self._hits:
            self.list.addItem(QListWidgetItem("Nothing found. Try a trade word, such as steepness or clip."))
        self.list.setCurrentRow(0)
        window = self.popup.parentWidget()
        corner = self.mapTo(window, QPoint(self.width() - 400, self.height() + 6)) if window else QPoint()
        height = min(46 * max(len(self._hits), 1) + 14, 420)
        self.popup.setGeometry(corner.x(), corner.y(), 400, height)
        self.popup.show()
        self.popup.raise_()

    def choose(self, number: int) -> None:
        """Do what a hit stands for."""
        if 0 <= number < len(self._hits):
            hit = self._hits[number]
            self.leave()
            hit.choose()

    def leave(self) -> None:
        """Close the list."""
        self.popup.hide()
        self.blockSignals(True)
        self.clear()
        self.blockSignals(False)
        self.clearFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down go through the hits, Enter chooses, Escape closes."""
        key, at = event.key(), self.list.currentRow()
        if key == Qt.Key.Key_Down:
            self.list.setCurrentRow(min(at + 1, self.list.count() - 1))
        elif key == Qt.Key.Key_Up:
            self.list.setCurrentRow(max(at - 1, 0))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.choose(at)
        elif key == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        """Losing the keyboard closes the list."""
        if event.type() == QEvent.Type.FocusOut:
            self.popup.hide()
        elif event.type() == QEvent.Type.MouseButtonPress:
            self.show_hits()
        return super().event(event)


def _step_score(text: str, kind: StepKind) -> float:
    """Likeness of a typed text and a step: its exact title first, then its beginning, then the trade's words,
    then question and help.
    """
    title = kind.title.lower()
    if not text:
        return 100.0
    if text in (title, kind.kind.replace("_", " ")):
        return _EXACT
    asked = {w for w in text.split() if w not in _SMALL_WORDS}
    if asked == set(title.split()):
        return _EXACT - 1.0
    if title.startswith(text):
        return _BEGINS - 0.1 * (len(title) - len(text))  # of two beginnings the shorter title is nearer
    if any(part.startswith(text) for part in title.split()):
        return _WITHIN
    if text in kind.words:
        return _A_WORD
    best = max(_score(text, w) for w in (title, *kind.words))
    return max(best, _by_tokens(text, kind), 0.85 * fuzz.token_set_ratio(text, kind.question.lower()))


def _by_tokens(text: str, kind: StepKind) -> float:
    """Likeness of several words in any order: those of title and trade count most, then those of the help."""
    asked = [w for w in text.split() if w not in _SMALL_WORDS]
    if len(asked) < 2:
        return 0.75 * fuzz.partial_ratio(text, kind.help.lower())
    near = " ".join((kind.title.lower(), *kind.words)).split()
    far = f"{kind.question} {kind.help}".lower().replace(",", " ").split()
    hits = [1.0 if _starts(w, near) else 0.85 if _starts(w, far) else 0.0 for w in asked]
    return 99.0 * sum(hits) / len(hits)


def _starts(word: str, among: list[str]) -> bool:
    return any(other.startswith(word.rstrip("s")) for other in among)


def _score(text: str, name: str) -> float:
    """Likeness of a typed text and a name: a beginning counts most."""
    if name.startswith(text):
        return 100.0
    if any(part.startswith(text) for part in name.split()):
        return 92.0
    return float(
        fuzz.ratio(text, name)
        if len(text) < 4
        else max(fuzz.ratio(text, name), 0.9 * fuzz.partial_ratio(text, name))
    )

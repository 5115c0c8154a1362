"""Results of the engine as they are asked for: what is in memory at once, what was let go a little later."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from moss_step.desk.first_looks import FirstLooks
from moss_step.model.outcome import Outcome, Value
from moss_step.scene.picture import Picture
from moss_step.scene.pictures import ready_picture
from moss_step.study.draft import DRAFT
from moss_step.study.engine import Engine
from moss_step.study.graph import Study, step_of


class Reading(QObject):
    """Reads results, and what there is of those that are being worked out."""

    wanted = Signal()
    """A value that was let go is asked for again."""

    def __init__(self, engine: Engine, first: FirstLooks, parent: QObject) -> None:
        super().__init__(parent)
        self._engine, self._first = engine, first
        self._fetched: set[str] = set()

    @property
    def fetched(self) -> frozenset[str]:
        """Values that are to be brought back."""
        return frozenset(self._fetched)

    def forget(self) -> None:
        """Something changed: values may be brought back anew."""
        self._fetched.clear()

    def outcome(self, study: Study, ref: str) -> Outcome | None:
        """A result when it is up to date and in memory; one that was let go is fetched."""
        if not study.has(ref):
            return None
        result = self._engine.outcome(study, ref)
        if result is None and step_of(ref) != DRAFT and self._engine.away(study, ref):
            self._fetch(ref)
        return result

    def picture(self, study: Study, ref: str, resting: bool) -> Picture | None:
        """Picture of a result when it is made; what was let go of it is fetched while all is ``resting``."""
        outcome = self.outcome(study, ref)
        if outcome is None and ref == DRAFT:
            outcome = self._first.of_draft(study)
        if outcome is None:
            return self._first.picture(study, ref)
        self._first.arrived(ref)
        result = ready_picture(outcome.value)
        if result is None and step_of(ref) != DRAFT and resting:
            self._fetch(ref)
        return result

    def value(self, study: Study, ref: str, so_far: Value | None) -> Value | None:
        """The value of a result, or what there is of it so far."""
        outcome = self._engine.outcome(study, ref)
        return so_far if outcome is None else outcome.value

    def _fetch(self, ref: str) -> None:
        """Bring a value back, once a change: two that do not fit together must not take turns for ever."""
        if ref not in self._fetched:
            self._fetched.add(ref)
            QTimer.singleShot(0, self.wanted.emit)

"""Parts of results, drawn while the whole is worked out: the step being made in view, and some points of a
large cloud, then those that were read so far.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from moss_step.model.cloud import Cloud, joined
from moss_step.model.errors import MossError
from moss_step.model.frame import Box
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.typed import of_kind
from moss_step.scene.picture import Picture
from moss_step.scene.pictures import prepared_picture, ready_picture
from moss_step.study.draft import DRAFT
from moss_step.study.engine import Engine
from moss_step.study.graph import Study
from moss_step.study.partly import look_at


class FirstLooks:
    """What is drawn of results that are not there yet. Pictures are made in the threads that ask for them."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._looked: tuple[str | None, Outcome] | None = None
        self._tastes: dict[str, tuple[dict[str, Any], Value | None]] = {}
        self._shown: dict[str, Value] = {}

    def clear(self) -> None:
        """Another study is worked on."""
        self._tastes.clear()
        self._shown.clear()
        self.drop_draft()

    def drop_draft(self) -> None:
        """The step being made is another."""
        self._looked = None

    # --- the step being made, in view

    def of_draft(self, study: Study) -> Outcome | None:
        """What the step being made gives in view."""
        looked = self._looked
        if looked is None or not study.has(DRAFT) or looked[0] != self._engine.key(study, DRAFT):
            return None
        return looked[1]

    def look_at_view(self, study: Study, box: Box | None, progress: Progress) -> bool:
        """Work the step being made out in view, where it looks no farther and there is much beside."""
        if box is None or not study.has(DRAFT) or self._engine.said(study, DRAFT) is not None:
            return False
        outcome = look_at(self._engine, study, DRAFT, box, progress)
        if outcome is None:
            return False
        prepared_picture(outcome.value)
        self._looked = (self._engine.key(study, DRAFT), outcome)
        return True

    # --- large files

    def taste(self, study: Study, progress: Progress) -> bool:
        """Read some points or cells from all over large files; says whether there is something to draw."""
        found = False
        for step in study.steps:
            foretaste, settings = step.declared.foretaste, dict(step.settings)
            held = self._tastes.get(step.id)
            if foretaste is None or (held is not None and held[0] == settings):
                continue
            self._tastes[step.id] = (settings, None)
            self._shown.pop(step.id, None)
            if self._engine.outcome(study, step.id) is not None:
                continue
            with suppress(MossError):  # the run itself says what is wrong
                outcome = foretaste(step.declared.checked(settings), progress)
                if outcome is not None:
                    self._tastes[step.id] = (settings, outcome.value)
                    self._show(step.id, outcome.value)
                    found = True
        return found

    def take(self, step_id: str, value: Value) -> None:
        """Draw what a step has so far, with the points that were read before."""
        held = self._tastes.get(step_id, ({}, None))[1]
        some, tasted = of_kind(value, Cloud), None if held is None else of_kind(held, Cloud)
        self._show(step_id, value if some is None or tasted is None else joined([tasted, some]))

    def _show(self, step_id: str, value: Value) -> None:
        prepared_picture(value)
        self._shown[step_id] = value

    def picture(self, study: Study, ref: str) -> Picture | None:
        """The picture of what there is of a result."""
        shown = self._shown.get(ref)
        settings, _ = self._tastes.get(ref, ({}, None))
        if shown is None or not study.has(ref) or dict(study.step(ref).settings) != settings:
            return None
        return ready_picture(shown)

    def arrived(self, ref: str) -> None:
        """All of a result is there."""
        if self._shown.pop(ref, None) is not None:
            self._tastes[ref] = (self._tastes[ref][0], None)

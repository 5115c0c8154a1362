"""A moment of a study without a window: its results worked out, and pictures of what pages draw."""

from __future__ import annotations

from moss_step.model.errors import MossError
from moss_step.model.outcome import Value
from moss_step.model.progress import Progress, silent
from moss_step.scene.picture import Picture
from moss_step.scene.pictures import prepared_picture
from moss_step.scene.sheet.sheet import Sheet
from moss_step.scene.sheet.trail import drawn_by
from moss_step.scene.sheet.words import figures_in
from moss_step.scene.snapshot import Snapshot, frame_of_plan
from moss_step.study.engine import Engine
from moss_step.study.graph import Study
from moss_step.study.pages import Page, texts_of


def wanted_by(study: Study, page: Page) -> list[str]:
    """Results that a page needs: those that it draws, and those whose figures it tells."""
    named = drawn_by(Sheet(Snapshot(study, study), page))
    for part in page.parts:
        for text in texts_of(part):
            named += figures_in(text)
    ground = study.shading.ground
    return [r for r in dict.fromkeys([*named, ground]) if r and study.has(r)]


def moment(engine: Engine, study: Study, page: Page, progress: Progress | None = None) -> Snapshot:
    """Work out what a page needs, and give the moment that it is drawn from. A result that fails is among its
    failures: the page says so.

    Raises StoppedError when stopped.
    """
    progress, refs = progress or silent(), wanted_by(study, page)
    pictures: dict[str, Picture] = {}
    for k, ref in enumerate(refs):
        try:
            outcome = engine.run_or_raise(study, ref, progress.part(k / len(refs), (k + 1) / len(refs)))
        except MossError:
            continue  # the engine keeps why
        pictures[ref] = prepared_picture(outcome.value)
    said = {ref: s for ref, s in engine.all_said(study).items() if s is not None}
    failures = engine.failures(study, [ref for ref in study.refs() if ref not in said])

    def value_of(ref: str) -> Value | None:
        outcome = engine.outcome(study, ref)
        return None if outcome is None else outcome.value

    frame = frame_of_plan(study, "", value_of)
    return Snapshot(
        study=study, study_with_draft=study, frame=frame, said=said, failures=failures, pictures=pictures
    )

"""Studies of earlier versions in the words of today: a step that became a result of another one, a switch
that became a result.
"""

from __future__ import annotations

from moss_step.steps.catalogue import became, is_step, step_kind
from moss_step.steps.declare import ResultSpec
from moss_step.study.graph import Step, Study


def _switches(kind: str) -> list[ResultSpec]:
    """Results of a step that were chosen by a setting."""
    return [r for r in step_kind(kind).beside if "=" in r.was] if is_step(kind) else []


def in_new_words(study: Study) -> Study:
    """A study in which every result is asked for as it is today; its ids stay."""
    if not any(became(s.kind) or _switches(s.kind) for s in study.steps):
        return study
    places: dict[str, str] = {}
    steps = [_turned(step, places) for step in study.steps]
    steps = [
        s.model_copy(update={"inputs": {n: places.get(ref, ref) for n, ref in s.inputs.items()}})
        for s in steps
    ]
    key = tuple(row.model_copy(update={"step": places.get(row.step, row.step)}) for row in study.key)
    shading = study.shading.model_copy(
        update={"ground": places.get(study.shading.ground, study.shading.ground)}
    )
    return study.model_copy(update={"steps": tuple(steps), "key": key, "shading": shading})


def _turned(step: Step, places: dict[str, str]) -> Step:
    """One step in the words of today; ``places`` takes where its result is found now."""
    moved = became(step.kind)
    if moved is not None:
        return _beside(step.model_copy(update={"kind": moved[0]}), moved[1], places)
    for spec in _switches(step.kind):
        name, _, value = spec.was.partition("=")
        if step.settings.get(name) == value:
            return _beside(
                step.model_copy(update={"settings": {n: v for n, v in step.settings.items() if n != name}}),
                spec.name,
                places,
            )
    return step


def _beside(step: Step, name: str, places: dict[str, str]) -> Step:
    """A step whose result of old is beside its main one now, and keeps the name that a person gave it."""
    places[step.id] = f"{step.id}.{name}"
    return step.model_copy(update={"name": "", "names": {name: step.name}}) if step.name else step

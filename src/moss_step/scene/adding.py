"""How a study is drawn with a step that was added: its row of the Key, and the shaded ground."""

from __future__ import annotations

from moss_step.scene.pictures import has_place, placed
from moss_step.study.graph import Step, Study


def in_key(study: Study, step_id: str) -> Study:
    """A study with what a step gives in the Key, when that has a place on the plan."""
    ref = placed(study, step_id)
    return study.with_key_row(study.first_row(ref)) if has_place(study, ref) else study


def shaded_with(study: Study, step: Step, ref: str) -> Study:
    """With a ground or a cloud that was brought in as the shaded ground, where there is none; a ground takes
    the place of a cloud.
    """
    gives, ground = step.declared.gives, study.shading.ground
    if step.inputs or gives not in ("surface", "cloud"):
        return study
    if ground and not (gives == "surface" and ground in study.giving("cloud")):
        return study
    return study.model_copy(update={"shading": study.shading.model_copy(update={"ground": ref})})

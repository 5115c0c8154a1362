"""Choosing among shapes: it stands after the steps that make them."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.formats.vector import in_system
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.typed import as_kind
from moss_step.science.zones import choose as choosing
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, optional, setting
from moss_step.steps.zones import counted


class ChooseSettings(Settings):
    """Settings of choose_shapes."""

    where: str | None = setting(
        None, "Where", "A condition on columns such as area_m2 > 500, or a text that a column holds."
    )
    relation: Literal["meets", "within", "apart"] = setting(
        "meets", "Relation", "How the chosen lie to the other shapes.", with_input="others"
    )
    rows: str | None = setting(None, "Rows", "Numbers of the table such as 1,4-6.", control="rows")


def _choose(settings: ChooseSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Choosing")
    value, others = as_kind(inputs["shapes"], Shapes), optional(inputs, "others", Shapes)
    rows, warnings = np.arange(len(value)), tuple[str, ...]()
    if settings.where:
        rows = np.intersect1d(rows, choosing.rows_matching(value.columns, settings.where))
    if settings.rows:
        rows = np.intersect1d(rows, choosing.row_numbers(settings.rows, len(value)))
    if others is not None:
        moved = in_system(others, value.crs)
        warnings = (
            () if moved is others else ("The other shapes were carried over to the system of the first.",)
        )
        rows = np.intersect1d(rows, choosing.related(value, moved, settings.relation))
    return counted(choosing.kept(value, rows), warnings=warnings)


choose_shapes = StepKind(
    kind="choose_shapes",
    example='shapes=areas.gpkg where="area_ha > 1"',
    bench="classes",
    group="Areas",
    title="Choose shapes",
    question="Which of the shapes count?",
    help="Keeps shapes by a condition on their columns, by number, or by how they lie to other shapes.",
    formula="the rows where the condition is true",
    words=("select", "filter", "query", "by attribute", "by location", "extract", "overlap", "intersect"),
    inputs=(
        InputSpec("shapes", "shapes", "Shapes", "The shapes to choose from."),
        InputSpec(
            "others",
            "shapes",
            "Other shapes",
            "Shapes that the chosen meet, lie within or stay apart from.",
            optional=True,
        ),
    ),
    settings=ChooseSettings,
    gives="shapes",
    run=_choose,
    memory=2,
    keeps="rows",
    label=lambda s, names: (
        f"{names['shapes']} where {s.where}" if s.where else f"Chosen of {names['shapes']}"
    ),
)

"""Earthwork: a bund along a line, with its crest at a level."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.findings import MAIN, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import METRE
from moss_step.model.words import value_text
from moss_step.science.earthwork.design import Design, Path, Template
from moss_step.science.earthwork.works import Built, built
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import Inputs, Settings, setting
from moss_step.steps.designs import (
    GROUND,
    LINE,
    design_kind,
    design_outcome,
    drawn_lines,
    findings_of,
    path_setting,
    slope_setting,
)
from moss_step.steps.fields import PointsField
from moss_step.steps.moved_figures import cost, density, shrink, swell

_CREST = declared("crest", "Crest", MAIN)
_HIGHEST = declared("greatest_height", "Greatest height", MAIN)


class BundSettings(Settings):
    """Settings of bund."""

    crest: float | None = setting(
        None, "Crest", "Its level, in the unit of the heights; left out, the highest ground at its ends.",
        control="slider",
    )  # fmt: skip
    width: float = setting(1.0, "Width of the crest", "From edge to edge.", unit="m", gt=0, le=200)
    left_slope: float = slope_setting("Slope on the left, 1 to", "Seen along the line.", 2.0)
    right_slope: float = slope_setting("Slope on the right, 1 to", "Seen along the line.", 2.0)
    path: PointsField | None = path_setting()
    swell: float = swell()
    shrink: float = shrink()
    density: float | None = density()
    cost: float | None = cost()


def built_bund(
    settings: BundSettings, surface: Surface, lines: list[np.ndarray]
) -> tuple[Design, Built, float]:
    """The bund that settings ask for, what is built, and its crest in the unit of the ground.

    Raises MossError when it cannot be built.
    """
    crest = settings.crest
    if crest is None:
        ends = np.concatenate([corners[[0, -1]] for corners in lines])
        heights = values_at(surface, ends[:, 0], ends[:, 1])
        if not np.isfinite(heights).any():
            raise MossError("The ground at the ends of the bund is not known.", "State its crest.")
        crest = float(np.nanmax(heights))
    slopes = settings.left_slope, settings.right_slope
    template = Template(settings.width / 2.0, (0.0, 0.0), slopes, slopes, only_fill=True)
    level = crest * surface.metres_per_height
    design = Design.along([Path(xy, np.full(len(xy), level)) for xy in lines], template)
    return design, built(surface, design), crest


def _bund(settings: BundSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    lines = drawn_lines(settings.path, inputs, surface)
    progress.at(0.1, "Shaping the ground")
    _, made, crest = built_bund(settings, surface, lines)
    progress.at(0.7, "Adding up")
    drawn = np.array([shapely.LineString(xy) for xy in lines], object)
    findings = [
        *findings_of(settings, made, float("nan")), Finding(_CREST, crest, surface.unit),
        Finding(_HIGHEST, made.moved.deepest_fill, METRE),
        Finding("length", float(surface.frame.lengths(drawn).sum()), METRE),
    ]  # fmt: skip
    low = values_at(surface, *np.concatenate(lines).T)
    said = []
    if np.isfinite(low).any() and crest <= float(np.nanmin(low)):
        said.append(f"The crest at {value_text(crest, surface.unit)} lies below all ground along the line.")

    return design_outcome(settings, inputs, made, drawn, findings, said)


def _label(settings: BundSettings, names: Mapping[str, str]) -> str:
    where = "" if settings.crest is None else f" at {settings.crest:g}"
    return f"Bund{where} on {names['surface']}"


bund = design_kind(
    kind="bund",
    example='path="412300,5870300;412340,5870320" width=1 left_slope=2 right_slope=3',
    title="Bund",
    question="What does a bund along a line take?",
    help="A level crest with side slopes to the ground; its ends are rounded.",
    formula="design = max(z, crest − max(d − width / 2, 0) / n), d the way to the line; fill = Σ cell area × "
    "(design − z)",
    words=("dam", "embankment", "levee", "bank", "berm", "dyke", "peat dam", "weir"),
    inputs=(GROUND, LINE),
    settings=BundSettings,
    run=_bund,
    label=_label,
    main="Depth of fill",
    staple=5,
)  # fmt: skip

"""Contours of a ground, at an interval or at given heights."""

from __future__ import annotations

from typing import Literal

from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.units import COUNT, METRE, Unit
from moss_step.science.relief.contours import contours as trace_contours
from moss_step.science.relief.contours import memory_of
from moss_step.steps.declare import Inputs, Settings, StepKind, setting
from moss_step.steps.fields import HeightsField, heights_in
from moss_step.steps.shape import DEM, ground
from moss_step.steps.zones import counted


class ContourSettings(Settings):
    """Settings of contours."""

    interval: float = setting(
        10.0, "Interval", "Height from one contour to the next, in the unit of the ground.", gt=0
    )
    base: float = setting(0.0, "Base", "A height that a contour runs at.", more=True)
    levels: HeightsField = setting("", "Heights", "In place of an interval, such as 0.5, 1, 2, 5.", more=True)
    within: float = setting(
        0.0,
        "Calm lines within",
        "Lines are smoothed, and leave their places by no more.",
        unit="m",
        ge=0,
        more=True,
    )
    index_every: int = setting(
        5, "Index lines", "Every so many contours is an index line.", ge=1, le=1000, more=True
    )
    drawn: Literal["alike", "by_depth"] = setting(
        "alike", "Lines", "`alike`: in one colour; `by_depth`: from sand in the shallows to the dark of the "
        "deep.", more=True,
    )  # fmt: skip
    smooth: bool = setting(
        False,
        "Smooth",
        "Average the ground over 3 x 3 cells first; lines then leave the true heights a little.",
        more=True,
    )
    however_many: bool = setting(
        False,
        "However many",
        "Trace even millions of lines: it takes minutes, and can be stopped.",
    )


_BY_DEPTH = {
    "column": "elevation",
    "method": "unique",
    "ramp": "tarn",
    "reverse": True,
    "labels": "elevation",
}
"""Deep lines are dark, shallow ones light, and each says its height."""


def _contours(settings: ContourSettings, inputs: Inputs, progress: Progress) -> Outcome:
    s, dem = settings, ground(inputs)
    result = trace_contours(
        dem, s.interval, s.base, s.index_every, s.smooth, progress, s.however_many,
        heights=heights_in(s.levels), within=s.within,
    )  # fmt: skip
    return contours_outcome(s, result, dem.unit)


def contours_outcome(s: ContourSettings, result: Shapes, unit: Unit) -> Outcome:
    """Contours of a ground whose heights are in a unit, with what is found of them."""
    heights = result.columns["elevation"]
    return counted(
        result,
        Finding("lowest", float(heights.min()), unit),
        Finding("highest", float(heights.max()), unit),
        Finding("length", float(result.columns["length_m"].sum()), METRE),
        Finding("depressions", int(result.columns["depression"].sum()), COUNT),
        warnings=("The ground was smoothed over 3 x 3 cells first.",) if s.smooth else (),
    )


contours = StepKind(
    kind="contours",
    example="interval=10", bench="shape",
    group="Heights",
    title="Contours", question="Which lines join places of one height?",
    help="Contour lines with their elevation, index lines and closed depressions marked.",
    formula="points on the edges between cell centres where z = base + k × interval, joined in order",
    words=("isolines", "isohypse", "contour lines", "height lines", "index contour"),
    inputs=(DEM,), settings=ContourSettings, gives="shapes", run=_contours,
    memory=lambda s, inputs: memory_of(ground(inputs), s.interval),
    draws=lambda s: {} if s.drawn == "alike" else _BY_DEPTH,
    label=lambda s, names: (
        f"Contours at {s.levels}, of {names['dem']}"
        if s.levels
        else f"Contours every {s.interval:g}, of {names['dem']}"
    ),
)  # fmt: skip

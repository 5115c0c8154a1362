"""How much: what changed between two class maps, and what passes a threshold as it moves."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.formats.vector import in_system
from moss_step.model.class_map import ClassMap
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import CELLS, SHARE, SQUARE_METRE
from moss_step.science.classes.change import Change
from moss_step.science.classes.change import class_change as changes_between
from moss_step.science.classes.curve import threshold_curve as curve_of
from moss_step.science.regrid import crop_to_area
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.reach import near_shapes

CHANGED_AREA = declared("changed_area_m2", "Changed", MAIN)
CHANGED_SHARE = declared("changed_share", "Share changed", MAIN)
HALF_AT = declared("half_at", "Half the ground passes at", MAIN)
STAYED_AREA = declared("stayed_area_m2", "Stayed as it was", USUAL)


class ChangeSettings(Settings):
    """Changes of classes have no settings."""


def _change(settings: ChangeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    change = changes_between(
        as_kind(inputs["before"], ClassMap), as_kind(inputs["after"], ClassMap), progress
    )
    said = _figures(change)
    table = _table(change)
    return Outcome(change.map, *said, beside={"table": lambda: Outcome(table, *said)})


def _figures(change: Change) -> tuple[str, tuple[Finding, ...]]:
    whole, moved = float(change.areas.sum()), float(change.areas[change.changed].sum())
    findings = [
        Finding(CHANGED_AREA, moved, SQUARE_METRE),
        Finding(CHANGED_SHARE, moved / whole, SHARE),
        Finding(STAYED_AREA, whole - moved, SQUARE_METRE),
    ]
    for entry, cells, area in zip(
        change.map.classes, change.cells.tolist(), change.areas.tolist(), strict=True
    ):
        findings += [
            Finding("count", cells, CELLS, entry.name),
            Finding("area_m2", area, SQUARE_METRE, entry.name),
            Finding("share", area / whole, SHARE, entry.name),
        ]
    return f"{moved / whole:.1%} changed".replace("%", " %"), tuple(findings)


def _table(change: Change) -> Table:
    return Table(
        {
            "before": np.array(change.before, object),
            "after": np.array(change.after, object),
            "cells": change.cells,
            "area_m2": change.areas,
            "share": change.areas / change.areas.sum(),
        },
        {"cells": CELLS, "area_m2": SQUARE_METRE, "share": SHARE},
    )


class_change = StepKind(
    kind="class_change",
    example="before=classes.tif after=later_classes.tif -o table=changes.csv",
    keeps="change",
    bench="classes",
    group="Several together",
    title="Change of classes",
    question="Which class became which?",
    help="Pairs the classes of two maps cell by cell, by their names: area and share of each change.",
    formula="area(i → j) = Σ cell area where first = i and second = j",
    words=("transition", "change table", "change matrix", "before after", "compare classes", "gain and loss"),
    inputs=(
        InputSpec("before", "classes", "Before", "The earlier class map."),
        InputSpec("after", "classes", "After", "The later one, cell on cell."),
    ),
    settings=ChangeSettings,
    gives="classes",
    run=_change,
    maps=True,
    memory=10,
    label=lambda s, names: f"{names['before']} to {names['after']}",
    main="Map of changes",
    beside=(ResultSpec("table", "table", "Changes", "Cells, area and share of each pair of classes."),),
)


class CurveSettings(Settings):
    """Settings of threshold_curve."""

    side: Literal["above", "below"] = setting("above", "Ground", "Which side of the threshold counts.")
    steps: int = setting(100, "Steps", "Number of steps of the curve.", ge=2, le=10_000, more=True)


def _curve(settings: CurveSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface, area = as_kind(inputs["surface"], Surface), optional(inputs, "area", Shapes)
    if area is not None:
        surface = crop_to_area(surface, in_system(area, surface.frame.crs))
    curve = curve_of(surface, settings.steps, settings.side, progress)
    low, high = surface.range or (0.0, 0.0)
    half = curve.columns["threshold"][int(np.argmin(np.abs(curve.columns["share"] - 0.5)))]
    findings = (
        Finding(HALF_AT, float(half), surface.unit),
        Finding("lowest", low, surface.unit),
        Finding("highest", high, surface.unit),
    )
    return Outcome(curve, f"half at {mark(float(half), surface.unit)}", findings)


threshold_curve = StepKind(
    kind="threshold_curve",
    example="surface=slope.tif",
    bench="classes",
    group="Bounds and classes",
    title="Threshold curve",
    question="How much ground passes as a threshold moves?",
    help="Area and share beyond each threshold, and the volume of lengths, for a grid or for areas.",
    formula="area(t) = Σ cell area where v ≥ t; volume(t) = Σ (v − t) × cell area there",
    words=("cumulative", "sensitivity", "area above", "exceedance", "cutoff", "how much above"),
    inputs=(
        InputSpec("surface", "surface", "Surface", "The values."),
        InputSpec("area", "shapes", "Areas", "Only the ground inside them.", True),
    ),
    settings=CurveSettings,
    gives="chart",
    run=_curve,
    around=near_shapes("area"),
    maps=True,
    memory=10,
    label=lambda s, names: f"Ground {s.side} each value of {names['surface']}",
)

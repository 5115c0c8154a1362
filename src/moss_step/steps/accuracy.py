"""How far a surface lies from heights that were measured otherwise."""

from __future__ import annotations

from typing import Literal

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.errors import MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, UNITS, Unit
from moss_step.science.interpolate.places import column_of, numbers_of
from moss_step.science.points.accuracy import accuracy
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, setting
from moss_step.steps.reach import near_shapes

_CHECKED = declared("check_points", "Check points", MAIN)
_MEAN = declared("mean_error", "Mean error", MAIN)
_RMSE = declared("rmse", "Root mean square error", MAIN)
_NSSDA = declared("nssda_95", "Within it lie 95 % (FGDC 1998)", USUAL)
_PERCENTILE = declared("percentile_95", "Percentile 95 of errors", USUAL)
_FEW = 30
"""Check points that the standard of 2023 asks for at the least."""


class CheckSettings(Settings):
    """Settings of check_heights."""

    column: str | None = setting(
        None, "Column of heights", "Of the check points; left out, z, height, elevation, or a numeric name."
    )
    unit: Literal["as_surface", "metre", "foot", "us_survey_foot"] = setting(
        "as_surface", "Unit of check points", "That of the surface, unless it is stated."
    )
    group: str | None = setting(
        None, "Groups by", "A column such as the land cover: each of its values gets a row.", more=True
    )


def _check_heights(settings: CheckSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    points = in_system(as_kind(inputs["points"], Shapes), surface.frame.crs)
    progress.at(0.1, "Reading the surface at the check points")
    places = shapely.centroid(points.geometry)
    measured = numbers_of(points, settings.column) * (
        _unit_of(settings.unit, surface).factor / surface.unit.metres
    )
    off = values_at(surface, shapely.get_x(places), shapely.get_y(places)).astype(np.float64) - measured
    groups = None if settings.group is None else column_of(points, settings.group)
    known = int(np.isfinite(off).sum())
    if not known:
        raise MossError("No check point lies on the surface with a height.", "Take points within its ground.")
    table = accuracy(off, groups, surface.unit)
    symbols = {**points.symbols, "error": surface.unit.symbol}
    return _told(
        table, Shapes(points.geometry, {**points.columns, "error": off}, points.crs, symbols), surface, known
    )


def _told(table: Table, points: Shapes, surface: Surface, known: int) -> Outcome:
    def value(name: str) -> float:
        return float(table.columns[name][0])

    findings = (
        Finding(_CHECKED, known, COUNT),
        *(Finding(f, value(f), surface.unit) for f in (_MEAN, _RMSE, _NSSDA, _PERCENTILE)),
    )
    figure = f"RMSE {mark(value(_RMSE), surface.unit)}"
    warnings = []
    if lost := len(points) - known:
        warnings.append(f"{lost:,} check points have no height, or lie where the surface has none.")
    if known < _FEW:
        warnings.append(f"{known} check points are few: ASPRS 2023 asks for {_FEW}.")
    if abs(value(_MEAN)) > 0.5 * value(_RMSE) and known > 1:
        warnings.append("The errors lean to one side: 1.96 times the RMSE is then no bound of 95 in 100.")
    return Outcome(
        table, figure, findings, tuple(warnings), beside={"points": lambda: Outcome(points, figure, findings)}
    )


def _unit_of(name: str, surface: Surface) -> Unit:
    if name == "as_surface":
        return surface.unit if surface.unit.kind == "length" else UNITS["metre"]
    return UNITS[name]


check_heights = StepKind(
    kind="check_heights",
    around=near_shapes("points"),
    example="surface=ground.tif points=checks.gpkg group=cover",
    bench="points",
    group="From points to grids",
    title="Check heights",
    question="How far is the surface from heights that were measured?",
    help=(
        "Surface less check points: mean error, root mean square "
        "error, and what 95 in 100 lie within (FGDC 1998, "
        "ASPRS 2014 and 2023), for all and for each group."
    ),
    formula=(
        "error = surface (bilinear) − measured; rmse = √(Σ error² / "
        "n); nssda_95 = 1.9600 × rmse; percentile_95 = "
        "95th percentile of |error|; spread = √(Σ(error − mean)² / (n − 1))"
    ),
    words=(
        "accuracy",
        "rmse",
        "validation",
        "check points",
        "vertical error",
        "quality",
        "nssda",
        "survey control",
    ),
    inputs=(
        InputSpec("surface", "surface", "Surface", "The heights to judge."),
        InputSpec(
            "points", "shapes", "Check points", "Places with heights that were measured.", shapes="points"
        ),
    ),
    settings=CheckSettings,
    gives="table",
    run=_check_heights,
    label=lambda s, names: f"{names['surface']} at {names['points']}",
    memory=lambda s, inputs: 400.0 * len(as_kind(inputs["points"], Shapes)),
    main="Errors",
    beside=(
        ResultSpec("points", "shapes", "Points with errors", "The check points with the error of each."),
    ),
    staple=8,
)

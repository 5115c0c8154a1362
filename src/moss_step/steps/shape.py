"""Shape: slope, aspect and hillshade of a ground."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.findings import Finding
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import SHARE
from moss_step.science.relief.gradient import aspect as derive_aspect
from moss_step.science.relief.gradient import flat_share
from moss_step.science.relief.gradient import hillshade as derive_hillshade
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.steps.declare import Inputs, InputSpec, Outcome, Settings, StepKind, setting
from moss_step.steps.results import surface_outcome

DEM = InputSpec("dem", "surface", "Ground", "The elevation grid.", quantity="elevation")
EDGES = "At edges and beside no-data the differences use the cells that exist."
_METHOD_HELP = "horn weighs eight neighbours, calmer on noise; quadratic fits four, sharper on smooth ground."


def ground(inputs: Inputs) -> Surface:
    """Give the elevation input."""
    dem = inputs["dem"]
    assert isinstance(dem, Surface)  # noqa: S101 - checked against the declaration
    return dem


class SlopeSettings(Settings):
    """Settings of slope."""

    unit: Literal["degrees", "percent"] = setting("degrees", "Unit", "45 degrees is 100 percent.")
    method: Literal["horn", "quadratic"] = setting("horn", "Differences", _METHOD_HELP)
    z_factor: float = setting(1.0, "Vertical exaggeration", "Heights are multiplied by this first.", gt=0, le=1000)


def _slope(settings: SlopeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    result = derive_slope(ground(inputs), settings.unit, settings.method, settings.z_factor, progress)
    return surface_outcome(result, (EDGES,))


slope = StepKind(
    kind="slope",
    bench="shape",
    title="Slope",
    question="How steep is the ground?",
    help="Steepness of every cell, by differences after Horn 1981 or the fit of Zevenbergen & Thorne 1987.",
    words=("steepness", "gradient", "incline", "inclination", "angle", "percent", "grade", "fall"),
    inputs=(DEM,),
    settings=SlopeSettings,
    gives="surface",
    run=_slope,
    label=lambda s, names: f"Slope, {s.unit}, of {names['dem']}",
)


class AspectSettings(Settings):
    """Settings of aspect."""

    method: Literal["horn", "quadratic"] = setting("horn", "Differences", _METHOD_HELP)


def _aspect(settings: AspectSettings, inputs: Inputs, progress: Progress) -> Outcome:
    result = derive_aspect(ground(inputs), settings.method, progress)
    flat = flat_share(result)
    outcome = surface_outcome(result, (EDGES,))
    findings = (Finding("flat_share", flat, SHARE), *(f for f in outcome.findings if f.name == "cells"))
    return Outcome(result, f"{flat:.1%} flat" if flat else "no flat cells", findings, outcome.warnings)


aspect = StepKind(
    kind="aspect",
    bench="shape",
    title="Aspect",
    question="Which way does the ground face?",
    help="Direction of steepest descent in degrees clockwise from north; flat cells hold -1 in files.",
    words=("direction", "facing", "exposure", "orientation", "bearing", "sun", "north", "south"),
    inputs=(DEM,),
    settings=AspectSettings,
    gives="surface",
    run=_aspect,
    label=lambda s, names: f"Aspect of {names['dem']}",
)


class HillshadeSettings(Settings):
    """Settings of hillshade."""

    azimuth: float = setting(315.0, "Light from", "Bearing of the light, clockwise from north.", unit="°", ge=0, le=360)
    altitude: float = setting(45.0, "Light height", "Angle of the light above the horizon.", unit="°", ge=0, le=90)
    z_factor: float = setting(1.0, "Vertical exaggeration", "Heights are multiplied by this first.", gt=0, le=1000)


def _hillshade(settings: HillshadeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    shade = derive_hillshade(ground(inputs), settings.azimuth, settings.altitude, settings.z_factor, progress)
    outcome = surface_outcome(shade, (EDGES, "A picture for the eye: 0 is dark, 255 is light. It measures nothing."))
    dark = float(np.count_nonzero(shade.values == 0)) / max(shade.valid_count, 1)
    return Outcome(
        shade,
        f"light {settings.azimuth:g}° / {settings.altitude:g}°",
        (*outcome.findings, Finding("share_unlit", dark, SHARE)),
        outcome.warnings,
    )


hillshade = StepKind(
    kind="hillshade",
    bench="shape",
    title="Hillshade",
    question="How does light fall on the ground?",
    help="Shading by a lamp at a bearing and height above the horizon, for the eye.",
    words=("shading", "relief shading", "shaded relief", "light", "sun", "illumination"),
    inputs=(DEM,),
    settings=HillshadeSettings,
    gives="surface",
    run=_hillshade,
    label=lambda s, names: f"Hillshade of {names['dem']}",
)

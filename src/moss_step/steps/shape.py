"""Shape: slope, aspect and hillshade of a ground."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import SHARE
from moss_step.science.relief import shading
from moss_step.science.relief.gradient import aspect as derive_aspect
from moss_step.science.relief.gradient import flat_share
from moss_step.science.relief.gradient import hillshade as derive_hillshade
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, setting
from moss_step.steps.reach import NEIGHBOURS
from moss_step.steps.results import class_outcome, surface_outcome

DEM = InputSpec("dem", "surface", "Ground", "The elevation grid.", quantity="elevation")
EDGES = "At edges and beside no-data the differences use the cells that exist."
GRID_NORTH = "Bearings run clockwise from the grid's north."
_METHOD_HELP = (
    "`horn` weighs eight neighbours, calmer on noise; `quadratic` fits four, sharper on smooth ground."
)


def ground(inputs: Inputs) -> Surface:
    """Give the elevation input."""
    return as_kind(inputs["dem"], Surface)


class SlopeSettings(Settings):
    """Settings of slope."""

    unit: Literal["degrees", "percent"] = setting("degrees", "Unit", "45 degrees is 100 percent.")
    method: Literal["horn", "quadratic"] = setting("horn", "Differences", _METHOD_HELP, more=True)
    z_factor: float = setting(
        1.0,
        "Vertical exaggeration",
        "Heights are multiplied by this first.",
        gt=0,
        le=1000,
        more=True,
    )


def _slope(settings: SlopeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    result = derive_slope(ground(inputs), settings.unit, settings.method, settings.z_factor, progress)
    return surface_outcome(result, (EDGES,))


slope = StepKind(
    kind="slope",
    bench="shape",
    group="Steepness and direction",
    title="Slope",
    question="How steep is the ground?",
    help="Steepness of every cell, by differences after Horn 1981 or the fit of Zevenbergen & Thorne 1987.",
    formula="slope = atan √(p² + q²), or 100 √(p² + q²) percent; Horn: p = ((c + 2f + i) − (a + 2d + g)) "
    "/ 8dx, q = ((a + 2b + c) − (g + 2h + i)) / 8dy for neighbours a b c / d · f / g h i; "
    "quadratic: p = (f − d) / 2dx, q = (b − h) / 2dy",
    words=("steepness", "gradient", "incline", "inclination", "angle", "percent", "grade", "fall"),
    inputs=(DEM,),
    settings=SlopeSettings,
    gives="surface",
    run=_slope,
    staple=1,
    reach=NEIGHBOURS,
    memory=6,
    label=lambda s, names: f"Slope, {s.unit}, of {names['dem']}",
)


class AspectSettings(Settings):
    """Settings of aspect."""

    method: Literal["horn", "quadratic"] = setting("horn", "Differences", _METHOD_HELP)


def _aspect(settings: AspectSettings, inputs: Inputs, progress: Progress) -> Outcome:
    return _told_aspect(settings, derive_aspect(ground(inputs), settings.method, progress))


def _told_aspect(_: AspectSettings, result: Surface) -> Outcome:
    flat = flat_share(result)
    outcome = surface_outcome(result, (EDGES, GRID_NORTH))
    findings = (Finding("flat_share", flat, SHARE), *(f for f in outcome.findings if f.name == "cells"))
    return Outcome(result, f"{flat:.1%} flat" if flat else "no flat cells", findings, outcome.warnings)


aspect = StepKind(
    kind="aspect",
    bench="shape",
    group="Steepness and direction",
    title="Aspect",
    question="Which way does the ground face?",
    help="Direction of steepest descent in degrees clockwise from grid north; flat cells hold -1 in files.",
    formula="aspect = atan2(−p, −q) clockwise from the grid's north, with p to the east and q to the north",
    words=("direction", "facing", "exposure", "orientation", "bearing", "sunny side", "north", "south"),
    inputs=(DEM,),
    settings=AspectSettings,
    gives="surface",
    run=_aspect,
    tells=_told_aspect,
    staple=2,
    reach=NEIGHBOURS,
    memory=7,
    label=lambda s, names: f"Aspect of {names['dem']}",
)


class HillshadeSettings(Settings):
    """Settings of hillshade."""

    azimuth: float = setting(
        315.0, "Light from", "Bearing of the light, clockwise from north.", unit="°", ge=0, le=360
    )
    altitude: float = setting(
        45.0, "Light height", "Angle of the light above the horizon.", unit="°", ge=0, le=90
    )
    z_factor: float = setting(
        1.0,
        "Vertical exaggeration",
        "Heights are multiplied by this first.",
        gt=0,
        le=1000,
        more=True,
    )


def _hillshade(settings: HillshadeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    s = settings
    return _told_shade(s, derive_hillshade(ground(inputs), s.azimuth, s.altitude, s.z_factor, progress))


def _told_shade(settings: HillshadeSettings, shade: Surface) -> Outcome:
    outcome = surface_outcome(
        shade, (EDGES, "A picture for the eye: 0 is dark, 255 is light. It measures nothing.")
    )
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
    group="Light",
    title="Hillshade",
    question="How does light fall on the ground?",
    help="Shading by a lamp at a bearing and height above the horizon, for the eye.",
    formula="light = 255 max(0, cos i), cos i = (sin A − cos A (p sin B + q cos B)) / √(1 + p² + q²), "
    "for a lamp A above the horizon on bearing B",
    words=("shading", "relief shading", "shaded relief", "light", "sun", "illumination"),
    inputs=(DEM,),
    settings=HillshadeSettings,
    gives="surface",
    run=_hillshade,
    tells=_told_shade,
    staple=3,
    reach=NEIGHBOURS,
    memory=7,
    label=lambda s, names: f"Hillshade of {names['dem']}",
)


class LightsSettings(Settings):
    """Settings of several_lights."""

    altitude: float = setting(
        30.0, "Light height", "Angle of the lights above the horizon.", unit="°", ge=0, le=90
    )
    z_factor: float = setting(
        1.0,
        "Vertical exaggeration",
        "Heights are multiplied by this first.",
        gt=0,
        le=1000,
        more=True,
    )


def _several_lights(settings: LightsSettings, inputs: Inputs, progress: Progress) -> Outcome:
    shade = shading.several_lights(ground(inputs), settings.altitude, settings.z_factor, progress)
    return surface_outcome(
        shade, (EDGES, "A picture for the eye: 0 is dark, 255 is light. It measures nothing.")
    )


several_lights = StepKind(
    kind="several_lights",
    bench="shape",
    group="Light",
    title="Several lights",
    question="What does light from several sides show?",
    help=(
        "Shading by four lamps from the west and north, each weighed by how far across it the slope faces "
        "(Mark 1992)."
    ),
    formula="light = Σ wₖ lightₖ / Σ wₖ, wₖ = sin²(aspect − bearingₖ), bearings 225°, 270°, 315°, 360°",
    words=("multidirectional hillshade", "shading", "relief shading", "oblique-weighted", "lamps"),
    inputs=(DEM,),
    settings=LightsSettings,
    gives="surface",
    run=_several_lights,
    reach=NEIGHBOURS,
    memory=26,
    label=lambda s, names: f"Several lights on {names['dem']}",
)


class TintSettings(Settings):
    """Settings of relief_tint."""

    interval: float | None = setting(
        None, "Interval", "Height of a band in the ground's unit; a round one when left out.", gt=0
    )
    base: float = setting(0.0, "Base", "A height that a band begins at.", more=True)


def _relief_tint(settings: TintSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Tinting")
    dem = ground(inputs)
    return class_outcome(shading.relief_tint(dem, settings.interval, settings.base), dem.valid_count)


relief_tint = StepKind(
    kind="relief_tint",
    bench="shape",
    group="Heights",
    title="Relief tint",
    question="Which ground lies in which band of height?",
    help="Bands of height in tints from low to high, with the area of each.",
    formula="band = ⌊(z − base) / interval⌋",
    words=("hypsometric tint", "layer tint", "elevation bands", "height zones", "elevation classes"),
    inputs=(DEM,),
    settings=TintSettings,
    gives="classes",
    run=_relief_tint,
    maps=True,
    memory=27,
    label=lambda s, names: f"Relief tint of {names['dem']}",
)

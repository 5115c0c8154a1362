"""Shape, continued: curvature, ruggedness, roughness, position, landforms, relief, openness, hypsometry."""

from __future__ import annotations

from typing import Literal

from moss_step.formats.vector import in_system
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.units import NONE
from moss_step.model.words import measured
from moss_step.science.regrid import crop_to_area
from moss_step.science.relief import hypsometry as hypsometric
from moss_step.science.relief import neighbourhood
from moss_step.science.relief import openness as open_sky
from moss_step.science.relief.curvature import curvature as derive_curvature
from moss_step.science.relief.position import disk_reach, landforms, local_relief
from moss_step.science.relief.position import position as derive_position
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, optional, setting
from moss_step.steps.reach import NEIGHBOURS, near_shapes, within
from moss_step.steps.results import class_outcome, surface_outcome
from moss_step.steps.shape import DEM, ground


class CurvatureSettings(Settings):
    """Settings of curvature."""

    kind: Literal["profile", "plan", "tangential", "mean"] = setting(
        "profile",
        "Direction",
        "`profile`: along the slope; `plan`: along the contour; `tangential`: across the slope; `mean`: of "
        "all.",
    )


def _curvature(settings: CurvatureSettings, inputs: Inputs, progress: Progress) -> Outcome:
    result = derive_curvature(ground(inputs), settings.kind, progress)
    return surface_outcome(result, ("Convex is positive. Cells without eight neighbours have none.",))


curvature = StepKind(
    kind="curvature",
    bench="shape",
    group="Form of the ground",
    title="Curvature",
    question="Where does the ground bend?",
    help=(
        "Bending of the ground in 1/m, convex positive, from the quadratic fitted to 3 x 3 cells (Evans "
        "1980)."
    ),
    formula="profile = −(p²r + 2pqs + q²t) / ((p² + q²)(1 + p² + q²)^1.5); plan = −(q²r − 2pqs + p²t) / "
    "(p² + q²)^1.5; tangential = −(q²r − 2pqs + p²t) / ((p² + q²)(1 + p² + q²)^0.5); mean = −((1 "
    "+ q²)r − 2pqs + (1 + p²)t) / (2(1 + p² + q²)^1.5), of z = rx²/2 + sxy + ty²/2 + px + qy + c",
    words=(
        "convexity",
        "concavity",
        "bend",
        "profile curvature",
        "plan curvature",
        "convergence",
        "divergence",
    ),
    inputs=(DEM,),
    settings=CurvatureSettings,
    gives="surface",
    run=_curvature,
    staple=4,
    reach=NEIGHBOURS,
    memory=6,
    label=lambda s, names: f"{s.kind.capitalize()} curvature of {names['dem']}",
)


class RuggednessSettings(Settings):
    """Settings of ruggedness."""

    method: Literal["riley", "mean_absolute"] = setting(
        "riley",
        "Measure",
        "`riley`: root of the summed squared differences to eight neighbours; `mean_absolute`: their mean.",
    )


def _ruggedness(settings: RuggednessSettings, inputs: Inputs, progress: Progress) -> Outcome:
    return surface_outcome(neighbourhood.ruggedness(ground(inputs), settings.method, progress))


ruggedness = StepKind(
    kind="ruggedness",
    bench="shape",
    group="Form of the ground",
    title="Ruggedness",
    question="How rugged is the ground?",
    help=(
        "How much a cell differs from its neighbours (Riley, DeGloria & Elliot 1999, or the mean absolute "
        "difference)."
    ),
    formula="Riley: √Σ(zᵢ − z)²; mean: Σ|zᵢ − z| / 8, over the eight neighbours",
    words=("tri", "terrain ruggedness index", "rugged", "heterogeneity", "rough"),
    inputs=(DEM,),
    settings=RuggednessSettings,
    gives="surface",
    run=_ruggedness,
    reach=NEIGHBOURS,
    memory=6,
    label=lambda s, names: f"Ruggedness of {names['dem']}",
)


class NoSettings(Settings):
    """A step without settings."""


def _roughness(settings: NoSettings, inputs: Inputs, progress: Progress) -> Outcome:
    return surface_outcome(neighbourhood.roughness(ground(inputs), progress))


roughness = StepKind(
    kind="roughness",
    bench="shape",
    group="Form of the ground",
    title="Roughness",
    question="How much do heights vary from cell to cell?",
    help="Highest less lowest of a cell and its eight neighbours.",
    formula="max(z, zᵢ) − min(z, zᵢ) over the eight neighbours",
    words=("range", "variability", "texture"),
    inputs=(DEM,),
    settings=NoSettings,
    gives="surface",
    run=_roughness,
    reach=NEIGHBOURS,
    memory=6,
    label=lambda s, names: f"Roughness of {names['dem']}",
)


class PositionSettings(Settings):
    """Settings of position."""

    radius: float = setting(100.0, "Radius", "How far around each cell to look.", unit="m", gt=0)
    window: Literal["disk", "ring"] = setting(
        "disk", "Around", "`disk`: all ground within the radius; `ring`: without the middle."
    )
    inner: float = setting(
        0.0,
        "Inner radius",
        "Ground nearer than this is left out of a ring.",
        unit="m",
        ge=0,
        when={"window": ("ring",)},
        more=True,
    )
    standardised: bool = setting(
        False,
        "Standardised",
        "Divide by the standard deviation of the heights around.",
        more=True,
    )


def _position(settings: PositionSettings, inputs: Inputs, progress: Progress) -> Outcome:
    s = settings
    return surface_outcome(
        derive_position(ground(inputs), s.radius, s.window, s.inner, s.standardised, progress)
    )


position = StepKind(
    kind="position",
    bench="shape",
    group="Place in the ground",
    title="Position",
    question="Does a place lie above or below the ground around it?",
    help="Height less the mean height around (Weiss 2001): ridges are positive, valleys negative.",
    formula="position = z − mean(z within the radius); standardised: that / deviation(z within the radius)",
    words=("tpi", "topographic position index", "relative height", "ridge", "valley", "exposure"),
    inputs=(DEM,),
    settings=PositionSettings,
    gives="surface",
    run=_position,
    reach=within(lambda s: disk_reach(s.radius)),
    memory=36,
    label=lambda s, names: f"Position within {s.radius:g} m, of {names['dem']}",
)


class LandformSettings(Settings):
    """Settings of landform."""

    small: float = setting(50.0, "Small radius", "For ridges and drainages.", unit="m", gt=0)
    large: float = setting(250.0, "Large radius", "For mountains and valleys.", unit="m", gt=0)


def _landform(settings: LandformSettings, inputs: Inputs, progress: Progress) -> Outcome:
    result = landforms(ground(inputs), settings.small, settings.large, progress)
    return class_outcome(result, result.valid_count)


landform = StepKind(
    kind="landform", bench="shape",
    group="Place in the ground",
    title="Landforms", question="Which landforms are there?",
    help="Ten landforms from position at two radii and slope (Weiss 2001, Jenness 2006).",
    formula="codes from (z − mean within small) and (z − mean within large), each over its own "
    "deviation, at bounds −1 and 1; plain below 5° of slope",
    words=("geomorphology", "ridge", "valley", "plain", "classification", "slope position"),
    inputs=(DEM,), settings=LandformSettings, gives="classes", run=_landform,
    maps=True, memory=32,
    label=lambda s, names: f"Landforms of {names['dem']}",
)  # fmt: skip


class ReliefSettings(Settings):
    """Settings of relief."""

    radius: float = setting(
        100.0,
        "Radius",
        "How far the square reaches to each side: cells whose centres lie in it count.",
        unit="m",
        gt=0,
    )


def _relief(settings: ReliefSettings, inputs: Inputs, progress: Progress) -> Outcome:
    return surface_outcome(local_relief(ground(inputs), settings.radius, progress))


relief = StepKind(
    kind="relief",
    bench="shape",
    group="Place in the ground",
    title="Local relief",
    question="How much height is there around each place?",
    help="Highest less lowest height in a square around each cell.",
    formula="max(z) − min(z) over the square of twice the radius",
    words=("relief energy", "range", "relative relief"),
    inputs=(DEM,),
    settings=ReliefSettings,
    gives="surface",
    run=_relief,
    reach=within(lambda s: s.radius),
    memory=26,
    label=lambda s, names: f"Relief within {s.radius:g} m, of {names['dem']}",
)


class OpennessSettings(Settings):
    """Settings of openness."""

    radius: float = setting(100.0, "Radius", "How far to look in eight directions.", unit="m", gt=0)
    side: Literal["positive", "negative"] = setting(
        "positive", "Side", "`positive`: towards the sky; `negative`: into the ground."
    )


def _openness(settings: OpennessSettings, inputs: Inputs, progress: Progress) -> Outcome:
    result = open_sky.openness(ground(inputs), settings.radius, settings.side == "positive", progress)
    return surface_outcome(result)


openness = StepKind(
    kind="openness", bench="shape",
    group="Place in the ground",
    title="Openness", question="How open is the ground to the sky?",
    help="Mean angle to the horizon in eight directions (Yokoyama, Shirasawa & Pike 2002).",
    formula="90° − mean over eight bearings of max(atan((zᵢ − z) / distance)); negative: of the ground "
    "turned over",
    words=("sky view", "horizon", "enclosure", "visibility"),
    inputs=(DEM,), settings=OpennessSettings, gives="surface", run=_openness,
    reach=within(lambda s: s.radius),
    memory=6,
    label=lambda s, names: f"{s.side.capitalize()} openness of {names['dem']}",
)  # fmt: skip


class HypsometrySettings(Settings):
    """Settings of hypsometry."""

    steps: int = setting(100, "Steps", "Number of steps of the curve.", ge=2, le=10_000, more=True)


def _hypsometry(settings: HypsometrySettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Adding up heights")
    dem, area = ground(inputs), optional(inputs, "area", Shapes)
    if area is not None:
        dem = crop_to_area(dem, in_system(area, dem.frame.crs))
    table, integral = hypsometric.hypsometry(dem, settings.steps, progress)
    low, high = dem.range or (0.0, 0.0)
    findings = (
        Finding("integral", integral, NONE),
        Finding("lowest", low, dem.unit),
        Finding("highest", high, dem.unit),
    )
    return Outcome(table, f"integral {measured(integral)}", findings)


hypsometry = StepKind(
    kind="hypsometry",
    bench="shape",
    group="Heights",
    title="Hypsometric curve",
    question="How much of the ground lies above each height?",
    help="Share of the area above each height, and its integral (Strahler 1952), for the grid or for areas.",
    formula="a(h) = area with z ≥ h / whole area; integral = (mean − lowest) / (highest − lowest)",
    words=("hypsometric integral", "elevation distribution", "strahler", "curve", "maturity"),
    inputs=(
        DEM,
        InputSpec("area", "shapes", "Areas", "Only the ground inside them.", optional=True, shapes="areas"),
    ),
    settings=HypsometrySettings,
    gives="chart",
    run=_hypsometry,
    around=near_shapes("area"),
    maps=True,
    memory=10,
    label=lambda s, names: f"Hypsometric curve of {names['dem']}",
)

"""Water: indices, height above drain, floods and ponds."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.chart import Chart
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.mapped import blocks_of
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import CUBIC_METRE, SQUARE_METRE
from moss_step.model.words import measured
from moss_step.science.water import indices, network, pond
from moss_step.science.water.accumulation import FlowMethod
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import BoxField
from moss_step.steps.results import surface_outcome
from moss_step.steps.shape import DEM, ground
from moss_step.steps.water import EXPONENT, FILLED_FIRST, METHODS, STREAM_AREA, drainage_of, stream_area

# --- indices

OF_WETNESS = (FILLED_FIRST, f"Level cells are given a slope of {indices.LEAST_SLOPE:g}.")


class WetnessSettings(Settings):
    """Settings of wetness."""

    method: FlowMethod = setting("dinf", "Method", METHODS)
    exponent: float = EXPONENT


def _wetness(settings: WetnessSettings, inputs: Inputs, progress: Progress) -> Outcome:
    result = indices.wetness(
        drainage_of(inputs, progress.part(0.0, 0.7)),
        settings.method,
        settings.exponent,
        progress.part(0.7, 1.0),
    )
    return surface_outcome(result, OF_WETNESS)


wetness = StepKind(
    kind="wetness",
    bench="water",
    group="Wet and worn ground",
    title="Wetness",
    question="Which ground stays wet?",
    help=(
        "Topographic wetness index, ln of the area upstream of a metre of contour over the slope (Beven & "
        "Kirkby 1979)."
    ),
    formula="ln(a / tan β), a = area upstream / √(cell area), tan β not below 0.001",
    words=("twi", "topographic wetness index", "compound topographic index", "soil moisture", "saturation"),
    inputs=(DEM,),
    settings=WetnessSettings,
    gives="surface",
    run=_wetness,
    memory=36,
    label=lambda s, names: f"Wetness of {names['dem']}",
    look={"ramp": "water"},
)


class PowerSettings(Settings):
    """Settings of stream_power."""

    index: indices.Power = setting(
        "power",
        "Index",
        "`power`: area a metre times slope; `sediment`: transport capacity; `length_slope`: LS factor.",
    )
    method: FlowMethod = setting("dinf", "Method", METHODS, more=True)
    exponent: float = EXPONENT


def _stream_power(settings: PowerSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.7))
    result = indices.stream_power(
        drainage, settings.index, settings.method, settings.exponent, progress.part(0.7, 1.0)
    )
    return surface_outcome(result, (FILLED_FIRST,))


stream_power = StepKind(
    kind="stream_power",
    bench="water",
    group="Wet and worn ground",
    title="Stream power",
    question="Where can water wear the ground away?",
    help="Stream power, sediment transport capacity, or the length-slope factor (Moore & Burch 1986).",
    formula="power = a tan β; transport = (a / 22.13)^0.6 (sin β / 0.0896)^1.3; length-slope = (a / "
    "22.13)^0.4 (sin β / 0.0896)^1.3",
    words=("spi", "erosion", "sediment transport index", "ls factor", "length slope", "rusle", "gully"),
    inputs=(DEM,),
    settings=PowerSettings,
    gives="surface",
    run=_stream_power,
    memory=32,
    label=lambda s, names: f"{s.index.replace('_', ' ').capitalize()} index of {names['dem']}",
)


NO_DRAIN = "Ground whose water leaves without meeting a drain has no value."


class DrainHeightSettings(Settings):
    """Settings of drain_height."""

    min_area: float | None = setting(None, "Least area", STREAM_AREA, gt=0)


def _drain_height(settings: DrainHeightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.7))
    area = stream_area(settings.min_area, drainage)
    result = indices.drain_height(
        drainage,
        network.stream_cells(drainage, area, progress=progress.part(0.7, 0.8)),
        progress.part(0.8, 1.0),
    )
    outcome = surface_outcome(result, (FILLED_FIRST, NO_DRAIN))
    return Outcome(
        result, outcome.figure, (*outcome.findings, Finding("min_area", area, SQUARE_METRE)), outcome.warnings
    )


drain_height = StepKind(
    kind="drain_height",
    bench="water",
    group="Wet and worn ground",
    title="Height above drain",
    question="How high does ground stand above its stream?",
    help="Height of each cell above the stream that its water first meets (Rennó et al. 2008).",
    formula="z − z(first stream cell on the way down)",
    words=("hand", "height above nearest drainage", "flood", "terrace", "relative elevation", "inundation"),
    inputs=(DEM,),
    settings=DrainHeightSettings,
    gives="surface",
    run=_drain_height,
    memory=38,
    label=lambda s, names: f"Height above drain of {names['dem']}",
)

ABOVE_DRAIN = InputSpec(
    "above", "surface", "Height above drain", "From the step of that name.", quantity="drain_height"
)


class FloodSettings(Settings):
    """Settings of flood."""

    stage: float = setting(
        1.0,
        "Stage",
        "Height of the water above the drains, in the unit of the heights.",
        gt=0,
        control="slider",
    )


def _flood(settings: FloodSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.2, "Flooding")
    above = as_kind(inputs["above"], Surface)
    result = indices.flooded(above, settings.stage)
    if result.valid_count == 0:
        raise MossError("Nothing is flooded.", "Raise the stage.")
    deep = [np.nansum(result.values[rows], axis=1, dtype=np.float64) for rows in blocks_of(result.values)]
    volume = float((np.concatenate(deep) * result.frame.row_areas).sum()) * result.metres_per_height
    area = result.area
    outcome = surface_outcome(
        result,
        (
            "Water stands at one height above its drain everywhere: a picture of exposure, not of a flood "
            "wave.",
        ),
    )
    findings = (
        Finding("area_m2", area, SQUARE_METRE),
        Finding("volume_m3", volume, CUBIC_METRE),
        *outcome.findings,
    )
    return Outcome(result, f"{mark(area, SQUARE_METRE)} flooded", findings, outcome.warnings)


flood = StepKind(
    kind="flood",
    example="above=above_water.tif stage=2",
    bench="water",
    group="Standing water",
    title="Flood stage",
    question="Which ground lies under a rise of the streams?",
    help="Ground lower than a stage above its nearest drain, with depth, area and volume.",
    formula="depth = stage − (z − z(first stream cell on the way down)), where above 0",
    words=("inundation", "flood level", "stage", "flood map", "exposure"),
    inputs=(ABOVE_DRAIN,),
    settings=FloodSettings,
    gives="surface",
    run=_flood,
    maps=True,
    memory=29,
    label=lambda s, names: f"Flooded at {s.stage:g}",
    look={"ramp": "water"},
)


# --- ponds


class PondSettings(Settings):
    """Settings of pond."""

    line: BoxField | None = setting(
        None,
        "Bund",
        "From and to[[: x1,y1,x2,y2]]. Or give a line from a file.",
        control="line",
        without_input="bund",
    )
    crest: float = setting(..., "Crest", "Height of the top of the bund, in the unit of the ground.")


def _bund(settings: PondSettings, inputs: Inputs, dem: Surface) -> Any:
    bund = optional(inputs, "bund", Shapes)
    if bund is not None:
        return shapely.union_all(in_system(bund, dem.frame.crs).geometry)
    if settings.line is None:
        raise AskedWronglyError(
            "`pond` needs a bund.", "Draw its line on the plan.", "Give line=x1,y1,x2,y2 or bund=FILE."
        )
    x1, y1, x2, y2 = settings.line
    return shapely.LineString([(x1, y1), (x2, y2)])


def _pond(settings: PondSettings, inputs: Inputs, progress: Progress) -> Outcome:
    dem = ground(inputs)
    result, bed = pond.ponded(dem, _bund(settings, inputs, dem), settings.crest, progress)
    stages, area, volume = pond.storage_curve(dem, bed, result)
    curve = Chart(
        {"stage": stages, "area_m2": area, "volume_m3": volume},
        {"stage": dem.unit, "area_m2": SQUARE_METRE, "volume_m3": CUBIC_METRE},
        "stage",
        ("volume_m3",),
    )
    said = _pond_figures(dem, bed, result, settings.crest, curve)
    return Outcome(result, *said, beside={"curve": lambda: Outcome(curve, *said)})


def _pond_figures(
    dem: Surface, bed: Surface, result: Surface, crest: float, curve: Chart
) -> tuple[str, tuple[Finding, ...], tuple[str, ...]]:  # fmt: skip
    stages, area, volume = curve.columns.values()
    level, before = float(stages[-1]), pond.standing_before(dem, bed, result)
    stood = (
        (f"{measured(before)} m³ of water stood there before, and are not counted in the volume.",)
        if before > 0
        else ()
    )
    spills = (
        (f"The water spills beside the bund at {level:.2f} {dem.unit.symbol}, below the crest.",)
        if level < crest - 1e-3
        else ()
    )
    findings = (
        Finding("area_m2", float(area[-1]), SQUARE_METRE),
        Finding("volume_m3", float(volume[-1]), CUBIC_METRE),
        Finding("volume_before_m3", before, CUBIC_METRE),
        Finding("level", level, dem.unit),
        Finding("deepest", float(np.nanmax(result.values)), dem.unit),
    )
    return f"{measured(float(volume[-1]))} m³", findings, (*spills, *stood)


_BUND = InputSpec(
    "bund", "shapes", "Bund from file", "Lines that the bund follows.", optional=True, shapes="lines"
)
pond_step = StepKind(
    kind="pond",
    example="line=412700,5870600,413100,5870700 crest=486 -o curve=storage.csv",
    bench="water",
    group="Standing water",
    title="Pond",
    question="How much water would a bund hold?",
    help=(
        "Depth, extent and volume of the water that a bund with its crest at a height adds to what stands "
        "there."
    ),
    formula="depth = min(crest, where it spills) − bed, where above 0; volume = Σ depth × cell area",
    words=(
        "dam",
        "reservoir",
        "impoundment",
        "retention",
        "bund",
        "storage",
        "stage storage",
        "elevation capacity",
        "rating",
        "reservoir curve",
    ),
    inputs=(DEM, _BUND),
    settings=PondSettings,
    gives="surface",
    run=_pond,
    memory=53,
    label=lambda s, names: f"Pond at {s.crest:g}",
    look={"ramp": "water"},
    main="Depth",
    beside=(
        ResultSpec(
            "curve",
            "chart",
            "Storage",
            "Area and volume of the pond at every stage up to the crest.",
            was="pond_curve",
        ),
    ),
)

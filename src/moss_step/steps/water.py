"""Water: depressions, directions, accumulation and flow length, and what all steps about water share."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Literal

import numpy as np

from moss_step.formats.vector import in_system
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import BEARING, CELLS, COUNT, CUBIC_METRE, METRE, SHARE, SQUARE_METRE, Unit
from moss_step.science.water import depressions as hollows
from moss_step.science.water import trace
from moss_step.science.water.accumulation import CONVERGENCE, FlowMethod
from moss_step.science.water.directions import flow_bearings
from moss_step.science.water.drainage import Drainage, accumulated, prepare
from moss_step.science.water.kernels.neighbours import NONE as NO_WAY
from moss_step.science.water.kernels.neighbours import OUT
from moss_step.science.zones.outlines import number_areas
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.results import surface_outcome, unweighted_told, without_weight
from moss_step.steps.shape import DEM, GRID_NORTH, ground

FILLED_FIRST = "Depressions hold no water back: each runs on over its lowest pass."
EXPONENT = setting(
    CONVERGENCE,
    "Exponent",
    "Power of the slope in the shares of `freeman`: higher gathers water, lower spreads it (Freeman 1991: "
    "1.1).",
    when={"method": ("freeman",)},
    gt=0,
    le=20,
    more=True,
)
_ROWS = 256
METHODS = (
    "`d8`: all to the steepest neighbour; `freeman`: to all lower ones by slope; `dinf`: to the two of the "
    "steepest facet."
)


def drainage_of(inputs: Inputs, progress: Progress) -> Drainage:
    """The ground of a step, prepared for water."""
    return prepare(ground(inputs), progress)


def symbol_of(drainage: Drainage) -> str:
    """Symbol of the unit of the heights."""
    return drainage.dem.unit.symbol


STREAM_AREA = (
    "Ground in m² that makes a stream; left out, a 400th of the ground that has heights, in whole "
    "hectares and at least 1 ha."
)


def stream_area(least: float | None, drainage: Drainage) -> float:
    """Area that makes a stream in a ground, as ``stream_area_of`` says."""
    return least if least is not None else stream_area_of(drainage.dem.area)


def stream_area_of(area: float) -> float:
    """Area that makes a stream when none is given: a 400th of the ground with heights in whole hectares, at
    least 1 ha.
    """
    return max(10_000.0, round(area / 400.0, -4))


# --- depressions


class DepressionSettings(Settings):
    """Settings of depressions."""

    least_depth: float = setting(
        0.0, "Least depth", "Shallower ones are left out; in the unit of the ground.", ge=0
    )
    least_area: float = setting(0.0, "Least area", "Smaller ones are left out.", unit="m²", ge=0)


def _depressions(settings: DepressionSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.6))
    result = hollows.lake_shapes(drainage, settings.least_depth, settings.least_area, progress.part(0.6, 1.0))
    return depressions_outcome(result, drainage.dem.unit)


def depressions_outcome(result: Shapes, unit: Unit) -> Outcome:
    """Depressions of a ground whose heights have a unit, with what is found."""
    depth = float(result.columns["depth"].max()) if len(result) else 0.0
    findings = (
        Finding("depressions", len(result), COUNT), Finding("deepest", depth, unit),
        Finding("area_m2", float(result.columns["area_m2"].sum()), SQUARE_METRE),
        Finding("volume_m3", float(result.columns["volume_m3"].sum()), CUBIC_METRE),
    )  # fmt: skip
    return Outcome(
        result,
        f"{len(result):,} depressions",
        findings,
        () if len(result) else ("The ground holds no water back.",),
    )


depressions = StepKind(
    kind="depressions",
    bench="water",
    group="Ready for water",
    title="Depressions",
    question="Where does the ground hold water back?",
    help=(
        "Areas that would fill before they spill, with depth, area, volume, level and the point where "
        "each spills."
    ),
    formula="depth = filled − z > 0, filled = the least, over all ways out, of the highest ground on the "
    "way; volume = Σ depth × cell area",
    words=("sinks", "pits", "hollows", "closed depressions", "potholes", "lakes", "ponding"),
    inputs=(DEM,),
    settings=DepressionSettings,
    gives="shapes",
    run=_depressions,
    staple=1,
    memory=100,
    label=lambda s, names: f"Depressions of {names['dem']}",
)


class FillDepressionSettings(Settings):
    """Settings of fill_depressions."""

    gradient: float = setting(
        0.0, "Gradient", "Least rise from where it spills, metres a metre; 0 fills level.", ge=0, le=0.1
    )
    keep_depth: float | None = setting(
        None,
        "Keep from depth",
        "Depressions this deep stay as real lakes; in the unit of the ground.",
        gt=0,
        more=True,
    )
    keep_area: float | None = setting(
        None,
        "Keep from area",
        "Depressions this large in m² stay as real lakes.",
        gt=0,
        more=True,
    )


def _changed(
    before: Surface, after: Surface, more: tuple[Finding, ...], warnings: tuple[str, ...]
) -> Outcome:
    """The new ground with volume in and out, and what changed beside it."""
    findings = changes_told(before, after)
    cells = findings[-1].value

    def said(value: Surface) -> Outcome:
        outcome = surface_outcome(value, warnings)
        return replace(
            outcome, figure=f"{cells:,} cells changed", findings=(*findings, *more, *outcome.findings)
        )

    return replace(said(after), beside={"change": lambda: said(_change(before, after))})


def changes_told(before: Surface, after: Surface) -> tuple[Finding, ...]:
    """Volume put in and taken out, and how many cells changed."""
    put_in, out, cells = 0.0, 0.0, 0
    for rows, change in _changes(before, after):
        areas = before.frame.row_areas[rows, None] * before.metres_per_height
        put_in, out = (
            put_in + float(np.nansum(np.maximum(change, 0) * areas)),
            out - float(np.nansum(np.minimum(change, 0) * areas)),
        )
        cells += int(np.count_nonzero(np.nan_to_num(change)))
    return (
        Finding("volume_in_m3", put_in, CUBIC_METRE),
        Finding("volume_out_m3", out, CUBIC_METRE),
        Finding("changed_cells", cells, CELLS),
    )


def _changes(before: Surface, after: Surface) -> Iterator[tuple[slice, np.ndarray]]:
    """Rows, and how much they changed (float64): some at a time, as changes are taken in double precision."""
    for first in range(0, before.frame.rows, _ROWS):
        rows = slice(first, first + _ROWS)
        yield rows, after.values[rows].astype(np.float64) - before.values[rows]


def _change(before: Surface, after: Surface) -> Surface:
    changes = np.empty(before.frame.shape, np.float32)
    for rows, change in _changes(before, after):
        changes[rows] = change
    return Surface(changes, before.frame, before.unit, "change")


def _fill(settings: FillDepressionSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.7))
    result = hollows.filled_surface(
        drainage, settings.gradient, settings.keep_depth, settings.keep_area, progress.part(0.7, 1.0)
    )
    return _changed(drainage.dem, result, (), ())


fill_depressions = StepKind(
    kind="fill_depressions",
    bench="water",
    group="Ready for water",
    title="Fill depressions",
    question="Which ground drains everywhere?",
    help=(
        "Raises depressions to where they spill, level or with a gradient; deep or large ones can stay as "
        "lakes."
    ),
    formula="filled(cell) = max(z, filled(next cell on the way out) + gradient × distance)",
    words=("fill sinks", "pit removal", "hydrological conditioning", "depressionless", "sinks"),
    inputs=(DEM,),
    settings=FillDepressionSettings,
    gives="surface",
    run=_fill,
    staple=2,
    memory=40,
    label=lambda s, names: f"{names['dem']}, depressions filled",
    main="Ground",
    beside=(
        ResultSpec(
            "change", "surface", "Change", "How much each cell was raised.", asked=True, was="result=change"
        ),
    ),
    retired=("result",),
)


class BreachSettings(Settings):
    """Settings of breach."""

    most_cells: int = setting(
        50, "Longest channel", "How long a channel may be; farther pits stay.", unit="cells", ge=1, le=5000
    )


def _breach(settings: BreachSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.5))
    result, done, left = hollows.breached_surface(drainage, settings.most_cells, progress.part(0.5, 1.0))
    warnings = (
        (f"{left:,} pits have no lower ground within {settings.most_cells} cells and stay.",) if left else ()
    )
    return _changed(
        drainage.dem, result, (Finding("breached", done, COUNT), Finding("left", left, COUNT)), warnings
    )


breach = StepKind(
    kind="breach",
    bench="water",
    group="Ready for water",
    title="Breach",
    question="Which channels would let the water out?",
    help=(
        "Cuts the channel of least volume from each pit to lower ground (Lindsay & Dhun 2015), up to a "
        "length."
    ),
    formula="channel with the least Σ (z − z(pit)) × cell area from the pit to lower ground; the cells "
    "on it are lowered to run down evenly",
    words=("carve", "breach depressions", "least cost", "culvert", "embankment", "hydro-enforcement"),
    inputs=(DEM,),
    settings=BreachSettings,
    gives="surface",
    run=_breach,
    memory=45,
    label=lambda s, names: f"{names['dem']}, breached",
    main="Ground",
    beside=(
        ResultSpec(
            "change",
            "surface",
            "Change",
            "How much each cell was lowered or raised.",
            asked=True,
            was="result=change",
        ),
    ),
    retired=("result",),
)


# --- directions and accumulation


class DirectionSettings(Settings):
    """Settings of flow_directions."""

    method: Literal["d8", "dinf"] = setting(
        "d8", "Method", "`d8`: to the steepest neighbour; `dinf`: over the steepest facet, any bearing."
    )


def _flow_directions(settings: DirectionSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.7))
    outlets = int(np.count_nonzero(drainage.ways == OUT))
    result = Surface(
        flow_bearings(drainage, settings.method, progress.part(0.7, 1.0)), drainage.frame, BEARING, "aspect"
    )
    outcome = surface_outcome(result, (FILLED_FIRST, GRID_NORTH))
    return Outcome(
        outcome.value,
        f"{outlets:,} outlets",
        (Finding("outlets", outlets, COUNT), *outcome.findings),
        outcome.warnings,
    )


flow_directions = StepKind(
    kind="flow_directions",
    bench="water",
    group="Where it runs",
    title="Flow directions",
    question="Which way does water run?",
    help="Bearing that water leaves each cell in on the ground, clockwise from grid north; "
    "-1 in files where it leaves the ground. Flats drain "
    "away from higher and toward lower ground (Barnes et al. 2014).",
    formula="d8: the neighbour of the largest (z − zᵢ) / distance; dinf: the steepest of eight "
    "triangular facets, bearing = atan2 of its gradient",
    words=("d8", "d-infinity", "flow direction", "aspect of flow", "receiver", "routing"),
    inputs=(DEM,),
    settings=DirectionSettings,
    gives="surface",
    run=_flow_directions,
    staple=3,
    memory=24,
    label=lambda s, names: f"Flow directions of {names['dem']}",
)


class AccumulationSettings(Settings):
    """Settings of flow_accumulation."""

    method: FlowMethod = setting("d8", "Method", METHODS)
    unit: Literal["cells", "area"] = setting(
        "cells", "Unit", "Cells upstream, or their area in m²; each cell counts itself."
    )
    edges: Literal["keep", "blank"] = setting(
        "keep",
        "Cells fed from the edge",
        "`keep` them, or `blank`: no data where water may come from outside.",
        more=True,
    )
    exponent: float = EXPONENT


def _accumulation(settings: AccumulationSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage, rain = drainage_of(inputs, progress), optional(inputs, "weights", Surface)
    result = accumulated(drainage, settings.method, settings.unit, rain, progress, settings.exponent)
    edge = replace(drainage.dem, values=_edge_cells(drainage), unit=CELLS)
    fed = accumulated(drainage, settings.method, "cells", edge, progress, settings.exponent).values > 0
    share = float(np.count_nonzero(fed)) / max(result.valid_count, 1)
    warnings, more = [FILLED_FIRST, edge_warning(share), *shares_told(settings)], tuple[Finding, ...]()
    if rain is not None:
        missing = without_weight(rain, drainage.dem)
        more = (Finding(UNWEIGHTED, missing, COUNT),)
        warnings += [*unweighted_told(missing), *weights_told(settings, rain)]
    if settings.edges == "blank":
        result = replace(result, values=np.where(fed, np.float32(np.nan), result.values))
    outcome = surface_outcome(result, tuple(warnings))
    return Outcome(
        result,
        outcome.figure,
        (*outcome.findings, Finding("edge_share", share, SHARE), *more),
        outcome.warnings,
    )


UNWEIGHTED = "unweighted"


def shares_told(settings: AccumulationSettings) -> list[str]:
    """Say how water is shared out among all lower neighbours."""
    if settings.method != "freeman":
        return []
    return [f"Shares go by slope to the power of {settings.exponent:g} (Freeman 1991)."]


def weights_told(settings: AccumulationSettings, rain: Surface) -> list[str]:
    """Say what weighted areas are."""
    if settings.unit != "area":
        return []
    return [f"Values are weights{f' in {rain.unit.symbol}' if rain.unit.symbol else ''} times square metres."]


def edge_warning(share: float) -> str:
    """Say how much of an accumulation may come from outside."""
    return f"{share:.1%} of the cells may get water from beyond the edge."


def _edge_cells(drainage: Drainage) -> np.ndarray:
    """1 for cells at the edge of the ground, 0 elsewhere."""
    known = np.pad(drainage.ways != NO_WAY, 1)
    rows, cols = drainage.ways.shape
    inner = np.ones((rows, cols), bool)
    for i in range(3):
        for j in range(3):
            inner &= known[i : i + rows, j : j + cols]
    return (~inner).astype(np.float32)


flow_accumulation = StepKind(
    kind="flow_accumulation",
    bench="water",
    group="Where it runs",
    title="Flow accumulation",
    question="How much ground drains through each cell?",
    help="Cells or area upstream of each cell, or a surface such as rain added up downstream.",
    formula="A = own + Σ pᵢ Aᵢ over the cells that drain here; pᵢ = 1 (d8), tanᵉ βᵢ / Σ tanᵉ β "
    "(freeman), or by the angle to the two cells of the facet (dinf)",
    words=(
        "upslope area",
        "contributing area",
        "catchment area",
        "drainage area",
        "runoff",
        "flow accumulation",
    ),
    inputs=(
        DEM,
        InputSpec(
            "weights",
            "surface",
            "Weights",
            "Rain or runoff per cell, added up downstream.",
            optional=True,
            more=True,
        ),
    ),
    settings=AccumulationSettings,
    gives="surface",
    run=_accumulation,
    staple=4,
    memory=45,
    label=lambda s, names: f"Flow accumulation of {names['dem']}, {s.method}",
    look={"ramp": "water"},
)


class LengthSettings(Settings):
    """Settings of flow_length."""

    side: Literal["down", "up"] = setting(
        "down",
        "Length",
        "`down`: to where water leaves the ground; `up`: of the longest way that reaches the cell.",
    )


def _flow_length(settings: LengthSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.7))
    numbered = None
    if (area := optional(inputs, "area", Shapes)) is not None:
        numbered = number_areas(in_system(area, drainage.frame.crs), drainage.frame)
    lengths = trace.flow_lengths(drainage, settings.side == "up", numbered, progress.part(0.7, 1.0)).astype(
        np.float32
    )
    if np.isnan(lengths).all():
        raise MossError("Nothing of the ground lies in the area.", "Choose another.")
    return surface_outcome(Surface(lengths, drainage.frame, METRE, "length"), (FILLED_FIRST,))


flow_length = StepKind(
    kind="flow_length",
    bench="water",
    group="Where it runs",
    title="Flow length",
    question="How far does water run?",
    help="Length of the way down from each cell to where its water leaves, or of the longest way up: "
    "the order of travel. Inside catchments the way counts to where it leaves its own one; of areas that "
    "overlap the smallest counts.",
    formula="down: L = distance + L(receiver); up: L = max(distance + L) over the cells that drain here",
    words=("travel distance", "distance to outlet", "upstream length", "time of travel"),
    inputs=(
        DEM,
        InputSpec(
            "area",
            "shapes",
            "Catchment",
            "Only inside; the way down counts to where it leaves its own area.",
            True,
        ),
    ),
    settings=LengthSettings,
    gives="surface",
    run=_flow_length,
    memory=27,
    label=lambda s, names: f"Flow length {s.side}stream of {names['dem']}",
)

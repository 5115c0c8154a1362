"""Water: depressions, directions, accumulation, streams, basins, catchments, paths and ridges."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, Literal

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_whole
from moss_step.model.units import BEARING, CELLS, COUNT, CUBIC_METRE, METRE, NONE, SHARE, SQUARE_METRE
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water import basins as dividing
from moss_step.science.water import depressions as hollows
from moss_step.science.water import network, ridges, trace
from moss_step.science.water.accumulation import CONVERGENCE
from moss_step.science.water.drainage import Drainage, FlowMethod, accumulated, flow_bearings, prepare
from moss_step.science.water.kernels.neighbours import NONE as NO_WAY
from moss_step.science.water.kernels.neighbours import OUT
from moss_step.science.water.kernels.trace import longest_up, path_down
from moss_step.science.zones.outlines import number_areas
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import BoxField, PointsField
from moss_step.steps.results import measured, surface_outcome, unweighted
from moss_step.steps.shape import DEM, GRID_NORTH, ground

FILLED_FIRST = "Depressions hold no water back: each runs on over its lowest pass."
EXPONENT = setting(
    CONVERGENCE,
    "Exponent",
    "Power of the slope in the shares of freeman: higher gathers water, lower spreads it (Freeman 1991: "
    "1.1).",
    when={"method": ("freeman",)},
    gt=0,
    le=20,
)
_ROWS = 256
METHODS = (
    "d8: all to the steepest neighbour; freeman: to all lower ones by slope; dinf: to the two of the "
    "steepest facet."
)


def drainage_of(inputs: Inputs, progress: Progress) -> Drainage:
    return prepare(ground(inputs), progress)


def _symbol(drainage: Drainage) -> str:
    return drainage.dem.unit.symbol


STREAM_AREA = (
    "Ground in m² that makes a stream; left out, a 400th of the ground that has heights, in whole "
    "hectares and at least 1 ha."
)


def stream_area(least: float | None, drainage: Drainage) -> float:
    """Area that makes a stream when none is given: a 400th of the ground with heights in whole hectares, at
    least 1 ha.
    """
    return least if least is not None else max(10_000.0, round(drainage.dem.area / 400.0, -4))


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
    depth = float(result.columns["depth"].max()) if len(result) else 0.0
    findings = (
        Finding("depressions", len(result), COUNT), Finding("deepest", depth, drainage.dem.unit),
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
    title="Depressions",
    question="Where does the ground hold water back?",
    help=(
        "Areas that would fill before they spill, with depth, area, volume, level and the point where "
        "each spills."
    ),
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
        None, "Keep from depth", "Depressions this deep stay as real lakes; in the unit of the ground.", gt=0
    )
    keep_area: float | None = setting(
        None, "Keep from area", "Depressions this large in m² stay as real lakes.", gt=0
    )


def _changed(
    before: Surface, after: Surface, more: tuple[Finding, ...], warnings: tuple[str, ...]
) -> Outcome:
    """The new ground with volume in and out, and what changed beside it."""
    put_in, out, cells = 0.0, 0.0, 0
    for rows, change in _changes(before, after):
        areas = before.frame.row_areas[rows, None] * before.metres_per_height
        put_in, out = (
            put_in + float(np.nansum(np.maximum(change, 0) * areas)),
            out - float(np.nansum(np.minimum(change, 0) * areas)),
        )
        cells += int(np.count_nonzero(np.nan_to_num(change)))
    findings = (
        Finding("volume_in_m3", put_in, CUBIC_METRE),
        Finding("volume_out_m3", out, CUBIC_METRE),
        Finding("changed_cells", cells, CELLS),
    )

    def said(value: Surface) -> Outcome:
        outcome = surface_outcome(value, warnings)
        return replace(
            outcome, figure=f"{cells:,} cells changed", findings=(*findings, *more, *outcome.findings)
        )

    return replace(said(after), beside={"change": lambda: said(_change(before, after))})


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
    title="Fill depressions",
    question="Which ground drains everywhere?",
    help=(
        "Raises depressions to where they spill, level or with a gradient; deep or large ones can stay as "
        "lakes."
    ),
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
    title="Breach",
    question="Which channels would let the water out?",
    help=(
        "Cuts the channel of least volume from each pit to lower ground (Lindsay & Dhun 2015), up to a "
        "length."
    ),
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
        "d8", "Method", "d8: to the steepest neighbour; dinf: over the steepest facet, any bearing."
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
    title="Flow directions",
    question="Which way does water run?",
    help="Bearing that water leaves each cell in on the ground, clockwise from grid north; "
    "-1 in files where it leaves the ground. Flats drain "
    "away from higher and toward lower ground (Barnes et al. 2014).",
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
        "keep", "Cells fed from the edge", "keep them, or blank: no data where water may come from outside."
    )
    exponent: float = EXPONENT


def _accumulation(settings: AccumulationSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage, rain = drainage_of(inputs, progress), optional(inputs, "weights", Surface)
    result = accumulated(drainage, settings.method, settings.unit, rain, progress, settings.exponent)
    edge = replace(drainage.dem, values=_edge_cells(drainage), unit=CELLS)
    fed = accumulated(drainage, settings.method, "cells", edge, progress, settings.exponent).values > 0
    share = float(np.count_nonzero(fed)) / max(result.valid_count, 1)
    warnings = [FILLED_FIRST, f"{share:.1%} of the cells may get water from beyond the edge."]
    if settings.method == "freeman":
        warnings.append(f"Shares go by slope to the power of {settings.exponent:g} (Freeman 1991).")
    if rain is not None:
        warnings += unweighted(rain, drainage.dem)
        if settings.unit == "area":
            warnings.append(
                f"Values are weights{f' in {rain.unit.symbol}' if rain.unit.symbol else ''}"
                " times square metres."
            )
    if settings.edges == "blank":
        result = replace(result, values=np.where(fed, np.float32(np.nan), result.values))
    outcome = surface_outcome(result, tuple(warnings))
    return Outcome(
        result, outcome.figure, (*outcome.findings, Finding("edge_share", share, SHARE)), outcome.warnings
    )


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
    title="Flow accumulation",
    question="How much ground drains through each cell?",
    help="Cells or area upstream of each cell, or a surface such as rain added up downstream.",
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
            "weights", "surface", "Weights", "Rain or runoff per cell, added up downstream.", optional=True
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
        "down: to where water leaves the ground; up: of the longest way that reaches the cell.",
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
    title="Flow length",
    question="How far does water run?",
    help="Length of the way down from each cell to where its water leaves, or of the longest way up: "
    "the order of travel. Inside catchments the way counts to where it leaves its own one; of areas that "
    "overlap the smallest counts.",
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


# --- streams


class StreamSettings(Settings):
    """Settings of streams."""

    min_area: float | None = setting(None, "Least area", STREAM_AREA, gt=0)
    slope_exponent: float = setting(
        0.0,
        "Slope exponent",
        "Above 0 area times slope to this power counts: steep ground needs less.",
        ge=0,
        le=5,
    )


def _streams(settings: StreamSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.5))
    area = stream_area(settings.min_area, drainage)
    slope = derive_slope(drainage.dem, "percent").values / 100.0 if settings.slope_exponent else None
    stream = network.stream_cells(
        drainage, area, slope, settings.slope_exponent, progress=progress.part(0.5, 0.6)
    )
    result = network.network(drainage, stream, progress.part(0.6, 0.8))
    lines = network.stream_lines(drainage, result, progress.part(0.8, 0.95))
    length = float(lines.columns["length_m"].sum())
    findings = (
        Finding("links", len(lines), COUNT),
        Finding("length", length, METRE),
        Finding("highest_order", int(result.strahler.max()), NONE),
        Finding("drainage_density", length / drainage.dem.area * 1000.0, NONE),
        Finding("min_area", area, SQUARE_METRE),
    )
    figure = f"{len(lines):,} links, {measured(length / 1000)} km"

    def nodes() -> Outcome:
        return Outcome(
            network.stream_nodes(drainage, result, progress.part(0.95, 1.0)),
            figure,
            findings,
            (FILLED_FIRST,),
        )

    return Outcome(lines, figure, findings, (FILLED_FIRST,), {"nodes": nodes})


streams = StepKind(
    kind="streams",
    bench="water",
    title="Streams",
    question="Where does water gather to a stream?",
    help="Connected lines where enough ground drains, with Strahler, Shreve and Horton orders, "
    "length, drop, gradient and sinuosity.",
    words=(
        "channel network",
        "drainage network",
        "stream order",
        "rivers",
        "strahler",
        "shreve",
        "junctions",
        "gullies",
    ),
    inputs=(DEM,),
    settings=StreamSettings,
    gives="shapes",
    run=_streams,
    staple=5,
    memory=66,
    label=lambda s, names: f"Streams of {names['dem']}",
    look={"column": "strahler", "method": "unique", "ramp": "water"},
    main="Links",
    beside=(
        ResultSpec(
            "nodes",
            "shapes",
            "Nodes",
            "Springs, junctions and outlets as points.",
            asked=True,
            was="result=nodes",
        ),
    ),
    retired=("result",),
)


# --- basins and catchments


def _names() -> Any:
    return setting(
        None, "Names", "Names by number, such as 1=Upper Gill; 3=Long Slack. The table writes them too."
    )


def _named(shapes: Shapes, names: str | None) -> Shapes:
    """Put names that basins were given in the name column."""
    column = shapes.columns["name"].copy()
    for part in filter(None, (p.strip() for p in (names or "").split(";"))):
        before, mark, name = part.partition("=")
        number = as_whole(before)
        if not mark or number is None or not 1 <= number <= len(shapes):
            raise AskedWronglyError(
                f"'{part}' names no basin.",
                f"Write numbers from 1 to {len(shapes)}, such as 1=Upper Gill; 3=Long Slack.",
            )
        column[number - 1] = name.strip()
    return replace(shapes, columns={**shapes.columns, "name": column})


class BasinSettings(Settings):
    """Settings of basins."""

    min_depth: float | None = setting(
        None,
        "Least pool depth",
        "Basins whose dividing pool is shallower are merged; all drain to the edge when left out.",
        ge=0,
        control="slider",
    )
    min_area: float = setting(0.0, "Least area", "Smaller basins are left out.", unit="m²", ge=0)
    names: str | None = _names()


def _basins(settings: BasinSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.5))
    stream = network.stream_cells(drainage, stream_area(None, drainage), progress=progress.part(0.5, 0.6))
    result = _named(
        dividing.basin_shapes(
            drainage, settings.min_depth, settings.min_area, stream, progress.part(0.6, 1.0)
        ),
        settings.names,
    )
    left = float(drainage.dem.area - result.columns["area_m2"].sum())
    findings = (
        Finding("basins", len(result), COUNT),
        Finding("largest", float(result.columns["area_m2"][0]), SQUARE_METRE),
    )
    warnings = (
        (f"{measured(left)} m² in smaller basins are left out.",) if settings.min_area and left > 0.5 else ()
    )
    return Outcome(result, f"{len(result):,} basins", findings, warnings)


def _with_density(result: Shapes, drainage: Drainage) -> Shapes:
    """Add the drainage density of each area: kilometres of stream per square kilometre, 0 where there is no
    stream.
    """
    stream = network.stream_cells(drainage, stream_area(None, drainage))
    try:
        lines = network.stream_lines(drainage, network.network(drainage, stream)).geometry
    except MossError:
        lines = np.empty(0, object)
    tree = shapely.STRtree(lines)
    held = np.array(
        [shapely.length(shapely.intersection(lines[tree.query(g)], g)).sum() for g in result.geometry]
    )
    scale = 1.0 if not drainage.frame.geographic else drainage.frame.cell_metres[0] / drainage.frame.dx
    density = held * drainage.frame.metres_per_unit * scale / result.columns["area_m2"] * 1000.0
    return replace(
        result,
        columns={**result.columns, "drainage_density": density},
        symbols={**result.symbols, "drainage_density": "km/km²"},
    )


basins = StepKind(
    kind="basins",
    bench="water",
    title="Basins",
    question="Which ground drains to which outlet?",
    help="Divides the whole ground by outlet, with pools deeper than a limit as ends of their own; "
    "figures of each basin.",
    words=("watersheds", "drainage basins", "sub-basins", "divides", "pool depth", "catchments"),
    inputs=(DEM,),
    settings=BasinSettings,
    gives="shapes",
    run=_basins,
    staple=6,
    memory=53,
    label=lambda s, names: (
        f"Basins of {names['dem']}" + (f", pools from {s.min_depth:g}" if s.min_depth is not None else "")
    ),
    look={"column": "name", "method": "unique", "opacity": 0.6},
)


class JunctionSettings(Settings):
    """Settings of stream_basins."""

    min_area: float | None = setting(None, "Least area", STREAM_AREA, gt=0)


def _stream_basins(settings: JunctionSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.5))
    area = stream_area(settings.min_area, drainage)
    stream = network.stream_cells(drainage, area, progress=progress.part(0.5, 0.6))
    result = network.network(drainage, stream, progress.part(0.6, 0.7))
    ends = network.last_own_cells(drainage, result)
    names = [f"Link {k + 1}" for k in range(len(ends))]
    output = dividing.catchments(
        drainage, [np.array([e]) for e in ends], True, names, progress.part(0.7, 1.0)
    )
    return Outcome(
        output, f"{len(output):,} basins", (Finding("basins", len(output), COUNT),), (FILLED_FIRST,)
    )


stream_basins = StepKind(
    kind="stream_basins",
    bench="water",
    title="Basins by junction",
    question="Which ground drains to each stretch of stream?",
    help="One basin for each link between junctions of the stream network.",
    words=("sub-catchments", "subwatersheds", "hillslopes", "link basins", "interbasins"),
    inputs=(DEM,),
    settings=JunctionSettings,
    gives="shapes",
    run=_stream_basins,
    memory=55,
    label=lambda s, names: f"Basins by junction of {names['dem']}",
    look={"column": "name", "method": "unique", "opacity": 0.6},
)

_OUTLETS = InputSpec(
    "outlets", "shapes", "Outlets", "Points, lines across a valley, or areas.", optional=True
)


class CatchmentSettings(Settings):
    """Settings of catchment."""

    at: PointsField | None = setting(
        None,
        "At",
        "Places as x,y;x,y, or click on the plan. Or give outlets from a file.",
        control="points",
        without_input="outlets",
    )
    line: BoxField | None = setting(
        None, "Line", "A bund or dam drawn across: x1,y1,x2,y2.", control="line", without_input="outlets"
    )
    snap: float = setting(
        0.0, "Snap within", "Each point moves to the largest stream within this distance.", unit="m", ge=0
    )
    nested: bool = setting(False, "Nested", "Each catchment without those further upstream.")
    names: str | None = _names()


def _catchment(settings: CatchmentSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage, outlets = drainage_of(inputs, progress.part(0.0, 0.7)), optional(inputs, "outlets", Shapes)
    names = None
    if outlets is not None:
        moved = in_system(outlets, drainage.frame.crs)
        geometry, names = (
            list(moved.geometry),
            [n or f"Catchment {k + 1}" for k, n in enumerate(moved.names())],
        )
    elif settings.line is not None and settings.at is not None:
        raise AskedWronglyError("catchment has places and a line.", "Give at or line.")
    elif settings.line is not None:
        x1, y1, x2, y2 = settings.line
        geometry = [shapely.LineString([(x1, y1), (x2, y2)])]
    elif settings.at is not None:
        geometry = [shapely.Point(x, y) for x, y in settings.at]
    else:
        raise AskedWronglyError(
            "catchment needs a place.", "Click on the plan, or give at=x,y, line=x1,y1,x2,y2 or outlets=FILE."
        )
    if settings.snap and not any(g.geom_type == "Point" for g in geometry):
        raise AskedWronglyError("snap moves points, and there is none.", "Leave it out.")
    seeds = [dividing.seeds_of(drainage, g, settings.snap) for g in geometry]
    result = _named(
        dividing.catchments(drainage, seeds, settings.nested, names, progress.part(0.7, 1.0)), settings.names
    )
    findings: list[Finding] = []
    for k, (g, own) in enumerate(zip(geometry, seeds, strict=True)):
        name = str(result.columns["name"][k])
        findings += [
            Finding("area_m2", float(result.columns["area_m2"][k]), SQUARE_METRE, name),
            Finding("cells", int(result.columns["cells"][k]), CELLS, name),
            Finding("longest_path", float(result.columns["longest_path_m"][k]), METRE, name),
        ]
        if settings.snap and g.geom_type == "Point":
            away = drainage.frame.distances(np.array([[g.x, g.y]]), trace.centres(drainage, own))
            findings.append(Finding("snapped_by", float(away[0]), METRE, name))
    total = float(result.columns["area_m2"].sum()) / 1e4
    return Outcome(result, f"{measured(total)} ha", tuple(findings), (FILLED_FIRST,))


catchment = StepKind(
    kind="catchment",
    bench="water",
    title="Catchment",
    question="Which ground drains to a place?",
    help="All the ground that drains to points, to a line drawn across a valley, or to areas, "
    "with its figures.",
    words=("watershed", "pour point", "upslope area", "drainage area", "contributing area", "dam site"),
    inputs=(DEM, _OUTLETS),
    settings=CatchmentSettings,
    gives="shapes",
    run=_catchment,
    staple=7,
    memory=36,
    label=lambda s, names: f"Catchment in {names['dem']}",
)


# --- paths


class PathSettings(Settings):
    """Settings of flow_path."""

    start: PointsField | None = setting(
        None,
        "Start",
        "Places as x,y;x,y, or click on the plan. Or give points from a file.",
        control="points",
        without_input="starts",
    )
    side: Literal["down", "up"] = setting(
        "down", "Way", "down: to the outlet; up: the longest way that reaches the place."
    )
    cut: PointsField | None = setting(
        None,
        "Cut at",
        "The path ends at the point nearest to this place: where a dam might stand.",
        control="points",
    )


def _flow_path(settings: PathSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage, starts = drainage_of(inputs, progress), optional(inputs, "starts", Shapes)
    if starts is not None:
        points = [
            (float(p.x), float(p.y)) for p in shapely.centroid(in_system(starts, drainage.frame.crs).geometry)
        ]
    elif settings.start is not None:
        points = list(settings.start)
    else:
        raise AskedWronglyError(
            "flow_path needs a start.", "Click on the plan, or give start=x,y or starts=FILE."
        )
    progress.at(0.8, "Following the water")
    paths = [_one_path(drainage, x, y, settings) for x, y in points]
    z = drainage.dem.values.reshape(-1)
    length = np.array([trace.path_metres(drainage, p)[-1] for p in paths])
    first, last = z[[p[0] for p in paths]].astype(float), z[[p[-1] for p in paths]].astype(float)
    drop = (first - last) * drainage.dem.metres_per_height
    lines = [
        shapely.LineString(xy if len(xy) > 1 else np.repeat(xy, 2, axis=0))
        for xy in (trace.centres(drainage, p) for p in paths)
    ]
    with np.errstate(divide="ignore", invalid="ignore"):
        columns = {
            "path": np.arange(1, len(paths) + 1),
            "length_m": length,
            "drop_m": drop,
            "gradient": drop / length,
            "from_height": first,
            "to_height": last,
            "to_x": np.array([x.coords[-1][0] for x in lines]),
            "to_y": np.array([x.coords[-1][1] for x in lines]),
        }
    result = Shapes(
        np.array(lines, object),
        columns,
        drainage.frame.crs,
        {"from_height": _symbol(drainage), "to_height": _symbol(drainage)},
    )
    findings = (Finding("length", float(length.max()), METRE), Finding("drop", float(drop.max()), METRE))
    return Outcome(result, f"{measured(float(length.max()))} m", findings, (FILLED_FIRST,))


def _one_path(drainage: Drainage, x: float, y: float, settings: PathSettings) -> np.ndarray:
    cell = trace.cell_at(drainage.dem, x, y)
    down = settings.side == "down"
    path: np.ndarray = (
        path_down(drainage.ways, cell) if down else longest_up(drainage.ways, drainage.metres, cell)
    )
    if settings.cut is None:
        return path
    away = drainage.frame.distances(trace.centres(drainage, path), np.array([settings.cut[0]]))
    return path[: int(np.argmin(away)) + 1]


flow_path = StepKind(
    kind="flow_path",
    bench="water",
    title="Flow path",
    question="Which way does water take from a place?",
    help="The way of water from points down to where it leaves the ground, or the longest way up; "
    "it can be cut at a place.",
    words=("trace", "raindrop", "downstream trace", "drainage path", "longest flow path", "upstream"),
    inputs=(DEM, InputSpec("starts", "shapes", "Starts", "Points to start from.", optional=True)),
    settings=PathSettings,
    gives="shapes",
    run=_flow_path,
    staple=8,
    memory=34,
    label=lambda s, names: f"Flow path {s.side} in {names['dem']}",
)


class RidgeSettings(Settings):
    """Settings of ridges_valleys."""

    which: ridges.Which = setting("both", "Lines", "Ridges, valleys, or both.")
    least_length: float = setting(
        50.0, "Least length", "Shorter lines are left out.", unit="m", ge=0, control="slider"
    )
    least_steepness: float = setting(
        2.0,
        "Least steepness",
        "How steeply the ground leaves a line on both sides.",
        unit="°",
        ge=0,
        le=89,
        control="slider",
    )
    detail: float | None = setting(
        None,
        "Detail",
        "Ground in m² that must drain to a line; left out, a 2000th of the ground that has heights, "
        "and at least four cells.",
        gt=0,
    )


def _ridges_valleys(settings: RidgeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    dem = ground(inputs)
    detail = settings.detail or ridges.usual_detail(dem)
    lines = ridges.ridges_and_valleys(dem, settings.which, detail, progress)
    result = ridges.kept_lines(
        lines, ridges.strong_enough(lines, settings.least_length, settings.least_steepness)
    )
    if len(result) == 0:
        raise MossError("No line is as long and as steep.", "Lower the least length or steepness.")
    count = {k: int((result.columns["kind"] == k).sum()) for k in ("ridge", "valley")}
    findings = (
        Finding("ridges", count["ridge"], COUNT),
        Finding("valleys", count["valley"], COUNT),
        Finding("length", ridges.total_length(result), METRE),
    )
    return Outcome(result, f"{len(result):,} lines", (*findings, Finding("detail", detail, SQUARE_METRE)))


ridges_valleys = StepKind(
    kind="ridges_valleys",
    bench="water",
    title="Ridges and valleys",
    question="Which lines divide and gather the ground?",
    help="Whole ridges and valleys from the topology of the flow, kept by their length and steepness.",
    words=("ridgelines", "thalweg", "valley lines", "divides", "breaklines", "crest lines"),
    inputs=(DEM,),
    settings=RidgeSettings,
    gives="shapes",
    run=_ridges_valleys,
    memory=122,
    label=lambda s, names: (
        f"{'Ridges and valleys' if s.which == 'both' else s.which.capitalize()} of {names['dem']}"
    ),
    look={"column": "kind", "method": "unique"},
)

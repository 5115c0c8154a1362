"""Water: streams, basins by outlet and by junction, and catchments."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.telling import mark
from moss_step.model.units import CELLS, COUNT, KILOMETRE, METRE, NONE, PER_KILOMETRE, SQUARE_METRE
from moss_step.model.words import measured
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water import network
from moss_step.science.water.basins import basin_shapes
from moss_step.science.water.catchments import catchments, seeds_of
from moss_step.science.water.drainage import Drainage, Watered
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import BoxField, PointsField, names_of
from moss_step.steps.shape import DEM
from moss_step.steps.water import FILLED_FIRST, STREAM_AREA, drainage_of, stream_area


class StreamSettings(Settings):
    """Settings of streams."""

    min_area: float | None = setting(None, "Least area", STREAM_AREA, gt=0)
    slope_exponent: float = setting(
        0.0,
        "Slope exponent",
        "Above 0 area times slope to this power counts: steep ground needs less.",
        ge=0,
        le=5,
        more=True,
    )


def _streams(settings: StreamSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress.part(0.0, 0.5))
    area = stream_area(settings.min_area, drainage)
    slope = derive_slope(drainage.dem, "percent").values / 100.0 if settings.slope_exponent else None
    stream = network.stream_cells(
        drainage, area, slope, settings.slope_exponent, progress=progress.part(0.5, 0.6)
    )
    result = network.network(drainage, stream, progress.part(0.6, 0.8))
    return stream_outcome(drainage, result, (area, drainage.dem.area), progress.part(0.8, 1.0))


def stream_outcome(
    ground: Watered, found: network.Network, areas: tuple[float, float], progress: Progress
) -> Outcome:
    """The links of a network, and its nodes beside them; ``areas`` are the least area of a stream, and that
    of the ground.
    """
    lines, (least, whole) = network.stream_lines(ground, found, progress.part(0.0, 0.75)), areas
    length = float(lines.columns["length_m"].sum())
    findings = (
        Finding("links", len(lines), COUNT),
        Finding("length", length, METRE),
        Finding("highest_order", int(found.strahler.max()), NONE),
        Finding("drainage_density", length / whole * 1000.0, PER_KILOMETRE),
        Finding("min_area", least, SQUARE_METRE),
    )
    figure = f"{len(lines):,} links, {mark(length / 1000, KILOMETRE)}"

    def nodes() -> Outcome:
        shapes = network.stream_nodes(ground, found, progress.part(0.75, 1.0))
        return Outcome(shapes, figure, findings, (FILLED_FIRST,))

    return Outcome(lines, figure, findings, (FILLED_FIRST,), {"nodes": nodes})


streams = StepKind(
    kind="streams",
    example="min_area=50000 -o nodes=nodes.gpkg",
    bench="water",
    group="Streams and divides",
    title="Streams",
    question="Where does water gather to a stream?",
    help="Connected lines where enough ground drains, with Strahler, Shreve and Horton orders, "
    "length, drop, gradient and sinuosity.",
    formula="stream where A × tan(slope)^exponent ≥ least area, and on downstream; Strahler: two of "
    "order n make n + 1; Shreve: orders add up; sinuosity = length / straight distance",
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
        None,
        "Names",
        "Names by number[[, such as 1=Upper Gill; 3=Long Slack]]. The table writes them too.",
        control="names",
    )


def named(shapes: Shapes, names: str | None) -> Shapes:
    """Put names that basins were given in the name column."""
    column = shapes.columns["name"].copy()
    do = (
        f"There are basins 1 to {len(shapes)}.",
        f"Write numbers from 1 to {len(shapes)}, such as 1=Upper Gill; 3=Long Slack.",
    )
    try:
        given = names_of(names)
    except ValueError as error:
        raise AskedWronglyError(f"'{error}' names no basin.", *do) from error
    for number, name in given.items():
        if not 1 <= number <= len(shapes):
            raise AskedWronglyError(f"'{number}: {name}' names no basin.", *do)
        column[number - 1] = name
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
    result = named(
        basin_shapes(drainage, settings.min_depth, settings.min_area, stream, progress.part(0.6, 1.0)),
        settings.names,
    )
    return basins_outcome(settings, result, drainage.dem.area)


def basins_outcome(settings: BasinSettings, result: Shapes, whole: float) -> Outcome:
    """Basins of a ground of so many square metres."""
    left = float(whole - result.columns["area_m2"].sum())
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
    example="min_depth=0.5",
    bench="water",
    group="What drains where",
    title="Basins",
    question="Which ground drains to which outlet?",
    help="Divides the whole ground by outlet, with pools deeper than a limit as ends of their own; "
    "figures of each basin.",
    formula="basin = all cells whose way of steepest descent ends at the same outlet; area = Σ cell area",
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
    output = catchments(drainage, [np.array([e]) for e in ends], True, names, progress.part(0.7, 1.0))
    return stream_basins_outcome(output)


def stream_basins_outcome(output: Shapes) -> Outcome:
    """Basins of links, and how many there are."""
    return Outcome(
        output, f"{len(output):,} basins", (Finding("basins", len(output), COUNT),), (FILLED_FIRST,)
    )


stream_basins = StepKind(
    kind="stream_basins",
    bench="water",
    group="What drains where",
    title="Basins by junction",
    question="Which ground drains to each stretch of stream?",
    help="One basin for each link between junctions of the stream network.",
    formula="basin = all cells whose way of steepest descent first meets the link",
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
        "Places",
        "Click on the plan. [[As x,y;x,y.]] Or give outlets from a file.",
        control="points",
        without_input="outlets",
    )
    line: BoxField | None = setting(
        None,
        "Line",
        "A bund or dam drawn across[[: x1,y1,x2,y2]].",
        control="line",
        without_input="outlets",
        more=True,
    )
    snap: float = setting(
        0.0,
        "Snap within",
        "Each point moves to the largest stream within this distance.",
        unit="m",
        ge=0,
        more=True,
    )
    nested: bool = setting(False, "Nested", "Each catchment without those further upstream.", more=True)
    names: str | None = _names()


def places_of(
    settings: CatchmentSettings, outlets: Shapes | None, frame: Frame
) -> tuple[list[Any], list[str] | None]:
    """What catchments are asked of, in the system of the ground, and their names.

    Raises AskedWronglyError where nothing or too much is asked.
    """
    names = None
    if outlets is not None:
        moved = in_system(outlets, frame.crs)
        geometry, names = (
            list(moved.geometry),
            [n or f"Catchment {k + 1}" for k, n in enumerate(moved.names())],
        )
    elif settings.line is not None and settings.at is not None:
        raise AskedWronglyError("`catchment` has places and a line.", "Leave out `at` or `line`.")
    elif settings.line is not None:
        x1, y1, x2, y2 = settings.line
        geometry = [shapely.LineString([(x1, y1), (x2, y2)])]
    elif settings.at is not None:
        geometry = [shapely.Point(x, y) for x, y in settings.at]
    else:
        raise AskedWronglyError(
            "`catchment` needs a place.",
            "Click on the plan.",
            "Give at=x,y, line=x1,y1,x2,y2 or outlets=FILE.",
        )
    if settings.snap and not any(g.geom_type == "Point" for g in geometry):
        raise AskedWronglyError("`snap` moves points, and there is none.", "Leave it out.")
    return geometry, names


def _catchment(settings: CatchmentSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage, outlets = drainage_of(inputs, progress.part(0.0, 0.7)), optional(inputs, "outlets", Shapes)
    geometry, names = places_of(settings, outlets, drainage.frame)
    seeds = [seeds_of(drainage, g, settings.snap) for g in geometry]
    result = named(
        catchments(drainage, seeds, settings.nested, names, progress.part(0.7, 1.0)), settings.names
    )
    return catchment_outcome(settings, result, geometry, seeds, drainage.frame)


def catchment_outcome(
    settings: CatchmentSettings,
    result: Shapes,
    geometry: list[Any],
    seeds: list[np.ndarray],
    frame: Frame,
) -> Outcome:
    """Catchments of places, whose cells ``seeds`` are, with their figures."""
    findings: list[Finding] = []
    for k, (g, own) in enumerate(zip(geometry, seeds, strict=True)):
        name = str(result.columns["name"][k])
        findings += [
            Finding("area_m2", float(result.columns["area_m2"][k]), SQUARE_METRE, name),
            Finding("cells", int(result.columns["cells"][k]), CELLS, name),
            Finding("longest_path", float(result.columns["longest_path_m"][k]), METRE, name),
        ]
        if settings.snap and g.geom_type == "Point":
            away = frame.distances(np.array([[g.x, g.y]]), frame.centres(own))
            findings.append(Finding("snapped_by", float(away[0]), METRE, name))
    total = float(result.columns["area_m2"].sum())
    return Outcome(result, mark(total, SQUARE_METRE), tuple(findings), (FILLED_FIRST,))


catchment = StepKind(
    kind="catchment",
    example="at=412900,5870700 snap=20",
    bench="water",
    group="What drains where",
    title="Catchment",
    question="Which ground drains to a place?",
    help="All the ground that drains to points, to a line drawn across a valley, or to areas, "
    "with its figures.",
    formula="catchment = all cells whose way of steepest descent meets the place",
    words=("watershed", "pour point", "upslope area", "drainage area", "contributing area", "dam site"),
    inputs=(DEM, _OUTLETS),
    settings=CatchmentSettings,
    gives="shapes",
    run=_catchment,
    staple=7,
    memory=36,
    label=lambda s, names: f"Catchment in {names['dem']}",
)

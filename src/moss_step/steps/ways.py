"""Water: flow paths down and up, and ridges and valleys as lines."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.telling import mark
from moss_step.model.units import COUNT, METRE, SQUARE_METRE
from moss_step.science.water import ridges, trace
from moss_step.science.water.drainage import Spaced
from moss_step.science.water.kernels.trace import longest_up, path_down
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import PointsField
from moss_step.steps.shape import DEM, ground
from moss_step.steps.water import FILLED_FIRST, drainage_of


class PathSettings(Settings):
    """Settings of flow_path."""

    start: PointsField | None = setting(
        None,
        "Start",
        "Click on the plan. [[As x,y;x,y.]] Or give points from a file.",
        control="points",
        without_input="starts",
    )
    side: Literal["down", "up"] = setting(
        "down", "Way", "`down`: to the outlet; `up`: the longest way that reaches the place."
    )
    cut: PointsField | None = setting(
        None,
        "Cut at",
        "The path ends at the point nearest to this place: where a dam might stand.",
        control="points",
    )


def starts_of(settings: PathSettings, starts: Shapes | None, crs: str | None) -> list[tuple[float, float]]:
    """Places that paths begin at.

    Raises AskedWronglyError where there is none.
    """
    if starts is not None:
        return [(float(p.x), float(p.y)) for p in shapely.centroid(in_system(starts, crs).geometry)]
    if settings.start is None:
        raise AskedWronglyError(
            "`flow_path` needs a start.", "Click on the plan.", "Give start=x,y or starts=FILE."
        )
    return list(settings.start)


def _flow_path(settings: PathSettings, inputs: Inputs, progress: Progress) -> Outcome:
    drainage = drainage_of(inputs, progress)
    places = starts_of(settings, optional(inputs, "starts", Shapes), drainage.frame.crs)
    progress.at(0.8, "Following the water")
    cells = [trace.cell_at(drainage.dem, x, y) for x, y in places]
    ways, metres = drainage.ways, drainage.metres
    down = settings.side == "down"
    paths = [path_down(ways, cell) if down else longest_up(ways, metres, cell) for cell in cells]
    z = drainage.dem.values.reshape(-1)
    return path_outcome(settings, drainage, paths, lambda ends: z[ends])


def path_outcome(
    settings: PathSettings,
    ground: Spaced,
    ways: Sequence[np.ndarray],
    heights: Callable[[np.ndarray], np.ndarray],
) -> Outcome:
    """Paths by the numbers of their cells, cut where that is asked for; ``heights`` gives those of cells."""
    paths = [_cut(settings, ground, path) for path in ways]
    length = np.array([trace.path_metres(ground, p)[-1] for p in paths])
    first, last = (heights(np.array([p[k] for p in paths])).astype(float) for k in (0, -1))
    drop = (first - last) * ground.dem.metres_per_height
    lines = [
        shapely.LineString(xy if len(xy) > 1 else np.repeat(xy, 2, axis=0))
        for xy in (trace.centres(ground, p) for p in paths)
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
    crs, symbol = ground.frame.crs, ground.dem.unit.symbol
    units = {"from_height": symbol, "to_height": symbol}
    result = Shapes(np.array(lines, object), columns, crs, units)
    findings = (Finding("length", float(length.max()), METRE), Finding("drop", float(drop.max()), METRE))
    ends = Shapes(shapely.points([line.coords[-1] for line in lines]), {"path": columns["path"]}, crs)
    said = findings, (FILLED_FIRST,)
    figure = mark(float(length.max()), METRE)
    return Outcome(result, figure, *said, beside={"end": lambda: Outcome(ends, f"{len(ends)} ends", *said)})


def _cut(settings: PathSettings, ground: Spaced, path: np.ndarray) -> np.ndarray:
    if settings.cut is None:
        return path
    away = ground.frame.distances(trace.centres(ground, path), np.array([settings.cut[0]]))
    return path[: int(np.argmin(away)) + 1]


flow_path = StepKind(
    kind="flow_path",
    example="start=413300,5871300",
    bench="water",
    group="Where it runs",
    title="Flow path",
    question="Which way does water take from a place?",
    help="The way of water from points down to where it leaves the ground, or the longest way up; "
    "it can be cut at a place.",
    formula="cell₁, cell₂ = receiver(cell₁), …; length = Σ distance of centres",
    words=("trace", "raindrop", "downstream trace", "drainage path", "longest flow path", "upstream"),
    inputs=(DEM, InputSpec("starts", "shapes", "Starts", "Points to start from.", optional=True)),
    settings=PathSettings,
    gives="shapes",
    run=_flow_path,
    staple=8,
    memory=34,
    label=lambda s, names: f"Flow path {s.side} in {names['dem']}",
    main="Path",
    beside=(
        ResultSpec("end", "shapes", "Lower end", "Where each path ends: the outlet of what drains to it."),
    ),
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
        more=True,
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
    group="Streams and divides",
    title="Ridges and valleys",
    question="Which lines divide and gather the ground?",
    help="Whole ridges and valleys from the topology of the flow, kept by their length and steepness.",
    formula="valley where A ≥ detail; ridge: the same on −z; each followed down along the larger A at "
    "junctions",
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

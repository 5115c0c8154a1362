"""Sight lines: whether the end is seen from the start, what stands between, and which stretches are seen."""

from __future__ import annotations

import numpy as np
import shapely

from moss_step.formats.vector import box_of, in_system
from moss_step.model.errors import AskedWronglyError
from moss_step.model.findings import Finding
from moss_step.model.frame import Box
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.telling import mark
from moss_step.model.units import COUNT, METRE, SHARE, YES_NO
from moss_step.science.sight.line import SightLine
from moss_step.science.sight.line import sight_line as look_along
from moss_step.science.sight.observer import prepare_sight
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import BoxField
from moss_step.steps.observers import BARRIER_HEIGHT, BLOCKING, REFRACTION, blocking, standing
from moss_step.steps.reach import RAYS
from moss_step.steps.shape import DEM, ground


class LineSettings(Settings):
    """Settings of sight_line."""

    ends: BoxField | None = setting(
        None,
        "Line",
        "From the observer to the target[[: x1,y1,x2,y2]].",
        control="line",
        without_input="line",
    )
    observer_height: float = setting(
        1.7, "Observer above ground", "At the start of the line.", unit="m", ge=0, le=100_000
    )
    target_height: float = setting(
        0.0, "Target above ground", "At the end of the line.", unit="m", ge=0, le=10_000
    )
    curvature: bool = setting(True, "Earth curvature", "The ground falls away with distance.", more=True)
    refraction: float = REFRACTION
    barrier_height: float = BARRIER_HEIGHT


def _looked(settings: LineSettings, inputs: Inputs) -> SightLine:
    """Look along the line of the settings or of a file."""
    lines = optional(inputs, "line", Shapes)
    sight = prepare_sight(
        ground(inputs), blocking(settings.barrier_height, inputs), settings.curvature, settings.refraction
    )
    if lines is not None:
        xy = shapely.get_coordinates(in_system(lines, sight.frame.crs).geometry[0])
        if len(xy) < 2:
            raise AskedWronglyError("The line has one point.", "Give a line with two ends.")
        start, end = tuple(xy[0]), tuple(xy[-1])
    elif settings.ends is not None:
        start, end = settings.ends[:2], settings.ends[2:]
    else:
        raise AskedWronglyError(
            "`sight_line` needs a line.", "Draw it on the plan.", "Give line=x1,y1,x2,y2 or line=FILE."
        )
    return look_along(sight, start, end, settings.observer_height, settings.target_height)


def _said(
    settings: LineSettings, inputs: Inputs, seen: SightLine
) -> tuple[str, tuple[Finding, ...], tuple[str, ...]]:
    """Figure, findings and remarks of a sight line."""
    findings = [
        Finding("visible", float(seen.open), YES_NO), Finding("share_seen", seen.share_seen, SHARE),
        Finding("length", float(seen.distance[-1]), METRE),
        Finding("clearance", seen.clearance, METRE), Finding("obstacles", len(seen.obstacles), COUNT),
    ]  # fmt: skip
    figure = f"open, {mark(seen.clearance, METRE)} clear"
    if seen.obstacles:
        first = seen.obstacles[0]
        findings += [
            Finding("first_obstacle_at", first.distance, METRE),
            Finding("first_obstacle_above_ray", first.over, METRE),
        ]
        figure = f"blocked at {mark(first.distance, METRE)}"
    eye = (
        f"From {settings.observer_height:g} m above ground at the start to {settings.target_height:g} m "
        "at the end."
    )
    bend = (
        f"Earth curvature with a refraction coefficient of {settings.refraction:g}."
        if settings.curvature
        else "Curvature is off."
    )
    return figure, tuple(findings), (eye, bend, *standing(settings.barrier_height, inputs))


def _sight_line(settings: LineSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Looking along the line")
    seen = _looked(settings, inputs)
    said = _said(settings, inputs, seen)
    return Outcome(
        seen.chart(ground(inputs).frame.crs),
        *said,
        beside={"stretches": lambda: Outcome(_stretches(seen, ground(inputs).frame.crs), *said)},
    )


def _along(settings: LineSettings, inputs: Inputs, crs: str | None) -> Box | None:
    """The box of the line."""
    lines = optional(inputs, "line", Shapes)
    if lines is not None:
        return box_of(Shapes(lines.geometry[:1], {}, lines.crs), crs)
    if settings.ends is None:
        return None
    x1, y1, x2, y2 = settings.ends
    return min(x1, x2), min(y1, y2), max(x1, x2), max(y1, y2)


sight_line = StepKind(
    kind="sight_line",
    around=_along,
    example="line=412500,5870500,413500,5871500 -o stretches=stretches.gpkg",
    bench="sight",
    group="Along a line",
    title="Sight line",
    question="Can the end of a line be seen from its start?",
    help=(
        "Ground, obstacles and the ray along a line; seen and hidden stretches, the first obstacle, and "
        "the clearance."
    ),
    formula="clearance = ray − ground; ray = z_eye + (z_target − z_eye) d / D; each height less d² (1 − "
    "k) / 2R",
    words=(
        "line of sight",
        "los",
        "intervisibility",
        "obstruction",
        "path profile",
        "clearance",
        "visible stretches",
        "hidden ground",
        "dead ground",
    ),
    inputs=(
        DEM,
        InputSpec("line", "shapes", "Line from file", "Its first line counts.", True, shapes="lines"),
        *BLOCKING,
    ),
    settings=LineSettings,
    gives="chart",
    run=_sight_line,
    staple=2,
    reach=RAYS,
    memory=4,
    label=lambda s, names: f"Sight line over {names['dem']}",
    main="Section",
    beside=(
        ResultSpec(
            "stretches",
            "shapes",
            "Stretches",
            "The seen and the hidden stretches of the line.",
            {"column": "state", "method": "unique"},
            was="sight_stretches",
        ),
    ),
)


def _stretches(seen: SightLine, crs: str | None) -> Shapes:
    """Seen and hidden stretches of a line, from its start."""
    xy, last = np.stack([seen.x, seen.y], axis=1), len(seen.seen) - 1
    parts = seen.stretches
    columns = {
        "stretch": np.arange(1, len(parts) + 1),
        "state": np.array(["seen" if seen.seen[a] else "hidden" for a, _ in parts], object),
        "from_m": np.array([seen.distance[a] for a, _ in parts]),
        "length_m": np.array([seen.distance[min(b, last)] - seen.distance[a] for a, b in parts]),
    }
    lines = np.array([shapely.LineString(xy[a : b + 1]) for a, b in parts], object)
    return Shapes(lines, columns, crs)

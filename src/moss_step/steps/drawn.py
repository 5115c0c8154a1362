"""Shapes drawn on the plan: points, lines and areas by their vertices, with the heights of the ground under
them.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

import numpy as np
import shapely
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame, carried
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.units import COUNT, METRE, SQUARE_METRE, Unit
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import MOST, Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import SystemField

DrawnKind = Literal["points", "lines", "areas"]
LEAST: dict[str, int] = {"points": 1, "lines": 2, "areas": 3}
"""Vertices that a shape of each kind has at least."""
MOST_SHAPES, MOST_VERTICES = 2_000, 20_000
"""Shapes that are drawn by hand, and vertices of one of them; more come from a file."""
Coordinate = Annotated[float, Field(ge=-MOST, le=MOST)]


class DrawnShape(BaseModel):
    """One shape: its name, and its vertices in the order in which they are joined. Areas close by
    themselves.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
    name: str = Field("", max_length=200)
    vertices: tuple[tuple[Coordinate, Coordinate], ...] = Field(min_length=1, max_length=MOST_VERTICES)


def _typed(value: Any) -> Any:
    """Shapes written as ``name: x,y;x,y | x,y;x,y``."""
    if not isinstance(value, str):
        return value
    result = []
    for part in filter(None, (p.strip() for p in value.split("|"))):
        name, mark, places = part.rpartition(":")
        vertices = [
            [v.strip() for v in p.split(",")] for p in (places if mark else part).split(";") if p.strip()
        ]
        if any(len(v) != 2 for v in vertices):
            raise ValueError("shapes as name: x,y;x,y with | between them")
        result.append({"name": name.strip(), "vertices": vertices})
    return result


class DrawnSettings(Settings):
    """Settings of draw."""

    kind: DrawnKind = setting("areas", "Kind", "Points, lines or areas: a step holds shapes of one kind.")
    shapes: Annotated[tuple[DrawnShape, ...], BeforeValidator(_typed), Field(max_length=MOST_SHAPES)] = (
        setting(
            ...,
            "Shapes",
            "Drawn on the plan[[; as text name: x,y;x,y with | between shapes]].",
            control="drawn",
        )
    )
    crs: SystemField | None = setting(
        None,
        "Reference system",
        "Of the coordinates; the ground's own when left out.",
        control="crs",
        more=True,
    )


def _draw(settings: DrawnSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Joining vertices")
    ground = optional(inputs, "dem", Surface)
    whole = [s for s in settings.shapes if len(s.vertices) >= LEAST[settings.kind]]
    if not whole:
        raise MossError(
            "Nothing is drawn yet.",
            f"Draw {settings.kind} with {LEAST[settings.kind]} or more vertices each.",
        )
    crs = settings.crs or (ground.frame.crs if ground is not None else None)
    frame, geometry = (
        Frame(1, 1, 0.0, 0.0, 1.0, 1.0, crs),
        np.array([geometry_of(settings.kind, s.vertices) for s in whole], object),
    )
    columns: dict[str, np.ndarray] = {"name": np.array([s.name for s in whole], object)}
    findings = [Finding("shapes", len(whole), COUNT)]
    figure = f"{len(whole):,} point{'s' if len(whole) != 1 else ''}"
    if settings.kind != "points":
        columns["length_m"] = frame.lengths(geometry)
        length = float(columns["length_m"].sum())
        findings.append(Finding("length", length, METRE))
        figure = mark(length, METRE)
    if settings.kind == "areas":
        columns["area_m2"] = frame.areas(geometry)
        area = float(columns["area_m2"].sum())
        findings.append(Finding("area_m2", area, SQUARE_METRE))
        figure = mark(area, SQUARE_METRE)
    heights = _heights(whole, crs, ground)
    symbols = {}
    if heights is not None and settings.kind == "points" and ground is not None:
        columns["height"], symbols = heights, {"height": ground.unit.symbol}
    said = _remarks(settings, whole, geometry)
    value = Shapes(geometry, columns, crs, symbols)
    beside = {"vertices": lambda: _vertices(whole, heights, ground, value.crs)}
    return Outcome(value, figure, tuple(findings), said, beside)


def geometry_of(kind: str, vertices: Sequence[tuple[float, float]]) -> shapely.Geometry:
    """The geometry of one shape of a kind."""
    return (
        shapely.Point(vertices[0])
        if kind == "points"
        else shapely.LineString(vertices)
        if kind == "lines"
        else shapely.Polygon(vertices)
    )


def _heights(shapes: Sequence[DrawnShape], crs: str | None, ground: Surface | None) -> np.ndarray | None:
    """Heights of the ground under all vertices, one after another; NaN where there is none."""
    if ground is None:
        return None
    xy = np.array([v for s in shapes for v in s.vertices])
    x, y = xy.T
    system = Frame(1, 1, 0.0, 0.0, 1.0, 1.0, crs).system
    if system is not None and ground.frame.system is not None and system != ground.frame.system:
        x, y = carried(system, ground.frame.system, x, y)
    return values_at(ground, x, y)


def _remarks(settings: DrawnSettings, whole: Sequence[DrawnShape], geometry: np.ndarray) -> tuple[str, ...]:
    left = len(settings.shapes) - len(whole)
    crossed = (
        [k for k, ok in enumerate(shapely.is_valid(geometry)) if not ok] if settings.kind == "areas" else []
    )
    said = [f"{left} of the {settings.kind} have too few vertices, and are left out."] if left else []
    said += [
        f"The outline of {whole[k].name or f'area {k + 1}'} crosses itself: its area counts for little."
        for k in crossed[:3]
    ]
    return tuple(said)


def _vertices(
    shapes: Sequence[DrawnShape], heights: np.ndarray | None, ground: Surface | None, crs: str | None
) -> Outcome:
    """The table of all vertices."""
    counts = [len(s.vertices) for s in shapes]
    xy = np.array([v for s in shapes for v in s.vertices])
    columns = {
        "shape": np.repeat(np.arange(1, len(shapes) + 1), counts),
        "name": np.repeat(np.array([s.name for s in shapes], object), counts),
        "vertex": np.concatenate([np.arange(1, n + 1) for n in counts]), "x": xy[:, 0], "y": xy[:, 1],
    }  # fmt: skip
    units: dict[str, Unit] = {}
    if heights is not None and ground is not None:
        columns["z"], units = heights, {"z": ground.unit}
    rows = Finding("rows", len(xy), COUNT)
    return Outcome(Table(columns, units, crs=crs), f"{len(xy):,} vertices", (rows,))


draw = StepKind(
    kind="draw",
    example='kind=areas shapes="Old quarry: 412900,5870900;413300,5870900;413100,5871200" crs=EPSG:32628',
    keeps="shapes",
    bench="gather",
    group="Bring in",
    title="Draw shapes",
    question="Which points, lines or areas do you draw?",
    help=(
        "Points, lines and areas drawn on the plan, with their lengths and areas and the heights of the "
        "ground under their vertices."
    ),
    words=("digitise", "sketch", "polygon", "polyline", "outline", "vertices", "mark", "trace"),
    inputs=(
        InputSpec(
            "dem",
            "surface",
            "Ground",
            "Gives the heights of the vertices.",
            optional=True,
            more=True,
            quantity="elevation",
        ),
    ),
    settings=DrawnSettings,
    gives="shapes",
    run=_draw,
    memory=lambda s, _: 2e5 + 800.0 * sum(len(shape.vertices) for shape in s.shapes),
    label=lambda s, names: (
        f"Drawn {s.kind}" if len(s.shapes) != 1 or not s.shapes[0].name else s.shapes[0].name
    ),
    main="Shapes",
    beside=(
        ResultSpec(
            "vertices", "table", "Vertices", "Every vertex with its place and the height of the ground."
        ),
    ),
)

"""Surface: TINs, and grids from them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.findings import ASIDE, MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.tin import Tin
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE
from moss_step.science.framing import frame_around
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.surfaces import plane_around, proposed_cell
from moss_step.science.interpolate.tin import break_lines, on_grid, triangulate
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, optional, setting
from moss_step.steps.places import (
    AREA,
    PLACES,
    POINTS,
    MeasuredSettings,
    gathered,
    lines_of,
)
from moss_step.steps.results import surface_outcome

_TRIANGLES = declared("triangles", "Triangles", MAIN)
_EDGES = declared("break_edges", "Edges along break lines", ASIDE)
_LONGEST = declared("longest_side", "Longest side", USUAL)
TIN = InputSpec("tin", "tin", "TIN", "A surface of triangles.")


class TriangulateSettings(MeasuredSettings):
    """Settings of triangulate."""

    edge_value: float | None = setting(
        None,
        "Height along the outline",
        "Known there, such as a depth of 0 along a shore. Left out, it is read off the triangles.",
        with_input="area",
    )
    longest: float = setting(
        0.0, "Longest side", "Triangles with a longer side are left out; 0 keeps all.", unit="m", ge=0
    )


def _triangulate(settings: TriangulateSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.0, "Gathering places")
    got = gathered(settings, inputs, None, breaks=False)
    lines, area = optional(inputs, "breaklines", Shapes), optional(inputs, "area", Shapes)
    kept = [] if lines is None else lines_of(in_system(lines, got.crs), settings.column)
    outline = None
    if area is not None:
        rims = in_system(area, got.crs)
        outline = shapely.union_all(rims.geometry)
        known = np.nan if settings.edge_value is None else settings.edge_value
        kept += break_lines(rims.geometry, np.full(len(rims), known))
    x, y = got.held.x, got.held.y
    box = float(x.min()), float(y.min()), float(x.max()), float(y.max())
    progress.at(0.2, "Laying triangles")
    tin = triangulate(
        got.held, plane_around(box, got.crs), got.crs, got.unit, kept, outline, settings.longest
    )
    progress.at(0.9, "Measuring")
    return _told(tin, got.said)


def _told(tin: Tin, said: tuple[str, ...] = ()) -> Outcome:
    low, high = tin.range or (float("nan"), float("nan"))
    findings = [
        Finding(_TRIANGLES, len(tin), COUNT),
        Finding("lowest", low, tin.unit),
        Finding("highest", high, tin.unit),
        Finding(PLACES, len(np.unique(tin.triangles)), COUNT),
    ]
    if (frame := tin.frame) is not None:
        ends = np.column_stack([tin.x, tin.y])[tin.edges]
        findings.append(Finding(_LONGEST, float(frame.distances(ends[:, 0], ends[:, 1]).max()), METRE))
    if len(tin.lines):
        findings.append(Finding(_EDGES, len(tin.lines), COUNT))
    return Outcome(tin, f"{len(tin):,} triangles", tuple(findings), said)


def _places_bytes(inputs: Inputs) -> float:
    return 700.0 * int(shapely.get_num_coordinates(as_kind(inputs["points"], Shapes).geometry).sum())


triangulate_step = StepKind(
    kind="triangulate",
    example="points=checks.gpkg column=z",
    bench="surface",
    group="Between places",
    title="TIN",
    question="Which triangles lie between the places?",
    help=(
        "Triangles between points with heights (Delaunay), with break lines and the outline among their "
        "edges: no triangle crosses one."
    ),
    formula="|p − m| ≥ r for every place p, where m and r are middle and radius of a triangle's circle; "
    "across break lines alone it may be less",
    words=("tin", "triangulation", "delaunay", "break lines", "mesh", "irregular network", "constrained"),
    inputs=(
        POINTS,
        AREA,
        InputSpec(
            "breaklines", "shapes", "Break lines", "Lines that no triangle crosses.", True,
            shapes="lines",
        ),
    ),
    settings=TriangulateSettings,
    gives="tin",
    run=_triangulate,
    memory=lambda s, inputs: _places_bytes(inputs),
    label=lambda s, names: f"TIN of {names['points']}",
    staple=1,
)  # fmt: skip


class TinGridSettings(Settings):
    """Settings of tin_grid."""

    cell: float | None = setting(
        None, "Cell", "In units of the plan. Left out, it is half of the mean spacing.", gt=0,
        without_input="like",
    )  # fmt: skip


def _tin_grid(settings: TinGridSettings, inputs: Inputs, progress: Progress) -> Outcome:
    tin, like = as_kind(inputs["tin"], Tin), optional(inputs, "like", Surface)
    progress.at(0.1, "Reading the triangles at the cells")
    box = tin.box or (0.0, 0.0, 1.0, 1.0)
    cell = settings.cell
    if cell is None:
        used = np.unique(tin.triangles)
        held = Measured(tin.x[used], tin.y[used], tin.z[used])
        cell = proposed_cell(held, plane_around(box, tin.crs))
    frame = like.frame if like is not None else frame_around(box, cell, tin.crs)
    surface = on_grid(tin, frame)
    outcome = surface_outcome(surface)
    return replace(outcome, findings=(*outcome.findings, Finding("cell_width", frame.cell_metres[0], METRE)))


def _grid_bytes(settings: TinGridSettings, inputs: Inputs) -> float:
    """Bytes: the cells, and some arrays of points."""
    tin = as_kind(inputs["tin"], Tin)
    like, box = optional(inputs, "like", Surface), tin.box or (0.0, 0.0, 1.0, 1.0)
    cells = 8.0 * len(tin.x)
    if like is not None:
        cells = float(like.values.size)
    elif settings.cell is not None:
        cells = (box[2] - box[0]) * (box[3] - box[1]) / settings.cell**2
    return 12.0 * cells + 200.0 * len(tin.x)


tin_grid = StepKind(
    kind="tin_grid",
    example="tin=surface.ply cell=10",
    bench="surface",
    group="Between places",
    title="Grid of a TIN",
    question="Which grid has the heights of the triangles?",
    help="The heights of a TIN at the middles of cells.",
    formula="z = Σ λᵢ zᵢ over the corners of the triangle that holds the middle of the cell",
    words=("tin to raster", "rasterize tin", "linear", "facet"),
    inputs=(TIN, InputSpec("like", "surface", "Cells of", "A grid whose cells are taken.", True, more=True)),
    settings=TinGridSettings,
    gives="surface",
    run=_tin_grid,
    memory=_grid_bytes,
    label=lambda s, names: f"Grid of {names['tin']}",
    staple=3,
)

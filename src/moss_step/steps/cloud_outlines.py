"""Shapes out of classes of points, each with a table."""

from __future__ import annotations

from typing import Literal

import numpy as np
import shapely

from moss_step.model.cloud import BUILDING, HIGH_PLANTS, LOW_PLANTS, MEDIUM_PLANTS, WIRE, Cloud
from moss_step.model.errors import MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE, SQUARE_METRE
from moss_step.science.points.cells import cells_of, extremes, taken
from moss_step.science.points.near import frame_about, plan_in_metres
from moss_step.science.points.objects import heights_of
from moss_step.science.points.outlines import Found, buildings, centre_lines, wires
from moss_step.science.points.trees import TreeSet, single_trees
from moss_step.steps.cloud_classes import classes_of
from moss_step.steps.clouds import CLOUD, POINTS
from moss_step.steps.declare import Inputs, Settings, StepKind, setting
from moss_step.steps.radii import spacing_of
from moss_step.steps.segments import in_plan_of

_FOUND = declared("outlines", "Shapes found", MAIN)
_AREA = declared("outline_area", "Area in all", USUAL)
_LENGTH = declared("lines_length", "Length in all", USUAL)
_PLANTS = (LOW_PLANTS, MEDIUM_PLANTS, HIGH_PLANTS)
What = Literal["by_class", "buildings", "crowns", "tops", "centre_lines", "wires"]


class OutlineSettings(Settings):
    """Settings of outlines_of."""

    of_class: int = setting(
        BUILDING,
        "Class",
        "Whose points become shapes[[; also class=6]].",
        control="point_class",
        ge=0,
        le=255,
    )
    what: What = setting(
        "by_class",
        "Shapes",
        "`buildings` are outlines, `crowns` and `tops` trees, `centre_lines` walls, `wires` curves; by the "
        "class when left out.",
    )
    straight: bool = setting(
        True,
        "Straighten sides",
        "Along and across the main direction of a building.",
        when={"what": ("by_class", "buildings")},
    )
    least_area: float = setting(
        10.0,
        "Least area",
        "Of a building.",
        unit="m²",
        gt=0,
        le=1e9,
        when={"what": ("by_class", "buildings")},
    )
    least_length: float = setting(
        5.0,
        "Least length",
        "Of a line.",
        unit="m",
        gt=0,
        le=1e6,
        when={"what": ("by_class", "centre_lines", "wires")},
    )
    gap: float = setting(
        6.0, "Longest gap", "In a wall. Too small: pieces; too large: walls run together.", unit="m", gt=0,
        le=1000, more=True,
    )  # fmt: skip
    width: float = setting(1.2, "Width", "Of the widest wall.", unit="m", gt=0, le=100, more=True)
    least_height: float = setting(
        2.0, "Lowest tree", "What is lower is none.", unit="m", gt=0, le=200, more=True
    )


def _outlines_of(settings: OutlineSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    codes = classes_of(cloud)
    rows = np.flatnonzero(codes == settings.of_class)
    called = cloud.class_name(settings.of_class)
    if not rows.size:
        raise MossError(f"No point is of the class {settings.of_class}, {called}.", "Choose another class.")
    above = heights_of(cloud, codes, rows, progress.part(0.0, 0.2)).astype(np.float64)
    progress.at(0.2, "Looking for shapes")
    flat, spacing = plan_in_metres(cloud).part(rows), spacing_of(cloud)
    what = settings.what if settings.what != "by_class" else _usual(settings.of_class)
    if what in ("crowns", "tops"):
        return _trees(settings, cloud, flat, above, spacing, progress)
    if what == "buildings":
        inner = progress.part(0.2, 1.0)
        found = buildings(flat, above, spacing, settings.least_area, settings.straight, inner)
    elif what == "wires":
        found = wires(flat, spacing, settings.least_length)
    else:
        found = centre_lines(flat, above, settings.gap, settings.width, settings.least_length)
    return _told(cloud, found, called, len(rows))


def _usual(code: int) -> What:
    """What points of a class become."""
    if code == BUILDING:
        return "buildings"
    if code in _PLANTS:
        return "crowns"
    return "wires" if code == WIRE else "centre_lines"


def _told(cloud: Cloud, found: Found, called: str, count: int) -> Outcome:
    """The shapes with their table."""
    if not len(found.geometry):
        raise MossError(f"No shape of {called} is so large.", "Take a smaller least area or length.")
    geometry = found.geometry
    columns: dict[str, np.ndarray] = {"number": np.arange(1, len(geometry) + 1)}
    areas = bool((shapely.get_dimensions(geometry) == 2).all())
    if areas:
        columns["area_m2"] = np.asarray(shapely.area(geometry))
    columns |= {**found.columns, "points": np.array([len(r) for r in found.points])}
    placed = in_plan_of(cloud, geometry)
    if bool(shapely.has_z(geometry).any()):
        metres = cloud.unit.metres
        placed = np.asarray(
            shapely.transform(placed, lambda xyz: xyz / np.array([1.0, 1.0, metres]), include_z=True)
        )
    shapes = Shapes(placed, columns, cloud.crs, {"roof_slope": "°"})
    size = (
        Finding(_AREA, float(columns["area_m2"].sum()), SQUARE_METRE)
        if areas
        else Finding(_LENGTH, float(columns["length_m"].sum()), METRE)
    )
    findings = (Finding(_FOUND, len(geometry), COUNT), size, Finding(POINTS, count, COUNT))
    return Outcome(shapes, shapes.count_text, findings)


def _closed(top: np.ndarray) -> np.ndarray:
    """Heights of cells; an empty one between others has the mean of those beside it, and the rest none."""
    from scipy.ndimage import uniform_filter  # loaded where it is used: it takes a while

    held = np.isfinite(top)
    share = uniform_filter(held.astype(np.float64), 3, mode="constant")
    mean = uniform_filter(np.where(held, top, 0.0), 3, mode="constant") / np.maximum(share, 1e-9)
    return np.where(held, top, np.where(share > 0.3, mean, 0.0))


def _trees(
    settings: OutlineSettings,
    cloud: Cloud,
    flat: Cloud,
    above: np.ndarray,
    spacing: float,
    progress: Progress,
) -> Outcome:
    """Crowns of trees on the highest points of cells."""
    frame = frame_about(flat, max(spacing, 0.25))
    top = taken(above, extremes(cells_of(flat, frame), above, frame, highest=True))
    heights = Surface(_closed(top).astype(np.float32), frame, METRE, "difference")
    tops, crowns = single_trees(heights, TreeSet(least=settings.least_height), progress.part(0.3, 0.9))
    columns = {
        "number": np.asarray(crowns.columns["tree"]),
        "area_m2": np.asarray(crowns.columns["crown_m2"]),
        "height_m": np.asarray(crowns.columns["tree_height"]),
        "crown_m": np.asarray(crowns.columns["crown_m"]),
    }
    chosen = tops if settings.what == "tops" else crowns
    shapes = Shapes(in_plan_of(cloud, chosen.geometry), columns, cloud.crs)
    findings = (
        Finding(_FOUND, len(crowns), COUNT),
        Finding(_AREA, float(columns["area_m2"].sum()), SQUARE_METRE),
        Finding(POINTS, len(flat), COUNT),
    )
    return Outcome(shapes, shapes.count_text, findings)


outlines_of = StepKind(
    kind="outlines_of",
    example="of_class=4 what=crowns",
    bench="points",
    group="Shapes and objects",
    title="Shapes of a class",
    question="Where are the buildings, crowns, walls and wires?",
    help=(
        "Makes shapes with a table out of the points of a class: outlines of buildings, crowns of "
        "trees, centre "
        "lines of walls, wires as curves."
    ),
    formula=(
        "outline = points with gaps ≤ 3 spacings closed, ¾ spacing wider; straight: sides along and across "
        "the main direction; centre line = longest way in the shortest tree, through the means around; "
        "wire = parabola over 8 spacings"
    ),
    words=(
        "footprint",
        "vectorize",
        "polygon",
        "building outline",
        "wall",
        "centreline",
        "power line",
        "catenary",
    ),
    inputs=(CLOUD,),
    settings=OutlineSettings,
    gives="shapes",
    run=_outlines_of,
    label=lambda s, names: f"Shapes in {names['cloud']}",
    memory=lambda s, inputs: 700.0 * len(as_kind(inputs["cloud"], Cloud)),
    staple=14,
)

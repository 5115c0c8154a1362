"""Segments of points, and their outlines."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import shapely

from moss_step.model.cloud import LYING, Cloud
from moss_step.model.errors import MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE, SHARE
from moss_step.science.points.near import plan_in_metres
from moss_step.science.points.segments import SEGMENT, Method, SegmentSet, segments_of
from moss_step.steps.cloud_classes import classes_of
from moss_step.steps.clouds import CLOUD, Codes
from moss_step.steps.declare import Inputs, ResultSpec, Settings, StepKind, setting
from moss_step.steps.radii import spacing_of, usual_radius

_SEGMENTS = declared("segments", "Segments", MAIN)
_IN = declared("points_in_segments", "Points in segments", USUAL)
_LARGEST = declared("largest_segment", "Points of the largest", USUAL)
_STEP = declared("step_length", "Step from point to point", USUAL)


class SegmentSettings(Settings):
    """Settings of segments."""

    method: Method = setting(
        "smooth", "Method", "`smooth` grows over surfaces of little bend; `distance` joins what lies close."
    )
    within: float | None = setting(
        None,
        "Step",
        "From point to point; by the spacing when left out. Too small: pieces; too large: things run "
        "together.",
        unit="m",
        gt=0,
        le=500,
    )
    angle: float = setting(
        12.0,
        "Bend up to",
        "Between neighbours. Too small: a roof is many parts; too large: it runs into trees.",
        unit="°",
        gt=0,
        le=90,
        when={"method": ("smooth",)},
    )
    residual: float = setting(
        0.15,
        "Roughness up to",
        "How far points may scatter about their plane for it to grow on from there.",
        unit="m",
        gt=0,
        le=100,
        when={"method": ("smooth",)},
        more=True,
    )
    least: int = setting(
        10, "Fewest points", "Of a segment; smaller ones are left out.", ge=1, le=1_000_000_000
    )
    classes: Codes = setting(
        (),
        "Classes",
        "Points of these classes count[[: 1,6]]; left out, all but ground, water and noise.",
        more=True,
    )
    intensity: float = setting(
        0.0, "Weight of intensity", "Metres that its whole range counts as; 0 leaves it out.",
        unit="m", ge=0, le=1000, more=True,
    )  # fmt: skip
    color: float = setting(
        0.0, "Weight of colour", "Metres that the whole range of a band counts as; 0 leaves it out.",
        unit="m", ge=0, le=1000, more=True,
    )  # fmt: skip


def _segments(settings: SegmentSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    codes = classes_of(cloud)
    rows = np.flatnonzero(np.isin(codes, settings.classes) if settings.classes else ~np.isin(codes, LYING))
    if not rows.size:
        raise MossError("No point is of these classes.", "Take other classes.")
    within = settings.within or _within(settings, cloud)
    weights = _weights(settings)
    if missing := [n for n in weights if n not in cloud.attributes]:
        raise MossError(f"The points have no {missing[0]}.", "Set its weight to 0.")
    how = SegmentSet(settings.method, within, settings.angle, settings.residual, settings.least, weights)
    bands = {n: np.asarray(cloud.attributes[n])[rows] for n in weights}
    numbers = np.zeros(len(cloud), np.uint32)
    numbers[rows] = segments_of(plan_in_metres(cloud).part(rows), how, bands, progress)
    count = int(numbers.max(initial=0))
    if not count:
        raise MossError("No segment has so many points.", "Take a longer step, or fewer points.")
    found = replace(cloud, attributes={**cloud.attributes, SEGMENT: numbers})
    findings = (
        Finding(_SEGMENTS, count, COUNT),
        Finding(_IN, float((numbers > 0).sum() / len(rows)), SHARE),
        Finding(_LARGEST, int((numbers == 1).sum()), COUNT),
        Finding(_STEP, within, METRE),
    )
    said = f"{count:,} segments".replace(",", " ") if count != 1 else "1 segment"
    return Outcome(
        found, said, findings, (),
        beside={"outlines": lambda: Outcome(outlines_of_segments(found, spacing_of(cloud)), said, findings)},
    )  # fmt: skip


def _within(settings: SegmentSettings, cloud: Cloud) -> float:
    """A smooth surface needs a plane around each point; what lies close, a step or two."""
    usual = usual_radius(cloud)
    return usual if settings.method == "smooth" else float(f"{0.8 * usual:.2g}")


def _weights(settings: SegmentSettings) -> dict[str, float]:
    bands = {"intensity": settings.intensity, **dict.fromkeys(("red", "green", "blue"), settings.color)}
    return {n: w for n, w in bands.items() if w > 0.0}


def outlines_of_segments(cloud: Cloud, spacing: float) -> Shapes:
    """The outline of each segment, half a spacing around its points, with its count and heights."""
    numbers = np.asarray(cloud.attributes[SEGMENT])
    rows = np.flatnonzero(numbers)
    rows = rows[np.argsort(numbers[rows], kind="stable")]
    ends = np.cumsum(np.bincount(numbers[rows])[1:])
    flat = plan_in_metres(cloud)
    xy = np.column_stack([flat.x[rows], flat.y[rows]])
    starts = np.concatenate([[0], ends[:-1]])
    of = np.searchsorted(ends, np.arange(len(rows)), side="right")
    # A line through the points has their hull, and takes less memory; one of a single point needs it twice.
    lines = shapely.linestrings(
        np.insert(xy, starts, xy[starts], axis=0), indices=np.insert(of, starts, of[starts])
    )
    hulls = shapely.buffer(shapely.convex_hull(lines), spacing / 2.0, quad_segs=2)
    heights = np.split(np.asarray(cloud.z)[rows], ends[:-1])
    columns: dict[str, Any] = {
        "segment": np.arange(1, len(ends) + 1),
        "points": np.diff(np.concatenate([[0], ends])),
        "area_m2": shapely.area(hulls),
        "lowest": np.array([float(h.min()) for h in heights]),
        "highest": np.array([float(h.max()) for h in heights]),
    }
    symbol = cloud.unit.symbol
    return Shapes(
        in_plan_of(cloud, np.asarray(hulls)), columns, cloud.crs, {"lowest": symbol, "highest": symbol}
    )


def in_plan_of(cloud: Cloud, geometry: np.ndarray) -> np.ndarray:
    """Shapes in metres from the lower left corner of a cloud, in its own plan."""
    east, north = cloud.plan_metres
    west, south = (0.0, 0.0) if cloud.bounds is None else cloud.bounds[0][:2]
    return np.asarray(
        shapely.transform(geometry, lambda xy: xy / np.array([east, north]) + np.array([west, south]))
    )


segments = StepKind(
    kind="segments",
    example="method=distance least=4 -o outlines=segments.gpkg",
    bench="points",
    group="Shapes and objects",
    title="Segments",
    question="Which points belong together?",
    help=(
        "Brings points together that lie on one smooth surface, or close to each other, and numbers "
        "the segments "
        "by their size. Segments are examples for a class of your own."
    ),
    formula=(
        "smooth: from the point of least scatter on, j joins i where d ≤ step and |nᵢ · nⱼ| ≥ cos "
        "bend, and grows "
        "on where its scatter ≤ roughness; distance: d ≤ step; d² = Δx² + Δy² + Δz² + Σ (weight × "
        "Δband / range)²"
    ),
    words=("region growing", "clustering", "connected components", "planes", "grouping", "segmentation"),
    inputs=(CLOUD,),
    settings=SegmentSettings,
    gives="cloud",
    run=_segments,
    label=lambda s, names: f"Segments of {names['cloud']}",
    look={"column": SEGMENT},
    memory=lambda s, inputs: 300.0 * len(as_kind(inputs["cloud"], Cloud)),
    main="Points",
    beside=(
        ResultSpec("outlines", "shapes", "Outlines", "The ground of each segment, with points and heights."),
    ),
    staple=11,
)

"""Classes of points: ground and noise found among them, and classes that are set by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from moss_step.formats.las_write import with_classes
from moss_step.formats.vector import in_system
from moss_step.model.cloud import CHUNK, GROUND, HIGH_NOISE, LOW_NOISE, Cloud, class_name
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, SHARE
from moss_step.science.points import edits
from moss_step.science.points import ground as search
from moss_step.science.points.blocks import MOST
from moss_step.science.points.objects import by_blocks
from moss_step.steps.clouds import CLOUD, Codes
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import BoxField, PointsField

_GROUND = declared("ground_points", "Ground points", MAIN)
_GROUND_SHARE = declared("ground_share", "Ground of all points", MAIN)
_NOISE = declared("noise_points", "Noise points", USUAL)
_CHANGED = declared("changed_points", "Points that changed", USUAL)
_STRAYS = (LOW_NOISE, HIGH_NOISE)
CHANGES = ResultSpec("changes", "table", "Changes", "How many points went from which class to which.")


Terrain = Literal["flat", "upland", "forest", "built_up", "scarp"]


class GroundSettings(Settings):
    """Settings of ground_points."""

    terrain: Terrain = setting(
        "upland",
        "Ground",
        "A ready set: `flat` farmland, rough `upland`, `forest`, `built_up`, steep `scarp`.",
    )
    method: search.Method = setting(
        "morphological",
        "Method",
        "`morphological` opens the surface of lowest points with ever larger disks. `cloth` lays a cloth on "
        "it from below: it needs no widest thing, and cuts off sharp crests and cliff tops.",
    )
    noise: bool = setting(True, "Noise first", "Look for points alone in the air or below the ground before.")
    cell: float | None = setting(
        None,
        "Cell",
        "Of the surface of lowest points. Too large: small knolls are "
        "cut; too small: things are taken for ground.",
        unit="m",
        gt=0,
        le=100,
        more=True,
    )
    widest: float | None = setting(
        None,
        "Widest thing",
        "Across. Too small: roofs stay ground; too large: hilltops are cut.",
        unit="m",
        gt=0,
        le=1000,
        more=True,
        when={"method": ("morphological",)},
    )
    slope: float | None = setting(
        None,
        "Steepest ground",
        "Rise over run. Too small: steep ground is lost; too large: low things stay.",
        gt=0,
        le=10,
        more=True,
        when={"method": ("morphological",)},
    )
    stiffness: int | None = setting(
        None,
        "Stiffness",
        "Of the cloth. Too small: it sags into roofs; too large: it spans hollows and steep ground.",
        ge=1,
        le=10,
        more=True,
        when={"method": ("cloth",)},
    )
    height: float | None = setting(
        None,
        "Within",
        "How far a point may lie off the ground found. Too large: low plants are ground.",
        unit="m",
        gt=0,
        le=10,
        more=True,
    )


def _how(settings: GroundSettings) -> search.GroundSet:
    own = {n: getattr(settings, n) for n in ("cell", "widest", "slope", "stiffness", "height")}
    return replace(search.SETS[settings.terrain], **{n: v for n, v in own.items() if v is not None})


def in_plan(cloud: Cloud) -> tuple[Cloud, float]:
    """The cloud with heights in the unit of the plan, and metres for each such unit; longitude and latitude
    become metres around the middle of the cloud.
    """
    frame = Frame(1, 1, 0.0, 0.0, 1.0, 1.0, cloud.crs)
    height = cloud.unit.metres
    if frame.geographic and cloud.bounds is not None:
        east, north = cloud.plan_metres
        west, south = cloud.bounds[0][:2]
        x, y = (cloud.x - west) * east, (cloud.y - south) * north
        return replace(cloud, x=x, y=y, z=cloud.z * height, crs=None), 1.0
    metres = frame.metres_per_unit
    return (cloud if height == metres else replace(cloud, z=cloud.z * (height / metres))), metres


def _ground_points(settings: GroundSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    return reclassified(cloud, classes_of(cloud), ground_codes_of(settings, cloud, progress))


def ground_codes_of(settings: GroundSettings, cloud: Cloud, progress: Progress) -> np.ndarray:
    """Ground, noise and the rest among all points: too many at once are worked on block by block, each with
    what its widest things reach into.

    Raises MossError where none is ground.
    """
    codes = np.ones(len(cloud), np.uint8)

    def work(rows: np.ndarray, inner: Progress) -> Sequence[np.ndarray]:
        return [ground_codes(settings, _bare(cloud, rows), inner)]

    by_blocks(cloud, _reach_of(settings), work, [codes], progress)
    if not (codes == GROUND).any():
        raise MossError("No point is ground by these settings.", "Allow steeper ground, or take another set.")
    return codes


def ground_codes(settings: GroundSettings, cloud: Cloud, progress: Progress) -> np.ndarray:
    """Classes of points by ground and noise."""
    flat, metres = in_plan(cloud)
    how = search.scaled(_how(settings), metres)
    if settings.cell is None:  # a cell holds a few points, or most of them would be gaps
        how = replace(how, cell=max(how.cell, search.usual_cell(flat)))
    noise = None
    kept = np.ones(len(cloud), bool)
    if settings.noise:
        progress.at(0.0, "Looking for noise")
        reach = _REACH * max(search.usual_cell(flat), 1e-9)
        noise = search.noise_points(flat, reach, _FEW, _BELOW / metres, _ABOVE / metres)
        kept = ~(noise[0] | noise[1])
    found = np.zeros(len(cloud), bool)
    found[kept] = search.ground_points(flat.part(kept), how, progress.part(0.2, 0.95), settings.method)
    return search.classified(found, noise)


def _bare(cloud: Cloud, rows: np.ndarray) -> Cloud:
    """Some points without their attributes."""
    return Cloud(cloud.x[rows], cloud.y[rows], cloud.z[rows], {}, cloud.crs, cloud.unit)


def _reach_of(settings: GroundSettings) -> float:
    """Metres beyond a block that may count for the ground in it."""
    return 2.0 * _how(settings).widest + 20.0


def _search_memory(settings: Settings, inputs: Inputs) -> float:
    """Bytes of a search: of all points, or of a block's, with two codes of each."""
    count = len(as_kind(inputs["cloud"], Cloud))
    return 260.0 * min(count, 2 * MOST) + 3.0 * count


def classes_of(cloud: Cloud) -> np.ndarray:
    """Classes of the points; 0 where none were ever set."""
    held = cloud.attributes.get("classification")
    return np.zeros(len(cloud), np.uint8) if held is None else np.asarray(held)


def reclassified(cloud: Cloud, before: np.ndarray, codes: np.ndarray, figure: str = "") -> Outcome:
    """The outcome of other classes: how many points are ground, and which class became which."""
    ground, strays = int((codes == GROUND).sum()), int(np.isin(codes, _STRAYS).sum())
    findings = (
        Finding(_GROUND, ground, COUNT),
        Finding(_GROUND_SHARE, ground / max(len(codes), 1), SHARE),
        Finding(_NOISE, strays, COUNT),
        Finding(_CHANGED, int((codes != before).sum()), COUNT),
    )
    said = figure or f"{ground / len(codes):.0%} ground".replace("%", " %")

    def changes() -> Outcome:
        return Outcome(changes_of(before, codes, cloud), said, findings[3:])

    return Outcome(with_classes(cloud, codes), said, findings, (), beside={"changes": changes})


def changes_of(before: np.ndarray, after: np.ndarray, cloud: Cloud) -> Table:
    by_pair = np.zeros(256 * 256, np.int64)
    for first in range(0, len(before), CHUNK):
        part = slice(first, first + CHUNK)
        pairs = np.asarray(before[part]).astype(np.int64) * 256 + after[part]
        by_pair += np.bincount(pairs, minlength=by_pair.size)
    held = np.flatnonzero(by_pair)
    counts = by_pair[held]
    return Table(
        {
            "before": np.array([cloud.class_name(int(p) // 256) for p in held], object),
            "after": np.array([cloud.class_name(int(p) % 256) for p in held], object),
            "count": counts,
            "share": counts / max(len(before), 1),
        },
        {"share": SHARE},
    )


ground_points = StepKind(
    kind="ground_points",
    example="terrain=upland -o changes=changes.csv",
    bench="points",
    group="Classes of points",
    title="Ground points",
    question="Which points are ground?",
    help=(
        "Finds ground by opening the surface of lowest points with ever larger disks (Pingel et al. "
        "2013), or by a cloth (Zhang et al. 2016), and noise before "
        "it. The classes that the file came with are "
        "forgotten."
    ),
    formula="z(cell) = lowest point; for r = 1, 2, … R: object where z − opening(z, disk r) > slope × r "
    "× cell; ground where |point − surface| ≤ height + scale × slope of the surface / 2",
    words=(
        "bare earth",
        "ground filter",
        "dtm",
        "classify ground",
        "morphological",
        "cloth",
        "noise",
        "outlier",
    ),
    inputs=(CLOUD,),
    settings=GroundSettings,
    gives="cloud",
    run=_ground_points,
    label=lambda s, names: f"Ground of {names['cloud']}",
    look={"column": "classification"},
    memory=_search_memory,
    main="Points",
    beside=(CHANGES,),
    staple=2,
)

_NOISE_REACH = 40.0
"""Metres beyond a block within which the lowest points around count."""
_REACH, _FEW, _BELOW, _ABOVE = 3.0, 3, 2.0, 60.0
"""Usual cells that a point alone is looked for within, the most others there, and metres that a point may lie
below and above the lowest points around.
"""


class NoiseSettings(Settings):
    """Settings of noise_points."""

    within: float | None = setting(
        None,
        "Alone within",
        "Side of the cubes in which others are counted; from the spacing of the points when left out. Too "
        "small: thin crowns are noise; too large: birds near roofs stay.",
        unit="m",
        gt=0,
        le=1000,
    )
    others: int = setting(
        _FEW, "Others at the most", "A point with no more others around it is alone.", ge=0, le=1000
    )
    below: float = setting(
        _BELOW,
        "Too far below",
        "Under the lowest points around. Too small: hollows and ditches are noise.",
        unit="m",
        gt=0,
        le=10_000,
    )
    above: float = setting(
        _ABOVE, "Too far above", "Too small: towers and tall trees are noise.", unit="m", gt=0, le=10_000
    )


def _noise_points(settings: NoiseSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    low, high = np.zeros(len(cloud), bool), np.zeros(len(cloud), bool)
    progress.at(0.1, "Looking for noise")
    by_blocks(
        cloud, _NOISE_REACH, lambda rows, _: _noise(settings, _bare(cloud, rows)), [low, high], progress
    )
    before = classes_of(cloud)
    codes = before.astype(np.uint8)
    codes[np.isin(codes, _STRAYS)] = 1
    codes[low], codes[high] = _STRAYS
    count = int(low.sum() + high.sum())
    return reclassified(cloud, before, codes, f"{count:,} noise".replace(",", " "))


def _noise(settings: NoiseSettings, cloud: Cloud) -> tuple[np.ndarray, np.ndarray]:
    flat, metres = in_plan(cloud)
    side = _REACH * max(search.usual_cell(flat), 1e-9)
    if settings.within is not None:
        side = settings.within / metres
    return search.noise_points(flat, side, settings.others, settings.below / metres, settings.above / metres)


noise_points = StepKind(
    kind="noise_points",
    example="below=1.5 -o changes=changes.csv",
    bench="points",
    group="Classes of points",
    title="Noise points",
    question="Which points are birds, and which echoes came late?",
    help=(
        "Points alone in the air or under the ground, or too far from what is around, become high or low "
        "noise. Other classes stay; what was noise before and is not now is unassigned."
    ),
    formula=(
        "alone: others in the 27 cubes of side within ≤ most; low noise: z − m < −below, or alone and z < "
        "m; high noise: z − m > above, or alone and z > m; m = median over 7 × 7 cells of lowest points"
    ),
    words=("outlier", "birds", "late echoes", "low noise", "high noise", "clean", "isolated"),
    inputs=(CLOUD,),
    settings=NoiseSettings,
    gives="cloud",
    run=_noise_points,
    label=lambda s, names: f"Noise of {names['cloud']}",
    look={"column": "classification"},
    memory=_search_memory,
    main="Points",
    beside=(CHANGES,),
    staple=5,
)


class EditSettings(Settings):
    """Settings of edit_classes."""

    to_class: int = setting(
        ...,
        "To class",
        "The class that the points get[[, by its code]].",
        control="point_class",
        ge=0,
        le=255,
    )
    classes: Codes = setting((), "From classes", "Points of these classes change[[: 1,5]]; left out, all.")
    outline: PointsField | None = setting(
        None,
        "Outline",
        "Points inside it change[[: x,y;x,y;x,y]].",
        control="outline",
        without_input="area",
        more=True,
    )
    line: BoxField | None = setting(
        None, "Line of the section", "From and to[[: x1,y1,x2,y2]].", control="line", more=True
    )
    width: float = setting(
        4.0,
        "Width of the section",
        "Points within half of it to both sides count.",
        unit="m",
        gt=0,
        le=10_000,
        more=True,
    )
    lasso: PointsField | None = setting(
        None,
        "Lasso in the section",
        "Metres along the line and heights[[: along,height;along,height]].",
        control="lasso",
        more=True,
    )
    above: float | None = setting(None, "Not below", "Lowest height that changes, in the unit of heights.")
    below: float | None = setting(None, "Not above", "Highest height that changes.")
    heights: Literal["of_points", "above_ground"] = setting(
        "of_points", "Heights", "Bounds on heights of points, or above the ground.", more=True
    )


def _edit_classes(settings: EditSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    area = optional(inputs, "area", Shapes)
    progress.at(0.1, "Looking for points inside")
    chosen = _inside(cloud, settings, area)
    before = classes_of(cloud)
    if settings.classes:
        chosen &= np.isin(before, settings.classes)
    if settings.above is not None or settings.below is not None:
        chosen &= _between(cloud, settings)
    if not chosen.any():
        raise AskedWronglyError(
            "No point lies inside.", "Draw a larger outline, or take other classes or heights."
        )
    codes = np.where(chosen, np.uint8(settings.to_class), before).astype(np.uint8)
    moved = int((codes != before).sum())
    return reclassified(cloud, before, codes, f"{moved:,} changed".replace(",", " "))


def _inside(cloud: Cloud, settings: EditSettings, area: Shapes | None) -> np.ndarray:
    """Points inside what was drawn: an outline, areas, a lasso in a section, or all of these together.

    Raises AskedWronglyError where nothing was drawn and nothing else bounds the points.
    """
    chosen = np.ones(len(cloud), bool)
    drawn = settings.outline is not None or area is not None or settings.line is not None
    if settings.lasso is not None and settings.line is None:
        raise AskedWronglyError("A lasso needs the line of its section.", "Draw the line.", "Give line=...")
    bounded = bool(settings.classes) or settings.above is not None or settings.below is not None
    if not drawn and not bounded:
        raise AskedWronglyError("Nothing says which points change.", "Draw an outline.")
    if settings.outline is not None:
        chosen &= edits.in_outline(cloud.x, cloud.y, _corners(settings.outline, "outline"))
    if area is not None:
        here = in_system(area, cloud.crs)
        held = np.zeros(len(cloud), bool)
        for one in here.geometry:
            held |= edits.in_area(cloud.x, cloud.y, one)
        chosen &= held
    if settings.line is not None:
        path = np.array(settings.line, np.float64).reshape(2, 2)
        near = edits.corridor(cloud, path, settings.width)
        rows = near.rows
        if settings.lasso is not None:
            caught = edits.in_outline(near.along, cloud.z[rows], _corners(settings.lasso, "lasso"))
            rows = rows[caught]
        held = np.zeros(len(cloud), bool)
        held[rows] = True
        chosen &= held
    return chosen


def _corners(places: tuple[tuple[float, float], ...], what: str) -> np.ndarray:
    if len(places) < 3:
        raise AskedWronglyError(f"The {what} has {len(places)} corners.", "Give it three or more.")
    return np.array(places, np.float64)


def _between(cloud: Cloud, settings: EditSettings) -> np.ndarray:
    """Points between the bounds on heights."""
    heights = cloud.z
    if settings.heights == "above_ground":
        if "height_above" not in cloud.attributes:
            raise AskedWronglyError(
                "The points have no heights above the ground.", "Run heights above ground on them first."
            )
        heights = cloud.attributes["height_above"]
    low = -np.inf if settings.above is None else settings.above
    high = np.inf if settings.below is None else settings.below
    if low > high:
        raise AskedWronglyError(f"No height lies from {low:g} to {high:g}.", "Change one of the bounds.")
    return np.asarray((heights >= low) & (heights <= high))


edit_classes = StepKind(
    kind="edit_classes",
    example="to_class=6 classes=4 outline=412700,5871000;412820,5871000;412820,5871150;412700,5871150",
    bench="points",
    group="Classes of points",
    title="Edit classes",
    question="Which points belong to another class?",
    help=(
        "Points inside an outline on the plan, or a lasso in a "
        "section, get another class. It is a step: it keeps "
        "its outline, and runs again when the points before it change."
    ),
    formula="class = to_class where inside and class ∈ from and above ≤ h ≤ below",
    words=("reclassify", "lasso", "outline", "manual", "correct classes", "paint", "assign class"),
    inputs=(CLOUD, InputSpec("area", "shapes", "Areas", "Points inside them change.", True, more=True)),
    settings=EditSettings,
    gives="cloud",
    run=_edit_classes,
    label=lambda s, names: f"{class_name(s.to_class)} set in {names['cloud']}",
    look={"column": "classification"},
    keeps="lasso",
    memory=lambda s, inputs: 20.0 * len(as_kind(inputs["cloud"], Cloud)),
    main="Points",
    beside=(CHANGES,),
    staple=6,
)

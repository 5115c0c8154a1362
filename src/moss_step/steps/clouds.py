"""Points: opening clouds, finding ground and noise, grids from points, and heights above ground."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BeforeValidator

from moss_step.formats.las import ENDINGS, Wanted, describe, read_cloud, with_classes
from moss_step.model.cloud import CLASSES, GROUND, HIGH_NOISE, LOW_NOISE, Cloud, class_name
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind, as_whole
from moss_step.model.units import COUNT, METRE, PER_SQUARE_METRE, SHARE, UNITS
from moss_step.science.points import ground as search
from moss_step.science.points.cells import density
from moss_step.science.points.check import suspicions
from moss_step.science.points.grids import What, frame_for, grid_points, heights_above, proposed_cell
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import BoxField, SystemField
from moss_step.steps.results import surface_outcome

_POINTS = declared("points", "Points", MAIN)
_DENSITY = declared("density", "Points a square metre", USUAL)
_SPACING = declared("spacing", "Spacing of points", USUAL)
_GROUND = declared("ground_points", "Ground points", MAIN)
_GROUND_SHARE = declared("ground_share", "Ground of all points", MAIN)
_NOISE = declared("noise_points", "Noise points", USUAL)
_CHANGED = declared("changed_points", "Points that changed", USUAL)
_VOIDS = declared("void_share", "Cells without a value", USUAL)
_STRAYS = (LOW_NOISE, HIGH_NOISE)
CLOUD = InputSpec("cloud", "cloud", "Cloud", "The points.")


def _codes(given: Any) -> Any:
    """Codes of classes from text such as ``2,9``."""
    if isinstance(given, str):
        numbers = [as_whole(part) for part in given.split(",") if part.strip()]
        if None in numbers or any(n is not None and n > 255 for n in numbers):
            raise ValueError("codes of classes are whole numbers from 0 to 255, such as 2,9")
        return tuple(n for n in numbers if n is not None)
    return given


Codes = Annotated[tuple[int, ...], BeforeValidator(_codes)]
Returns = Literal["all", "first", "last", "only"]


class OpenCloudSettings(Settings):
    """Settings of open_cloud."""

    source: str = setting(..., "File", "The LAS or LAZ file to open, COPC among them.", control="file")
    crs: SystemField | None = setting(
        None,
        "Reference system",
        "State it when the file does not, or states it wrongly: EPSG:code or WKT.",
        control="crs",
    )
    height_unit: Literal["as_stated", "metre", "foot", "us_survey_foot"] = setting(
        "as_stated", "Unit of heights", "State it when the file does not. Values stay."
    )
    box: BoxField | None = setting(
        None, "Read only", "Read only this box[[: xmin,ymin,xmax,ymax]].", control="box", more=True
    )
    returns: Returns = setting("all", "Returns", "Read only `first`, `last` or `only` returns.", more=True)
    classes: Codes = setting((), "Classes", "Read only points of these classes[[: 2,9]].", more=True)
    every: int = setting(1, "One in", "Read one point in so many.", ge=1, le=1_000_000, more=True)


def _open_cloud(settings: OpenCloudSettings, inputs: Inputs, progress: Progress) -> Outcome:
    path = Path(settings.source)
    wanted = Wanted(settings.box, settings.returns, tuple(settings.classes), settings.every)
    facts = describe(path)
    cloud, remarks = read_cloud(path, wanted, progress.part(0.0, 0.8))
    if settings.crs is not None:
        cloud = replace(cloud, crs=settings.crs)
    if settings.height_unit != "as_stated":
        cloud = replace(cloud, unit=UNITS[settings.height_unit])
    progress.at(0.9, "Looking at the points")
    return _cloud_outcome(cloud, (*remarks, *suspicions(cloud, facts.box)))


def _cloud_outcome(cloud: Cloud, warnings: tuple[str, ...]) -> Outcome:
    """The outcome of a cloud: how many points stand how close, how high, and the table of their classes."""
    thick = density(cloud)
    low, high = cloud.bounds[1] if cloud.bounds is not None else (float("nan"), float("nan"))
    findings = [Finding(_POINTS, len(cloud), COUNT)]
    if np.isfinite(thick):
        findings += [Finding(_DENSITY, thick, PER_SQUARE_METRE), Finding(_SPACING, thick**-0.5, METRE)]
    findings += [Finding("lowest", low, cloud.unit), Finding("highest", high, cloud.unit)]
    figure = f"{len(cloud):,} points".replace(",", " ")

    def table() -> Outcome:
        return Outcome(_class_table(cloud), figure, (findings[0],))

    return Outcome(cloud, figure, tuple(findings), warnings, beside={"classes": table})


def _class_table(cloud: Cloud) -> Table:
    codes = cloud.attributes.get("classification", np.zeros(len(cloud), np.uint8))
    held, counts = np.unique(codes, return_counts=True)
    return Table(
        {
            "class": held.astype(np.int32),
            "name": np.array([class_name(int(c)) for c in held], object),
            "count": counts.astype(np.int64),
            "share": counts / max(len(cloud), 1),
        },
        {"share": SHARE},
    )


def _file_label(settings: OpenCloudSettings, names: Mapping[str, str]) -> str:
    text = Path(settings.source).name.split(".")[0].replace("_", " ").strip()
    return text[:1].upper() + text[1:]


_CLASS_TABLE = ResultSpec("classes", "table", "Classes", "Count and share of each class of points.")

open_cloud = StepKind(
    kind="open_cloud",
    example="source=cloud.laz",
    bench="points",
    group="Bring in",
    title="Open a cloud",
    question="Which points do you work on?",
    help=(
        "Reads points from a LAS or LAZ file and states what they are: "
        "density, heights, classes, system, and what is suspicious."
    ),
    words=("lidar", "las", "laz", "copc", "point cloud", "laser", "import", "load"),
    inputs=(),
    settings=OpenCloudSettings,
    gives="cloud",
    run=_open_cloud,
    label=_file_label,
    opens=ENDINGS,
    main="Points",
    beside=(_CLASS_TABLE,),
    staple=1,
)


class GroundSettings(Settings):
    """Settings of ground_points."""

    terrain: Literal["flat", "upland", "forest", "built_up", "scarp"] = setting(
        "upland",
        "Ground",
        "A ready set: `flat` farmland, rough `upland`, `forest`, `built_up`, steep `scarp`.",
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
    )
    slope: float | None = setting(
        None,
        "Steepest ground",
        "Rise over run. Too small: steep ground is lost; too large: low things stay.",
        gt=0,
        le=10,
        more=True,
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
    own = {n: getattr(settings, n) for n in ("cell", "widest", "slope", "height")}
    return replace(search.SETS[settings.terrain], **{n: v for n, v in own.items() if v is not None})


def _in_plan(cloud: Cloud) -> tuple[Cloud, float]:
    """The cloud with heights in the unit of the plan, and metres for each such unit.

    Raises MossError for longitude and latitude.
    """
    frame = Frame(1, 1, 0.0, 0.0, 1.0, 1.0, cloud.crs)
    if frame.geographic:
        raise MossError("The points lie on longitude and latitude.", "Open them in a metric system.")
    metres = frame.metres_per_unit
    height = cloud.unit.factor if cloud.unit.kind == "length" else 1.0
    return (cloud if height == metres else replace(cloud, z=cloud.z * (height / metres))), metres


def _ground_points(settings: GroundSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    flat, metres = _in_plan(cloud)
    how = search.scaled(_how(settings), metres)
    if settings.cell is None:  # a cell holds a few points, or most of them would be gaps
        how = replace(how, cell=max(how.cell, search.usual_cell(flat)))
    noise = None
    kept = np.ones(len(cloud), bool)
    if settings.noise:
        progress.at(0.0, "Looking for noise")
        reach = 3.0 * max(search.usual_cell(flat), 1e-9)
        noise = search.noise_points(flat, reach, 3, 2.0 / metres, 60.0 / metres)
        kept = ~(noise[0] | noise[1])
    found = np.zeros(len(cloud), bool)
    found[kept] = search.ground_points(flat.part(kept), how, progress.part(0.2, 0.95))
    codes = search.classified(found, noise)
    before = cloud.attributes.get("classification", np.zeros(len(cloud), np.uint8))
    return _reclassified(cloud, np.asarray(before), codes)


def _reclassified(cloud: Cloud, before: np.ndarray, codes: np.ndarray) -> Outcome:
    """The outcome of other classes: how many points are ground, and which class became which."""
    ground, moved = int((codes == GROUND).sum()), int((codes != before).sum())
    if ground == 0:
        raise MossError("No point is ground by these settings.", "Allow steeper ground, or take another set.")
    findings = (
        Finding(_GROUND, ground, COUNT),
        Finding(_GROUND_SHARE, ground / len(codes), SHARE),
        Finding(_NOISE, int(np.isin(codes, _STRAYS).sum()), COUNT),
        Finding(_CHANGED, moved, COUNT),
    )
    result = with_classes(cloud, codes)
    figure = f"{ground / len(codes):.0%} ground".replace("%", " %")

    def changes() -> Outcome:
        return Outcome(_changes(before, codes), figure, findings[3:])

    return Outcome(result, figure, findings, (), beside={"changes": changes})


def _changes(before: np.ndarray, after: np.ndarray) -> Table:
    pairs, counts = np.unique(before.astype(np.int64) * 256 + after, return_counts=True)
    return Table(
        {
            "before": np.array([class_name(int(p) // 256) for p in pairs], object),
            "after": np.array([class_name(int(p) % 256) for p in pairs], object),
            "count": counts.astype(np.int64),
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
        "2013), and noise before it. The classes that the file came with are forgotten."
    ),
    words=("bare earth", "ground filter", "dtm", "classify ground", "morphological", "noise", "outlier"),
    inputs=(CLOUD,),
    settings=GroundSettings,
    gives="cloud",
    run=_ground_points,
    label=lambda s, names: f"Ground of {names['cloud']}",
    look={"column": "classification"},
    memory=lambda s, inputs: 260.0 * len(as_kind(inputs["cloud"], Cloud)),
    main="Points",
    beside=(ResultSpec("changes", "table", "Changes", "How many points went from which class to which."),),
    staple=2,
)


class GridSettings(Settings):
    """Settings of grid_points."""

    what: What = setting(
        "ground",
        "What",
        "`ground` lies on the triangles between ground points; the "
        "others are extremes, means or counts of each cell.",
    )
    cell: float | None = setting(
        None,
        "Cell",
        "In units of the plan. Left out, it is proposed from the density of the points.",
        gt=0,
    )
    fill: float = setting(
        20.0,
        "Fill gaps up to",
        "Longest side of a triangle, or distance from a cell with a point; 0 sets no bound to triangles, "
        "and fills nothing else.",
        unit="m",
        ge=0,
        le=100_000,
    )
    classes: Codes = setting(
        (),
        "Classes",
        "Points of these classes count[[: 2,9]]; left out, ground for the ground, and all for the rest.",
        more=True,
    )
    returns: Returns = setting("all", "Returns", "Which returns count; `first` for first returns.", more=True)


def _counted(cloud: Cloud, settings: GridSettings) -> Cloud:
    """The points that count."""
    codes = cloud.attributes.get("classification")
    classes = tuple(settings.classes) or ((GROUND,) if settings.what == "ground" else ())
    kept = np.ones(len(cloud), bool)
    if classes:
        kept &= np.isin(codes, classes) if codes is not None else False
    elif codes is not None:
        kept &= ~np.isin(codes, _STRAYS)
    returns = "first" if settings.what == "first" and settings.returns == "all" else settings.returns
    if returns != "all" and {"return_number", "number_of_returns"} <= cloud.attributes.keys():
        number, of = cloud.attributes["return_number"], cloud.attributes["number_of_returns"]
        kept &= {"first": number <= 1, "last": number >= of, "only": of <= 1}[returns]
    if not kept.any():
        names = ", ".join(CLASSES.get(c, str(c)).lower() for c in classes) or "no noise"
        raise AskedWronglyError(
            f"No point is left of: {names}.", "Find ground points first, or take other classes."
        )
    return cloud if kept.all() else cloud.part(kept)


def _grid_points(settings: GridSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    like = optional(inputs, "like", Surface)
    counted = _counted(cloud, settings)
    cell = settings.cell if settings.cell is not None else proposed_cell(counted)
    frame = like.frame if like is not None else frame_for(cloud, cell)
    progress.at(0.1, "Gathering points in cells")
    surface = grid_points(counted, frame, settings.what, settings.fill)
    outcome = surface_outcome(surface)
    voids = float(np.isnan(surface.values).mean())
    more = (
        Finding("cell_width", frame.cell_metres[0], METRE),
        Finding(_VOIDS, voids, SHARE),
        Finding(_POINTS, len(counted), COUNT),
    )
    return replace(
        outcome, findings=(*outcome.findings, *more), figure=f"cells of {mark(frame.cell_metres[0], METRE)}"
    )


grid_points_step = StepKind(
    kind="grid_points",
    example="what=highest cell=4",
    bench="points",
    group="From points to grids",
    title="Grid of points",
    question="Which surface do the points make?",
    help=(
        "A grid from points: the ground on triangles, first returns, highest, "
        "lowest, mean, count, density, spread or intensity of each cell."
    ),
    words=(
        "dtm",
        "dsm",
        "rasterize",
        "tin",
        "canopy",
        "surface model",
        "point density",
        "first return",
        "interpolate",
    ),
    inputs=(
        CLOUD,
        InputSpec("like", "surface", "Cells of", "A grid whose cells are taken.", True, more=True),
    ),
    settings=GridSettings,
    gives="surface",
    run=_grid_points,
    label=lambda s, names: f"{s.what.capitalize()} of {names['cloud']}",
    memory=lambda s, inputs: (300.0 if s.what == "ground" else 30.0) * len(as_kind(inputs["cloud"], Cloud)),
    staple=3,
)


class AboveSettings(Settings):
    """Settings of height_above."""


def _height_above(settings: AboveSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud, ground = as_kind(inputs["cloud"], Cloud), as_kind(inputs["ground"], Surface)
    progress.at(0.1, "Reading the ground below the points")
    above = heights_above(cloud, ground)
    known = above[np.isfinite(above)]
    if not known.size:
        raise MossError("No point lies over the ground.", "Take a ground that covers the cloud.")
    attributes = {**cloud.attributes, "height_above": above}
    findings = (
        Finding("highest", float(known.max()), cloud.unit),
        Finding("mean", float(known.mean()), cloud.unit),
        Finding("lowest", float(known.min()), cloud.unit),
        Finding(_POINTS, len(cloud), COUNT),
    )
    lost = len(above) - known.size
    warnings = (f"{lost:,} points have no ground below them.",) if lost else ()
    return Outcome(
        replace(cloud, attributes=attributes),
        f"up to {mark(float(known.max()), cloud.unit)}",
        findings,
        warnings,
    )


height_above = StepKind(
    kind="height_above",
    example="cloud=cloud.laz ground=ground.tif",
    bench="points",
    group="Heights above ground",
    title="Heights above ground",
    question="How high does each point stand above the ground?",
    help=(
        "Takes the ground below each point from its height, each in its unit, as an attribute of the points."
    ),
    words=("normalise", "normalized height", "hag", "canopy height", "above ground"),
    inputs=(CLOUD, InputSpec("ground", "surface", "Ground", "Heights of the ground, as a grid.")),
    settings=AboveSettings,
    gives="cloud",
    run=_height_above,
    label=lambda s, names: f"{names['cloud']} above {names['ground']}",
    look={"column": "height_above"},
    memory=lambda s, inputs: 110.0 * len(as_kind(inputs["cloud"], Cloud)),
    staple=4,
)

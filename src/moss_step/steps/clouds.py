"""Points: opening clouds, and what is said of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BeforeValidator

from moss_step.formats import xyz
from moss_step.formats.cloud_source import CloudRead, read_foretaste, read_source, tile_shapes
from moss_step.formats.las import ENDINGS, Wanted
from moss_step.model.cloud import Cloud
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.table import Table
from moss_step.model.typed import as_whole
from moss_step.model.units import COUNT, METRE, PER_SQUARE_METRE, SHARE, UNITS
from moss_step.science.points.cells import density
from moss_step.science.points.check import suspicions
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, setting
from moss_step.steps.fields import BoxField, SystemField

POINTS = declared("points", "Points", MAIN)
_DENSITY = declared("density", "Points a square metre", USUAL)
_SPACING = declared("spacing", "Spacing of points", USUAL)
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

    source: str = setting(
        ...,
        "File",
        "LAS, LAZ (COPC too) or columns of text; a folder, or tiles/*.laz, is one cloud of several files.",
        control="file",
    )
    crs: SystemField | None = setting(
        None,
        "Reference system",
        "State it when the file does not, or states it wrongly: EPSG:code or WKT.",
        control="crs",
    )
    unit: Literal["as_stated", "metre", "foot", "us_survey_foot"] = setting(
        "as_stated",
        "Unit of the plan",
        "State it where there is no reference system; else the system says it.",
        more=True,
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
    wanted = Wanted(settings.box, settings.returns, tuple(settings.classes), settings.every)
    made = read_source(settings.source, wanted, progress.part(0.0, 0.8))
    cloud = made.cloud
    if settings.crs is not None:
        cloud = replace(cloud, crs=settings.crs)
    if settings.unit != "as_stated":
        cloud = replace(cloud, crs=_plan_in(settings.unit, cloud.crs))
    if settings.height_unit != "as_stated":
        cloud = replace(cloud, unit=UNITS[settings.height_unit])
    progress.at(0.9, "Looking at the points")
    return _cloud_outcome(cloud, (*made.remarks, *suspicions(cloud, made.box)), made)


def _foretaste(settings: OpenCloudSettings, progress: Progress) -> Outcome | None:
    """Some points of a large source."""
    if settings.box is not None or settings.classes or settings.returns != "all":
        return None
    progress.at(0.0, "Reading some points")
    cloud = read_foretaste(settings.source)
    if cloud is None:
        return None
    return Outcome(cloud if settings.crs is None else replace(cloud, crs=settings.crs), "reading", ())


def _plan_in(unit: str, crs: str | None) -> str:
    """A system without a place on the earth, in some unit.

    Raises AskedWronglyError where there is a system, which says the unit.
    """
    if crs is not None:
        raise AskedWronglyError("The reference system says the unit of the plan.", "Leave `unit` out.")
    about = UNITS[unit]
    return (
        f'ENGCRS["Plan in {about.key.replace("_", " ")}",EDATUM["Unknown"],CS[Cartesian,2],'
        'AXIS["easting (E)",east,ORDER[1]],AXIS["northing (N)",north,ORDER[2]],'
        f'LENGTHUNIT["{about.key.replace("_", " ")}",{about.factor!r}]]'
    )


def _cloud_outcome(cloud: Cloud, warnings: tuple[str, ...], made: CloudRead) -> Outcome:
    """The outcome of a cloud: how many points stand how close, how high, the table of their classes, and the
    boxes of the files that they came from.
    """
    thick = density(cloud)
    low, high = cloud.bounds[1] if cloud.bounds is not None else (float("nan"), float("nan"))
    findings = [Finding(POINTS, len(cloud), COUNT)]
    if np.isfinite(thick):
        findings += [Finding(_DENSITY, thick, PER_SQUARE_METRE), Finding(_SPACING, thick**-0.5, METRE)]
    findings += [Finding("lowest", low, cloud.unit), Finding("highest", high, cloud.unit)]
    figure = f"{len(cloud):,} points".replace(",", " ")

    def table() -> Outcome:
        return Outcome(class_table(cloud), figure, (findings[0],))

    def boxes() -> Outcome:
        if not made.tiles:
            raise MossError("Plain text has no head that states a box.", "Ask for another result.")
        shapes = tile_shapes(made.tiles)
        return Outcome(shapes, shapes.count_text, (findings[0],))

    return Outcome(cloud, figure, tuple(findings), warnings, beside={"classes": table, "tiles": boxes})


def class_table(cloud: Cloud) -> Table:
    """Count and share of each class of points."""
    by_code = np.zeros(256, np.int64)
    for chunk in cloud.chunks():
        codes = chunk.attributes.get("classification", np.zeros(len(chunk), np.uint8))
        by_code += np.bincount(np.asarray(codes).astype(np.uint8), minlength=256)
    held = np.flatnonzero(by_code)
    counts = by_code[held]
    return Table(
        {
            "class": held.astype(np.int32),
            "name": np.array([cloud.class_name(int(c)) for c in held], object),
            "count": counts.astype(np.int64),
            "share": counts / max(len(cloud), 1),
        },
        {"share": SHARE},
    )


def _file_label(settings: OpenCloudSettings, names: Mapping[str, str]) -> str:
    path = Path(settings.source)
    named = path.parent if any(sign in path.name for sign in "*?") else path
    text = named.name.split(".")[0].replace("_", " ").strip() or "Points"
    return text[:1].upper() + text[1:]


_CLASS_TABLE = ResultSpec("classes", "table", "Classes", "Count and share of each class of points.")
_TILES = ResultSpec(
    "tiles", "shapes", "Files", "The box that the head of each file states, with its points.", asked=True
)

open_cloud = StepKind(
    kind="open_cloud",
    example="source=cloud.laz",
    bench="points",
    group="Bring in",
    title="Open a cloud",
    question="Which points do you work on?",
    help=(
        "Reads points from LAS, LAZ or text, or from many such files as one cloud, and says what they are: "
        "density, heights, classes, system, and what is suspicious."
    ),
    words=("lidar", "las", "laz", "copc", "point cloud", "laser", "import", "load"),
    inputs=(),
    settings=OpenCloudSettings,
    gives="cloud",
    run=_open_cloud,
    label=_file_label,
    opens=(*ENDINGS, *xyz.ENDINGS[:1]),
    foretaste=_foretaste,
    main="Points",
    beside=(_CLASS_TABLE, _TILES),
    staple=1,
)

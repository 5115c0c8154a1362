"""Contours, profiles, outlines, patches, masks, tiles and statistics per zone."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
import shapely
from pydantic import BeforeValidator

from moss_step.formats.vector import box_of, in_system
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import AskedWronglyError
from moss_step.model.fields import column_name
from moss_step.model.findings import Finding
from moss_step.model.frame import Box, Frame
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes, free_name
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind, as_whole
from moss_step.model.units import COUNT, METRE, SQUARE_METRE, Unit
from moss_step.science.relief.profile import MOST_POINTS
from moss_step.science.relief.profile import profile as values_along
from moss_step.science.zones import outlines
from moss_step.science.zones.statistics import STATISTICS, Statistic, Weigh, class_areas, class_means
from moss_step.science.zones.statistics import zone_statistics as summarise_zones
from moss_step.science.zones.tessellate import tessellate as cover
from moss_step.steps.declare import (
    Inputs,
    InputSpec,
    Settings,
    StepKind,
    every,
    largest_grid,
    optional,
    setting,
)
from moss_step.steps.fields import BoxField
from moss_step.steps.reach import CELL, near_shapes
from moss_step.steps.results import class_outcome, surface_outcome

CLASSES = InputSpec("classes", "classes", "Class map", "The classes to work on.")


def laid_on(inputs: Inputs, name: str, frame: Frame) -> tuple[Shapes, tuple[str, ...]]:
    """Give an input of shapes in a grid's reference system, with a remark when they were carried over."""
    value = as_kind(inputs[name], Shapes)
    moved = in_system(value, frame.crs)
    return moved, () if moved is value else (f"The shapes were carried over to {frame.system_name}.",)


def counted(shapes: Shapes, *findings: Finding, warnings: tuple[str, ...] = ()) -> Outcome:
    """Shapes as a result, with how many they are."""
    return Outcome(shapes, shapes.count_text, (Finding("shapes", len(shapes), COUNT), *findings), warnings)


class ProfileSettings(Settings):
    """Settings of profile."""

    line: BoxField | None = setting(
        None,
        "Line",
        "From and to[[: x1,y1,x2,y2]]. Or give a line from a file.",
        control="line",
        without_input="path",
    )
    step: float | None = setting(
        None,
        "Step",
        "Distance between points in the system's units; half a cell when left out.",
        gt=0,
        more=True,
    )


def _profile(settings: ProfileSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Reading along the line")
    surface = as_kind(inputs["surface"], Surface)
    surfaces = {"value": surface, **{n: v for n, v in every(inputs, Surface).items() if n != "surface"}}
    warnings: tuple[str, ...] = ()
    if "path" in inputs:
        lines, warnings = laid_on(inputs, "path", surface.frame)
        line = lines.geometry[0]
        if line.geom_type != "LineString":
            raise AskedWronglyError("The first shape is no line.", "Choose a file of lines.")
    elif settings.line is not None:
        x1, y1, x2, y2 = settings.line
        line = shapely.LineString([(x1, y1), (x2, y2)])
    else:
        raise AskedWronglyError(
            "`profile` needs a line.",
            "Draw it on the plan, or choose a line.",
            "Give line=x1,y1,x2,y2 or path=FILE.",
        )
    table = values_along(surfaces, line, settings.step)
    if settings.step is None and len(table) >= MOST_POINTS:
        warnings = (
            *warnings,
            f"The line is long: {MOST_POINTS:,} points are read, which are more than half a cell apart.",
        )
    if any(s.frame.system != surface.frame.system for s in surfaces.values()):
        warnings = (*warnings, "Surfaces of another reference system are read where the line runs in theirs.")
    values, distance = table.columns["value"], table.columns["distance"]
    if np.isnan(values).all():
        raise AskedWronglyError("The line does not meet the surface.", "Draw it on the ground.")
    length = Finding("length", float(distance[-1]), METRE)
    if surface.cyclic:
        return Outcome(table, f"{mark(distance[-1], METRE)} long", (length,), warnings)
    steps = np.diff(values)
    findings = (
        length, Finding("lowest", float(np.nanmin(values)), surface.unit),
        Finding("highest", float(np.nanmax(values)), surface.unit),
        Finding("climb", float(np.nansum(steps[steps > 0])), surface.unit),
        Finding("fall", float(-np.nansum(steps[steps < 0])), surface.unit),
    )  # fmt: skip
    return Outcome(table, f"{mark(distance[-1], METRE)} long", findings, warnings)


def _along(settings: ProfileSettings, inputs: Inputs, crs: str | None) -> Box | None:
    """The box of the line, where that is in the system of the surface."""
    if "path" in inputs:
        path = as_kind(inputs["path"], Shapes)
        return box_of(Shapes(path.geometry[:1], {}, path.crs), crs)
    # A line that is drawn is in the system of the first surface, and there may be others.
    alone = all(spec in ("surface", "path") for spec in inputs)
    if settings.line is None or not alone:
        return None
    x1, y1, x2, y2 = settings.line
    return min(x1, x2), min(y1, y2), max(x1, x2), max(y1, y2)


profile = StepKind(
    kind="profile",
    example="surface=ground.tif line=412500,5870500,413500,5871500", bench="shape",
    group="Heights",
    title="Profile", question="How do values run along a line?",
    help="Values of one or more surfaces at even steps along a line, with distance.",
    formula="v = bilinear between cell centres at 0, step, 2 × step, … metres from the line's first "
    "vertex",
    words=("section", "cross section", "transect", "long profile", "elevation profile"),
    inputs=(
        InputSpec("surface", "surface", "Surface", "The values to read."),
        InputSpec("path", "shapes", "Path", "A line from a file.", optional=True, shapes="lines"),
    ),
    settings=ProfileSettings, gives="chart", run=_profile, around=_along,
    maps=True,
    memory=2,
    keeps="section",
    label=lambda s, names: f"Profile of {names['surface']}",
    further=InputSpec("others", "surface", "Other surfaces", "NAME=PATH for further columns.", optional=True),
)  # fmt: skip


class RasterizeSettings(Settings):
    """Settings of rasterize."""

    inside: bool = setting(False, "Inside or not", "Yes inside any of them, no elsewhere.")
    column: str = setting("name", "Column", "Its values become the classes.", when={"inside": (False,)})


def _laid(_: RasterizeSettings, part: Value) -> Outcome:
    """What is said of some of the cells: shares are of all of them."""
    classes = as_kind(part, ClassMap)
    return class_outcome(classes, classes.codes.size)


def _rasterize(settings: RasterizeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Laying shapes on the grid")
    like = as_kind(inputs["like"], Surface)
    shapes, warnings = laid_on(inputs, "shapes", like.frame)
    return class_outcome(
        outlines.inside_or_not(shapes, like.frame)
        if settings.inside
        else outlines.shapes_to_grid(shapes, like.frame, settings.column),
        like.frame.rows * like.frame.cols,
        warnings,
    )


rasterize = StepKind(
    kind="rasterize",
    example="shapes=areas.gpkg like=ground.tif inside=true", bench="classes",
    group="Areas",
    title="Shapes to grid", question="Which cells lie in which shape?",
    help="A class map of shapes by the values of a column, in the frame of a grid.",
    formula="class of a cell = value of the last shape that holds its centre, or that a line or point "
    "meets",
    words=("rasterize", "burn", "vector to raster", "polygon to raster", "land cover"),
    inputs=(
        InputSpec("shapes", "shapes", "Shapes", "Areas, lines or points."),
        InputSpec("like", "surface", "Frame of", "The grid whose cells to use."),
    ),
    settings=RasterizeSettings, gives="classes", run=_rasterize,
    reach=CELL, tells=_laid,
    memory=3,
    label=lambda s, names: f"Inside {names['shapes']}" if s.inside else f"{names['shapes']} by {s.column}",
)  # fmt: skip


class PolygonizeSettings(Settings):
    """Settings of polygonize."""

    smoothing: int = setting(
        0, "Smoothing", "Rounds of corner cutting for the eye; 0 keeps the outlines of the cells.", ge=0, le=5
    )


def _classes(inputs: Inputs) -> ClassMap:
    return as_kind(inputs["classes"], ClassMap)


def _polygonize(settings: PolygonizeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    return areas_outcome(settings, outlines.classes_to_areas(_classes(inputs), settings.smoothing, progress))


def areas_outcome(settings: PolygonizeSettings, result: Shapes) -> Outcome:
    """Areas of classes, with their square metres."""
    findings = [
        Finding("area_m2", float(a), SQUARE_METRE, str(n))
        for n, a in zip(result.columns["name"], result.columns["area_m2"], strict=True)
    ]
    remark = (
        ("Outlines are rounded for the eye; areas are those of the cells.",) if settings.smoothing else ()
    )
    return counted(result, *findings, warnings=remark)


polygonize = StepKind(
    kind="polygonize",
    example="classes=classes.tif", bench="classes",
    group="Areas",
    title="Classes to areas", question="Which outline has each class?",
    help="One area for each class, along the exact outlines of its cells, or rounded for the eye.",
    formula="area of a class = union of its cells; smoothing: corners cut at ¼ and ¾ of each edge",
    words=("polygonize", "vectorize", "raster to polygon", "outline"),
    inputs=(CLASSES,), settings=PolygonizeSettings, gives="shapes", run=_polygonize,
    memory=13,
    label=lambda s, names: f"Areas of {names['classes']}",
)  # fmt: skip


def _neighbour_number(value: Any) -> Any:
    number = as_whole(value) if isinstance(value, str) else None
    return value if number is None else number


class PatchSettings(Settings):
    """Settings of patches."""

    neighbours: Annotated[Literal[4, 8], BeforeValidator(_neighbour_number)] = setting(
        8, "Neighbours", "`4`: cells touch along edges; `8`: also at corners."
    )
    least_cells: int = setting(1, "Smallest patch", "Smaller patches are left out.", unit="cells", ge=1)


def _patches(settings: PatchSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = optional(inputs, "surface", Surface)
    return patches_outcome(
        outlines.patches(_classes(inputs), settings.neighbours, settings.least_cells, surface, progress)
    )


def patches_outcome(result: Shapes) -> Outcome:
    """Patches, with their number and the largest."""
    return counted(
        result,
        Finding("patches", len(result), COUNT),
        Finding("largest", float(result.columns["area_m2"][0]), SQUARE_METRE),
    )


patches = StepKind(
    kind="patches",
    example="classes=classes.tif", bench="classes",
    group="Areas",
    title="Patches", question="Which cells hang together?",
    help="Connected patches of one class, as areas with cells, area and the statistics of a surface.",
    formula="connected cells of one class (4 or 8 neighbours); area = Σ cell area; mean weighed by cell "
    "area",
    words=("connected components", "regions", "clumps", "region group", "sieve", "islands"),
    inputs=(
        CLASSES,
        InputSpec(
            "surface", "surface", "Surface", "Its lowest, highest and mean per patch.", True, more=True
        ),
    ),
    settings=PatchSettings, gives="shapes", run=_patches,
    memory=23,
    label=lambda s, names: f"Patches of {names['classes']}",
)  # fmt: skip


class MaskSettings(Settings):
    """Settings of mask."""

    keep: Literal["inside", "outside"] = setting(
        "inside", "Keep", "Which side of the areas keeps its values."
    )


def _mask(settings: MaskSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Masking")
    surface = as_kind(inputs["surface"], Surface)
    areas, warnings = laid_on(inputs, "areas", surface.frame)
    return surface_outcome(outlines.mask_surface(surface, areas, settings.keep), warnings)


mask = StepKind(
    kind="mask",
    example="surface=ground.tif areas=areas.gpkg",
    bench="classes",
    group="Areas",
    title="Mask",
    question="Which side of an outline counts?",
    help="Makes cells outside (or inside) areas no-data; the frame stays.",
    formula="v where the centre lies inside (outside) the areas, else no-data",
    words=("clip", "erase", "inside", "outside", "cut out"),
    inputs=(
        InputSpec("surface", "surface", "Surface", "The values to keep."),
        InputSpec("areas", "shapes", "Areas", "The outlines.", shapes="areas"),
    ),
    settings=MaskSettings,
    gives="surface",
    run=_mask,
    reach=CELL,
    memory=8,
    label=lambda s, names: f"{names['surface']}, {s.keep} {names['areas']}",
)


class TessellateSettings(Settings):
    """Settings of tessellate."""

    shape: Literal["hexagon", "square", "triangle"] = setting("hexagon", "Shape", "Shape of the tiles.")
    spacing: float = setting(
        100.0, "Spacing", "Between the centres of hexagons and squares; side of a triangle.", unit="m", gt=0
    )


def _tessellate(settings: TessellateSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Laying tiles")
    extent = as_kind(inputs["extent"], Surface)
    keep, warnings = laid_on(inputs, "keep", extent.frame) if "keep" in inputs else (None, ())
    return counted(cover(extent.frame, settings.shape, settings.spacing, keep, progress), warnings=warnings)


tessellate = StepKind(
    kind="tessellate",
    example="extent=ground.tif spacing=100", bench="classes",
    group="Values by area",
    title="Tiles", question="Which even areas cover the ground?",
    help="Covers an extent with hexagons, squares or triangles; keeps those that meet a set of areas.",
    formula="hexagon: area = √3/2 × spacing²; square: spacing²; triangle: √3/4 × spacing²",
    words=("hexagons", "hexbin", "fishnet", "grid index", "tessellation", "squares", "triangles"),
    inputs=(
        InputSpec("extent", "surface", "Extent of", "The grid to cover."),
        InputSpec("keep", "shapes", "Only over", "Areas that tiles must meet.", True, shapes="areas"),
    ),
    settings=TessellateSettings, gives="shapes", run=_tessellate,
    memory=13,
    label=lambda s, names: f"{s.shape.capitalize()}s of {s.spacing:g} m over {names['extent']}",
)  # fmt: skip


def _listed(value: Any) -> Any:
    return [part.strip() for part in value.split(",") if part.strip()] if isinstance(value, str) else value


class ZoneSettings(Settings):
    """Settings of zone_statistics."""

    statistics: Annotated[tuple[Statistic, ...], BeforeValidator(_listed)] = setting(
        ("count", "mean", "min", "max"), "Statistics", f"With commas: {', '.join(STATISTICS)}."
    )
    weighting: Literal["centre", "coverage"] = setting(
        "centre",
        "Cells count",
        "`centre`: when their centre lies inside; `coverage`: by the share that is covered.",
        more=True,
    )
    weigh: Weigh = setting(
        "cells",
        "Means weigh",
        "`cells`: all cells alike; `area`: each by its ground, which differs by latitude on grids in "
        "degrees.",
        more=True,
    )


def _zone_statistics(settings: ZoneSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    zones, warnings = laid_on(inputs, "zones", surface.frame)
    result = summarise_zones(
        zones, surface, list(settings.statistics), settings.weighting, progress, settings.weigh
    )
    return zone_outcome(settings, surface.frame, surface.unit, (zones, warnings), result)


def zone_outcome(
    settings: ZoneSettings,
    frame: Frame,
    unit: Unit,
    laid: tuple[Shapes, tuple[str, ...]],
    result: dict[str, np.ndarray],
) -> Outcome:
    """Zones with their statistics as columns, and what is said of them; ``laid`` are the zones on the frame
    of the surface, with remarks.
    """
    zones, warnings = laid
    areas = frame.row_areas
    if settings.weigh == "cells" and areas.min() < 0.999 * areas.max():
        apart = 1.0 - float(areas.min() / areas.max())
        warnings = (
            *warnings,
            f"Cells count alike, though the ground they cover differs by up to {apart:.1%}: weigh=area "
            "counts their ground.",
        )
    columns, symbols = dict(zones.columns), dict(zones.symbols)
    for name, values in result.items():
        column = free_name(name, columns)
        columns[column] = values
        if name not in ("count", "variety"):
            symbols[column] = unit.symbol
    output = replace(zones, columns=columns, symbols=symbols)
    empty = (
        int(np.isnan(next(iter(result.values()))).sum())
        if "count" not in result
        else int((result["count"] == 0).sum())
    )
    if empty:
        warnings = (*warnings, f"{empty:,} zones hold no cell.")
    return Outcome(output, f"{len(output):,} zones", (Finding("zones", len(output), COUNT),), warnings)


def _zone_memory(settings: ZoneSettings, inputs: Inputs) -> float:
    """More when values are put in order, of one zone as large as the ground at worst."""
    by_order = not {"count", "sum", "mean", "min", "max", "range", "std"}.issuperset(settings.statistics)
    by_cell = {
        ("centre", False): 14.0,
        ("centre", True): 26.0,
        ("coverage", False): 18.0,
        ("coverage", True): 56.0,
    }
    return largest_grid(inputs) * by_cell[settings.weighting, by_order]


def _first_statistic(settings: ZoneSettings) -> dict[str, Any]:
    """Zones in classes of the first statistic that is no count."""
    first = next((s for s in settings.statistics if s != "count"), settings.statistics[0])
    return {"column": first, "outline": "fill", "method": "natural", "count": 5}


zone_statistics = StepKind(
    kind="zone_statistics",
    example="zones=areas.gpkg surface=slope.tif statistics=mean,max",
    bench="classes",
    group="Values by area",
    title="Zone statistics",
    question="What are the values in each area?",
    help=(
        "Statistics of a surface in areas, as new columns: cells by their centre, or weighed by coverage "
        "(exactextract)."
    ),
    formula="mean = Σ w v / Σ w; std = √(Σ w (v − mean)² / Σ w); w = 1, cell area, or the share of the "
    "cell that the zone covers; bearings: atan2(Σ w sin v, Σ w cos v)",
    words=(
        "zonal statistics",
        "mean per polygon",
        "maximum in areas",
        "maximum per zone",
        "summary",
        "summarise",
        "aggregate",
    ),
    inputs=(
        InputSpec("zones", "shapes", "Zones", "The areas.", shapes="areas"),
        InputSpec("surface", "surface", "Surface", "The values."),
    ),
    settings=ZoneSettings,
    gives="shapes",
    run=_zone_statistics,
    around=near_shapes("zones"),
    draws=_first_statistic,
    staple=5,
    memory=_zone_memory,
    label=lambda s, names: f"{', '.join(s.statistics)} of {names['surface']} in {names['zones']}",
)


class ZoneClassSettings(Settings):
    """Settings of zone_classes."""

    measure: Literal["area", "share"] = setting(
        "area", "Measure", "`area` in m², or `share` of the zone's classed cells, 0 to 1."
    )


def _column_of(class_name: str, what: str) -> str:
    """The column of a class; conditions can name it, so it begins with a letter."""
    name = column_name(f"{class_name} {what}")
    return f"class_{name}" if name[0].isdigit() else name


def _zone_classes(settings: ZoneClassSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Adding up")
    classes = _classes(inputs)
    zones, warnings = laid_on(inputs, "zones", classes.frame)
    result = class_areas(zones, classes)
    surface = optional(inputs, "surface", Surface)
    means = {} if surface is None else class_means(zones, classes, surface)
    return class_zone_outcome(settings, (zones, warnings), result, means, surface)


def class_zone_outcome(
    settings: ZoneClassSettings,
    laid: tuple[Shapes, tuple[str, ...]],
    result: dict[str, np.ndarray],
    means: dict[str, np.ndarray],
    surface: Surface | None,
) -> Outcome:
    """Zones with the area or share of each class as columns, and what is said of them."""
    zones, warnings = laid
    total = np.sum(list(result.values()), axis=0)
    columns, symbols = dict(zones.columns), dict(zones.symbols)
    for name, areas in result.items():
        with np.errstate(invalid="ignore"):
            share = np.where(total > 0, areas / total, np.nan)
        end = "m2" if settings.measure == "area" else "share"
        column = free_name(_column_of(name, end), columns)
        columns[column] = areas if settings.measure == "area" else share
        symbols[column] = "m²" if settings.measure == "area" else ""
    for name, values in means.items():
        column = free_name(_column_of(name, "mean"), columns)
        columns[column] = values
        symbols[column] = surface.unit.symbol if surface is not None else ""
    sums = tuple(Finding("area_m2", float(areas.sum()), SQUARE_METRE, name) for name, areas in result.items())
    if surface is not None and len(zones) == 1:
        sums += tuple(
            Finding("mean", float(v[0]), surface.unit, name) for name, v in means.items() if np.isfinite(v[0])
        )
    return Outcome(
        replace(zones, columns=columns, symbols=symbols),
        f"{len(zones):,} zones",
        (Finding("zones", len(zones), COUNT), *sums),
        warnings,
    )


zone_classes = StepKind(
    kind="zone_classes",
    example="zones=areas.gpkg classes=classes.tif",
    bench="classes",
    group="Values by area",
    title="Classes in zones",
    question="How much of each class lies in each area?",
    help="Area, or share, of each class in areas, as a column for each class; cells by their centre.",
    formula="area = Σ cell area of the class with centres in the zone; share = that / area of all "
    "classes there",
    words=(
        "tabulate area",
        "class area per zone",
        "cross tabulation",
        "land cover per catchment",
        "zonal classes",
    ),
    inputs=(
        InputSpec("zones", "shapes", "Zones", "The areas.", shapes="areas"),
        CLASSES,
        InputSpec("surface", "surface", "Mean of", "A surface whose mean by class is told.", True, more=True),
    ),
    settings=ZoneClassSettings,
    gives="shapes",
    run=_zone_classes,
    memory=10,
    label=lambda s, names: f"{names['classes']} in {names['zones']}",
)

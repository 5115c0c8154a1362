"""Gather: opening grids and shapes, cropping, and carrying a grid over to another reference system."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from moss_step.formats.overviews import coarse_look
from moss_step.formats.raster import describe, quantity_in, read_surface, split_band
from moss_step.formats.vector import ENDINGS, in_system, layer_sources, read_shapes, split_layer
from moss_step.formats.windows import GridSource
from moss_step.model.errors import AskedWronglyError
from moss_step.model.findings import Finding
from moss_step.model.frame import reference_system
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE, UNITS
from moss_step.science.grid_check import suspicions
from moss_step.science.regrid import carry_over, crop_to_area, crop_to_box
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, setting
from moss_step.steps.fields import BoxField, SystemField, title_of
from moss_step.steps.reach import near_shapes
from moss_step.steps.results import surface_outcome

StatedUnit = Literal[
    "as_stated",
    "metre",
    "centimetre",
    "millimetre",
    "decimetre",
    "yard",
    "foot",
    "us_survey_foot",
    "degree",
    "percent",
    "bearing",
    "none",
]


class OpenGridSettings(Settings):
    """Settings of open_grid."""

    marks = ("no_data",)

    source: str = setting(
        ...,
        "File",
        "The raster file to open; FILE#2 opens its second band. A folder of grids, or a pattern such as "
        "tiles/*.tif, is one grid.",
        control="file",
    )
    crs: SystemField | None = setting(
        None,
        "Reference system",
        "State it when the file does not, or states it wrongly: EPSG:code or WKT. Numbers stay.",
        control="crs",
    )
    unit: StatedUnit = setting(
        "as_stated",
        "Unit of values",
        "State it when the file does not: a length for heights, degree or percent, bearing. Values stay.",
    )
    no_data: float | None = setting(
        None, "No-data value", "A further value that stands for no-data.", more=True
    )
    box: BoxField | None = setting(
        None,
        "Read only",
        "Read only this box[[: xmin,ymin,xmax,ymax]].",
        control="box",
        more=True,
    )


def _open_grid(settings: OpenGridSettings, inputs: Inputs, progress: Progress) -> Outcome:
    path, band = split_band(settings.source)
    facts = describe(path, band)
    surface, remarks = read_surface(path, band, settings.box, settings.no_data, progress)
    frame = surface.frame if settings.crs is None else surface.frame.with_crs(settings.crs)
    unit = surface.unit if settings.unit == "as_stated" else UNITS[settings.unit]
    surface = Surface(
        surface.values, frame, unit, surface.quantity if unit == surface.unit else quantity_in(unit)
    )
    outcome = surface_outcome(surface, (*remarks, *suspicions(surface, facts.has_position, facts.unit_text)))
    width, height = frame.cell_metres
    more = (
        Finding("rows", frame.rows, COUNT),
        Finding("columns", frame.cols, COUNT),
        Finding("cell_width", width, METRE),
        Finding("cell_height", height, METRE),
    )
    figure = f"{width:.4g} m · {frame.cols} × {frame.rows}"
    warnings = tuple(dict.fromkeys(w for w in outcome.warnings if w != "Every cell is no-data."))
    return Outcome(surface, figure, (*outcome.findings, *more), warnings)


def _on_disk(settings: OpenGridSettings) -> GridSource:
    path, band = split_band(settings.source)
    unit = "" if settings.unit == "as_stated" else settings.unit
    return GridSource(path.absolute(), band, settings.no_data, settings.box, settings.crs, unit)


def _foretaste(settings: OpenGridSettings, progress: Progress) -> Outcome | None:
    """A coarse look at a large grid."""
    look = coarse_look(_on_disk(settings), progress)
    return None if look is None else Outcome(look, "reading", ())


def _file_label(settings: OpenGridSettings | OpenShapesSettings, names: Mapping[str, str]) -> str:
    path, layer = split_layer(settings.source)
    return title_of(layer if isinstance(settings, OpenShapesSettings) and layer else str(path))


open_grid = StepKind(
    kind="open_grid",
    example="source=ground.tif",
    bench="gather",
    group="Bring in",
    title="Open a grid",
    question="Which ground do you work on?",
    help=(
        "Reads an elevation grid from any raster file and states what it is: reference system, units, "
        "extent, cells."
    ),
    words=(
        "dem",
        "dtm",
        "dsm",
        "raster",
        "import",
        "load",
        "elevation",
        "geotiff",
        "ascii grid",
        "height model",
    ),
    inputs=(),
    settings=OpenGridSettings,
    gives="surface",
    run=_open_grid,
    on_disk=_on_disk,
    foretaste=_foretaste,
    label=_file_label,
    opens=("*",),
)


class OpenShapesSettings(Settings):
    """Settings of open_shapes."""

    source: str = setting(
        ..., "File", "The vector file to open; FILE#layer opens one layer of several.", control="file"
    )
    crs: SystemField | None = setting(
        None, "Reference system", "State it when the file does not: EPSG:code or WKT.", control="crs"
    )


def _open_shapes(settings: OpenShapesSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.0, "Reading shapes")
    path, layer = split_layer(settings.source)
    shapes = read_shapes(path, layer)
    if settings.crs is not None:
        shapes = Shapes(shapes.geometry, shapes.columns, settings.crs)
    warnings = () if shapes.crs else ("No reference system is stated: the ground's own is taken.",)
    figure = shapes.count_text
    return Outcome(shapes, figure, (Finding("shapes", len(shapes), COUNT),), warnings)


open_shapes = StepKind(
    kind="open_shapes",
    example="source=areas.gpkg",
    bench="gather",
    group="Bring in",
    title="Open shapes",
    question="Which points, lines or areas go with it?",
    help="Reads points, lines or areas with their table from a vector file: boundaries, bogs, named places.",
    words=(
        "vector",
        "boundary",
        "polygon",
        "geopackage",
        "geojson",
        "shapefile",
        "features",
        "import",
        "load",
    ),
    inputs=(),
    settings=OpenShapesSettings,
    gives="shapes",
    run=_open_shapes,
    label=_file_label,
    opens=tuple(e for e in ENDINGS if e != ".csv"),
    sources=layer_sources,
)

_SURFACE = InputSpec("surface", "surface", "Surface", "The grid to work on.")


class CropSettings(Settings):
    """Settings of crop."""

    box: BoxField | None = setting(
        None,
        "Box",
        "Keep the cells whose centres lie in it[[: xmin,ymin,xmax,ymax]]. Draw it on the plan.",
        control="box",
    )


def _crop(settings: CropSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface, area = as_kind(inputs["surface"], Surface), inputs.get("area")
    if (settings.box is None) == (area is None):
        raise AskedWronglyError(
            "Crop needs either a box or an area.", "Draw a box, or choose areas; not both."
        )
    progress.at(0.0, "Cropping")
    if settings.box is not None:
        return _cell_outcome(crop_to_box(surface, settings.box))
    warnings: tuple[str, ...] = ()
    moved = in_system(as_kind(area, Shapes), surface.frame.crs)
    if moved is not area:
        warnings = (f"The areas were carried over to {surface.frame.system_name}.",)
    return _cell_outcome(crop_to_area(surface, moved), warnings)


def _cell_outcome(surface: Surface, warnings: tuple[str, ...] = ()) -> Outcome:
    outcome = surface_outcome(surface, warnings)
    figure = f"{surface.frame.cell_metres[0]:.4g} m · {surface.frame.cols} × {surface.frame.rows}"
    return Outcome(surface, figure, outcome.findings, outcome.warnings)


crop = StepKind(
    kind="crop",
    example="surface=ground.tif box=412500,5870500,413500,5871500",
    bench="gather",
    group="Fit to the work",
    title="Crop",
    question="Which part do you need?",
    help=(
        "Keeps the part of a grid inside a box, or inside areas: cells whose centres lie outside become "
        "no-data."
    ),
    words=("clip", "cut", "subset", "extract", "trim", "boundary", "extent"),
    inputs=(_SURFACE, InputSpec("area", "shapes", "Areas", "Areas to keep.", optional=True, shapes="areas")),
    settings=CropSettings,
    gives="surface",
    run=_crop,
    around=lambda s, inputs, crs: s.box or near_shapes("area")(s, inputs, crs),
    cuts=True,
    maps=True,
    memory=6,
    label=lambda s, names: f"{names['surface']}, cut to {names.get('area') or 'a box'}",
)


class ReprojectSettings(Settings):
    """Settings of reproject."""

    crs: SystemField = setting(..., "Reference system", "Where to: EPSG:code or WKT.", control="crs")
    cell: float | None = setting(
        None,
        "Cell size",
        "In the target's units; left out, it keeps the resolution.",
        unit="target units",
        gt=0,
    )
    resampling: Literal["nearest", "bilinear", "cubic", "average"] = setting(
        "bilinear",
        "Resampling",
        "Nearest keeps values as they are; bilinear and cubic smooth; average for coarser cells.",
    )


def _reproject(settings: ReprojectSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    result = carry_over(surface, settings.crs, settings.cell, settings.resampling, progress)
    kept_north = (
        "Bearings still run from the north of the grid that they come from: derive the aspect anew where "
        "that matters."
    )
    return _cell_outcome(
        result, (kept_north,) if surface.cyclic and result.frame.system != surface.frame.system else ()
    )


reproject = StepKind(
    kind="reproject",
    example="surface=ground.tif crs=EPSG:3035 cell=5",
    bench="gather",
    group="Fit to the work",
    title="Reproject",
    question="Which reference system and cell size?",
    help="Carries a grid over to another reference system and cell size by resampling.",
    formula="centre of the new cell (x, y) → place in the old system by PROJ; v = Σ wᵢ zᵢ over the cells "
    "around it: one for nearest, two by two for bilinear (w = (1 − |Δx|)(1 − |Δy|)), four by "
    "four for cubic",
    words=(
        "warp",
        "project",
        "transform",
        "coordinate system",
        "crs",
        "resample",
        "utm",
        "metric",
        "cell size",
    ),
    inputs=(_SURFACE,),
    settings=ReprojectSettings,
    gives="surface",
    run=_reproject,
    maps=True,
    memory=10,
    label=lambda s, names: f"{names['surface']}, in {reference_system(s.crs).name}",
)

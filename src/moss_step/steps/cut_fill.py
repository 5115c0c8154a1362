"""Earthwork: what is cut and filled inside outlines, against a level, an edge, a plane or a surface."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Literal

import numpy as np
import shapely

from moss_step.formats.vector import box_of, in_system
from moss_step.model.arrays import as_short
from moss_step.model.cloud import Cloud
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Box, Frame
from moss_step.model.mapped import blocks_of, grid_beside, let_go
from moss_step.model.origin import origin_of
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.tin import Tin
from moss_step.model.typed import as_kind, of_kind
from moss_step.model.units import CUBIC_METRE
from moss_step.model.words import value_text
from moss_step.science.earthwork.bases import edge_base, lowest_in, plane_base
from moss_step.science.earthwork.meeting import laid_on
from moss_step.science.earthwork.outline import Base, Moved, Outline, base_at, rings_of
from moss_step.science.framing import frame_around, round_side
from moss_step.science.interpolate.tin import on_grid
from moss_step.science.relief.gradient import slope
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import DayField, PointsField
from moss_step.steps.moved_figures import PRICES, cost, density, extents, priced, shrink, swell, volumes
from moss_step.steps.records import (
    Row,
    corner_rows,
    frame_rows,
    now,
    origin_rows,
    record_table,
    setting_rows,
)

Against = Literal["level", "edge", "plane", "lowest", "surface"]
_GROUND_CLASS = 2
"""Points of the ground (ASPRS, LAS 1.4 R15)."""
_TIN_CELLS = 40_000.0
"""Cells that a TIN is read at inside an outline, where no size is stated."""


class CutFillSettings(Settings):
    """Settings of cut_fill."""

    against: Against = setting(
        "edge",
        "Against",
        "`edge`: between the heights along the outline; `plane`: the one nearest to them; `level`: a height; "
        "`lowest`: the lowest height inside; `surface`: a design, or the earlier survey.",
    )
    level: float | None = setting(
        None, "Level", "In the unit of the heights.", control="slider", when={"against": ("level",)}
    )
    outline: PointsField | None = setting(
        None,
        "Outline",
        "Its corners[[: x,y;x,y;x,y]].",
        control="outline",
        without_input="area",
        more=True,
    )
    cell: float | None = setting(
        None, "Cell", "Of a cloud or TIN, in units of the plan; left out, by its spacing.", gt=0, more=True
    )
    swell: float = swell()
    shrink: float = shrink()
    density: float | None = density()
    cost: float | None = cost()
    survey_date: DayField = setting(None, "Date of the survey", "As year-month-day.", more=True)
    base_date: DayField = setting(
        None, "Date of the base", "As year-month-day.", when={"against": ("surface",)}, more=True
    )


@dataclass(frozen=True, eq=False)
class Reckoned:
    """One outline with its base and what is moved in it."""

    outline: Outline
    base: Base
    moved: Moved
    ground_area: float

    def __post_init__(self) -> None:
        """Refuse one without a height.

        Raises MossError.
        """
        if self.moved.area <= self.moved.unmeasured * (1.0 + 1e-12):
            raise MossError("No height lies in an outline.", "Draw it where there are heights.")


def surface_under(value: Value, cell: float | None, area: shapely.Geometry, progress: Progress) -> Surface:
    """Heights as a grid: of a grid itself, of a TIN at cells around an area, of a cloud by its points.

    Raises MossError for what has no heights there.
    """
    grid, tin, cloud = of_kind(value, Surface), of_kind(value, Tin), of_kind(value, Cloud)
    if grid is not None:
        return grid
    if tin is not None:
        side = cell or round_side(float(np.sqrt(max(shapely.area(area), 1e-12) / _TIN_CELLS)))
        return on_grid(tin, frame_around(shapely.bounds(area).tolist(), side, tin.crs))
    from moss_step.steps.cloud_grids import grid_points_step

    classes = None if cloud is None else cloud.attributes.get("classification")
    known = classes is not None and bool((classes == _GROUND_CLASS).any())
    asked = grid_points_step.checked({"what": "ground" if known else "mean", "cell": cell})
    return as_kind(grid_points_step.run(asked, {"cloud": as_kind(value, Cloud)}, progress).value, Surface)


def outlines_of(settings: CutFillSettings, inputs: Inputs, crs: str | None) -> Shapes:
    """The outlines that are asked for: areas, or the one that was drawn.

    Raises AskedWronglyError when there is none, or it has too few corners.
    """
    areas = optional(inputs, "area", Shapes)
    if areas is not None:
        return in_system(areas, crs)
    if settings.outline is None:
        raise AskedWronglyError(
            "There is no outline.", "Draw one on the plan, or take areas.", "Give area=... or outline=..."
        )
    if len(settings.outline) < 3:
        raise AskedWronglyError(f"The outline has {len(settings.outline)} corners.", "Give it three or more.")
    return Shapes(np.array([shapely.Polygon(settings.outline)], object), {}, crs)


def base_of(settings: CutFillSettings, surface: Surface, outline: Outline, other: np.ndarray | None) -> Base:
    """The base of an outline, as the settings ask.

    Raises MossError when it cannot be found.
    """
    if settings.against == "edge":
        return edge_base(surface, outline)
    if settings.against == "plane":
        return plane_base(surface, outline)
    if settings.against == "lowest":
        return lowest_in(surface, outline)
    if settings.against == "level":
        if settings.level is None:
            raise AskedWronglyError("No level is stated.", "Drag it, or type it.", "Give level=...")
        return settings.level
    if other is None:
        raise AskedWronglyError(
            "The base is a surface, and none is chosen.", "Choose it under Base.", "Give base=..."
        )
    return other


def _cut_fill(settings: CutFillSettings, inputs: Inputs, progress: Progress) -> Outcome:
    value, other = inputs["surface"], optional(inputs, "base", Surface)
    held = of_kind(value, Surface)
    crs = getattr(value, "crs", None) if held is None else held.frame.crs
    areas = outlines_of(settings, inputs, crs)
    whole = shapely.union_all(areas.geometry)
    progress.at(0.0, "Gathering heights")
    surface = surface_under(value, settings.cell, whole, progress.part(0.0, 0.3))
    said, laid = unit_remarks(surface), None
    if settings.against == "surface" and other is not None:
        laid, words = laid_on(other, surface)
        said += words
    longer = longer_by_slope(surface)
    made = []
    for k, geometry in enumerate(areas.geometry):
        progress.at(0.3 + 0.6 * k / len(areas), "Reckoning outlines")
        made.append(_reckoned(settings, surface, Outline(surface.frame, geometry), laid, longer))
    findings = findings_of(settings, surface.frame, areas, made)
    said += remarks(surface.frame, made, settings.against)
    depth = _depths(surface, made)

    reckoning = Reckoning(made, findings, tuple(said), lambda: surface, partial(_bases, surface, made))
    beside = beside_of(settings, inputs, areas, reckoning)
    return Outcome(depth, figure_of(findings), findings, tuple(said), beside=beside)


@dataclass(frozen=True, eq=False)
class Reckoning:
    """All that was reckoned: outlines, what was found and said, the ground, of which no more is wanted than
    the corners, and the heights of the bases.
    """

    made: list[Reckoned]
    findings: tuple[Finding, ...]
    said: tuple[str, ...]
    ground: Callable[[], Surface]
    bases: Callable[[], Surface]


def beside_of(
    settings: CutFillSettings, inputs: Mapping[str, Any], areas: Shapes, reckoning: Reckoning
) -> dict[str, Callable[[], Outcome]]:
    """What stands beside the depths; of the inputs it is told where they came from."""
    made, findings, ground = reckoning.made, reckoning.findings, reckoning.ground

    def shapes() -> Outcome:
        table = _as_shapes(settings, inputs, ground(), areas, made)
        return Outcome(table, f"{len(made)} outlines", findings)

    def corners() -> Outcome:
        table = _corners(ground(), areas)
        return Outcome(table, f"{len(table):,} corners", findings)

    def record() -> Outcome:
        table = _record(settings, inputs, ground(), areas, findings, list(reckoning.said))
        return Outcome(table, "record", findings)

    def base() -> Outcome:
        return Outcome(reckoning.bases(), figure_of(findings), findings)

    return {"outlines": shapes, "base": base, "corners": corners, "record": record}


def unit_remarks(surface: Surface) -> list[str]:
    """What is taken of heights whose unit is not stated."""
    known = surface.unit.kind == "length"
    return [] if known else ["The unit of the heights is not stated: metres are taken."]


def figure_of(findings: tuple[Finding, ...]) -> str:
    """What is cut and filled in all, in words."""
    cut, fill = findings[0].value, findings[1].value
    return f"cut {mark(cut, CUBIC_METRE)}, fill {mark(fill, CUBIC_METRE)}"


def longer_by_slope(surface: Surface) -> np.ndarray:
    """How much larger each cell is along the ground than on the plan (rows, cols; NaN without a height);
    mapped where the surface is.
    """
    return surface.by_rows(1, np.float32, partial(longer_in, leans=min(surface.frame.shape) > 1))


def longer_in(part: Surface, leans: bool) -> np.ndarray:
    """The same of a part of a surface, whose outermost rows need those around them; whether all of it has
    more than one row and column.
    """
    lean = np.nan_to_num(slope(part, "percent").values) if leans else np.zeros(1, np.float32)
    long = np.hypot(np.float32(1.0), lean / np.float32(100.0))
    return np.where(np.isfinite(part.values), long, np.float32(np.nan))


def _reckoned(
    settings: CutFillSettings, surface: Surface, outline: Outline, laid: np.ndarray | None,
    longer: np.ndarray,
) -> Reckoned:  # fmt: skip
    base = base_of(settings, surface, outline, laid)
    moved = outline.moved(surface.values, base, surface.metres_per_height)
    reckoned = Reckoned(outline, base, moved, outline.moved(longer, 0.0).cut)
    let_go(surface.values, longer)
    return reckoned


def _inside(surface: Surface, made: list[Reckoned], kind: Any, what: Callable[..., Any]) -> np.ndarray:
    """A grid of what is made of the cells inside each outline, some rows at a time: of their heights, and
    those of the base; mapped where the surface is.
    """
    out = grid_beside(surface.values, kind, np.nan)
    for one in made:
        shares, (top, cols) = one.outline.own_shares(), one.outline.part
        for some in blocks_of(shares):
            rows = slice(top.start + some.start, top.start + some.stop)
            heights = surface.values[rows, cols]
            base = base_at(one.base, np.arange(rows.start, rows.stop), np.arange(cols.start, cols.stop))
            inside = counts(shares[some], heights)
            out[rows, cols] = np.where(inside, what(heights, base), out[rows, cols])
            let_go(out, shares, surface.values)
    return out


def counts(shares: np.ndarray, heights: np.ndarray) -> np.ndarray:
    """Cells that get a depth: half of each at least lies inside, and it has a height."""
    inside: np.ndarray = (shares >= 0.5) & np.isfinite(heights)
    return inside


def depth_of(heights: np.ndarray, base: np.ndarray) -> np.ndarray:
    """Heights above a base: above 0 is cut, below it fill."""
    above: np.ndarray = heights.astype(np.float64) - base
    return above


def height_of(_: np.ndarray, base: np.ndarray) -> np.ndarray:
    """Heights of a base."""
    return base


def _depths(surface: Surface, made: list[Reckoned]) -> Surface:
    """Heights above the base inside the outlines."""
    out = _inside(surface, made, np.float64, depth_of)
    return Surface(as_short(out), surface.frame, surface.unit, "difference")


def _bases(surface: Surface, made: list[Reckoned]) -> Surface:
    """Heights of the bases inside the outlines."""
    out = _inside(surface, made, surface.values.dtype, height_of)
    return Surface(out, surface.frame, surface.unit)


def findings_of(
    settings: CutFillSettings, frame: Frame, areas: Shapes, made: list[Reckoned]
) -> tuple[Finding, ...]:
    """What is cut and filled in all, how large the outlines are, and what it costs."""
    moved = [one.moved for one in made]
    around = _around(frame, shapely.union_all(areas.geometry))
    ground_area = sum(one.ground_area for one in made)
    return (*volumes(moved), *extents(moved, ground_area, around), *priced(settings, moved))


def _around(frame: Frame, area: shapely.Geometry) -> float:
    """Metres along all rims of an area."""
    return float(frame.lengths(rings_of(area)).sum())


def remarks(frame: Frame, made: list[Reckoned], against: str) -> list[str]:
    """What is remarked of outlines and what is moved in them."""
    said, areas = [], np.array([one.outline.areas for one in made], object)
    lost = sum(one.moved.unmeasured for one in made)
    whole = sum(one.moved.area for one in made)
    if lost > 1e-9 * whole:
        said.append(f"Of the area {lost / whole:.1%} has no height and counts as neither cut nor fill.")
    asked = float(frame.areas(areas).sum())
    if asked > whole * (1.0 + 1e-3):
        said.append(f"Of the outlines {1.0 - whole / asked:.1%} lies beyond the ground and is left out.")
    if shapely.area(shapely.union_all(areas)) < shapely.area(areas).sum() * (1.0 - 1e-9):
        said.append("Outlines overlap: what lies in several counts in each, and the totals hold it twice.")
    cut, fill = sum(one.moved.cut for one in made), sum(one.moved.fill for one in made)
    if against == "level" and (cut > 0) != (fill > 0):
        lies, none = ("above", "cut") if fill > 0 else ("below", "filled")
        said.append(f"The level lies {lies} all ground in the outlines: nothing is {none}.")
    if not any(one.moved.cut or one.moved.fill for one in made):
        said.append("Nothing lies above or below the base.")
    return said


def _as_shapes(
    settings: CutFillSettings, inputs: Inputs, surface: Surface, areas: Shapes, made: list[Reckoned]
) -> Shapes:
    """The outlines with all of their figures as attributes, and how they were reckoned."""
    moved = [one.moved for one in made]
    columns = {
        "cut_m3": [m.cut for m in moved], "fill_m3": [m.fill for m in moved],
        "net_m3": [m.net for m in moved],
        "area_m2": [m.area for m in moved], "ground_m2": [one.ground_area for one in made],
        "cut_m2": [m.cut_area for m in moved], "fill_m2": [m.fill_area for m in moved],
        "mean_cut_m": [m.mean_cut for m in moved], "mean_fill_m": [m.mean_fill for m in moved],
        "deepest_cut_m": [m.deepest_cut for m in moved], "deepest_fill_m": [m.deepest_fill for m in moved],
        "unmeasured_m2": [m.unmeasured for m in moved],
        "perimeter_m": [_around(surface.frame, a) for a in areas.geometry],
    }  # fmt: skip
    own = {n: v for n, v in areas.columns.items() if n not in columns}
    figures = {n: np.array(v, float) for n, v in columns.items()}
    words = {n: np.array([text] * len(areas), object) for n, text in _how(settings, inputs, surface).items()}
    return replace(areas, columns={**own, **figures, **words})


def _how(settings: CutFillSettings, inputs: Inputs, surface: Surface) -> dict[str, str]:
    """How outlines were reckoned, as attributes of each."""
    base = {"level": f"{settings.level}", "surface": _called(inputs, "base")}.get(settings.against, "")
    wide, high = surface.frame.cell_metres
    return {
        "against": settings.against, "base": base, "ground_name": _called(inputs, "surface"),
        "ground_date": settings.survey_date or "", "base_date": settings.base_date or "",
        "cell": f"{wide:.6g} by {high:.6g} m", "height_unit": surface.unit.key,
        "factors": ", ".join(f"{n} {v:g}" for n in PRICES if (v := getattr(settings, n)) is not None),
        "reckoned": now(),
    }  # fmt: skip


def _called(inputs: Inputs, name: str) -> str:
    """What an input is called, with the digests of the files behind it."""
    origin = origin_of(inputs, name)
    if origin is None:
        return ""
    return "; ".join([origin.name, *(f"{file} {digest}" for file, digest in origin.files)])


def _corners(surface: Surface, areas: Shapes) -> Table:
    """Each corner of each outline, with the height of the surface there."""
    xy, owner = shapely.get_coordinates(areas.geometry, return_index=True)
    z = values_at(surface, xy[:, 0], xy[:, 1]).astype(np.float64)
    columns = {"outline": owner + 1, "x": xy[:, 0], "y": xy[:, 1], "z": z}
    return Table(columns, {"z": surface.unit}, crs=surface.frame.crs)


def _record(
    settings: CutFillSettings, inputs: Inputs, surface: Surface, areas: Shapes, findings: tuple[Finding, ...],
    said: list[str],
) -> Table:  # fmt: skip
    """All that was asked and found, row by row, with the surveys, the corners and the time."""
    rows: list[Row] = [("against", settings.against, "")]
    if settings.level is not None and settings.against == "level":
        rows.append(("level", value_text(settings.level, surface.unit), ""))
    rows += origin_rows(inputs, (("surface", "ground"), ("base", "base"), ("area", "outlines")))
    rows += setting_rows(settings, ("survey_date", "base_date"))
    rows += frame_rows(surface)
    rows += setting_rows(settings, PRICES)
    return record_table([*rows, *corner_rows(surface, areas.geometry)], findings, said)


def _memory(settings: CutFillSettings, inputs: Inputs) -> float:
    """Bytes: depths, slopes, shares and the base of the cells around the outlines."""
    grid = of_kind(inputs["surface"], Surface)
    cells = 4e4 if grid is None else float(grid.values.size)
    return 48.0 * cells + 1e6


def looks_in(settings: CutFillSettings, inputs: Mapping[str, Value], crs: str | None) -> Box | None:
    """The box of the outlines."""
    if "area" not in inputs and settings.outline is None:
        return None
    return box_of(outlines_of(settings, inputs, crs), crs)


def _label(settings: CutFillSettings, names: Mapping[str, str]) -> str:
    against = {
        "edge": "its edge", "plane": "a plane", "lowest": "its lowest point",
        "level": f"{settings.level or 0:g}",
        "surface": names.get("base", "a surface"),
    }  # fmt: skip
    return f"Cut and fill of {names['surface']} against {against[settings.against]}"


cut_fill = StepKind(
    kind="cut_fill",
    example="area=areas.gpkg against=edge",
    bench="earthwork",
    group="Volumes",
    title="Cut and fill",
    question="How much is cut and filled inside an outline?",
    help="Volume above a base (cut) and below it (fill). Cells at the edge count by their share inside.",
    formula=(
        "cut = Σ share × area × max(z − base, 0); fill = Σ share × area × max(base − z, 0); "
        "net = cut − fill; share = part of the cell inside the outline, by signed areas"
    ),
    words=(
        "volume", "stockpile", "excavation", "earthworks", "earth moving", "spoil", "borrow pit", "grading",
        "heap", "pit", "cut and fill", "muck",
    ),
    inputs=(
        InputSpec(
            "surface", "surface", "Ground", "A grid, a TIN or a cloud that was surveyed.",
            quantity="elevation", also=("tin", "cloud"),
        ),
        InputSpec("area", "shapes", "Outlines", "In place of one that is drawn.", True, shapes="areas"),
        InputSpec("base", "surface", "Base", "A design, or the earlier survey.", True, "elevation"),
    ),
    settings=CutFillSettings,
    gives="surface",
    run=_cut_fill,
    maps=True,
    memory=_memory,
    records=True,
    around=looks_in,
    between=("surface", ".base"),
    label=_label,
    look={"ramp": "earth", "centre": 0.0},
    main="Depth of cut and fill",
    beside=(
        ResultSpec("outlines", "shapes", "Outlines", "Each outline with all of its figures."),
        ResultSpec("base", "surface", "Base", "What it was reckoned against.", {"ramp": "upland"}),
        ResultSpec("corners", "table", "Corners", "Each corner with its height."),
        ResultSpec("record", "table", "Record", "What was asked and found, with the time of the reckoning."),
    ),
    staple=0,
)  # fmt: skip

"""Earthwork: a road along a line, with its cross-sections, its volumes in three ways, and what is hauled."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any, Literal

import numpy as np
import shapely

from moss_step.model.chart import Chart
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import ASIDE, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import CUBIC_METRE, METRE, PERCENT
from moss_step.science.earthwork.balance import balanced
from moss_step.science.earthwork.design import Design, Ground, Path, Template
from moss_step.science.earthwork.sections import (
    Haul,
    Sections,
    average_end_area,
    haul_along,
    prismoidal,
    sections_at,
)
from moss_step.science.earthwork.works import Built, built
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import Inputs, ResultSpec, Settings, setting
from moss_step.steps.designs import (
    GROUND,
    LINE,
    design_kind,
    design_outcome,
    drawn_lines,
    findings_of,
    path_setting,
    slope_setting,
    works_memory,
)
from moss_step.steps.fields import PointsField, StationsField, stations_in
from moss_step.steps.moved_figures import cost, density, shrink, swell

_LENGTH = "length"
_STEEPEST = declared("steepest_grade", "Steepest grade", USUAL)
_CUT_ENDS = declared("cut_end_areas", "Cut by end areas", USUAL)
_FILL_ENDS = declared("fill_end_areas", "Fill by end areas", USUAL)
_CUT_PRISM = declared("cut_prismoidal", "Cut, prismoidal", USUAL)
_FILL_PRISM = declared("fill_prismoidal", "Fill, prismoidal", USUAL)
_HAULED = declared("hauled", "Hauled along the line", USUAL)
_MEAN_HAUL = declared("mean_haul", "Mean haul", ASIDE)
_EVERY = 50
"""Places of the long section between two cross-sections, at the most."""


class RoadSettings(Settings):
    """Settings of road."""

    width: float = setting(4.0, "Width", "Of the road, edge to edge.", unit="m", gt=0, le=500)
    lies: Literal["on_ends", "grade", "balanced", "profile"] = setting(
        "on_ends",
        "Lies",
        "`on_ends`: straight from the ground at its start to that at its end; `grade`: from a level, at a "
        "grade; `balanced`: as on ends, raised or lowered until cut and fill balance; `profile`: by heights "
        "along it.",
    )
    start: float | None = setting(
        None, "Level at the start", "In the unit of the heights; left out, that of the ground.",
        control="slider", when={"lies": ("grade",)},
    )  # fmt: skip
    grade: float = setting(
        0.0,
        "Grade",
        "Above 0 it climbs.",
        unit="%",
        control="slider",
        ge=-100,
        le=100,
        when={"lies": ("grade",)},
    )
    heights: StationsField | None = setting(
        None, "Heights along it", "Metres from the start and height, as 0,240; 300,252.",
        when={"lies": ("profile",)},
    )  # fmt: skip
    cut_slope: float = slope_setting("Slope in cut, 1 to", "Above the road.", 1.5, more=True)
    fill_slope: float = slope_setting("Slope in fill, 1 to", "Below the road.", 2.0, more=True)
    crossfall: float = setting(
        2.5, "Crossfall", "Fall across the road, so that water leaves it.", unit="%", ge=0, le=20, more=True
    )
    falls: Literal["both_sides", "to_left", "to_right"] = setting(
        "both_sides", "Falls to", "Seen along the line.", more=True
    )
    every: float = setting(
        20.0, "Cross-sections every", "Metres along the line.", unit="m", gt=0, le=10_000, more=True
    )
    path: PointsField | None = path_setting()
    swell: float = swell()
    shrink: float = shrink()
    density: float | None = density()
    cost: float | None = cost()


@dataclass(frozen=True, eq=False)
class _Reckoned:
    """Cross-sections, the areas half-way between them, and what is hauled."""

    at: Sections
    between: Sections
    haul: Haul


def road_design(settings: RoadSettings, surface: Surface, corners: np.ndarray) -> Design:
    """The road that settings ask for, before it is balanced.

    Raises MossError where the ground does not say how high it lies.
    """
    share = settings.crossfall / 100.0
    falls = {"both_sides": (-share, -share), "to_left": (-share, share), "to_right": (share, -share)}
    template = Template(
        settings.width / 2.0, falls[settings.falls], (settings.cut_slope,) * 2, (settings.fill_slope,) * 2,
        square=True,
    )  # fmt: skip
    return Design.along([_path(settings, surface, corners)], template)


def _path(settings: RoadSettings, surface: Surface, corners: np.ndarray) -> Path:
    """The line with its heights in metres."""
    plane, metres = Ground.of(surface.frame), surface.metres_per_height
    places = plane.places(corners)
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    if settings.lies == "profile":
        if not settings.heights:
            raise AskedWronglyError(
                "Heights along the road are not stated.", "Give two or more.", "Give heights=0,240;300,252"
            )
        stations, z = np.array(stations_in(settings.heights), np.float64).T
        known = np.unique(np.concatenate([along, stations[(stations > 0) & (stations < along[-1])]]))
        xy = np.column_stack([np.interp(known, along, corners[:, k]) for k in (0, 1)])
        return Path(xy, np.interp(known, stations, z * metres))
    if settings.lies == "grade":
        start = _ground_at(surface, corners[0]) if settings.start is None else settings.start
        return Path(corners, start * metres + along * settings.grade / 100.0)
    first, last = (_ground_at(surface, corners[k]) * metres for k in (0, -1))
    return Path(corners, np.interp(along, [0.0, along[-1]], [first, last]))


def _ground_at(surface: Surface, place: np.ndarray) -> float:
    height = float(values_at(surface, place[:1], place[1:2])[0])
    if not np.isfinite(height):
        raise MossError(
            "The ground at an end of the road is not known.",
            "Draw it where there are heights, or give a grade.",
        )
    return height


def built_road(
    settings: RoadSettings, surface: Surface, corners: np.ndarray, progress: Progress | None = None
) -> tuple[Design, Built]:
    """The road that settings ask for, and what is built.

    Raises MossError when it cannot be built.
    """
    design = road_design(settings, surface, corners)
    if settings.lies == "balanced":
        return balanced(surface, design, settings.shrink, progress)
    return design, built(surface, design)


def _road(settings: RoadSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    lines = drawn_lines(settings.path, inputs, surface)
    if len(lines) > 1:
        raise AskedWronglyError(f"A road is one line, and these are {len(lines)}.", "Choose one of them.")
    progress.at(0.1, "Shaping the ground")
    design, made = built_road(settings, surface, lines[0], progress.part(0.1, 0.6))
    progress.at(0.6, "Cutting cross-sections")
    found = _sections(settings, surface, design)
    findings = _findings(settings, surface, design, made, found)
    drawn = np.array([shapely.LineString(lines[0])], object)

    def told(make: Any) -> Outcome:
        return Outcome(make(surface, found), f"{len(found.at.stations)} cross-sections", tuple(findings))

    def along() -> Outcome:
        chart = _long_section(settings, surface, design)
        return Outcome(chart, mark(float(found.at.stations[-1]), METRE), tuple(findings))

    more: dict[str, Callable[[], Outcome]] = {
        "sections": partial(told, _as_lines), "heights": partial(told, _as_table),
        "haul": partial(told, _as_chart), "profile": along,
    }  # fmt: skip
    return design_outcome(settings, inputs, made, drawn, findings, more=more)


def _length_of(surface: Surface, path: Path) -> float:
    places = Ground.of(surface.frame).places(path.xy)
    return float(np.hypot(*np.diff(places, axis=0).T).sum())


def _sections(settings: RoadSettings, surface: Surface, design: Design) -> _Reckoned:
    path, long = design.paths[0], _length_of(surface, design.paths[0])
    stations = np.arange(0.0, long, settings.every)
    stations = np.append(stations[stations < long - 1e-6 * settings.every], long)
    at = sections_at(surface, path, design.template, stations)
    between = sections_at(surface, path, design.template, (stations[1:] + stations[:-1]) / 2.0)
    cut, fill = (average_end_area(stations, areas) for areas in (at.cut, at.fill))
    return _Reckoned(at, between, haul_along(stations, cut, fill, settings.shrink))


def _findings(
    settings: RoadSettings, surface: Surface, design: Design, made: Built, found: _Reckoned
) -> list[Finding]:
    path, at, between = design.paths[0], found.at, found.between
    places = Ground.of(surface.frame).places(path.xy)
    steps = np.hypot(*np.diff(places, axis=0).T)
    with np.errstate(divide="ignore", invalid="ignore"):
        grades = np.nan_to_num(np.diff(path.z) / steps * 100.0, nan=0.0, posinf=0.0, neginf=0.0)
    ends = [float(average_end_area(at.stations, a).sum()) for a in (at.cut, at.fill)]
    prisms = [
        float(prismoidal(at.stations, a, m).sum())
        for a, m in ((at.cut, between.cut), (at.fill, between.fill))
    ]
    whole = findings_of(settings, made, float("nan"))
    return [
        *whole[:3], Finding(_LENGTH, float(steps.sum()), METRE),
        Finding(_STEEPEST, float(grades[np.argmax(np.abs(grades))]), PERCENT),
        Finding(_CUT_ENDS, ends[0], CUBIC_METRE), Finding(_FILL_ENDS, ends[1], CUBIC_METRE),
        Finding(_CUT_PRISM, prisms[0], CUBIC_METRE), Finding(_FILL_PRISM, prisms[1], CUBIC_METRE),
        Finding(_HAULED, found.haul.hauled, CUBIC_METRE),
        Finding(_MEAN_HAUL, found.haul.mean_way, METRE), *whole[3:],
    ]  # fmt: skip


def _as_lines(surface: Surface, found: _Reckoned) -> Shapes:
    """Each cross-section from where the works end to where they end on the other side."""
    at, metres = found.at, surface.metres_per_height
    left, right = at.ends(surface)
    apart = np.stack([left, right], axis=1)
    columns = {
        "station_m": at.stations, "ground": at.ground[:, at.middle] / metres,
        "design": at.design[:, at.middle] / metres, "cut_m2": at.cut, "fill_m2": at.fill,
        "left_m": -at.left, "right_m": at.right,
        "cut_m3": np.concatenate([[0.0], np.cumsum(average_end_area(at.stations, at.cut))]),
        "fill_m3": np.concatenate([[0.0], np.cumsum(average_end_area(at.stations, at.fill))]),
        "haul_m3": found.haul.mass,
    }  # fmt: skip
    symbols = dict.fromkeys(("ground", "design"), surface.unit.symbol)
    return Shapes(np.asarray(shapely.linestrings(apart), object), columns, surface.frame.crs, symbols)


def _as_table(surface: Surface, found: _Reckoned) -> Table:
    """Heights of ground and design across each section, as far as the works reach."""
    at, metres = found.at, surface.metres_per_height
    there = np.isfinite(at.design)
    which, place = np.nonzero(there)
    columns = {
        "station_m": at.stations[which], "offset_m": at.offsets[place],
        "ground": at.ground[there] / metres, "design": at.design[there] / metres,
    }  # fmt: skip
    units = {n: METRE if n.endswith("_m") else surface.unit for n in columns}
    return Table(columns, units)


def _as_chart(surface: Surface, found: _Reckoned) -> Chart:
    """What is left over, and what is cut and filled, added up from the start."""
    at = found.at
    columns = {
        "station_m": at.stations, "haul_m3": found.haul.mass,
        "cut_m3": np.concatenate([[0.0], np.cumsum(average_end_area(at.stations, at.cut))]),
        "fill_m3": np.concatenate([[0.0], np.cumsum(average_end_area(at.stations, at.fill))]),
    }  # fmt: skip
    units = {n: METRE if n == "station_m" else CUBIC_METRE for n in columns}
    return Chart(columns, units, "station_m", ("haul_m3", "cut_m3", "fill_m3"))


def _long_section(settings: RoadSettings, surface: Surface, design: Design) -> Chart:
    """Ground and road along the line."""
    path = design.paths[0]
    plane, metres = Ground.of(surface.frame), surface.metres_per_height
    places = plane.places(path.xy)
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    step = max(min(surface.frame.cell_metres), settings.every / _EVERY)
    at = np.unique(np.concatenate([np.arange(0.0, along[-1], step), along]))
    xy = plane.coordinates(np.column_stack([np.interp(at, along, places[:, k]) for k in (0, 1)]))
    ground = values_at(surface, xy[:, 0], xy[:, 1]).astype(np.float64)
    columns = {"station_m": at, "ground": ground, "design": np.interp(at, along, path.z) / metres}
    units = {"station_m": METRE, "ground": surface.unit, "design": surface.unit}
    return Chart(columns, units, "station_m", ("ground", "design"))


def _label(settings: RoadSettings, names: Mapping[str, str]) -> str:
    return f"Road, {settings.width:g} m wide, on {names['surface']}"


road = design_kind(
    kind="road",
    example='path="412300,5870300;412500,5870420" width=4 every=20 -o sections=sections.gpkg',
    title="Road",
    question="What does a road along a line take?",
    help="Volumes from the grid and from cross-sections; side slopes run to where they meet the ground.",
    formula=(
        "end areas: V = Σ L (A₁ + A₂) / 2; prismoidal: V = Σ L (A₁ + 4 Aₘ + A₂) / 6; haul = Σ (cut × shrink "
        "− fill) from the start; mean haul = area under the curve / volume hauled"
    ),
    words=(
        "track", "haul road", "corridor", "alignment", "cross section", "average end area", "prismoidal",
        "mass haul", "embankment", "cutting", "formation", "forest road",
    ),
    inputs=(GROUND, LINE),
    settings=RoadSettings,
    run=_road,
    memory=lambda s, inputs: works_memory(s, inputs) + 2.5e7,
    label=_label,
    beside=(
        ResultSpec("sections", "shapes", "Cross-sections", "Each as a line with its areas and sums."),
        ResultSpec("heights", "table", "Heights across", "Ground and road across each section."),
        ResultSpec("profile", "chart", "Along the line", "Ground and road along the line."),
        ResultSpec("haul", "chart", "Mass haul", "What is left over, added up from the start."),
    ),
    staple=4,
)  # fmt: skip

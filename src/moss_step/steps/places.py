"""What steps that work between measured places share: their inputs, how values between are found, and what
is said of errors.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal, cast

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import ASIDE, MAIN, USUAL, Finding, declared
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import METRE, NONE, UNKNOWN, Unit, unit_named
from moss_step.science.interpolate.places import Measured, along_rims, joined, measured, one_a_place
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.surfaces import Choice, Interpolator, Method, Trend
from moss_step.science.interpolate.tin import BreakLine, break_lines
from moss_step.science.interpolate.variogram import Shape, Structure, Variogram
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import Inputs, InputSpec, Settings, optional, setting

PLACES = declared("places", "Places", USUAL)
SILL = declared("sill", "Sill", USUAL)
NUGGET = declared("nugget", "Nugget", USUAL)
RANGE = declared("range", "Practical range", USUAL)
MEAN_ERROR = declared("mean_error", "Mean error", MAIN)
RMSE = declared("rmse", "Root mean square error", MAIN)
MEAN_SPREAD = declared("mean_spread", "Expected error of the mean", USUAL)
SPREAD = declared("standardised_spread", "Spread of standardised errors", ASIDE)

BYTES_A_PAIR = 40.0
"""Bytes of equations for each pair of places."""
Stated = Literal["as_stated", "metre", "centimetre", "foot", "us_survey_foot", "fathom", "none"]
POINTS = InputSpec(
    "points",
    "shapes",
    "Points",
    "Places with values, or lines with heights such as contours.",
    shapes="points lines",
)
AREA = InputSpec("area", "shapes", "Outline", "Areas that the surface ends at.", True, shapes="areas")
BREAKS = InputSpec(
    "breaklines", "shapes", "Break lines", "Lines that a TIN keeps; others take their corners as places.",
    True, shapes="lines", more=True,
)  # fmt: skip


class MeasuredSettings(Settings):
    """Where values come from, in every step that works with them."""

    column: str | None = setting(
        None, "Column of values", "Left out, z, height, elevation, depth, or the points' own heights."
    )
    unit: Stated = setting("as_stated", "Unit of values", "State it when the table does not.", more=True)


class ModelSettings(MeasuredSettings):
    """How values between places are found."""

    method: Method = setting(
        "kriging",
        "Method",
        "`kriging` expects the least error and says how large it is; `tin` and `natural_neighbour` pass "
        "through the points; `inverse_distance` is simple; `spline` bends least; `nearest` makes steps.",
    )
    trend: Trend = setting(
        "none",
        "Trend",
        "Taken off before, put back after; with kriging, found together (universal kriging).",
        when={
            "method": ("kriging", "natural_neighbour", "inverse_distance", "nearest", "spline"),
        },
        more=True,
    )
    variogram: Literal["fitted", "spherical", "exponential", "gaussian", "matern"] = setting(
        "fitted",
        "Variogram",
        "`fitted` takes the shape that fits best, but no Gaussian one. Sill or range left out are fitted.",
        when={"method": ("kriging",)},
    )
    nugget: float | None = setting(
        None,
        "Nugget",
        "What is left at no distance, in squared units: error of measurement. Too small, and noise is drawn; "
        "too large, and forms are smoothed away.",
        when={"method": ("kriging",)},
        ge=0,
        more=True,
    )
    sill: float | None = setting(
        None,
        "Sill",
        "The plateau with the nugget, in squared units. It scales the error, not the surface.",
        when={"method": ("kriging",)},
        gt=0,
        more=True,
    )
    range: float | None = setting(
        None,
        "Range",
        "The practical one: 95 in 100 of the sill are reached. Too short, and the surface falls back to the "
        "mean between points.",
        unit="m",
        when={"method": ("kriging",)},
        gt=0,
        more=True,
    )
    smoothness: Literal["1.5", "2.5"] = setting(
        "1.5", "Smoothness", "Of a Matérn variogram.", when={"variogram": ("matern",)}, more=True
    )
    second_shape: Literal["none", "spherical", "exponential", "gaussian", "matern"] = setting(
        "none", "Second shape", "A nested model: a further structure, of another range, on top of the first.",
        when={"variogram": ("spherical", "exponential", "gaussian", "matern")}, more=True,
    )  # fmt: skip
    second_sill: float | None = setting(
        None, "Second sill", "What it adds to the plateau, in squared units.",
        when={"second_shape": ("spherical", "exponential", "gaussian", "matern")}, gt=0, more=True,
    )  # fmt: skip
    second_range: float | None = setting(
        None, "Second range", "Its practical range.", unit="m",
        when={"second_shape": ("spherical", "exponential", "gaussian", "matern")}, gt=0, more=True,
    )  # fmt: skip
    direction: float = setting(
        0.0, "Direction", "Bearing along which values are alike for longest.", unit="degrees", ge=0, le=360,
        more=True,
    )  # fmt: skip
    ratio: float = setting(
        1.0, "Across over along", "Range across that bearing over the range along it.", gt=0.01, le=1,
        more=True,
    )  # fmt: skip
    neighbours: int = setting(
        24,
        "Near places",
        "So many count where not all do: inverse distance, and kriging or splines of over 5,000 places.",
        when={"method": ("kriging", "inverse_distance", "spline")},
        ge=3,
        le=128,
        more=True,
    )
    power: float = setting(
        2.0, "Power", "Of the distance: large ones keep to the nearest place.", gt=0, le=20,
        when={"method": ("inverse_distance",)}, more=True,
    )  # fmt: skip
    smoothing: float = setting(
        0.0, "Smoothing", "How far the spline may leave the points; 0 passes through them.", ge=0,
        when={"method": ("spline",)}, more=True,
    )  # fmt: skip
    exact: bool = setting(
        False, "Through each place", "Passes through noisy places, too, where there is a nugget.",
        when={"method": ("kriging",)}, more=True,
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class Gathered:
    """Places in one system with their unit, and what is to be said of them."""

    held: Measured
    crs: str | None
    unit: Unit
    said: tuple[str, ...]


def unit_of(settings: MeasuredSettings, points: Shapes) -> Unit:
    """Unit of the values: as stated, of the column, or unknown."""
    if settings.unit != "as_stated":
        return unit_named(settings.unit) or UNKNOWN
    for name, symbol in points.symbols.items():
        if settings.column in (None, name) and (found := unit_named(symbol)) is not None:
            return found
    return UNKNOWN


def gathered(
    settings: MeasuredSettings, inputs: Inputs, edge_value: float | None = None, breaks: bool = True
) -> Gathered:
    """Places of all inputs, each once.

    Raises MossError when none has a number.
    """
    points = as_kind(inputs["points"], Shapes)
    area = optional(inputs, "area", Shapes)
    crs, said = points.crs or (None if area is None else area.crs), []
    parts = [measured(points, settings.column)]
    lines = optional(inputs, "breaklines", Shapes)
    if lines is not None and breaks:
        parts.append(
            measured(in_system(lines, crs), settings.column if settings.column in lines.columns else None)
        )
        said.append("Break lines count as places: only a TIN keeps them as edges.")
    if area is not None and edge_value is not None:
        moved = in_system(area, crs)
        parts.append(along_rims(moved, edge_value, _rim_spacing(moved, sum(len(p) for p in parts))))
    held = one_a_place(joined(parts))
    if held.lost:
        said.append(f"{held.lost:,} places have no number and are left out.")
    if held.differing:
        said.append(f"{held.differing:,} places stand more than once with different values: the mean counts.")
    return Gathered(held, crs, unit_of(settings, points), tuple(said))


def lines_of(lines: Shapes, column: str | None) -> list[BreakLine]:
    """Break lines with their heights: their own, those of a column, or none."""
    if shapely.has_z(lines.geometry).all() and len(lines):
        return break_lines(lines.geometry)
    held = next((c for c in (column, "elevation", "height", "z", "depth") if c and c in lines.columns), None)
    heights = np.full(len(lines), np.nan) if held is None else np.asarray(lines.columns[held], np.float64)
    return break_lines(lines.geometry, heights)


def _rim_spacing(areas: Shapes, count: int) -> float:
    """Half of the mean spacing of so many places in areas, in units of the reference system."""
    return 0.5 * float(np.sqrt(max(float(shapely.area(areas.geometry).sum()), 1e-300) / max(count, 1)))


def choice_of(settings: ModelSettings) -> Choice:
    """How values between are found, by the settings.

    Raises AskedWronglyError for a sill below the nugget.
    """
    model = None
    if settings.sill is not None and settings.range is not None and settings.variogram != "fitted":
        model = Variogram.single(
            settings.variogram, settings.sill, settings.range, settings.nugget or 0.0,
            float(settings.smoothness), settings.direction, settings.ratio,
        )  # fmt: skip
    if settings.method == "kriging" and settings.second_shape != "none":
        model = _nested(model, settings)
    return Choice(
        settings.method, settings.trend, model,
        None if settings.variogram == "fitted" else settings.variogram, settings.direction, settings.ratio,
        settings.neighbours, settings.power, settings.smoothing, settings.exact,
    )  # fmt: skip


def _nested(first: Variogram | None, settings: ModelSettings) -> Variogram:
    """A model with its second structure.

    Raises AskedWronglyError when a part of either is left out.
    """
    if first is None or settings.second_sill is None or settings.second_range is None:
        raise AskedWronglyError(
            "A nested variogram is stated whole: nothing of it is fitted.",
            "State the shape, sill and range of both structures.",
        )
    more = Structure(
        cast(Shape, settings.second_shape),
        settings.second_sill,
        settings.second_range,
        float(settings.smoothness),
    )
    return replace(first, structures=(*first.structures, more))


def prepared(
    settings: ModelSettings, got: Gathered, plane: Plane, drift: Surface | None
) -> tuple[Interpolator, Gathered]:
    """What finds values between the places, with a variogram whose stated parts stand; places where another
    surface has no value are left out.
    """
    held, external = got.held, None
    if drift is not None:
        external = values_at(drift, held.x, held.y).astype(np.float64)
        there = np.isfinite(external)
        if not there.any():
            raise MossError("No place lies on the surface that is the drift.", "Take one that covers them.")
        held, external = held.part(there), external[there]
        lost = int((~there).sum())
        more = (f"{lost:,} places lie off the drift's surface and are left out.",) if lost else ()
        got = replace(got, held=held, said=(*got.said, *more))
    made = Interpolator(held, plane, choice_of(settings), external)
    parts = (settings.nugget, settings.sill, settings.range)
    if settings.method == "kriging" and made.choice.model is None and any(p is not None for p in parts):
        model = with_parts(cast(Variogram, made.model), settings)
        made = Interpolator(held, plane, replace(made.choice, model=model), external)
    return made, got


def with_parts(fitted: Variogram, settings: ModelSettings) -> Variogram:
    """A fitted variogram with the parts that are stated."""
    part = fitted.structures[0]
    nugget = fitted.nugget if settings.nugget is None else settings.nugget
    sill = fitted.sill if settings.sill is None else settings.sill
    reach = part.range if settings.range is None else settings.range
    return Variogram.single(part.shape, sill, reach, nugget, part.smoothness, fitted.direction, fitted.ratio)


def model_findings(model: Variogram) -> list[Finding]:
    """Nugget, sill and range of a variogram: the first two in squared units of the values, which have no
    unit of their own here.
    """
    return [
        Finding(NUGGET, model.nugget, NONE),
        Finding(SILL, model.sill, NONE),
        Finding(RANGE, max(s.range for s in model.structures), METRE),
    ]


def error_findings(errors: np.ndarray, expected: np.ndarray, unit: Unit) -> list[Finding]:
    known = np.isfinite(errors)
    if not known.any():
        return []
    e, s = errors[known], expected[known]
    result = [
        Finding(MEAN_ERROR, float(e.mean()), unit),
        Finding(RMSE, float(np.sqrt((e * e).mean())), unit),
    ]
    told = np.isfinite(s) & (s > 0)
    if told.any():
        result.append(Finding(SPREAD, float(np.sqrt(((e[told] / s[told]) ** 2).mean())), NONE))
    return result

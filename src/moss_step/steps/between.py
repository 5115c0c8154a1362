"""Surface: values between places where something was measured, how far to trust them, and their variogram."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import cast

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.arrays import as_short
from moss_step.model.chart import Chart
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame, same_system
from moss_step.model.mapped import blocks_of, grid_beside, let_go, new_grid, too_large
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.tin import Tin
from moss_step.model.units import COUNT, METRE, Unit
from moss_step.model.words import value_text
from moss_step.science.framing import frame_around
from moss_step.science.interpolate.kriging import ALL_AT_ONCE
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.surfaces import MEANT, Interpolator, plane_around, proposed_cell
from moss_step.science.interpolate.tin import break_lines, on_grid, triangulate
from moss_step.science.interpolate.variogram import Variogram, experimental
from moss_step.science.laying import cells_inside
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, StepKind, optional, setting
from moss_step.steps.places import (
    AREA,
    BREAKS,
    BYTES_A_PAIR,
    MEAN_SPREAD,
    PLACES,
    POINTS,
    RMSE,
    Gathered,
    ModelSettings,
    choice_of,
    error_findings,
    gathered,
    lines_of,
    model_findings,
    prepared,
)
from moss_step.steps.results import surface_outcome
from moss_step.steps.variograms import variogram_outcome

AtPlaces = Callable[[np.ndarray, np.ndarray, np.ndarray | None, Progress], np.ndarray]
"""Gives values at places x, y (n), with those of the drift there."""
_WORST = 10
"""Places that are named as the worst."""
_TOLD = 2_000
"""Places up to which the figures say how far off each is when it is left out: of more it takes long."""


class InterpolateSettings(ModelSettings):
    """Settings of interpolate."""

    cell: float | None = setting(
        None, "Cell", "In units of the plan. Left out, it is half of the mean spacing.", gt=0,
        without_input="like",
    )  # fmt: skip
    edge_value: float | None = setting(
        None,
        "Value along the outline",
        "Known there, such as a depth of 0 along a shore.",
        with_input="area",
    )
    reach: float | None = setting(
        None, "Reach", "No value farther from a place. Left out, the points' hull ends it.", unit="m", gt=0,
        more=True,
    )  # fmt: skip
    beyond: bool = setting(
        False, "Beyond the hull", "Values outside the points, too: they are made up.", more=True,
        when={"method": ("kriging", "inverse_distance", "nearest", "spline")},
    )  # fmt: skip


def frame_of(settings: InterpolateSettings, inputs: Inputs, got: Gathered) -> Frame:
    """The cells: those of a grid, or square ones around the outline or the places."""
    like = optional(inputs, "like", Surface)
    if like is not None:
        return like.frame
    area = optional(inputs, "area", Shapes)
    box = None if area is None else in_system(area, got.crs).box
    if box is None:
        x, y = got.held.x, got.held.y
        box = float(x.min()), float(y.min()), float(x.max()), float(y.max())
    cell = settings.cell
    if cell is None:
        cell = proposed_cell(got.held, plane_around(box, got.crs))
    return frame_around(box, cell, got.crs)


@dataclass(frozen=True, eq=False)
class Between:
    """What finds values between places, and which cells of a frame get one: those within the outline, and the
    hull or the reach.
    """

    settings: InterpolateSettings
    got: Gathered
    made: Interpolator
    frame: Frame
    area: Shapes | None = None
    drift: Surface | None = None

    @cached_property
    def _rims(self) -> Shapes | None:
        return None if self.area is None else in_system(self.area, self.frame.crs)

    @cached_property
    def _hull(self) -> shapely.Geometry:
        held, frame = self.got.held, self.frame
        points = shapely.multipoints(np.column_stack([held.x, held.y]))
        near = 1e-9 * max(frame.dx * frame.cols, frame.dy * frame.rows)
        hull = cast(shapely.Geometry, shapely.buffer(shapely.convex_hull(points), near))
        shapely.prepare(hull)
        return hull

    def wanted(self, rows: slice) -> np.ndarray:
        """Which cells of some rows get a value (rows, cols)."""
        some = np.ones((rows.stop - rows.start, self.frame.cols), bool)
        if self._rims is not None:
            some &= cells_inside(self.frame.part(rows, slice(0, self.frame.cols)), self._rims)
        x, y = self.frame.middles(some, rows.start)
        if self.settings.reach is not None:
            some[some] = self.made.distances(x, y) <= self.settings.reach
        elif not self.settings.beyond:
            some[some] = shapely.contains_xy(self._hull, x, y)
        return some

    def found(self, wanted: np.ndarray, first: int, at: AtPlaces, progress: Progress) -> np.ndarray:
        """What stands in the middles of the cells that are wanted of some rows from ``first`` on (n)."""
        x, y = self.frame.middles(wanted, first)
        return at(x, y, self.drift_at(x, y), progress)

    def strip(self, rows: slice) -> tuple[np.ndarray, np.ndarray]:
        """Values of some rows in single precision, NaN where none are wanted; how many are in each row."""
        wanted = self.wanted(rows)
        out = np.full(wanted.shape, np.float32(np.nan))
        out[wanted] = self.found(wanted, rows.start, self.made.at, silent())
        return out, np.count_nonzero(wanted, axis=1)

    def drift_at(self, x: np.ndarray, y: np.ndarray) -> np.ndarray | None:
        """Values of the drift at places (n), where there is one."""
        return None if self.drift is None else values_at(self.drift, x, y).astype(np.float64)


def between(settings: InterpolateSettings, inputs: Inputs, got: Gathered, frame: Frame) -> Between:
    """Find out what is between places in the cells of a frame.

    Raises MossError for places that a method cannot do with.
    """
    drift = optional(inputs, "drift", Surface)
    made, got = prepared(settings, got, Plane.of(frame), drift)
    return Between(settings, got, made, frame, optional(inputs, "area", Shapes), drift)


def gathered_for(settings: InterpolateSettings, inputs: Inputs) -> Gathered:
    """The places of a step; triangles take break lines as sides and not as places.

    Raises MossError for places that hold no values.
    """
    return gathered(settings, inputs, settings.edge_value, settings.method != "tin")


def check_system(frame: Frame, got: Gathered) -> None:
    """Raise AskedWronglyError for cells that lie in another system than the places."""
    if not same_system(frame.crs, got.crs):
        raise AskedWronglyError(
            "The grid whose cells are taken lies in another reference system than the points.",
            "Reproject it first, or leave it out.",
        )


def no_cell() -> MossError:
    """What is said where nothing lies between the places."""
    return MossError(
        "No cell lies between the places.", "Take smaller cells, a longer reach, or more points."
    )


def wanted_cells(some: Between) -> np.ndarray:
    """Cells that get a value (rows, cols).

    Raises MossError when none does.
    """
    wanted, found = new_grid(some.frame.shape, bool, True), False
    for rows in blocks_of(wanted):
        wanted[rows] = some.wanted(rows)
        found = found or bool(wanted[rows].any())
        let_go(wanted)
    if not found:
        raise no_cell()
    return wanted


def _interpolate(settings: InterpolateSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.0, "Gathering places")
    got = gathered_for(settings, inputs)
    frame = frame_of(settings, inputs, got)
    check_system(frame, got)
    if settings.method == "tin":
        return _by_triangles(settings, inputs, got, frame)
    some = between(settings, inputs, got, frame)
    progress.at(0.1, "Choosing cells")
    wanted = wanted_cells(some)
    out = _in_cells(some, wanted, some.made.at, progress.part(0.2, 1.0))
    return _told(some, Surface(as_short(out), frame, some.got.unit), wanted)


def _in_cells(some: Between, wanted: np.ndarray, at: AtPlaces, progress: Progress) -> np.ndarray:
    """What is found in the cells that are wanted (rows, cols), some rows at a time; NaN in all others."""
    out, high = new_grid(some.frame.shape, np.float64, np.nan), some.frame.rows
    for rows in blocks_of(wanted):
        part = progress.part(rows.start / high, rows.stop / high)
        out[rows][wanted[rows]] = some.found(wanted[rows], rows.start, at, part)
        let_go(out, wanted)
    return out


@dataclass(frozen=True)
class Triangles:
    """Triangles between places, with break lines and the outline's edge among their sides, and the areas
    whose cells get a value.
    """

    settings: InterpolateSettings
    got: Gathered
    tin: Tin
    frame: Frame
    areas: Shapes | None

    def strip(self, rows: slice) -> tuple[np.ndarray, np.ndarray]:
        """Values of some rows, from a multiple of 512 on; how many there are in each."""
        out = self._inside(on_grid(self.tin, self.frame, rows))
        return out.values, np.count_nonzero(~np.isnan(out.values), axis=1)

    def surface(self) -> Surface:
        """Values of all cells."""
        return self._inside(on_grid(self.tin, self.frame))

    def _inside(self, surface: Surface) -> Surface:
        return surface if self.areas is None else replace(surface, values=_kept_inside(surface, self.areas))

    def told(self, findings: Sequence[Finding]) -> tuple[Finding, ...]:
        """Findings of the values, and of the places."""
        cell = Finding("cell_width", self.frame.cell_metres[0], METRE)
        return *findings, Finding(PLACES, len(self.got.held), COUNT), cell

    def beside(self) -> dict[str, Callable[[], Outcome]]:
        """What is given beside the values, by name."""
        got = self.got

        def made() -> Interpolator:
            return Interpolator(got.held, Plane.of(self.frame), choice_of(self.settings))

        return {
            "error": _no_error,
            "variogram": _no_error,
            "residuals": lambda: _residuals(got, made()),
            "residual_plot": lambda: _plot(got, made()),
        }


def triangles(settings: InterpolateSettings, inputs: Inputs, got: Gathered, frame: Frame) -> Triangles:
    """Lay triangles between places.

    Raises MossError for places that none can be laid between.
    """
    lines = optional(inputs, "breaklines", Shapes)
    area = optional(inputs, "area", Shapes)
    kept = [] if lines is None else lines_of(in_system(lines, got.crs), settings.column)
    rims = None if area is None else in_system(area, got.crs)
    if rims is not None and settings.edge_value is not None:
        kept += break_lines(rims.geometry, np.full(len(rims), settings.edge_value))
    outline = None if rims is None else shapely.union_all(rims.geometry)
    tin = triangulate(got.held, Plane.of(frame), got.crs, got.unit, kept, outline, settings.reach or 0.0)
    return Triangles(settings, got, tin, frame, rims)


def _by_triangles(settings: InterpolateSettings, inputs: Inputs, got: Gathered, frame: Frame) -> Outcome:
    made = triangles(settings, inputs, got, frame)
    outcome = surface_outcome(made.surface(), got.said)
    return replace(outcome, findings=made.told(outcome.findings), beside=made.beside())


def _kept_inside(surface: Surface, areas: Shapes) -> np.ndarray:
    """The values of cells with their middle inside areas, NaN in all others."""
    out, frame = grid_beside(surface.values, surface.values.dtype, np.nan), surface.frame
    for rows in blocks_of(out):
        inside = cells_inside(frame.part(rows, slice(0, frame.cols)), areas)
        np.copyto(out[rows], surface.values[rows], where=inside)
        let_go(out, surface.values)
    return out


def _no_error() -> Outcome:
    raise AskedWronglyError(
        "Only kriging has a variogram, and says how far it may be off.", "Take kriging as the method."
    )


def remarks(some: Between) -> tuple[str, ...]:
    """What is to be said of the places."""
    settings, count = some.settings, len(some.got.held)
    if settings.method not in ("kriging", "spline") or some.made.everywhere:
        return some.got.said
    return *some.got.said, f"Of {count:,} places the {settings.neighbours} near each cell count."


def findings_between(some: Between, evenly: Callable[[], tuple[np.ndarray, np.ndarray]]) -> list[Finding]:
    """Figures of the places and of the model; ``evenly`` gives the middles of an even choice of all cells."""
    got, made = some.got, some.made
    findings = [Finding(PLACES, len(got.held), COUNT)]
    findings.append(Finding("cell_width", some.frame.cell_metres[0], METRE))
    if isinstance(made.model, Variogram):
        findings += model_findings(made.model)
    if some.settings.method == "kriging" and 2 < len(got.held) <= _TOLD:
        x, y = evenly()
        findings.append(Finding(MEAN_SPREAD, made.mean_error(x, y, some.drift_at(x, y)), got.unit))
        findings += error_findings(*_own(got, made), got.unit)
    return findings


def _told(some: Between, surface: Surface, wanted: np.ndarray) -> Outcome:
    def evenly() -> tuple[np.ndarray, np.ndarray]:
        counts = [np.count_nonzero(wanted[rows], axis=1) for rows in blocks_of(wanted)]
        return evenly_among(some.frame, np.concatenate(counts), lambda row: wanted[row])

    outcome = surface_outcome(surface, remarks(some))
    findings = (*outcome.findings, *findings_between(some, evenly))
    return replace(outcome, findings=findings, beside=beside_surface(some, lambda: wanted))


def beside_surface(some: Between, wanted: Callable[[], np.ndarray]) -> dict[str, Callable[[], Outcome]]:
    """What is given beside a surface, by name; ``wanted`` gives the cells that have a value (rows, cols)."""
    got, made, kriged = some.got, some.made, some.settings.method == "kriging"

    def error() -> Outcome:
        out = _in_cells(some, wanted(), made.errors_at, silent())
        return surface_outcome(
            Surface(as_short(out), some.frame, got.unit, "error"),
            ("The standard deviation that kriging expects: 95 in 100 lie within 1.96 times it.",),
        )

    return {
        "error": error if kriged else _no_error,
        "variogram": (lambda: _curve(got, made)) if kriged else _no_error,
        "residuals": lambda: _residuals(got, made),
        "residual_plot": lambda: _plot(got, made),
    }


def evenly_among(
    frame: Frame, counts: np.ndarray, wanted: Callable[[int], np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """Middles of an even choice of the cells that are wanted, as many as stand for all: by how many are in
    each row, and which.
    """
    until = counts.cumsum()
    count = int(until[-1])
    numbers = np.unique(np.linspace(0, count - 1, min(count, MEANT)).astype(np.int64))
    rows = np.searchsorted(until, numbers, "right")
    before = np.where(rows > 0, until[rows - 1], 0)
    cols = np.empty(len(rows), np.int64)
    for row in np.unique(rows):
        own = rows == row
        cols[own] = np.flatnonzero(wanted(int(row)))[(numbers - before)[own]]
    return frame.x0 + (cols + 0.5) * frame.dx, frame.y0 - (rows + 0.5) * frame.dy


def _own(got: Gathered, made: Interpolator) -> tuple[np.ndarray, np.ndarray]:
    """Errors of the places that were measured, each left out, and what is expected of them."""
    errors, expected = made.left_out()
    own = got.held.noises > 0
    return errors[own], expected[own]


def _curve(got: Gathered, made: Interpolator) -> Outcome:
    """What pairs show, and the model through them."""
    own = got.held.noises > 0
    seen = made.seen or experimental(made.x[own], made.y[own], got.held.values[own])
    return variogram_outcome(seen, cast(Variogram, made.model))


def _residuals(got: Gathered, made: Interpolator) -> Outcome:
    """Each place with what the others foretell there."""
    errors, expected = _own(got, made)
    held = got.held.part(got.held.noises > 0)
    with np.errstate(invalid="ignore", divide="ignore"):
        standardised = errors / expected
    columns = {
        "measured": held.values, "foretold": held.values - errors, "residual": errors,
        "expected_error": expected, "standardised": standardised, "worst": _worst(errors, got.unit),
    }  # fmt: skip
    symbols = dict.fromkeys(("measured", "foretold", "residual", "expected_error"), got.unit.symbol)
    points = Shapes(np.asarray(shapely.points(held.x, held.y)), columns, got.crs, symbols)
    findings = tuple(error_findings(errors, expected, got.unit))
    rmse = next((f.value for f in findings if f.name == RMSE), float("nan"))
    return Outcome(points, f"RMSE {mark(rmse, got.unit)}", findings)


def _worst(errors: np.ndarray, unit: Unit) -> np.ndarray:
    """Rank and error of the places that are farthest off, as text (n); empty of the others."""
    texts = np.full(len(errors), "", object)
    order = np.argsort(-np.abs(np.nan_to_num(errors)), kind="stable")
    for rank, at in enumerate(order[:_WORST], 1):
        if np.isfinite(errors[at]):
            texts[at] = f"{rank}: {value_text(float(errors[at]), unit)}"
    return texts


def _plot(got: Gathered, made: Interpolator) -> Outcome:
    """Residuals over what the others foretell: without a pattern, where the model is right."""
    errors, _ = _own(got, made)
    foretold = got.held.part(got.held.noises > 0).values - errors
    order = np.argsort(foretold, kind="stable")
    units = {"foretold": got.unit, "residual": got.unit}
    columns = {"foretold": foretold[order], "residual": errors[order]}
    known = errors[np.isfinite(errors)]
    rmse = float(np.sqrt((known**2).mean())) if known.size else float("nan")
    chart = Chart(columns, units, "foretold", ("residual",), ("residual",))
    return Outcome(chart, f"RMSE {mark(rmse, got.unit)}")


def _memory(settings: InterpolateSettings, inputs: Inputs) -> float:
    """Bytes: covariances of all pairs, and some arrays of cells."""
    got = gathered(settings, inputs, settings.edge_value)
    dense = settings.method in ("kriging", "spline")
    cells = frame_of(settings, inputs, got)
    held, number = min(len(got.held), ALL_AT_ONCE), cells.rows * cells.cols
    return (
        (BYTES_A_PAIR * held * held if dense else 0.0)
        + 400.0 * len(got.held)
        + (0.0 if too_large(8 * number) else 80.0 * number)
    )


interpolate = StepKind(
    kind="interpolate",
    example="points=checks.gpkg column=z cell=10",
    bench="surface",
    group="Between places",
    title="Interpolate",
    question="Which surface lies between the places that were measured?",
    help=(
        "A grid between points, soundings, contours or lines with heights: by kriging, triangles with break "
        "lines, natural neighbours, distance or splines."
    ),
    formula=(
        "kriging: z = Σ wᵢ zᵢ with Σⱼ wⱼ C(i, j) + μ·f(i) = C(i, 0), Σ wᵢ f(i) = f(0); "
        "C(h) = sill − γ(h); spherical γ = c(1.5 h/a − 0.5 (h/a)³), exponential c(1 − exp(−3h/a)), Gaussian "
        "c(1 − exp(−3h²/a²)), with the practical range a; inverse distance: z = Σ zᵢ dᵢ⁻ᵖ / Σ dᵢ⁻ᵖ; natural "
        "neighbour: wᵢ = area taken from the cell of i / area of the new cell; spline: r² log r"
    ),
    words=(
        "kriging", "idw", "inverse distance", "natural neighbour", "spline", "gridding", "bathymetry",
        "soundings", "spot heights", "surface from points", "geostatistics", "tin", "thin plate",
    ),
    inputs=(
        POINTS, AREA, BREAKS,
        InputSpec(
            "drift", "surface", "Drift", "A surface that the values follow: external drift.", True, more=True
        ),
        InputSpec("like", "surface", "Cells of", "A grid whose cells are taken.", True, more=True),
    ),
    settings=InterpolateSettings,
    gives="surface",
    run=_interpolate,
    memory=_memory,
    label=lambda s, names: f"{names['points']} by {s.method.replace('_', ' ')}",
    main="Surface",
    beside=(
        ResultSpec(
            "error", "surface", "Expected error", "The standard deviation that kriging expects.", asked=True
        ),
        ResultSpec(
            "variogram", "chart", "Variogram", "What pairs of places show by their distance, and the model."
        ),
        ResultSpec(
            "residuals", "shapes", "Left out one by one", "Each place with what the others foretell.",
            {"column": "residual", "ramp": "change", "labels": "worst"}, asked=True,
        ),
        ResultSpec(
            "residual_plot", "chart", "Residuals over what is foretold",
            "They show no pattern where all is well.", asked=True,
        ),
    ),
    staple=0,
)  # fmt: skip

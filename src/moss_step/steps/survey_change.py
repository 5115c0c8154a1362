"""Earthwork: what changed between two surveys, and how sure that is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.arrays import as_short
from moss_step.model.chart import Chart
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import CUBIC_METRE, METRE, SHARE, SQUARE_METRE
from moss_step.science.earthwork.change import (
    Offset,
    Way,
    added_up,
    least_detectable,
    offset_of,
    volume_error,
)
from moss_step.science.earthwork.meeting import laid_on
from moss_step.science.earthwork.outline import Outline
from moss_step.science.regrid import cells_inside
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import DayField
from moss_step.steps.records import record_table

_LOWERED = declared("lowered", "Lowered", MAIN)
_RAISED = declared("raised", "Raised", MAIN)
_NET = declared("net_change", "Net change", MAIN)
_LOWERED_ERROR = declared("lowered_error", "Lowered, give or take", MAIN)
_RAISED_ERROR = declared("raised_error", "Raised, give or take", MAIN)
_NET_ERROR = declared("net_error", "Net, give or take", MAIN)
_LEAST = declared("least_detectable", "Least change that counts", USUAL)
_LOWERED_AREA = declared("lowered_area", "Area lowered", USUAL)
_RAISED_AREA = declared("raised_area", "Area raised", USUAL)
_BELOW = declared("below_share", "Share that is too small to tell", USUAL)
_UP = declared("offset_up", "Offset upward", USUAL)
_EAST = declared("offset_east", "Offset to the east", USUAL)
_NORTH = declared("offset_north", "Offset to the north", USUAL)
_SPREAD = declared("stable_spread", "Spread on ground that stayed", USUAL)
_BINS = 40
_ROUNDS, _SETTLED = 8, 2e-3
"""Rounds of the search for a shift, and the part of a cell below which it has settled."""


class SurveyChangeSettings(Settings):
    """Settings of survey_change."""

    error_before: float = setting(
        0.05, "Error of the survey before", "Standard error of a height. Too small: noise counts as change.",
        unit="m", ge=0,
    )  # fmt: skip
    error_after: float = setting(
        0.05, "Error of the survey after", "Standard error of a height.", unit="m", ge=0
    )
    probability: float = setting(
        0.95, "Sure to", "Share of cases: change below what can be told so surely does not count.", ge=0.5,
        lt=1.0,
    )  # fmt: skip
    too_small: Literal["left_out", "counted"] = setting(
        "left_out",
        "Change too small to tell",
        "`left_out`: it counts as none; `counted`: it counts, too.",
        more=True,
    )
    offset: Way = setting(
        "none", "Take out", "`mean`: what is added everywhere; `tilt`: a plane; `shift`: a way to the side, "
        "too. Told on ground that stayed.", with_input="stable",
    )  # fmt: skip
    reach: float = setting(
        0.0, "Errors are alike within", "Range of a spherical variogram of the errors; 0 for errors of their "
        "own in each cell. Too short, and volumes seem surer than they are.", unit="m", ge=0, more=True,
    )  # fmt: skip
    before_date: DayField = setting(None, "Date before", "As year-month-day.", more=True)
    after_date: DayField = setting(None, "Date after", "As year-month-day.", more=True)


@dataclass(frozen=True, eq=False)
class _Change:
    """Changes in metres (rows, cols; NaN where none is known), the share of each cell that counts (None for
    all), and what was taken out.
    """

    off: np.ndarray
    shares: np.ndarray | None
    offset: Offset | None
    least: float
    said: tuple[str, ...]


def _survey_change(settings: SurveyChangeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    before, after = as_kind(inputs["before"], Surface), as_kind(inputs["after"], Surface)
    if settings.before_date and settings.after_date and settings.before_date > settings.after_date:
        raise AskedWronglyError(
            f"The survey before is of {settings.before_date}, the one after of {settings.after_date}.",
            "Swap the surveys, or mend the dates.",
        )
    progress.at(0.0, "Bringing both surveys together")
    change = _changed(settings, inputs, before, after)
    progress.at(0.7, "Adding up")
    findings = _findings(settings, after, change)
    values = np.where(_counts(settings, change), change.off / after.metres_per_height, np.nan)
    surface = Surface(as_short(values), after.frame, after.unit, "difference")
    lowered, raised = findings[0].value, findings[1].value

    def histogram() -> Outcome:
        return Outcome(_histogram(after, change), f"net {mark(raised - lowered, CUBIC_METRE)}", findings)

    def record() -> Outcome:
        asked = [(n.replace("_", " "), str(v), "") for n, v in settings.model_dump().items() if v is not None]
        return Outcome(record_table(asked, findings, change.said), "record", findings)

    figure = f"lowered {mark(lowered, CUBIC_METRE)}, raised {mark(raised, CUBIC_METRE)}"
    return Outcome(surface, figure, findings, change.said, beside={"histogram": histogram, "record": record})


def _changed(settings: SurveyChangeSettings, inputs: Inputs, before: Surface, after: Surface) -> _Change:
    metres = after.metres_per_height
    heights, said = laid_on(before, after)
    off = (after.values.astype(np.float64) - heights) * metres
    offset = None
    stable, area = optional(inputs, "stable", Shapes), optional(inputs, "area", Shapes)
    if stable is not None:
        stayed = cells_inside(after.frame, in_system(stable, after.frame.crs))
        offset, off = _without_offset(settings.offset, before, after, heights, stayed)
        if settings.offset == "none":
            said.append(f"On ground that stayed the surveys differ by {offset.spread:.3f} m (spread).")
        else:
            said.append(f"An offset told by {offset.cells:,} cells of ground that stayed was taken out.")
    shares = None
    if area is not None:
        shares = Outline(after.frame, shapely.union_all(in_system(area, after.frame.crs).geometry)).shares()
        off[shares <= 0.0] = np.nan
    if not np.isfinite(off).any():
        raise MossError("Both surveys have no height in common there.", "Take surveys of the same ground.")
    least = least_detectable(settings.error_before, settings.error_after, settings.probability)
    return _Change(off, shares, offset, least, tuple(said))


def _without_offset(
    way: Way, before: Surface, after: Surface, heights: np.ndarray, stayed: np.ndarray
) -> tuple[Offset, np.ndarray]:
    """The offset of the later survey, and the change in metres without it."""
    frame, metres = after.frame, after.metres_per_height
    below, top = heights.astype(np.float64) * metres, after.values.astype(np.float64) * metres
    offset = offset_of(below, top, stayed, frame, way)
    if way == "shift":
        offset, below = _settled(offset, before, after, top, stayed)
    cols, rows = np.arange(frame.cols) + 0.5, np.arange(frame.rows)[:, None] + 0.5
    return offset, top - below - (offset.up + offset.by_column * cols + offset.by_row * rows)


def _settled(
    offset: Offset, before: Surface, after: Surface, top: np.ndarray, stayed: np.ndarray
) -> tuple[Offset, np.ndarray]:
    """A shift found round by round, for the ground is straight over short ways only; and the heights of the
    earlier survey in metres, moved by it.
    """
    own, (wide, high) = before.frame, before.frame.cell_metres
    for _ in range(_ROUNDS):
        x0, y0 = own.x0 + offset.east / wide * own.dx, own.y0 + offset.north / high * own.dy
        moved, _said = laid_on(replace(before, frame=replace(own, x0=x0, y0=y0)), after)
        below = moved.astype(np.float64) * after.metres_per_height
        more = offset_of(below, top, stayed, after.frame, "shift")
        if np.hypot(more.east, more.north) < _SETTLED * min(after.frame.cell_metres):
            break
        offset = replace(more, east=offset.east + more.east, north=offset.north + more.north)
    return replace(more, east=offset.east, north=offset.north), below


def _counts(settings: SurveyChangeSettings, change: _Change) -> np.ndarray:
    """Cells whose change counts."""
    if settings.too_small == "counted":
        return np.asarray(np.isfinite(change.off))
    with np.errstate(invalid="ignore"):
        return np.asarray(np.abs(change.off) >= change.least)


def _findings(settings: SurveyChangeSettings, after: Surface, change: _Change) -> tuple[Finding, ...]:
    lowered, raised, down_area, up_area, whole, told = added_up(
        change.off, change.shares, after.frame, change.least, settings.too_small == "counted"
    )
    cell = float(after.frame.row_areas.mean())
    spread = float(np.hypot(settings.error_before, settings.error_after))
    sure = least_detectable(1.0, 0.0, settings.probability)

    def give_or_take(area: float) -> float:
        return sure * volume_error(spread, area, cell, settings.reach)

    found = [
        Finding(_LOWERED, lowered, CUBIC_METRE), Finding(_RAISED, raised, CUBIC_METRE),
        Finding(_NET, raised - lowered, CUBIC_METRE),
        Finding(_LOWERED_ERROR, give_or_take(down_area), CUBIC_METRE),
        Finding(_RAISED_ERROR, give_or_take(up_area), CUBIC_METRE),
        Finding(_NET_ERROR, give_or_take(down_area + up_area), CUBIC_METRE),
        Finding(_LEAST, change.least, METRE), Finding(_LOWERED_AREA, down_area, SQUARE_METRE),
        Finding(_RAISED_AREA, up_area, SQUARE_METRE),
        Finding(_BELOW, 1.0 - told / whole, SHARE),
    ]  # fmt: skip
    if change.offset is not None:
        o = change.offset
        found += [
            Finding(_UP, o.up, METRE), Finding(_EAST, o.east, METRE), Finding(_NORTH, o.north, METRE),
            Finding(_SPREAD, o.spread, METRE),
        ]  # fmt: skip
    return tuple(found)


def _histogram(after: Surface, change: _Change) -> Chart:
    """Volume by the height of the change."""
    areas = np.broadcast_to(after.frame.row_areas[:, None], change.off.shape)
    areas = areas if change.shares is None else areas * change.shares
    there = np.isfinite(change.off)
    off = change.off[there]
    most = float(np.abs(off).max()) or 1.0
    edges = np.linspace(-most, most, _BINS + 1)
    volume = np.histogram(off, edges, weights=np.abs(off) * areas[there])[0]
    area = np.histogram(off, edges, weights=areas[there])[0]
    middles = (edges[:-1] + edges[1:]) / 2.0
    columns = {"change_m": middles, "volume_m3": volume, "area_m2": area}
    units = {"change_m": METRE, "volume_m3": CUBIC_METRE, "area_m2": SQUARE_METRE}
    return Chart(columns, units, "change_m", ("volume_m3",))


def _label(settings: SurveyChangeSettings, names: Mapping[str, str]) -> str:
    return f"Change from {names['before']} to {names['after']}"


survey_change = StepKind(
    kind="survey_change",
    example="error_before=0.1 error_after=0.1",
    bench="earthwork",
    group="Change",
    title="Change between surveys",
    question="What was lowered and raised between two surveys, and how sure is that?",
    help=(
        "Volume that went and that came, each with what it may be off; change below what both surveys can "
        "tell apart is left out. An offset is told, and taken out, on ground that stayed."
    ),
    formula=(
        "least = t √(s² before + s² after), t the quantile of both sides; "
        "volume ± t s √(area × max(cell, πa²/5))"
    ),
    words=(
        "dod", "dem of difference", "change detection", "erosion", "deposition", "landslide",
        "level of detection", "uncertainty", "before and after", "monitoring", "co-registration",
    ),
    inputs=(
        InputSpec("before", "surface", "Before", "The earlier survey.", quantity="elevation"),
        InputSpec("after", "surface", "After", "The later survey: its cells count.", quantity="elevation"),
        InputSpec(
            "area", "shapes", "Outlines", "Where change counts; left out, everywhere.", True, shapes="areas"
        ),
        InputSpec("stable", "shapes", "Ground that stayed", "Areas that did not move.", True, shapes="areas"),
    ),
    settings=SurveyChangeSettings,
    gives="surface",
    run=_survey_change,
    memory=lambda s, inputs: 90.0 * as_kind(inputs["after"], Surface).values.size + 1e6,
    label=_label,
    look={"ramp": "earth", "reverse": True, "centre": 0.0},
    main="Change of height",
    beside=(
        ResultSpec("histogram", "chart", "Volume by change", "How much moved by how much."),
        ResultSpec("record", "table", "Record", "What was asked and found, with the time of the reckoning."),
    ),
    staple=1,
)  # fmt: skip

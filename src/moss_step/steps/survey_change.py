"""Earthwork: what changed between two surveys, and how sure that is."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.kinds.registry import is_mapped
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import ASIDE, MAIN, USUAL, Finding, declared
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, grid_beside, let_go, row_by_row
from moss_step.model.memory import check_memory
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.summary import summarise
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import CUBIC_METRE, METRE, SHARE, SQUARE_METRE
from moss_step.science.earthwork.change import Counted, Sums, added_up, quantile, volume_error
from moss_step.science.earthwork.meeting import height_references, laid_on
from moss_step.science.earthwork.offsets import Offset, Way, offset_of, stayed_by_change
from moss_step.science.earthwork.outline import Outline
from moss_step.science.earthwork.simulated import Field, simulate
from moss_step.science.laying import cells_inside
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import DayField
from moss_step.steps.records import corner_rows, frame_rows, origin_rows, record_table, setting_rows
from moss_step.steps.results import class_outcome
from moss_step.steps.survey_results import (
    Change,
    brought_over,
    histogram_of,
    lines_of,
    patches_of,
    shown,
    stayed_map,
    surely,
)

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
_SMALL_LOWERED = declared("small_lowered", "Lowered, too small to tell", USUAL)
_SMALL_RAISED = declared("small_raised", "Raised, too small to tell", USUAL)
_UP = declared("offset_up", "Offset upward", USUAL)
_EAST = declared("offset_east", "Offset to the east", USUAL)
_NORTH = declared("offset_north", "Offset to the north", USUAL)
_SPREAD = declared("stable_spread", "Spread on ground that stayed", USUAL)
_SIMULATED = tuple(
    declared(f"{name}_simulated", f"{title}, give or take, simulated", ASIDE)
    for name, title in (("lowered", "Lowered"), ("raised", "Raised"), ("net", "Net"))
)
_FEWEST = 50
"""Surveys that are simulated at the least."""
_MEDIAN, _OFFSET = 33, 100
"""Bytes a cell that medians of all changes take, and of ground that stayed, an offset told on it."""
_ROUNDS, _SETTLED = 8, 2e-3
"""Rounds of the search for a shift, and the part of a cell below which it has settled."""


class SurveyChangeSettings(Settings):
    """Settings of survey_change."""

    error_before: float = setting(
        0.05, "Error of the survey before", "Standard error of a height. Too small: noise counts as change.",
        unit="m", ge=0, without_input="spread_before",
    )  # fmt: skip
    error_after: float = setting(
        0.05, "Error of the survey after", "Standard error of a height.", unit="m", ge=0,
        without_input="spread_after",
    )  # fmt: skip
    probability: float = setting(
        0.95, "Sure to", "Share of cases: change below what can be told so surely does not count.", ge=0.5,
        lt=1.0, more=True,
    )  # fmt: skip
    too_small: Literal["left_out", "counted"] = setting(
        "left_out",
        "Change too small to tell",
        "`left_out`: it counts as none, and is told apart; `counted`: it counts, too.",
        more=True,
    )
    offset: Way = setting(
        "none", "Take out", "`mean`: what is added everywhere; `tilt`: a plane; `shift`: a way to the side, "
        "too. Told on ground that stayed.",
    )  # fmt: skip
    stayed: Literal["drawn", "proposed"] = setting(
        "drawn", "Ground that stayed", "`drawn`: areas that are given; `proposed`: outside of the outlines, "
        "where the change is like that of most ground.", more=True, without_input="stable",
    )  # fmt: skip
    reach: float = setting(
        0.0, "Errors are alike within", "Range of a spherical variogram of the errors; 0 for errors of their "
        "own in each cell. Too short, and volumes seem surer than they are.", unit="m", ge=0, more=True,
    )  # fmt: skip
    simulated: int = setting(
        0, "Surveys to simulate", "With errors drawn by chance, as a check of what volumes may be off.", ge=0,
        le=100_000, more=True,
    )  # fmt: skip
    seed: int = setting(1, "Seed", "What the errors are drawn from.", ge=0, le=1_000_000_000, more=True)
    least_patch: float = setting(
        0.0, "Smallest patch", "Smaller ones are left out of the patches.", unit="m²", ge=0, more=True
    )
    before_date: DayField = setting(None, "Date before", "As year-month-day.", more=True)
    after_date: DayField = setting(None, "Date after", "As year-month-day.", more=True)


def _survey_change(settings: SurveyChangeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    before, after = as_kind(inputs["before"], Surface), as_kind(inputs["after"], Surface)
    if settings.before_date and settings.after_date and settings.before_date > settings.after_date:
        raise AskedWronglyError(
            f"The survey before is of {settings.before_date}, the one after of {settings.after_date}.",
            "Swap the surveys, or mend the dates.",
        )
    progress.at(0.0, "Bringing both surveys together")
    change = changed(settings, inputs, before, after)
    progress.at(0.4, "Adding up")
    sums = added_up(change.off, after.frame, change.counted)
    simulation = progress.part(0.5, 1.0)
    findings = (
        *findings_of(settings, after.frame, change, sums), *_simulated(settings, after, change, simulation),
    )  # fmt: skip
    surface, reckoned = shown(after, change), Reckoned(sums, findings, change.said)
    beside = beside_of(settings, inputs, reckoned, lambda: after, lambda: change)
    return Outcome(surface, figure_of(sums), findings, change.said, beside=beside)


def figure_of(sums: Sums) -> str:
    """What went and what came, in words."""
    return f"lowered {mark(sums.lowered, CUBIC_METRE)}, raised {mark(sums.raised, CUBIC_METRE)}"


@dataclass(frozen=True)
class Reckoned:
    """What went and what came, what is found of that, and what is to be said."""

    sums: Sums
    findings: tuple[Finding, ...]
    said: tuple[str, ...]


def beside_of(
    settings: SurveyChangeSettings,
    inputs: Mapping[str, Any],
    reckoned: Reckoned,
    later: Callable[[], Surface],
    changed: Callable[[], Change],
) -> dict[str, Callable[[], Outcome]]:
    """What stands beside a change; the later survey and the changes are made once they are asked for. Of the
    record no more of the survey is wanted than the corners of outlines.
    """
    findings, sums, sure = reckoned.findings, reckoned.sums, quantile(settings.probability)
    figure, net = figure_of(sums), f"net {mark(sums.raised - sums.lowered, CUBIC_METRE)}"

    def told(make: Callable[[], Any], words: str = "") -> Callable[[], Outcome]:
        return lambda: Outcome(made := make(), words or made.count_text, findings)

    def classes(made: ClassMap, words: str) -> Outcome:
        counted = class_outcome(made, made.valid_count)
        return replace(counted, figure=words, findings=(*findings, *counted.findings), warnings=())

    def patches() -> Shapes:
        return patches_of(later(), changed(), settings.least_patch, settings.reach, sure)

    return {
        "brought": told(lambda: brought_over(later(), changed()), figure),
        "surely": lambda: classes(surely(later(), changed()), figure),
        "histogram": told(lambda: histogram_of(later(), changed()), net),
        "patches": told(patches),
        "lines": told(lambda: lines_of(later(), changed())),
        "stayed": lambda: classes(stayed_map(later(), changed()), "ground that stayed"),
        "record": told(lambda: _record(settings, inputs, later(), findings, reckoned.said), "record"),
    }


def _record(
    settings: SurveyChangeSettings, inputs: Inputs, after: Surface, findings: tuple[Finding, ...],
    said: tuple[str, ...],
) -> Any:  # fmt: skip
    names = [("before", "survey before"), ("after", "survey after"), ("area", "outlines")]
    names += [
        ("stable", "ground that stayed"),
        ("spread_before", "error before"),
        ("spread_after", "error after"),
    ]
    area = optional(inputs, "area", Shapes)
    drawn = np.empty(0, object) if area is None else in_system(area, after.frame.crs).geometry
    asked = [
        *origin_rows(inputs, names), *setting_rows(settings, type(settings).listed()), *frame_rows(after),
        *corner_rows(after, drawn),
    ]  # fmt: skip
    return record_table(asked, findings, said)


def changed(settings: SurveyChangeSettings, inputs: Inputs, before: Surface, after: Surface) -> Change:
    """Changes between both surveys, without an offset where one is to be taken out.

    Raises MossError where they have no height in common.
    """
    metres = after.metres_per_height
    heights, said = laid_on(before, after)
    apart = height_references(before.frame, after.frame)
    if apart and settings.offset == "none":
        raise AskedWronglyError(
            f"The surveys state other references of height: {apart}.",
            "Bring one to the other's reference, or take out a mean on ground that stayed.",
        )
    if apart:
        said.append(f"The surveys state other references of height: {apart}. What that adds is taken out.")
    off = row_by_row(lambda a, b: (a.astype(np.float64) - b) * metres, np.float64, after.values, heights)
    area, shares = optional(inputs, "area", Shapes), None
    if area is not None:
        shares = Outline(after.frame, shapely.union_all(in_system(area, after.frame.crs).geometry)).shares()
    stayed = _stayed(settings, inputs, after, off, shares)
    offset = None
    if stayed is None and settings.offset != "none":
        raise AskedWronglyError(
            "An offset is told on ground that stayed, and none is given.",
            "Take areas that did not move, or let them be proposed.", "Give stable=... or stayed=proposed",
        )  # fmt: skip
    if stayed is not None:
        offset, off = _without_offset(settings.offset, before, after, heights, stayed)
        if settings.offset == "none":
            said.append(f"On ground that stayed the surveys differ by {offset.spread:.3f} m (spread).")
        else:
            said.append(f"An offset told by {offset.cells:,} cells of ground that stayed was taken out.")
    brought = row_by_row(lambda a, o: a - o / metres, after.values.dtype, after.values, off)
    known = False
    for rows in blocks_of(off):
        if shares is not None:
            off[rows][shares[rows] <= 0.0] = np.nan
            let_go(shares)
        known = known or bool(np.isfinite(off[rows]).any())
        let_go(off)
    check_known(known)
    counted = counted_as(settings, _spread(settings, inputs, after), shares)
    return Change(off, brought, counted, stayed, offset, tuple(dict.fromkeys(said)))


def check_known(known: bool) -> None:
    """Raise MossError where no change is known."""
    if not known:
        raise MossError("Both surveys have no height in common there.", "Take surveys of the same ground.")


def counted_as(settings: SurveyChangeSettings, spread: np.ndarray, shares: np.ndarray | None) -> Counted:
    """Which changes count, with these spreads and shares of cells."""
    return Counted(spread, quantile(settings.probability), settings.too_small == "counted", shares)


def _stayed(
    settings: SurveyChangeSettings, inputs: Inputs, after: Surface, off: np.ndarray, shares: np.ndarray | None
) -> np.ndarray | None:
    """Cells of ground that stayed, as given or proposed; None for none."""
    stable = optional(inputs, "stable", Shapes)
    if stable is not None:
        areas, frame = in_system(stable, after.frame.crs), after.frame
        stayed = grid_beside(after.values, bool)
        for rows in blocks_of(stayed):
            stayed[rows] = cells_inside(frame.part(rows, slice(0, frame.cols)), areas)
            let_go(stayed)
        return stayed
    if settings.stayed == "drawn":
        return None
    if is_mapped(after):
        check_memory(_MEDIAN * off.size, "Proposing ground that stayed", "Draw ground that stayed.")
    if shares is None:
        return stayed_by_change(off, grid_beside(after.values, bool, True))
    return stayed_by_change(off, row_by_row(lambda some: some <= 0.0, bool, shares))


def _spread(settings: SurveyChangeSettings, inputs: Inputs, after: Surface) -> np.ndarray:
    """Standard error of a change in metres, of each cell, or of all (1, 1)."""
    given = (("spread_before", settings.error_before), ("spread_after", settings.error_after))
    alike, by_place = 0.0, list[np.ndarray]()
    for name, number in given:
        surface = optional(inputs, name, Surface)
        if surface is None:
            alike += number**2
        else:
            by_place.append(_squares(surface, after))
    if not by_place:
        return spread_alike(settings)
    return row_by_row(lambda *some: np.sqrt(sum(some, start=alike)), np.float64, *by_place)


def spread_alike(settings: SurveyChangeSettings) -> np.ndarray:
    """Standard error of all changes (1, 1) in metres, where both surveys' are alike everywhere."""
    return np.full((1, 1), np.sqrt(0.0 + settings.error_before**2 + settings.error_after**2))


def _squares(surface: Surface, after: Surface) -> np.ndarray:
    """Squared standard errors by place, in square metres. Where no error is known it is the largest that is:
    nothing seems surer than it is.
    """
    heights, _ = laid_on(surface, after)
    metres, found = after.metres_per_height, summarise(heights)
    if found.low < 0:
        raise MossError(
            "An error is below 0: that surface holds no standard errors.", "Take the error of a method."
        )

    def squares(some: np.ndarray) -> np.ndarray:
        return np.nan_to_num(some.astype(np.float64) * metres, nan=found.high * metres) ** 2

    return row_by_row(squares, np.float64, heights)


def _without_offset(
    way: Way, before: Surface, after: Surface, heights: np.ndarray, stayed: np.ndarray
) -> tuple[Offset, np.ndarray]:
    """The offset of the later survey, and the change in metres without it."""
    frame, metres = after.frame, after.metres_per_height
    if is_mapped(after):
        cells = sum(int(np.count_nonzero(stayed[rows])) for rows in blocks_of(stayed))
        check_memory(_OFFSET * cells, "Telling an offset", "Draw less ground that stayed.")
    offset = offset_of(heights, after.values, stayed, frame, way, metres)
    if way == "shift":
        offset, heights = _settled(offset, before, after, stayed)
    cols = np.arange(frame.cols) + 0.5
    out = grid_beside(after.values, np.float64)
    for some in blocks_of(out):
        top, below = (v[some].astype(np.float64) * metres for v in (after.values, heights))
        rows = np.arange(some.start, some.stop)[:, None] + 0.5
        out[some] = top - below - (offset.up + offset.by_column * cols + offset.by_row * rows)
        let_go(out, after.values, heights)
    return offset, out


def _settled(
    offset: Offset, before: Surface, after: Surface, stayed: np.ndarray
) -> tuple[Offset, np.ndarray]:
    """A shift found round by round, for the ground is straight over short ways only; and the heights of the
    earlier survey, moved by it.
    """
    own, (wide, high) = before.frame, before.frame.cell_metres
    for _ in range(_ROUNDS):
        x0, y0 = own.x0 + offset.east / wide * own.dx, own.y0 + offset.north / high * own.dy
        moved, _said = laid_on(replace(before, frame=replace(own, x0=x0, y0=y0)), after)
        more = offset_of(moved, after.values, stayed, after.frame, "shift", after.metres_per_height)
        if np.hypot(more.east, more.north) < _SETTLED * min(after.frame.cell_metres):
            break
        offset = replace(more, east=offset.east + more.east, north=offset.north + more.north)
    return replace(more, east=offset.east, north=offset.north), moved


def findings_of(settings: SurveyChangeSettings, frame: Frame, change: Change, sums: Sums) -> list[Finding]:
    """What went and what came, each with what it may be off."""
    cell, sure = float(frame.row_areas.mean()), quantile(settings.probability)

    def give_or_take(one: float, two: float) -> float:
        return sure * volume_error(one, two, cell, settings.reach)

    found = [
        Finding(_LOWERED, sums.lowered, CUBIC_METRE), Finding(_RAISED, sums.raised, CUBIC_METRE),
        Finding(_NET, sums.raised - sums.lowered, CUBIC_METRE),
        Finding(_LOWERED_ERROR, give_or_take(sums.lowered_one, sums.lowered_two), CUBIC_METRE),
        Finding(_RAISED_ERROR, give_or_take(sums.raised_one, sums.raised_two), CUBIC_METRE),
        Finding(_NET_ERROR, give_or_take(sums.all_one, sums.all_two), CUBIC_METRE),
        Finding(_LEAST, sure * _mean_spread(change), METRE),
        Finding(_LOWERED_AREA, sums.lowered_area, SQUARE_METRE),
        Finding(_RAISED_AREA, sums.raised_area, SQUARE_METRE),
        Finding(_BELOW, 1.0 - sums.told / sums.whole, SHARE),
        Finding(_SMALL_LOWERED, sums.small_lowered, CUBIC_METRE),
        Finding(_SMALL_RAISED, sums.small_raised, CUBIC_METRE),
    ]  # fmt: skip
    if change.offset is not None:
        o = change.offset
        found += [
            Finding(_UP, o.up, METRE), Finding(_EAST, o.east, METRE), Finding(_NORTH, o.north, METRE),
            Finding(_SPREAD, o.spread, METRE),
        ]  # fmt: skip
    return found


def _mean_spread(change: Change) -> float:
    """Mean standard error of the changes that are known, in metres."""
    spread = change.counted.spread
    if spread.size == 1:
        return float(spread[0, 0])
    total, count = list[np.ndarray](), 0
    for rows in blocks_of(change.off):
        known = np.isfinite(change.off[rows])
        total.append(np.where(known, spread[rows], 0.0).sum(axis=1))
        count += int(np.count_nonzero(known))
        let_go(change.off, spread)
    return float(np.concatenate(total).sum()) / count


def _simulated(
    settings: SurveyChangeSettings, after: Surface, change: Change, progress: Progress
) -> list[Finding]:
    """What volumes are off in surveys whose errors are drawn by chance."""
    if settings.simulated < 1:
        return []
    if settings.simulated < _FEWEST:
        raise AskedWronglyError(
            f"{settings.simulated} surveys say too little.", f"Simulate {_FEWEST} or more."
        )
    change.check_at_once("Simulating surveys")
    field = Field(after.frame, settings.reach, settings.seed)
    found = simulate(change.off, after.frame, change.counted, field, settings.simulated, progress)
    widths = found.within(settings.probability)
    return [Finding(n, w, CUBIC_METRE) for n, w in zip(_SIMULATED, widths, strict=True)]


def _label(settings: SurveyChangeSettings, names: Mapping[str, str]) -> str:
    return f"Change from {names['before']} to {names['after']}"


survey_change = StepKind(
    kind="survey_change",
    example="error_before=0.1 error_after=0.1",
    bench="earthwork",
    group="Change",
    title="Change between surveys",
    question="What moved between two surveys, and how sure is it?",
    help=(
        "What went and what came, each with what it may be off. An offset is told on ground that stayed."
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
        InputSpec(
            "spread_before", "surface", "Error before", "Standard errors by place, as kriging tells.",
            True, more=True,
        ),
        InputSpec(
            "spread_after", "surface", "Error after", "Standard errors by place, as kriging tells.",
            True, more=True,
        ),
    ),
    settings=SurveyChangeSettings,
    gives="surface",
    run=_survey_change,
    maps=True,
    memory=lambda s, inputs: 90.0 * as_kind(inputs["after"], Surface).values.size + 1e6,
    label=_label,
    look={"ramp": "earth", "reverse": True, "centre": 0.0},
    main="Change of height",
    records=True,
    between=(".brought", "after"),
    beside=(
        ResultSpec(
            "brought", "surface", "Before, brought over",
            "The earlier survey at the cells of the later one, without an offset.", {"ramp": "upland"},
        ),
        ResultSpec("surely", "classes", "Told apart", "Lowered, raised, and too small to tell."),
        ResultSpec("histogram", "chart", "Volume by change", "How much moved by how much."),
        ResultSpec("patches", "shapes", "Patches", "Each patch of change with its volume.", asked=True),
        ResultSpec("lines", "shapes", "Equal change", "Lines of equal change.", asked=True),
        ResultSpec("stayed", "classes", "Ground that stayed", "As it was given, or proposed.", asked=True),
        ResultSpec("record", "table", "Record", "What was asked and found, with the time of the reckoning."),
    ),
    staple=1,
)  # fmt: skip

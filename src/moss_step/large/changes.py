"""Changes between two surveys that lie cell on cell on the disk: strip by strip, each of which adds up its
rows and writes what changed.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, cached_property, partial
from typing import Any, NamedTuple

import numpy as np
import shapely

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.vector import in_system
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk, taken_over
from moss_step.large.kept_strips import Found, Kept, lies_on, meeting, strips_in, surface_around
from moss_step.large.meeting import seen_here
from moss_step.large.passing import Passing
from moss_step.large.telling import like, one_cell
from moss_step.large.tiling import Tile, within
from moss_step.large.whole import Fed, Told
from moss_step.model.arrays import Relief
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.summary import summarise, together
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind, of_kind
from moss_step.science.earthwork.change import rows_added_up, sums_of
from moss_step.science.earthwork.kernels.changes import SUMS
from moss_step.science.earthwork.meeting import height_references
from moss_step.science.earthwork.outline import Outline
from moss_step.steps.survey_change import (
    Reckoned,
    SurveyChangeSettings,
    beside_of,
    changed,
    check_known,
    counted_as,
    figure_of,
    findings_of,
    spread_alike,
)
from moss_step.steps.survey_results import Change, shown


@dataclass(frozen=True)
class Surveys:
    """Both surveys, what is asked, and the areas in which change counts; everywhere where there are none."""

    before: OnDisk
    after: OnDisk
    settings: SurveyChangeSettings
    areas: Shapes | None

    @cached_property
    def frame(self) -> Frame:
        """Where both lie."""
        return self.after.frame

    def outline(self) -> Outline | None:
        """All areas as one outline.

        Raises MossError for what is no clean area, or lies beyond the ground.
        """
        if self.areas is None:
            return None
        return Outline(self.frame, shapely.union_all(in_system(self.areas, self.frame.crs).geometry))


class Strip(NamedTuple):
    """Both surveys in a strip, and what is wrong with their files there."""

    before: Surface
    after: Surface
    wrong: tuple[str, ...]


class ChangeWork(Work):
    """Adds up the rows of changes in strips, and writes those that count."""

    side_by_side = True

    def __init__(self, asked: Surveys, kept: Kept) -> None:
        self.asked, self.kept = asked, kept
        self._before, self._after = (
            Once(partial(GridReader, held.source)) for held in (asked.before, asked.after)
        )
        self._outline = Once(asked.outline)

    def read(self, tile: Tile) -> Strip | Found:
        """Both surveys, or what an earlier run found."""
        kept = self.kept.load(tile)
        if kept is not None:
            return kept
        before, lost = self.asked.before.part(self._before.get(), tile.rows, tile.cols)
        after, missing = self.asked.after.part(self._after.get(), tile.rows, tile.cols)
        wrong = tuple(w for w in (lost, missing) if w)
        return Strip(as_kind(before, Surface), as_kind(after, Surface), wrong)

    def work_out(self, tile: Tile, strip: Strip | Found) -> tuple[Found, np.ndarray | None]:
        """Sums of rows, and the changes that count."""
        if isinstance(strip, Found):
            return strip, None
        out = np.empty(strip.after.values.shape, np.float32)
        lines = [np.empty((0, SUMS))]
        for some in blocks_of(out):
            rows = slice(tile.top + some.start, tile.top + some.stop)
            change, after = self._change(strip, some, rows)
            lines.append(rows_added_up(change.off, self.asked.frame.row_areas[rows], change.counted))
            out[some] = shown(after, change).values
        return Found(np.concatenate(lines), Relief(), summarise(out), strip.wrong), out

    def _change(self, strip: Strip, some: slice, rows: slice) -> tuple[Change, Surface]:
        """Changes of some rows of a strip, which are ``rows`` of the ground."""
        frame, outline, shares = self.asked.frame, self._outline.get(), None
        after = Surface(strip.after.values[some], frame.part(rows, slice(0, frame.cols)), strip.after.unit)
        off = (after.values.astype(np.float64) - strip.before.values[some]) * after.metres_per_height
        if outline is not None:
            shares = np.zeros(off.shape)
            own, cols = meeting(outline, rows)
            shares[within(own, rows), cols] = outline.own_shares(own)
            off[shares <= 0.0] = np.nan
        settings = self.asked.settings
        counted = counted_as(settings, spread_alike(settings), shares)
        return Change(off, off, counted, None, None, ()), after

    def finish(self, tile: Tile, _: Strip | Found, made: tuple[Found, np.ndarray | None]) -> Found:
        """Write and keep them, unless something of the strip could not be read."""
        return self.kept.written(tile, *made)


@dataclass(frozen=True)
class ChangeJob:
    """Changes between two surveys; ``fed`` tell where they came from."""

    asked: Surveys
    fed: Fed
    besides: bool = True

    @property
    def frame(self) -> Frame:
        """Where both surveys lie."""
        return self.asked.frame

    @property
    def like(self) -> Surface:
        """Changes in single precision."""
        return one_cell(self.frame, as_kind(like(self.asked.after), Surface).unit, "difference")

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Add up strip by strip, and put together."""
        asked, settings = self.asked, self.asked.settings
        asked.outline()  # what is wrong with it is said once
        named = {"before": asked.before, "after": asked.after, "area": asked.areas}
        kept = strips_in(folder, self.frame, cells, target, ("changes", settings), named)
        each = crew.each(ChangeWork(asked, kept), list(kept.scratch.tiling), progress, "Adding up changes")
        done = [found for _, found in sorted(each, key=lambda d: d[0])]
        sums = sums_of(np.concatenate([found.lines for found in done]))
        check_known(sums.whole > 0.0)
        none = np.empty((0, 0))
        change = Change(none, none, counted_as(settings, spread_alike(settings), None), None, None, ())
        reckoned = Reckoned(sums, tuple(findings_of(settings, self.frame, change, sums)), ())
        wrong = tuple(dict.fromkeys(w for found in done for w in found.wrong))
        summary = together([found.summary for found in done])
        return Told(
            reckoned.findings, (), wrong=wrong, summary=summary, figure=figure_of(sums),
            beside=self._beside(reckoned, progress.part(1.0, 1.0)),
        )  # fmt: skip

    def _beside(self, reckoned: Reckoned, progress: Progress) -> dict[str, Callable[[], Outcome]]:
        """What stands beside the changes, of both surveys mapped; the record needs the corners of areas."""
        whole, asked = (slice(0, self.frame.rows), slice(0, self.frame.cols)), self.asked
        fed: dict[str, Value] = {} if asked.areas is None else {"area": asked.areas}

        def survey(held: OnDisk) -> Surface:
            return as_kind(taken_over(seen_here(held), whole, True, progress), Surface)

        later = cache(partial(survey, asked.after))

        @cache
        def change() -> Change:
            return changed(asked.settings, fed, survey(asked.before), later())

        def corners() -> Surface:
            areas = asked.areas or Shapes(np.empty(0, object), {}, self.frame.crs)
            places = shapely.get_coordinates(in_system(areas, self.frame.crs).geometry)
            return surface_around(asked.after, whole, places, progress)

        made = beside_of(asked.settings, self.fed, reckoned, later, change)
        record = beside_of(asked.settings, self.fed, reckoned, corners, change)["record"]
        return {**made, "record": record}


def changes(fed: Fed, settings: SurveyChangeSettings) -> ChangeJob | None:
    """Changes between surveys in single precision that lie cell on cell in one unit, with errors that are
    alike everywhere and no offset. All else goes another way.
    """
    before, after, area = (fed.get(name) for name in ("before", "after", "area"))
    areas = None if area is None or isinstance(area, OnDisk | Passing) else of_kind(area, Shapes)
    plain = settings.offset == "none" and settings.stayed == "drawn" and settings.simulated == 0
    apart = {"stable", "spread_before", "spread_after"}.intersection(fed)
    if not (isinstance(before, OnDisk) and isinstance(after, OnDisk)) or not plain or apart:
        return None
    if (area is not None and areas is None) or not lies_on(before, after) or not _in_order(settings):
        return None
    if height_references(before.frame, after.frame):
        return None
    return ChangeJob(Surveys(before, after, settings, areas), fed)


def _in_order(settings: Any) -> bool:
    return not (settings.before_date and settings.after_date) or settings.before_date <= settings.after_date

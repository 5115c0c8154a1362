"""Viewsheds in tiles: observer by observer, where each looks over what lies within its reach, else by bands
of rays over the whole ground; then what all of them see is counted tile by tile. The single views are kept:
a run that was killed goes on with those that are missing.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import reduce
from operator import add
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.overlook import (
    FromOne,
    Overlook,
    Read,
    Standing,
    lanes,
    observed_on,
    overlooked,
    standing_on,
)
from moss_step.large.scratch import Scratch, scratch_in
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, bands, widened, within
from moss_step.large.whole import Fed, Told
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame, check_same_frame
from moss_step.model.mapped import too_large
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import NONE
from moss_step.science.sight.looking import Post, post_of, seen_in_rows, window_within
from moss_step.science.sight.observer import Observer, cell_of, prepare_sight
from moss_step.science.sight.viewshed import (
    TOLD_EACH,
    check_observers,
    counted_areas,
    figures_of,
    seen_by_row,
    view_of,
)
from moss_step.steps.observers import sentence, stated
from moss_step.steps.results import surface_outcome, unweighted_told
from moss_step.steps.sight import seen_told, told_apart, twice_told
from moss_step.steps.sight_weights import PartSeen, Weighed, weigh, weight_findings
from moss_step.study.told import Said, merged, said_by

_SHARE, _BYTES = 0.5, 24
"""Share of a ground from which it is not looked at observer by observer; bytes a cell of a view. The next one
is read meanwhile.
"""
Seen = tuple[np.ndarray, str]
"""Cells that are seen and asked for in each row of a view, and what is wrong with the ground."""


class ViewWork(Work):
    """Looks from observers; the place of a tile among the tiles is that of its observer."""

    def __init__(self, standing: Standing, observers: Mapping[int, Observer], kept: Kept) -> None:
        self.standing, self.observers, self.kept = standing, dict(observers), kept
        self._readers = Once(standing.readers)

    def for_tile(self, tile: Tile) -> ViewWork:
        """What one observer needs."""
        return ViewWork(self.standing, {tile.row: self.observers[tile.row]}, self.kept)

    def read(self, tile: Tile) -> Read:
        """The ground within reach."""
        return self.standing.read(self._readers.get(), tile)

    def work_out(self, tile: Tile, read: Read) -> np.ndarray:
        """What is seen, as ``seen_by`` gives it."""
        out = np.full((tile.bottom - tile.top, tile.right - tile.left), 2, np.uint8)
        if not read.wrong:
            settings = self.standing.settings
            sight = prepare_sight(*self.standing.top(read), settings.curvature, settings.refraction)
            seen = view_of(sight, self.observers[tile.row])
            out[seen.rows, seen.cols] = seen.view
        return out

    def finish(self, tile: Tile, read: Read, view: np.ndarray) -> Seen:
        """Keep the view."""
        return self.kept.keep(tile, view, read.wrong), read.wrong


class LaneWork(FromOne):
    """Looks from one observer over lanes of a ground that was made ready; the second place of a tile is
    that of its lane.
    """

    def __init__(self, over: Overlook, post: Post, kept: Kept, wrong: str) -> None:
        super().__init__(over, post)
        self.kept, self.wrong = kept, wrong

    def read(self, tile: Tile) -> None:
        """Nothing: all of the ground is mapped."""

    def work_out(self, tile: Tile, read: None) -> np.ndarray:
        """What is seen, as ``seen_by`` gives it."""
        return self.look(seen_in_rows, (tile.top, tile.bottom))

    def finish(self, tile: Tile, read: None, view: np.ndarray) -> Seen:
        """Keep it; ``wrong`` is what could not be read of the ground."""
        return self.kept.keep(tile, view, self.wrong), self.wrong


@dataclass(frozen=True)
class Kept:
    """Where views are kept, and under which name."""

    scratch: Scratch
    name: str

    @property
    def views(self) -> str:
        """What the cells that are seen lie under."""
        return f"view-{self.name}"

    @property
    def _figures(self) -> str:
        return f"seen-{self.name}"

    def keep(self, tile: Tile, view: np.ndarray, wrong: str) -> np.ndarray:
        """Keep a view, to be looked for again where something was wrong; gives its figures by row."""
        in_row = seen_by_row(view)
        self.scratch.save(self.views, tile, np.packbits(view == 1, axis=1))
        if not wrong:
            self.scratch.save(self._figures, tile, in_row)
        return in_row

    def figures(self, tile: Tile) -> np.ndarray | None:
        """Figures of a view by row; None where it was not kept."""
        if not (self.scratch.has(self._figures, tile) and self.scratch.has(self.views, tile)):
            return None
        return self.scratch.load(self._figures, tile)


class Counted(NamedTuple):
    """What is said of a tile: cells and square metres by number of observers, cells that have a height and
    those of them without a weight, what the others weigh, and what is wrong with the ground.
    """

    said: Said
    numbers: np.ndarray
    areas: np.ndarray
    cells: int
    without: int
    weighed: Weighed | None
    wrong: tuple[str, ...]


class Under(NamedTuple):
    """What lies under a tile: where there is a height, weights, and what is wrong with the files."""

    ground: np.ndarray
    weights: np.ndarray | None
    wrong: tuple[str, ...]


class CountWork(Work):
    """Counts in tiles how many see each cell, and weighs them."""

    side_by_side = True

    def __init__(
        self, job: ViewJob, views: Sequence[Tile], kept: Kept, most: int, target: TiledFile | None
    ) -> None:
        self.job, self.views, self.kept, self.most, self.target = job, list(views), kept, most, target
        self._readers = Once(job.readers)

    def for_tile(self, tile: Tile) -> CountWork:
        """What one tile needs: the views that meet it."""
        meet = [v for v in self.views if _meets(v, tile)]
        return CountWork(self.job, meet, self.kept, self.most, self.target)

    def read(self, tile: Tile) -> Under:
        """Where the ground has a height, and weights."""
        readers = self._readers.get()
        parts = {n: held.part(readers[n], tile.rows, tile.cols) for n, held in self.job.grids.items()}
        values = {n: as_kind(part, Surface).values for n, (part, _) in parts.items()}
        wrong = tuple(wrong for _, wrong in parts.values() if wrong)
        return Under(~np.isnan(values["dem"]), values.get("weights"), wrong)

    def work_out(self, tile: Tile, read: Under) -> tuple[Surface, Weighed | None]:
        """Numbers of observers, NaN where there is no height; what they see of the weights."""
        count = np.zeros(read.ground.shape, np.uint16)
        for _, here, hit in self._seen(tile):
            count[here] += hit
        values = np.where(read.ground, count, np.float32(np.nan)).astype(np.float32)
        weighed = None
        if read.weights is not None:
            weighed = weigh(read.weights, values, self._seen(tile), self.most - 1, self.job.weighed_by)
        return Surface(values, self.job.frame.part(tile.rows, tile.cols), NONE, "seen"), weighed

    def _seen(self, tile: Tile) -> Iterator[PartSeen]:
        """What single observers see of a tile."""
        for view in self.views:
            if _meets(view, tile):
                rows = slice(max(view.top, tile.top), min(view.bottom, tile.bottom))
                cols = slice(max(view.left, tile.left), min(view.right, tile.right))
                packed = self.kept.scratch.rows_of(self.kept.views, view, within(rows, view.rows))
                hit = np.unpackbits(packed, axis=1, count=view.right - view.left)[:, within(cols, view.cols)]
                here = within(rows, tile.rows), within(cols, tile.cols)
                yield PartSeen(view.row, here, hit.astype(bool))

    def finish(self, tile: Tile, read: Under, found: tuple[Surface, Weighed | None]) -> Counted:
        """Write them."""
        seen, weighed = found
        if self.target is not None:
            self.target.write(tile.rows, tile.cols, seen.values)
        numbers, areas = counted_areas(seen, self.most)
        said = said_by(replace(surface_outcome(seen), findings=()))
        without = 0 if read.weights is None else np.count_nonzero(np.isnan(read.weights) & read.ground)
        cells = int(np.count_nonzero(read.ground))
        return Counted(said, numbers, areas, cells, int(without), weighed, read.wrong)


def _meets(view: Tile, tile: Tile) -> bool:
    return (
        view.top < tile.bottom
        and tile.top < view.bottom
        and view.left < tile.right
        and tile.left < view.right
    )


@dataclass(frozen=True)
class ViewJob:
    """How many observers see each cell of a ground: each looks over what lies within its ``reach``, or all
    over the whole ground.
    """

    standing: Standing
    weights: OnDisk | None
    observers: tuple[Observer, ...]
    within_reach: bool
    besides: bool = True

    @property
    def grid(self) -> OnDisk:
        """The ground."""
        return self.standing.dem

    @property
    def settings(self) -> Any:
        """Settings of the step."""
        return self.standing.settings

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""
        return self.grid.frame

    @property
    def like(self) -> Surface:
        """Numbers of observers."""
        cell = as_kind(like(self.grid), Surface)
        return Surface(np.zeros((1, 1), np.float32), cell.frame, NONE, "seen")

    @property
    def weighed_by(self) -> int:
        """For how many observers it is told what each sees of the weights."""
        return len(self.observers) if len(self.observers) <= TOLD_EACH else 0

    @property
    def grids(self) -> dict[str, OnDisk]:
        """The ground and the weights."""
        return {"dem": self.grid} | ({} if self.weights is None else {"weights": self.weights})

    def readers(self) -> dict[str, GridReader]:
        """What reads them."""
        return {n: GridReader(held.source) for n, held in self.grids.items()}

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Look from each, and count."""
        tiling = bands(self.frame.shape, cells)
        kept = Kept(scratch_in(folder, tiling), self.standing.name_with(self.observers))
        look = self._each_over_its_own if self.within_reach else self._over_all
        each, wrong = look(crew, kept, folder, cells, progress.part(0.0, 0.8))
        count = CountWork(self, sorted(each), kept, told_apart(self.observers) + 1, target)
        done = crew.each(count, list(tiling), progress.part(0.8, 1.0), "Counting")
        parts = [c for _, c in sorted(done, key=lambda d: d[0])]
        return self._told(parts, each, wrong)

    def _each_over_its_own(
        self, crew: Crew, kept: Kept, _: Place, __: int, progress: Progress
    ) -> tuple[dict[Tile, np.ndarray], list[str]]:
        """Figures of views, and what was wrong with the ground."""
        frame, views = self.frame, list[Tile]()
        for k, observer in enumerate(self.observers):
            rows, cols = window_within(frame, cell_of(frame, observer), observer.reach)
            rows, cols = (widened(s, 1, n) for s, n in zip((rows, cols), frame.shape, strict=True))
            views.append(Tile(k, 0, rows.start, rows.stop, cols.start, cols.stop))
        each, waiting = _parted(kept, views)
        work, wrong = ViewWork(self.standing, dict(enumerate(self.observers)), kept), list[str]()
        for view, (in_row, what) in crew.each(work, waiting, progress, "Looking around"):
            each[view] = in_row
            wrong.append(what)
        return each, wrong

    def _over_all(
        self, crew: Crew, kept: Kept, folder: Place, cells: int, progress: Progress
    ) -> tuple[dict[Tile, np.ndarray], list[str]]:
        """The same, lane by lane from one observer after another."""
        frame, views = self.frame, list[Tile]()
        across = lanes(frame.shape, cells)
        for k, observer in enumerate(self.observers):
            reach, _ = window_within(frame, cell_of(frame, observer), observer.reach)
            for lane in across.meeting(reach, slice(0, frame.cols)):
                top, bottom = max(lane.top, reach.start), min(lane.bottom, reach.stop)
                views.append(Tile(k, lane.row, top, bottom, 0, frame.cols))
        each, waiting = _parted(kept, views)
        if not waiting:
            return each, []
        with overlooked(self.standing, folder, cells, crew, progress.part(0.0, 0.1)) as (over, wrong):
            sight, looking = over.sight(), progress.part(0.1, 1.0)
            posts = [post_of(sight, observer) for observer in self.observers]
            asked = sorted({v.row for v in waiting})
            for n, k in enumerate(asked):
                part = looking.part(n / len(asked), (n + 1) / len(asked))
                over.send_rays(crew, posts[k], part.part(0.0, 0.3))
                own = [v for v in waiting if v.row == k]
                work = LaneWork(over, posts[k], kept, " ".join(wrong))
                for view, (in_row, _) in crew.each(work, own, part.part(0.3, 1.0), "Looking around"):
                    each[view] = in_row
        return each, list(wrong)

    def _told(
        self, parts: Sequence[Counted], each: Mapping[Tile, np.ndarray], damaged: Sequence[str]
    ) -> Told:
        cells = sum(p.cells for p in parts)
        if cells == 0:
            raise MossError("The ground holds no values.", "Choose another ground.")
        counted = np.sum([p.numbers for p in parts], axis=0), np.sum([p.areas for p in parts], axis=0)
        figures = []
        for k in range(len(self.observers)):
            own = sorted(v for v in each if v.row == k)
            areas = self.frame.row_areas[own[0].top : own[-1].bottom]
            figures.append(figures_of(np.concatenate([each[v] for v in own]), areas))
        weighed = list[Finding]()
        if self.weights is not None:
            together = reduce(add, (as_kind(p.weighed, Weighed) for p in parts))
            unit = as_kind(like(self.weights), Surface).unit
            weighed = weight_findings(together, unit, self.observers[: self.weighed_by])
        figure, findings = seen_told(self.observers, counted, cells, figures, weighed)
        remarks = (
            sentence(self.settings), *stated(self.settings, self.standing.shapes),
            *unweighted_told(sum(p.without for p in parts)), *twice_told(self.observers),
        )  # fmt: skip
        wrong = tuple(dict.fromkeys(w for w in (*damaged, *(w for p in parts for w in p.wrong)) if w))
        summary = merged([p.said for p in parts])[2]
        return Told(findings, remarks, wrong=wrong, summary=summary, figure=figure)


def _parted(kept: Kept, views: Sequence[Tile]) -> tuple[dict[Tile, np.ndarray], list[Tile]]:
    """Figures of views that an earlier run has kept, and those that wait."""
    found = {view: kept.figures(view) for view in views}
    each = {view: figures for view, figures in found.items() if figures is not None}
    return each, [view for view in views if view not in each]


def viewshed(fed: Fed, settings: Any) -> ViewJob | None:
    """How many see each cell of a ground on the disk; observer by observer, where each looks over a part of
    it.
    """
    given = standing_on(fed, settings, {"weights"})
    if given is None:
        return None
    standing, weights = given, fed.get("weights")
    if weights is not None and not isinstance(weights, OnDisk):
        return None
    if weights is not None:
        check_same_frame(weights.frame, standing.dem.frame, "The weights and the ground")
    observers = observed_on(fed, settings, standing)
    check_observers(len(observers))
    apart = all(_looks_over_a_part(standing.dem.frame, observer) for observer in observers)
    if not apart and standing.afar:
        return None
    return ViewJob(standing, weights, observers, apart)


def _looks_over_a_part(frame: Frame, observer: Observer) -> bool:
    cell = cell_of(frame, observer)
    if not math.isfinite(observer.reach):
        return False
    rows, cols = window_within(frame, cell, observer.reach)
    own = (rows.stop - rows.start) * (cols.stop - cols.start)
    return own <= _SHARE * frame.rows * frame.cols and not too_large(2 * _BYTES * own)

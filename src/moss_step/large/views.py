"""Viewsheds by observer: each looks over what lies within its reach, and what all of them see is counted tile
by tile. The single views are kept: a run that was killed goes on with those that are missing.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, NamedTuple

import numpy as np
from blake3 import blake3

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.passing import Passing
from moss_step.large.scratch import Scratch, scratch_in
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, bands, widened, within
from moss_step.large.whole import Fed, Told
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import too_large
from moss_step.model.outcome import Value
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import NONE
from moss_step.science.sight.looking import window_within
from moss_step.science.sight.observer import Observer, cell_of, prepare_sight
from moss_step.science.sight.viewshed import check_observers, counted_areas, view_of
from moss_step.steps.observers import observers_of, sentence, stated
from moss_step.steps.results import surface_outcome
from moss_step.steps.sight import seen_told, told_apart, twice_told
from moss_step.study.declared import as_part
from moss_step.study.told import Said, merged, said_by

_SHARE, _BYTES = 0.5, 24
"""Share of a ground from which it is not looked at observer by observer; bytes a cell of a view. The next one
is read meanwhile.
"""


class ViewWork(Work):
    """Looks from observers; the place of a tile among the tiles is that of its observer."""

    def __init__(self, held: OnDisk, settings: Any, observers: Mapping[int, Observer], kept: Kept) -> None:
        self.held, self.settings, self.observers, self.kept = held, settings, dict(observers), kept
        self._reader = Once(partial(GridReader, held.source))

    def for_tile(self, tile: Tile) -> ViewWork:
        """What one observer needs."""
        return ViewWork(self.held, self.settings, {tile.row: self.observers[tile.row]}, self.kept)

    def read(self, tile: Tile) -> tuple[Surface, str]:
        """The ground within reach, and what is wrong with its file."""
        part, wrong = self.held.part(self._reader.get(), tile.rows, tile.cols)
        return as_kind(as_part(part, self.held.base), Surface), wrong

    def work_out(self, tile: Tile, read: tuple[Surface, str]) -> tuple[np.ndarray, np.ndarray]:
        """Cells that are seen, packed; how many are seen and asked for, and square metres seen."""
        dem, wrong = read
        shape = tile.bottom - tile.top, tile.right - tile.left
        if wrong:
            return np.packbits(np.zeros(shape, bool), axis=1), np.zeros(3)
        sight = prepare_sight(dem, None, self.settings.curvature, self.settings.refraction)
        seen, hit = view_of(sight, self.observers[tile.row]), np.zeros(shape, bool)
        hit[seen.rows, seen.cols] = seen.view == 1
        return np.packbits(hit, axis=1), np.array([seen.seen, seen.asked, seen.area])

    def finish(
        self, tile: Tile, read: tuple[Surface, str], found: tuple[np.ndarray, np.ndarray]
    ) -> tuple[np.ndarray, str]:
        """Keep the view."""
        self.kept.scratch.save(self.kept.views, tile, found[0])
        if not read[1]:
            self.kept.scratch.save(self.kept.figures, tile, found[1])
        return found[1], read[1]


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
    def figures(self) -> str:
        """What the figures of a view lie under."""
        return f"seen-{self.name}"


class Counted(NamedTuple):
    """What is said of a tile: cells and square metres by number of observers, cells that have a height, and
    what is wrong with the ground.
    """

    said: Said
    numbers: np.ndarray
    areas: np.ndarray
    cells: int
    wrong: str


class CountWork(Work):
    """Counts in tiles how many see each cell."""

    side_by_side = True

    def __init__(
        self, held: OnDisk, views: Sequence[Tile], kept: Kept, most: int, target: TiledFile | None
    ) -> None:
        self.held, self.views, self.kept, self.most, self.target = held, list(views), kept, most, target
        self._reader = Once(partial(GridReader, held.source))

    def for_tile(self, tile: Tile) -> CountWork:
        """What one tile needs: the views that meet it."""
        meet = [v for v in self.views if _meets(v, tile)]
        return CountWork(self.held, meet, self.kept, self.most, self.target)

    def read(self, tile: Tile) -> tuple[np.ndarray, str]:
        """Where the ground has a height, and what is wrong with its file."""
        part, wrong = self.held.part(self._reader.get(), tile.rows, tile.cols)
        return ~np.isnan(as_kind(part, Surface).values), wrong

    def work_out(self, tile: Tile, read: tuple[np.ndarray, str]) -> Surface:
        """Numbers of observers; NaN where there is no height."""
        count = np.zeros(read[0].shape, np.uint16)
        for view in self.views:
            if _meets(view, tile):
                rows = slice(max(view.top, tile.top), min(view.bottom, tile.bottom))
                cols = slice(max(view.left, tile.left), min(view.right, tile.right))
                packed = self.kept.scratch.rows_of(self.kept.views, view, within(rows, view.rows))
                hit = np.unpackbits(packed, axis=1, count=view.right - view.left)
                count[within(rows, tile.rows), within(cols, tile.cols)] += hit[:, within(cols, view.cols)]
        values = np.where(read[0], count, np.float32(np.nan)).astype(np.float32)
        return Surface(values, self.held.frame.part(tile.rows, tile.cols), NONE, "seen")

    def finish(self, tile: Tile, read: tuple[np.ndarray, str], seen: Surface) -> Counted:
        """Write them."""
        if self.target is not None:
            self.target.write(tile.rows, tile.cols, seen.values)
        numbers, areas = counted_areas(seen, self.most)
        said = said_by(replace(surface_outcome(seen), findings=()))
        return Counted(said, numbers, areas, int(np.count_nonzero(read[0])), read[1])


def _meets(view: Tile, tile: Tile) -> bool:
    return (
        view.top < tile.bottom
        and tile.top < view.bottom
        and view.left < tile.right
        and tile.left < view.right
    )


@dataclass(frozen=True)
class ViewJob:
    """How many observers see each cell of a ground."""

    grid: OnDisk
    settings: Any
    observers: tuple[Observer, ...]
    inputs: Mapping[str, Value]
    besides: bool = True

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""
        return self.grid.frame

    @property
    def like(self) -> Surface:
        """Numbers of observers."""
        cell = as_kind(like(self.grid), Surface)
        return Surface(np.zeros((1, 1), np.float32), cell.frame, NONE, "seen")

    def _name(self) -> str:
        how = self.settings.curvature, self.settings.refraction
        return blake3(repr((how, self.observers)).encode()).hexdigest(length=8)

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Look from each, and count."""
        frame = self.frame
        tiling = bands(frame.shape, cells)
        kept, views = Kept(scratch_in(folder, tiling), self._name()), []
        for k, observer in enumerate(self.observers):
            rows, cols = window_within(frame, cell_of(frame, observer), observer.reach)
            rows, cols = (widened(s, 1, n) for s, n in zip((rows, cols), frame.shape, strict=True))
            views.append(Tile(k, 0, rows.start, rows.stop, cols.start, cols.stop))
        each = {v.row: (kept.scratch.load(kept.figures, v), "") for v in views if self._has(kept, v)}
        work = ViewWork(self.grid, self.settings, dict(enumerate(self.observers)), kept)
        waiting = [v for v in views if v.row not in each]
        for view, found in crew.each(work, waiting, progress.part(0.0, 0.8), "Looking around"):
            each[view.row] = found
        most = told_apart(self.observers) + 1
        count = CountWork(self.grid, views, kept, most, target)
        done = crew.each(count, list(tiling), progress.part(0.8, 1.0), "Counting")
        parts = [c for _, c in sorted(done, key=lambda d: d[0])]
        return self._told(parts, [each[v.row] for v in views])

    @staticmethod
    def _has(kept: Kept, view: Tile) -> bool:
        return kept.scratch.has(kept.figures, view) and kept.scratch.has(kept.views, view)

    def _told(self, parts: Sequence[Counted], each: Sequence[tuple[np.ndarray, str]]) -> Told:
        cells = sum(p.cells for p in parts)
        if cells == 0:
            raise MossError("The ground holds no values.", "Choose another ground.")
        counted = np.sum([p.numbers for p in parts], axis=0), np.sum([p.areas for p in parts], axis=0)
        figures = [(int(f[0]), int(f[1]), float(f[2])) for f, _ in each]
        figure, findings = seen_told(self.observers, counted, cells, figures)
        remarks = sentence(self.settings), *stated(self.settings, self.inputs), *twice_told(self.observers)
        wrong = tuple(dict.fromkeys(w for w in (*(w for _, w in each), *(p.wrong for p in parts)) if w))
        summary = merged([p.said for p in parts])[2]
        return Told(findings, remarks, wrong=wrong, summary=summary, figure=figure)


def viewshed(fed: Fed, settings: Any) -> ViewJob | None:
    """Viewsheds over bare ground, where each observer looks over a part of it."""
    dem = fed["dem"]
    inputs = {n: v for n, v in fed.items() if not isinstance(v, OnDisk | Passing)}
    if not isinstance(dem, OnDisk) or not {"observers"}.issuperset(inputs) or len(inputs) < len(fed) - 1:
        return None
    observers = observers_of(settings, inputs, dem.frame)
    check_observers(len(observers))
    cells = dem.frame.rows * dem.frame.cols
    for observer in observers:
        if not math.isfinite(observer.reach):
            return None
        rows, cols = window_within(dem.frame, cell_of(dem.frame, observer), observer.reach)
        own = (rows.stop - rows.start) * (cols.stop - cols.start)
        if own > _SHARE * cells or too_large(2 * _BYTES * own):
            return None
    return ViewJob(dem, settings, tuple(observers), inputs)

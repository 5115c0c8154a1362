"""How tall a mast must stand, and how far targets stand above the horizon, strip by strip from one observer
after another. Strips are kept: a run that was killed goes on with those that are missing.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew
from moss_step.large.overlook import (
    FromOne,
    InRows,
    Overlook,
    Standing,
    observed_on,
    overlooked,
    standing_on,
)
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, strips
from moss_step.large.whole import Fed, Told
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import ANGLE, METRE, Unit
from moss_step.science.sight.looking import Post, post_of, window_within
from moss_step.science.sight.observer import Observer
from moss_step.science.sight.viewshed import above_ground, angle_rows, mast_rows
from moss_step.steps.observers import sentence, stated
from moss_step.steps.results import surface_outcome
from moss_step.study.told import Said, merged, said_by


class Asked(NamedTuple):
    """What is asked of rays: what one observer gives in rows, which of two is taken, what becomes of the last
    one, and its unit and quantity.
    """

    found: InRows
    better: Callable[[np.ndarray, np.ndarray], np.ndarray]
    last: Callable[[np.ndarray], np.ndarray]
    unit: Unit
    quantity: str


def _as_it_is(values: np.ndarray) -> np.ndarray:
    return values


MAST = Asked(mast_rows, np.fmin, above_ground, METRE, "height")
ANGLE_OVER = Asked(angle_rows, np.fmax, _as_it_is, ANGLE, "angle")


class Strip(NamedTuple):
    """What the observers before have given in a strip, and what an earlier run has found; None where nothing
    was.
    """

    before: np.ndarray | None
    kept: np.ndarray | None


class BetterWork(FromOne):
    """Takes the better of what is known of strips and of what one more observer gives; that of the last one
    is written.
    """

    def __init__(
        self, over: Overlook, post: Post, asked: Asked, names: tuple[str, str], target: TiledFile | None
    ) -> None:
        super().__init__(over, post)
        self.asked, self.names, self.target = asked, names, target

    def read(self, tile: Tile) -> Strip:
        """What is known of the strip."""
        scratch, (before, name) = self.over.scratch, self.names
        if scratch.has(name, tile):
            return Strip(None, scratch.load(name, tile))
        return Strip(scratch.load(before, tile) if before else None, None)

    def work_out(self, tile: Tile, read: Strip) -> np.ndarray:
        """The better of that and of what this one gives."""
        if read.kept is not None:
            return read.kept
        out = np.full((tile.bottom - tile.top, tile.right - tile.left), np.float32(np.nan))
        reach, _ = window_within(self.over.frame, self.post.cell, self.post.observer.reach)
        first, last = max(tile.top, reach.start), min(tile.bottom, reach.stop)
        if first < last:
            out[first - tile.top : last - tile.top] = self.look(self.asked.found, (first, last))
        return out if read.before is None else self.asked.better(read.before, out)

    def finish(self, tile: Tile, read: Strip, found: np.ndarray) -> Said | None:
        """Keep it, and write the last one."""
        if read.kept is None:
            self.over.scratch.save(self.names[1], tile, found)
        if self.target is None:
            return None
        values = self.asked.last(found)
        self.target.write(tile.rows, tile.cols, values)
        part = self.over.frame.part(tile.rows, tile.cols)
        return said_by(surface_outcome(Surface(values, part, self.asked.unit, self.asked.quantity)))


@dataclass(frozen=True)
class HeightJob:
    """What is asked of the rays from some observers over a whole ground."""

    standing: Standing
    observers: tuple[Observer, ...]
    asked: Asked
    remarks: tuple[str, ...]
    besides: bool = True

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""
        return self.standing.dem.frame

    @property
    def like(self) -> Surface:
        """What is asked for, in single precision."""
        cell = as_kind(like(self.standing.dem), Surface)
        return Surface(np.zeros((1, 1), np.float32), cell.frame, self.asked.unit, self.asked.quantity)

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Ask from one observer after another, and say what the last strips hold."""
        tiling = strips(self.frame.shape, cells)
        said = list[tuple[Tile, Said]]()
        with overlooked(self.standing, folder, tiling, crew, progress.part(0.0, 0.1)) as (over, wrong):
            sight, asking, count = over.sight(), progress.part(0.1, 1.0), len(self.observers)
            posts = [post_of(sight, observer) for observer in self.observers]
            own = self.standing.name_with(
                (self.observers, wrong)
            )  # of a file that is whole again nothing is kept
            names = ["", *(f"{self.asked.quantity}-{own}-{k}" for k in range(count))]
            done = [over.scratch.finished(name) for name in names[1:]]
            for k in range(min(done.index(False) if False in done else count, count - 1), count):
                part = asking.part(k / count, (k + 1) / count)
                over.send_rays(crew, posts[k], sight, part.part(0.0, 0.1))
                into = target if k == count - 1 else None
                work = BetterWork(over, posts[k], self.asked, (names[k], names[k + 1]), into)
                each = crew.each(work, list(tiling), part.part(0.1, 1.0), "Measuring rays")
                said = [(tile, told) for tile, told in each if told is not None]
                over.scratch.finish(names[k + 1])
                if k:
                    over.scratch.drop(names[k])
        told = [what for _, what in sorted(said, key=lambda s: s[0])]
        findings, warnings, summary = merged(told)
        return Told(findings, (*self.remarks, *warnings), wrong=wrong, summary=summary)


def _job(fed: Fed, settings: Any, asked: Asked, remarks: tuple[str, ...]) -> HeightJob | None:
    standing = standing_on(fed, settings)
    if standing is None or standing.afar:
        return None
    observers = observed_on(fed, settings, standing)
    return HeightJob(standing, observers, asked, (*remarks, *stated(settings, standing.shapes)))


def mast_height(fed: Fed, settings: Any) -> HeightJob | None:
    """Least heights at which places of a ground on the disk are seen."""
    return _job(fed, settings, MAST, ())


def horizon_angle(fed: Fed, settings: Any) -> HeightJob | None:
    """How far targets on a ground on the disk stand above the horizon."""
    return _job(fed, settings, ANGLE_OVER, (sentence(settings),))

"""How tall a mast must stand, and how far targets stand above the horizon, lane by lane from one observer
after another. Lanes are kept: a run that was killed goes on with those that are missing.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew, Work
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
from moss_step.science.sight.heights import above_ground, angle_rows, mast_rows
from moss_step.science.sight.looking import Post, post_of, window_within
from moss_step.science.sight.observer import Observer
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


class BetterWork(FromOne):
    """Takes the better of what is known of lanes and of what one more observer gives: kept by the second of
    two names, the first is that of what is known; empty where nothing is.
    """

    def __init__(self, over: Overlook, post: Post, asked: Asked, names: tuple[str, str]) -> None:
        super().__init__(over, post)
        self.asked, self.names = asked, names

    def read(self, tile: Tile) -> np.ndarray | None:
        """What the observers before have given."""
        before, _ = self.names
        return self.over.scratch.load(before, tile) if before else None

    def work_out(self, tile: Tile, read: np.ndarray | None) -> np.ndarray:
        """The better of that and of what this one gives."""
        out = np.full((tile.bottom - tile.top, tile.right - tile.left), np.float32(np.nan))
        reach, _ = window_within(self.over.frame, self.post.cell, self.post.observer.reach)
        first, last = max(tile.top, reach.start), min(tile.bottom, reach.stop)
        if first < last:
            out[first - tile.top : last - tile.top] = self.look(self.asked.found, (first, last))
        return out if read is None else self.asked.better(read, out)

    def finish(self, tile: Tile, read: np.ndarray | None, found: np.ndarray) -> None:
        """Keep it."""
        self.over.scratch.save(self.names[1], tile, found)


class WriteWork(Work):
    """Writes what the last observer has left."""

    side_by_side = True

    def __init__(self, over: Overlook, asked: Asked, name: str, target: TiledFile | None) -> None:
        self.over, self.asked, self.name, self.target = over, asked, name, target

    def read(self, tile: Tile) -> np.ndarray:
        """What is kept of it."""
        return self.over.scratch.part(self.name, tile.rows, tile.cols, np.float32(np.nan))

    def work_out(self, tile: Tile, read: np.ndarray) -> np.ndarray:
        """What becomes of it."""
        return self.asked.last(read)

    def finish(self, tile: Tile, read: np.ndarray, values: np.ndarray) -> Said:
        """Write it, and say what it holds."""
        if self.target is not None:
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
        """Ask from one observer after another, and write what is left."""
        count = len(self.observers)
        with overlooked(self.standing, folder, cells, crew, progress.part(0.0, 0.1)) as (over, wrong):
            sight, asking = over.sight(), progress.part(0.1, 0.95)
            posts = [post_of(sight, observer) for observer in self.observers]
            # Of a file that is whole again nothing is kept.
            own = self.standing.name_with((self.observers, wrong))
            names = ["", *(f"{self.asked.quantity}-{own}-{k}" for k in range(count))]
            done = [over.scratch.finished(name) for name in names[1:]]
            for k in range(done.index(False) if False in done else count, count):
                self._ask(
                    crew, over, posts[k], (names[k], names[k + 1]), asking.part(k / count, (k + 1) / count)
                )
            work = WriteWork(over, self.asked, names[-1], target)
            strip = list(strips(self.frame.shape, cells))
            said = sorted(crew.each(work, strip, progress.part(0.95, 1.0), "Writing"), key=lambda s: s[0])
        findings, warnings, summary = merged([what for _, what in said])
        return Told(findings, (*self.remarks, *warnings), wrong=wrong, summary=summary)

    def _ask(
        self, crew: Crew, over: Overlook, post: Post, names: tuple[str, str], progress: Progress
    ) -> None:
        """Take what one more observer gives; lanes that an earlier run has kept are there."""
        before, name = names
        waiting = [lane for lane in over.scratch.tiling if not over.scratch.has(name, lane)]
        over.send_rays(crew, post, progress.part(0.0, 0.1))
        work = BetterWork(over, post, self.asked, names)
        for _ in crew.each(work, waiting, progress.part(0.1, 1.0), "Measuring rays"):
            pass
        over.scratch.finish(name)
        if before:
            over.scratch.drop(before)


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

"""Statistics and classes of zones on a ground in tiles: each tile counts the zones that meet it, and what
they count is added up.

Means and deviations of parts are put together after Chan, Golub & LeVeque 1983, Algorithms for computing the
sample variance, The American Statistician 37.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.tiling import Tile, squares
from moss_step.large.whole import Fed, OnGrid, Told, told_of
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind, of_kind
from moss_step.model.units import Unit
from moss_step.science.zones.statistics import class_areas, zone_statistics
from moss_step.steps.zones import class_zone_outcome, laid_on, zone_outcome

_ADDED = ("count", "sum", "mean", "min", "max", "std")
_TOGETHER = {*_ADDED, "range"}
"""Statistics of a whole that those of its parts give."""
Counted = dict[str, np.ndarray]


class ZoneWork(Work):
    """Counts the zones of tiles."""

    def __init__(self, grid: OnDisk, zones: Shapes, count: Callable[[Shapes, Any], Counted]) -> None:
        self.grid, self.zones, self.count = grid, zones, count
        self._reader = Once(partial(GridReader, grid.source))

    def read(self, tile: Tile) -> tuple[np.ndarray, Any, str] | None:
        """The zones that meet a tile, the grid in it, and what is wrong there; None where no zone does."""
        box = shapely.box(*self.grid.frame.part(tile.rows, tile.cols).box)
        meet = np.flatnonzero(shapely.intersects(shapely.make_valid(self.zones.geometry), box))
        return (meet, *self.grid.part(self._reader.get(), tile.rows, tile.cols)) if len(meet) else None

    def work_out(self, _: Tile, read: tuple[np.ndarray, Any, str] | None) -> Counted:
        """What they hold."""
        if read is None:
            return {}
        return self.count(Shapes(self.zones.geometry[read[0]], {}, self.zones.crs), read[1])

    def finish(
        self, _: Tile, read: tuple[np.ndarray, Any, str] | None, counted: Counted
    ) -> tuple[np.ndarray, Counted, str]:
        """Nothing is written."""
        return (np.empty(0, int), {}, "") if read is None else (read[0], counted, read[2])


def _statistics(zones: Shapes, surface: Surface) -> Counted:
    return zone_statistics(zones, surface, list(_ADDED))


def _areas(zones: Shapes, classes: ClassMap) -> Counted:
    return class_areas(zones, classes)


@dataclass(frozen=True)
class ZoneJob(OnGrid):
    """One count of zones on a grid."""

    laid: tuple[Shapes, tuple[str, ...]]
    by_class: bool

    def run(self, crew: Crew, target: TiledFile | None, folder: Path, cells: int, progress: Progress) -> Told:
        """Count, and put together."""
        zones = self.laid[0]
        if not shapely.intersects(shapely.make_valid(zones.geometry), shapely.box(*self.frame.box)).any():
            raise MossError(
                "No zone meets the surface.",
                "Check that both lie on the same ground and state their reference system.",
            )
        work = ZoneWork(self.grid, zones, _areas if self.by_class else _statistics)
        tiles = list(squares(self.frame.shape, cells))
        # In the order of the tiles, whoever was done first: sums are the same to the last digit.
        found = sorted(crew.each(work, tiles, progress, "Counting in zones"), key=lambda done: done[0])
        wrong = tuple(dict.fromkeys(w for _, (_, _, w) in found if w))
        parts = [(meet, counted) for _, (meet, counted, _) in found if len(meet)]
        outcome = self._by_class(parts) if self.by_class else self._measured(parts)
        return told_of(outcome, wrong)

    def _measured(self, parts: list[tuple[np.ndarray, Counted]]) -> Outcome:
        n = len(self.laid[0])
        whole = together(n, parts)
        wanted = {s: whole[s] for s in self.settings.statistics}
        unit = Unit(**self.grid.about["unit"])
        return zone_outcome(self.settings, self.frame, unit, self.laid, wanted)

    def _by_class(self, parts: list[tuple[np.ndarray, Counted]]) -> Outcome:
        n, sums = len(self.laid[0]), dict[str, np.ndarray]()
        for meet, counted in parts:
            for name, areas in counted.items():
                sums.setdefault(name, np.zeros(n))[meet] += areas
        return class_zone_outcome(self.settings, self.laid, sums, {}, None)


def together(n: int, parts: list[tuple[np.ndarray, Counted]]) -> Counted:
    """Statistics of n zones from those of their parts: which zones each part met, and what it counted."""
    count, total, mean, square = np.zeros(n), np.zeros(n), np.zeros(n), np.zeros(n)
    low, high = np.full(n, np.inf), np.full(n, -np.inf)
    for meet, counted in parts:
        held = counted["count"] > 0
        at, some = meet[held], {s: v[held] for s, v in counted.items()}
        before, more = count[at], some["count"]
        apart = some["mean"] - mean[at]
        count[at] = before + more
        mean[at] += apart * more / count[at]
        square[at] += more * some["std"] ** 2 + apart**2 * before * more / count[at]
        total[at] += some["sum"]
        low[at], high[at] = np.minimum(low[at], some["min"]), np.maximum(high[at], some["max"])
    empty = count == 0
    with np.errstate(invalid="ignore", divide="ignore"):
        measured = {
            "sum": total, "mean": mean, "std": np.sqrt(square / count), "min": low, "max": high,
            "range": high - low,
        }  # fmt: skip
    return {"count": count, **{s: np.where(empty, np.nan, v) for s, v in measured.items()}}


def measured_zones(fed: Fed, settings: Any) -> ZoneJob | None:
    """Statistics of zones, where those of parts give them: cells by their centre, all counted alike."""
    grid = fed["surface"]
    if not isinstance(grid, OnDisk) or grid.quantity == "aspect":
        return None
    alike = settings.weigh == "cells" or not grid.frame.geographic
    if settings.weighting != "centre" or not alike or not _TOGETHER.issuperset(settings.statistics):
        return None
    return _job(fed, grid, settings, False)


def class_zones(fed: Fed, settings: Any) -> ZoneJob | None:
    """Areas of classes in zones."""
    grid = fed["classes"]
    return _job(fed, grid, settings, True) if isinstance(grid, OnDisk) and "surface" not in fed else None


def _job(fed: Fed, grid: OnDisk, settings: Any, by_class: bool) -> ZoneJob | None:
    zones = None if isinstance(fed["zones"], OnDisk) else of_kind(fed["zones"], Shapes)
    if zones is None or zones.kind != "areas":
        return None
    laid = laid_on({"zones": as_kind(zones, Shapes)}, "zones", grid.frame)
    return ZoneJob(grid, settings, laid, by_class)

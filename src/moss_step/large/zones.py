"""Statistics and classes of zones on a ground in tiles: each tile counts the zones that meet it, and what
they count is added up.

Means and deviations of parts are put together after Chan, Golub & LeVeque 1983, Algorithms for computing the
sample variance, The American Statistician 37.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import shapely
from blake3 import blake3

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew, Work
from moss_step.large.held import OnDisk
from moss_step.large.passing import Passing, cells_in
from moss_step.large.scratch import Scratch, scratch_in
from moss_step.large.tiling import Tile, squares
from moss_step.large.whole import Fed, Told, told_of
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome, Value
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
    """Counts the zones of tiles, and keeps what was counted: a run that was killed goes on there."""

    def __init__(
        self, grid: OnDisk | Passing, zones: Shapes, count: Callable[[Shapes, Any], Counted], kept: Kept
    ) -> None:
        self.frame, self.zones, self.count, self.kept = grid.frame, zones, count, kept
        self._cells = cells_in(grid)

    def read(self, tile: Tile) -> tuple[np.ndarray, Any] | None:
        """The zones that meet a tile, and what is read of the grid in it; None where no zone does."""
        box = shapely.box(*self.frame.part(tile.rows, tile.cols).box)
        meet = np.flatnonzero(shapely.intersects(shapely.make_valid(self.zones.geometry), box))
        return (meet, self._cells.read(tile)) if len(meet) else None

    def work_out(self, tile: Tile, read: tuple[np.ndarray, Any] | None) -> Counted:
        """What they hold."""
        if read is None:
            return {}
        value = self._cells.value(tile, read[1])
        return self.count(Shapes(self.zones.geometry[read[0]], {}, self.zones.crs), value)

    def finish(self, tile: Tile, read: tuple[np.ndarray, Any] | None, counted: Counted) -> Found:
        """Keep it, unless something of the tile could not be read."""
        found = Found(np.empty(0, int), {}) if read is None else Found(read[0], counted)
        wrong = () if read is None else self._cells.wrong(read[1])
        if wrong:
            return replace(found, wrong=wrong)
        self.kept.save(tile, found)
        return found


@dataclass(frozen=True)
class Found:
    """Which zones meet a tile, what they hold there, and what is wrong with the grid."""

    meet: np.ndarray
    counted: Counted
    wrong: tuple[str, ...] = ()


@dataclass(frozen=True)
class Kept:
    """What was counted in tiles, in a folder, under the name of what was counted."""

    scratch: Scratch
    name: str

    def save(self, tile: Tile, found: Found) -> None:
        """Keep what was counted in a tile."""
        names = np.frombuffer(json.dumps(list(found.counted)).encode(), np.uint8)
        figures = np.array(list(found.counted.values()), float).reshape(len(found.counted), len(found.meet))
        self.scratch.save(self.name, tile, found.meet, names, figures)

    def load(self, tile: Tile) -> Found | None:
        """What was counted in a tile by an earlier run; None where it was not."""
        if not self.scratch.has(self.name, tile):
            return None
        meet, names, figures = self.scratch.load_some(self.name, tile, 3)
        return Found(meet, dict(zip(json.loads(names.tobytes()), figures, strict=True)))


def _statistics(zones: Shapes, surface: Surface) -> Counted:
    return zone_statistics(zones, surface, list(_ADDED))


def _areas(zones: Shapes, classes: ClassMap) -> Counted:
    return class_areas(zones, classes)


@dataclass(frozen=True)
class ZoneJob:
    """One count of zones on a grid, which lies on the disk or passes."""

    grid: OnDisk | Passing
    settings: Any
    laid: tuple[Shapes, tuple[str, ...]]
    by_class: bool
    like: Value | None = None
    besides: bool = True

    @property
    def frame(self) -> Frame:
        """Frame of the grid."""
        return self.grid.frame

    @property
    def _name(self) -> str:
        """What the counts of these zones are kept under."""
        digest = blake3(b"classes" if self.by_class else b"values")
        for zone in shapely.to_wkb(self.laid[0].geometry):
            digest.update(zone)
        return f"zones-{digest.hexdigest(length=8)}"

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Count, and put together."""
        zones = self.laid[0]
        if not shapely.intersects(shapely.make_valid(zones.geometry), shapely.box(*self.frame.box)).any():
            raise MossError(
                "No zone meets the surface.",
                "Check that both lie on the same ground and state their reference system.",
            )
        tiling = squares(self.frame.shape, cells)
        kept = Kept(scratch_in(folder, tiling), self._name)
        found = {tile: before for tile in tiling if (before := kept.load(tile)) is not None}
        work = ZoneWork(self.grid, zones, _areas if self.by_class else _statistics, kept)
        waiting = [t for t in tiling if t not in found]
        found |= crew.each(work, waiting, progress, "Counting in zones")
        # In the order of the tiles, whoever was done first: sums are the same to the last digit.
        each = [found[tile] for tile in tiling]
        parts = [(f.meet, f.counted) for f in each if len(f.meet)]
        outcome = self._by_class(parts) if self.by_class else self._measured(parts)
        return told_of(outcome, tuple(dict.fromkeys(w for f in each for w in f.wrong)))

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
    if not isinstance(grid, OnDisk | Passing) or grid.quantity == "aspect":
        return None
    alike = settings.weigh == "cells" or not grid.frame.geographic
    if settings.weighting != "centre" or not alike or not _TOGETHER.issuperset(settings.statistics):
        return None
    return _job(fed, grid, settings, False)


def class_zones(fed: Fed, settings: Any) -> ZoneJob | None:
    """Areas of classes in zones."""
    grid = fed["classes"]
    if not isinstance(grid, OnDisk | Passing) or "surface" in fed:
        return None
    return _job(fed, grid, settings, True)


def _job(fed: Fed, grid: OnDisk | Passing, settings: Any, by_class: bool) -> ZoneJob | None:
    zones = None if isinstance(fed["zones"], OnDisk | Passing) else of_kind(fed["zones"], Shapes)
    if zones is None or zones.kind != "areas":
        return None
    laid = laid_on({"zones": as_kind(zones, Shapes)}, "zones", grid.frame)
    return ZoneJob(grid, settings, laid, by_class)

"""What stands beside a change between surveys: how sure it is by cell, patches, lines of equal change, volume
by change.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from moss_step.model.chart import Chart
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, grid_beside, let_go, map_of
from moss_step.model.memory import check_memory
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import CUBIC_METRE, METRE, SQUARE_METRE
from moss_step.science.earthwork.change import Counted, volume_error
from moss_step.science.earthwork.offsets import Offset
from moss_step.science.framing import round_side
from moss_step.science.relief.contours import contours
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.tracing import parts_of

_BINS, _LINES = 40, 10
"""Bars of the histogram, and about how many heights of change have lines."""
_AT_A_TIME = 1_000_000
"""Cells that are sorted into bars at a time, however large the ground is: sums of parts differ with them."""
_AT_ONCE = 70
"""Bytes a cell that patches and lines take."""
_SAME, _LOWERED, _RAISED = 0, 1, 2


@dataclass(frozen=True, eq=False)
class Change:
    """Changes in metres (rows, cols; NaN where none is known), the earlier survey in the later one's unit and
    cells without an offset, which changes count, ground that was taken to have stayed (None where none was),
    what was taken out of it, and what is to be said.
    """

    off: np.ndarray
    brought: np.ndarray
    counted: Counted
    stayed: np.ndarray | None
    offset: Offset | None
    said: tuple[str, ...]

    def told(self, rows: slice) -> np.ndarray:
        """Cells of some rows whose change can be told."""
        counted = self.counted.of_rows(rows)
        with np.errstate(invalid="ignore"):
            return np.asarray(np.abs(self.off[rows]) >= counted.factor * counted.spread)

    def counts(self, rows: slice) -> np.ndarray:
        """Cells of some rows whose change counts."""
        return np.asarray(np.isfinite(self.off[rows])) if self.counted.everything else self.told(rows)

    def areas(self, rows: slice, frame: Frame) -> np.ndarray:
        """Square metres of each cell of some rows that count."""
        area = np.broadcast_to(frame.row_areas[rows, None], (rows.stop - rows.start, frame.cols))
        return area if self.counted.shares is None else area * self.counted.shares[rows]

    def by_rows(self, kind: Any, make: Callable[[slice], np.ndarray]) -> np.ndarray:
        """A grid of what is made of some rows at a time, mapped where the changes are."""
        out = grid_beside(self.off, kind)
        for rows in blocks_of(self.off):
            out[rows] = make(rows)
            let_go(out, self.off, *self.counted.arrays)
        return out

    def check_at_once(self, what: str) -> None:
        """Raise MossError for what looks at all changes at once, where these are too large for memory."""
        if map_of(self.off) is not None:
            check_memory(_AT_ONCE * self.off.size, what, "Crop both surveys to the part that matters.")


def shown(after: Surface, change: Change) -> Surface:
    """Changes that count, in the unit of the heights."""

    def heights(rows: slice) -> np.ndarray:
        return np.where(change.counts(rows), change.off[rows] / after.metres_per_height, np.nan)

    return Surface(change.by_rows(np.float32, heights), after.frame, after.unit, "difference")


def brought_over(after: Surface, change: Change) -> Surface:
    """The earlier survey at the cells of the later one, without an offset."""
    return Surface(change.brought, after.frame, after.unit)


def surely(after: Surface, change: Change) -> ClassMap:
    """Where ground was surely lowered or raised, and where the change is too small to tell."""
    named = (
        ("too small to tell", "#D5D8DA"),
        ("lowered", "#B9652A"),
        ("raised", "#2C6E91"),
    )

    def codes(rows: slice) -> np.ndarray:
        off = change.off[rows]
        with np.errstate(invalid="ignore"):
            told = np.where(change.told(rows), np.where(off < 0, _LOWERED, _RAISED), _SAME)
        return np.where(np.isfinite(off), told, NO_CLASS)

    entries = tuple(ClassEntry(k, *n) for k, n in enumerate(named))
    return ClassMap(change.by_rows(np.uint8, codes), after.frame, entries)


def patches_of(after: Surface, change: Change, least: float, reach: float, sure: float) -> Shapes:
    """Patches of ground that was lowered, or raised, each with its volume and what that may be off."""
    change.check_at_once("Patches of a change")
    frame, every = after.frame, slice(0, after.frame.rows)
    counts = change.counts(every) & (change.off != 0.0)
    with np.errstate(invalid="ignore"):
        codes = np.where(counts, np.where(change.off < 0, _LOWERED, _RAISED), _SAME).astype(np.uint8)
    labels, owner = label_components(codes, 4, _SAME)
    geometry = parts_of(codes, _SAME, frame).geometry
    area = change.areas(every, frame)
    spread = np.broadcast_to(change.counted.spread, codes.shape)

    def summed(values: np.ndarray) -> np.ndarray:
        return np.bincount(labels[counts], values[counts], len(owner))[1:]

    height, areas = np.nan_to_num(change.off), summed(area)
    one, two = summed(area * spread), summed(area * spread**2)
    deepest = np.zeros(len(owner))
    np.maximum.at(deepest, labels[counts], np.abs(height[counts]))
    cell = float(frame.row_areas.mean())
    volume = summed(np.abs(height) * area)
    error = [sure * volume_error(a, b, cell, reach) for a, b in zip(one, two, strict=True)]
    kept = np.argsort(-volume, kind="stable")
    kept = kept[areas[kept] >= least]
    columns = {
        "patch": np.arange(1, len(kept) + 1),
        "change": np.where(owner[1:][kept] == _LOWERED, "lowered", "raised").astype(object),
        "volume_m3": volume[kept], "give_or_take_m3": np.array(error, float)[kept], "area_m2": areas[kept],
        "mean_m": volume[kept] / areas[kept], "deepest_m": deepest[1:][kept],
    }  # fmt: skip
    return Shapes(geometry[kept], columns, frame.crs)


def lines_of(after: Surface, change: Change) -> Shapes:
    """Lines of equal change, at round heights."""
    change.check_at_once("Lines of equal change")
    surface = shown(after, change)
    low, high = surface.range or (0.0, 0.0)
    if high <= low or min(surface.frame.shape) < 2:
        none = {"change_m": np.empty(0), "length_m": np.empty(0)}
        return Shapes(np.empty(0, object), none, after.frame.crs)
    interval = round_side((high - low) / _LINES)
    made = contours(surface, interval)
    columns = {
        "change_m": made.columns["elevation"] * after.metres_per_height, "length_m": made.columns["length_m"],
    }  # fmt: skip
    return Shapes(made.geometry, columns, made.crs)


def histogram_of(after: Surface, change: Change) -> Chart:
    """Volume by the height of the change."""
    blocks = list(blocks_of(change.off, _AT_A_TIME))
    most = max(float(np.nanmax(np.abs(change.off[rows]), initial=0.0)) for rows in blocks) or 1.0
    edges = np.linspace(-most, most, _BINS + 1)
    volume, area = np.zeros(_BINS), np.zeros(_BINS)
    for rows in blocks:
        off, areas = change.off[rows], change.areas(rows, after.frame)
        there = np.isfinite(off)
        volume += np.histogram(off[there], edges, weights=(np.abs(off) * areas)[there])[0]
        area += np.histogram(off[there], edges, weights=areas[there])[0]
        let_go(change.off, *change.counted.arrays)
    middles = (edges[:-1] + edges[1:]) / 2.0
    columns = {"change_m": middles, "volume_m3": volume, "area_m2": area}
    units = {"change_m": METRE, "volume_m3": CUBIC_METRE, "area_m2": SQUARE_METRE}
    return Chart(columns, units, "change_m", ("volume_m3",))


def stayed_map(after: Surface, change: Change) -> ClassMap:
    """Ground that was taken to have stayed."""
    stayed = change.stayed

    def codes(rows: slice) -> np.ndarray:
        return np.zeros(1) if stayed is None else stayed[rows]

    entries = (ClassEntry(0, "not stayed", "#D5D8DA"), ClassEntry(1, "stayed", "#4C6B34"))
    return ClassMap(change.by_rows(np.uint8, codes), after.frame, entries)

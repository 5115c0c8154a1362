"""What stands beside a change between surveys: how sure it is by cell, patches, lines of equal change, volume
by change.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from moss_step.model.chart import Chart
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
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

    @property
    def told(self) -> np.ndarray:
        """Cells whose change can be told."""
        with np.errstate(invalid="ignore"):
            return np.asarray(np.abs(self.off) >= self.counted.factor * self.counted.spread)

    @property
    def counts(self) -> np.ndarray:
        """Cells whose change counts."""
        return np.asarray(np.isfinite(self.off)) if self.counted.everything else self.told


def brought_over(after: Surface, change: Change) -> Surface:
    """The earlier survey at the cells of the later one, without an offset."""
    return Surface(change.brought.astype(after.values.dtype), after.frame, after.unit)


def surely(after: Surface, change: Change) -> ClassMap:
    """Where ground was surely lowered or raised, and where the change is too small to tell."""
    named = (
        ("too small to tell", "#D5D8DA"),
        ("lowered", "#B9652A"),
        ("raised", "#2C6E91"),
    )
    told = change.told
    with np.errstate(invalid="ignore"):
        codes = np.where(told, np.where(change.off < 0, _LOWERED, _RAISED), _SAME)
    codes[~np.isfinite(change.off)] = NO_CLASS
    entries = tuple(ClassEntry(k, *n) for k, n in enumerate(named))
    return ClassMap(codes.astype(np.uint8), after.frame, entries)


def patches_of(after: Surface, change: Change, least: float, reach: float, sure: float) -> Shapes:
    """Patches of ground that was lowered, or raised, each with its volume and what that may be off."""
    frame, counts = after.frame, change.counts & (change.off != 0.0)
    with np.errstate(invalid="ignore"):
        codes = np.where(counts, np.where(change.off < 0, _LOWERED, _RAISED), _SAME).astype(np.uint8)
    labels, owner = label_components(codes, 4, _SAME)
    geometry = parts_of(codes, _SAME, frame).geometry
    area = np.broadcast_to(frame.row_areas[:, None], codes.shape)
    area = area if change.counted.shares is None else area * change.counted.shares
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
    shown = np.where(change.counts, change.off / after.metres_per_height, np.nan)
    surface = Surface(shown.astype(np.float32), after.frame, after.unit, "difference")
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
    areas = np.broadcast_to(after.frame.row_areas[:, None], change.off.shape)
    areas = areas if change.counted.shares is None else areas * change.counted.shares
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


def stayed_map(after: Surface, change: Change) -> ClassMap:
    """Ground that was taken to have stayed."""
    stayed = np.zeros(change.off.shape, bool) if change.stayed is None else change.stayed
    entries = (ClassEntry(0, "not stayed", "#D5D8DA"), ClassEntry(1, "stayed", "#4C6B34"))
    return ClassMap(stayed.astype(np.uint8), after.frame, entries)

"""Contours as lines with their elevation: traced by contourpy, joined in shapely; index lines and depressions marked."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.memory import free_memory
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface

MANY_POINTS = 5_000_000
_BYTES_A_POINT = 64
_SAMPLED_LINES = 512


def levels_of(dem: Surface, interval: float, base: float) -> np.ndarray:
    """Heights of the contours: ``base`` plus multiples of ``interval`` within the ground's range.

    Raises MossError for a ground without values, AskedWronglyError for more heights than memory holds.
    """
    if dem.range is None:
        raise MossError("The ground has no values.", "Choose another.")
    low, high = dem.range
    first, last = np.ceil((low - base) / interval), np.floor((high - base) / interval)
    if (last - first) * _BYTES_A_POINT > free_memory():
        raise AskedWronglyError(f"An interval of {interval:g} gives {last - first:,.0f} heights of contours.", "Use a larger one.")
    return base + interval * np.arange(first, last + 1)


def points_expected(dem: Surface, interval: float) -> float:
    """Points that contours will have, about: how often they cross from one cell to the next, from some of the rows and columns."""
    total = 0.0
    for z in (dem.values, dem.values.T):
        step = max(1, len(z) // _SAMPLED_LINES)
        some = z[::step].astype(np.float64)
        total += np.nansum(np.abs(np.diff(some, axis=1))) * len(z) / len(some)
    return float(total / interval)


def check_amount(dem: Surface, interval: float, however_many: bool) -> None:
    """Warn before a run that would take minutes, unless that is wanted; refuse one that does not fit into memory.

    Raises AskedWronglyError.
    """
    points = points_expected(dem, interval)
    said = f"An interval of {interval:g} gives about {points / 1e6:,.0f} million points of contours"
    few = f"Use an interval of {interval * points / MANY_POINTS:.2g} or more"
    if points * _BYTES_A_POINT > free_memory():
        raise AskedWronglyError(f"{said}, more than the memory of this machine holds.", f"{few}, or crop the ground.")
    if points > MANY_POINTS and not however_many:
        raise AskedWronglyError(f"{said}, which takes long.", f"{few}, or ask for them however many (however_many=true); it can be stopped.")


def contours(dem: Surface, interval: float, base: float = 0.0, index_every: int = 5, smooth: bool = False,
             progress: Progress | None = None, however_many: bool = False) -> Shapes:  # fmt: skip
    """Contour lines between cell centres, with columns elevation, index, closed, depression and length_m.

    Every ``index_every``-th line from the base is an index line. A closed line around lower ground is a depression.
    ``smooth`` averages the ground over 3 x 3 cells first. Lines end at no-data.
    Raises AskedWronglyError before it begins when there would be very many and that is not said to be wanted.
    """
    from contourpy import LineType, contour_generator

    progress = progress or silent()
    level_ground, datum = dem.levelled
    z = _smoothed(level_ground.values) if smooth else level_ground.values
    if min(z.shape) < 2:
        raise MossError("Contours need at least 2 x 2 cells.", "Open a larger grid.")
    check_amount(dem, interval, however_many)
    generator = contour_generator(z=np.ma.masked_invalid(z), line_type=LineType.ChunkCombinedOffset)
    levels = levels_of(dem, interval, base)
    lines, heights, numbers = [], [], []
    for k, level in enumerate(levels):
        progress.at(k / len(levels), f"Tracing {level:g}")
        traced: Any = generator.lines(float(level - datum))
        (points,), (offsets,) = traced
        if points is None:
            continue
        made = _lines(points, offsets, dem)
        made = made[shapely.length(made) > 0]  # a height that a single cell just reaches
        lines.append(made)
        heights.append(np.full(len(made), level))
        numbers.append(np.full(len(made), round((level - base) / interval)))
    if not lines:
        raise MossError(f"No contour falls in the ground's range with an interval of {interval:g}.", "Use a smaller interval.")
    geometry, number = np.concatenate(lines), np.concatenate(numbers)
    closed = shapely.is_closed(geometry) & (shapely.get_num_points(geometry) > 3)
    columns = {
        "elevation": np.concatenate(heights), "index": (number % index_every == 0).astype(np.int32),
        "closed": closed.astype(np.int32), "depression": _depressions(geometry, closed).astype(np.int32),
        "length_m": dem.frame.lengths(geometry),
    }  # fmt: skip
    return Shapes(geometry, columns, dem.frame.crs, {"elevation": dem.unit.symbol})


def _lines(points: np.ndarray, offsets: np.ndarray, dem: Surface) -> np.ndarray:
    """Lines from points in columns and rows, one for each stretch of offsets."""
    f = dem.frame
    xy = np.column_stack([f.x0 + (points[:, 0] + 0.5) * f.dx, f.y0 - (points[:, 1] + 0.5) * f.dy])
    counts: np.ndarray = np.diff(np.asarray(offsets, np.int64))
    kept = counts >= 2
    which = np.repeat(np.arange(len(counts)), counts)
    use = kept[which]
    renumbered = np.cumsum(kept) - 1
    return np.asarray(shapely.linestrings(xy[use], indices=renumbered[which[use]]))


def _depressions(lines: np.ndarray, closed: np.ndarray) -> np.ndarray:
    """Closed lines that run clockwise on the map: contourpy keeps higher ground on one side, rows run south here."""
    found = np.zeros(len(lines), bool)
    rings = np.flatnonzero(closed)
    found[rings] = shapely.is_ccw(lines[rings]) == _ccw_is_depression()
    return found


@lru_cache(maxsize=1)
def _ccw_is_depression() -> bool:
    """How contourpy turns around a pit, on our axes, found once from a pit of its own."""
    from contourpy import LineType, contour_generator

    z = np.ones((5, 5))
    z[2, 2] = 0.0
    traced: Any = contour_generator(z=z, line_type=LineType.Separate).lines(0.5)
    return bool(shapely.is_ccw(shapely.linestrings(np.asarray(traced[0]) * [1.0, -1.0])))


def _smoothed(z: np.ndarray) -> np.ndarray:
    from scipy.ndimage import uniform_filter

    valid = ~np.isnan(z)
    total = uniform_filter(np.where(valid, z, 0.0).astype(np.float64), 3, mode="nearest")
    share = uniform_filter(valid.astype(np.float64), 3, mode="nearest")
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(valid, total / share, np.nan).astype(np.float32)

"""Topographic position, landforms and local relief: a cell against the ground around it."""

from __future__ import annotations

import itertools
import math
from typing import Literal

import numba
import numpy as np
from scipy import ndimage

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import NONE
from moss_step.science.relief.gradient import slope

Window = Literal["disk", "ring"]
MOST_STRIPS = 17
"""A disk of up to 17 rows is exact; a larger one is made of 17 strips, so that any radius takes the same time."""

_LANDFORMS = (
    "Deep valley", "Midslope drainage", "Upland drainage", "Open valley", "Plain", "Open slope", "Upper slope",
    "Ridge in valley", "Midslope ridge", "High ridge",
)  # fmt: skip
_LANDFORM_COLORS = (
    "#1F4E79", "#3F7CAC", "#7FB0C9", "#8FB58A", "#E4DFC0", "#CFC48A", "#C9A45C", "#B9783F", "#96532E", "#5F2B20",
)  # fmt: skip


@numba.njit(cache=True, nogil=True)
def _running_sums(z, middle, sums, squares, counts):  # type: ignore[no-untyped-def]
    """Sums, sums of squares and counts of all cells above and left of each corner, heights less ``middle``."""
    rows, cols = z.shape
    for r in range(rows):
        s, q, n = 0.0, 0.0, 0
        for c in range(cols):
            v = z[r, c]
            if v == v:
                d = v - middle
                s += d
                q += d * d
                n += 1
            sums[r + 1, c + 1] = sums[r, c + 1] + s
            squares[r + 1, c + 1] = squares[r, c + 1] + q
            counts[r + 1, c + 1] = counts[r, c + 1] + n


@numba.njit(cache=True, nogil=True, parallel=True)
def _position_rows(z, middle, sums, squares, counts, strips, first, last, standardised, out):  # type: ignore[no-untyped-def]
    """Height less the mean of the strips around each cell (over their deviation when standardised)."""
    rows, cols = z.shape
    for r in numba.prange(first, last):
        total, square, count = np.zeros(cols), np.zeros(cols), np.zeros(cols)
        for k in range(strips.shape[0]):
            top, bottom = max(r + strips[k, 0], 0), min(r + strips[k, 1] + 1, rows)
            if bottom <= top:
                continue
            half, sign = strips[k, 2], strips[k, 3]
            upper, lower = sums[top], sums[bottom]
            upper_n, lower_n = counts[top], counts[bottom]
            for c in range(cols):
                a, b = max(c - half, 0), min(c + half + 1, cols)
                total[c] += sign * (lower[b] - lower[a] - upper[b] + upper[a])
                count[c] += sign * (lower_n[b] - lower_n[a] - upper_n[b] + upper_n[a])
            if standardised:
                upper_q, lower_q = squares[top], squares[bottom]
                for c in range(cols):
                    a, b = max(c - half, 0), min(c + half + 1, cols)
                    square[c] += sign * (lower_q[b] - lower_q[a] - upper_q[b] + upper_q[a])
        for c in range(cols):
            v = z[r, c]
            if v != v or count[c] < 1:
                out[r, c] = np.float32(np.nan)
                continue
            mean = total[c] / count[c]
            d = v - middle - mean
            if standardised:
                deviation = np.sqrt(max(square[c] / count[c] - mean * mean, 0.0))
                out[r, c] = np.float32(d / deviation) if deviation > 0 else np.float32(0.0)
            else:
                out[r, c] = np.float32(d)


def disk_strips(radius: float, sign: int = 1) -> np.ndarray:
    """A disk as strips: rows of first row, last row, half width in cells, and sign."""
    reach = int(radius)
    n = 2 * reach + 1
    edges = np.unique(np.linspace(-reach, reach + 1, min(n, MOST_STRIPS) + 1).round().astype(np.int64))
    strips = []
    for top, end in itertools.pairwise(edges):
        middle = (top + end - 1) / 2.0
        strips.append((top, end - 1, int(math.sqrt(max(radius**2 - middle**2, 0.0))), sign))
    return np.array(strips, np.int64)


def position(
    dem: Surface, radius: float, window: Window = "disk", inner: float = 0.0, standardised: bool = False,
    progress: Progress | None = None,
) -> Surface:  # fmt: skip
    """Topographic position: height less the mean height within ``radius`` metres (Weiss 2001); a ring leaves out the
    ground within ``inner`` metres. Standardised: over the standard deviation of the same ground.

    Works on running sums, so the time does not grow with the radius. Raises AskedWronglyError for a radius below a cell.
    """
    progress = progress or silent()
    cell = dem.frame.cell_metres[0]
    if radius < cell:
        raise AskedWronglyError(f"A radius of {radius:g} m is less than a cell ({cell:.4g} m).", "Use a larger one.")
    if window == "ring" and not 0 <= inner < radius:
        raise AskedWronglyError(f"An inner radius of {inner:g} m does not fit.", f"Use one from 0 to below {radius:g} m.")
    strips = disk_strips(radius / cell)
    if window == "ring":
        strips = np.vstack([strips, disk_strips(inner / cell, -1)])
    rows, cols = dem.frame.shape
    _ = dem.metres_per_height
    middle = dem.summary.mean if dem.summary.count else 0.0
    progress.at(0.05, "Summing up the ground")
    sums, squares = np.zeros((rows + 1, cols + 1)), np.zeros((rows + 1, cols + 1))
    counts = np.zeros((rows + 1, cols + 1), np.int32)
    _running_sums(dem.values, middle, sums, squares, counts)
    out = np.empty((rows, cols), np.float32)
    for first, last in progress.blocks(rows, 512, "Working out position"):
        _position_rows(dem.values, middle, sums, squares, counts, strips, first, last, standardised, out)
    return Surface(out, dem.frame, NONE if standardised else dem.unit, "position")


def landforms(dem: Surface, small: float, large: float, progress: Progress | None = None) -> ClassMap:
    """Ten landforms from position at two radii (metres), each standardised over the grid, and slope.

    Weiss 2001 with the bounds of Jenness 2006: one standard deviation, and 5 degrees between plain and open slope.
    """
    if not small < large:
        raise AskedWronglyError(f"The small radius {small:g} m must be below the large one {large:g} m.", "Change one.")
    near, far = (_standardised(position(dem, r, progress=progress).values) for r in (small, large))
    steep = slope(dem, progress=progress).values > 5.0
    code = np.select(
        [(near <= -1) & (far <= -1), (near <= -1) & (far < 1), near <= -1, (near < 1) & (far <= -1),
         (near < 1) & (far < 1) & ~steep, (near < 1) & (far < 1), near < 1, far <= -1, far < 1],
        np.arange(1, 10, dtype=np.uint8), np.uint8(10),
    )  # fmt: skip
    code[np.isnan(near) | np.isnan(far)] = NO_CLASS
    named = zip(_LANDFORMS, _LANDFORM_COLORS, strict=True)
    entries = tuple(ClassEntry(i, name, color) for i, (name, color) in enumerate(named, 1))
    return ClassMap(code.astype(np.uint8), dem.frame, entries)


def local_relief(dem: Surface, radius: float, progress: Progress | None = None) -> Surface:
    """Highest less lowest height in a square of ``radius`` metres to each side, in the unit of the heights."""
    (progress or silent()).at(0.1, "Working out local relief")
    _ = dem.metres_per_height
    reach = max(1, round(radius / dem.frame.cell_metres[0]))
    hole = np.isnan(dem.values)
    high = ndimage.maximum_filter(np.where(hole, -np.inf, dem.values), 2 * reach + 1, mode="nearest")
    low = ndimage.minimum_filter(np.where(hole, np.inf, dem.values), 2 * reach + 1, mode="nearest")
    values = np.where(hole, np.nan, high - low).astype(np.float32)
    return Surface(values, dem.frame, dem.unit, "relief")


def _standardised(values: np.ndarray) -> np.ndarray:
    deviation = float(np.nanstd(values, dtype=np.float64))
    return (values - float(np.nanmean(values, dtype=np.float64))) / (deviation or 1.0)

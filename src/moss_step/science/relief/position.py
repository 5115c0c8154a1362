"""Topographic position, landforms and local relief: a cell against the ground around it."""

from __future__ import annotations

import itertools
import math
from typing import Literal

import numba
import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
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


@numba.njit(cache=True, nogil=True, parallel=True)
def _sums_of_rows(z, middle, what, sums):  # type: ignore[no-untyped-def]  # numba infers the types
    """Running sums along each row: of heights less ``middle`` (1), of their squares (2), or of cells with values (0)."""
    for r in numba.prange(z.shape[0]):
        total = 0.0
        for c in range(z.shape[1]):
            v = z[r, c]
            if v == v:
                d = v - middle
                total += 1.0 if what == 0 else d if what == 1 else d * d
            sums[r + 1, c + 1] = total


@numba.njit(cache=True, nogil=True, parallel=True)
def _add_down(sums, blocks):  # type: ignore[no-untyped-def]  # numba infers the types
    """Turn running sums along rows to sums of all cells above and left of each corner, by blocks of columns."""
    cols = sums.shape[1]
    for b in numba.prange(blocks):
        for r in range(1, sums.shape[0]):
            for c in range(b * cols // blocks, (b + 1) * cols // blocks):
                sums[r, c] += sums[r - 1, c]


@numba.njit(cache=True, nogil=True)
def _cells_of_row(r, rows, cols, strips, count):  # type: ignore[no-untyped-def]  # numba infers the types
    """Number of cells of the grid within the strips around each cell of a row, when all have values."""
    for k in range(strips.shape[0]):
        high = min(r + strips[k, 1] + 1, rows) - max(r + strips[k, 0], 0)
        half = strips[k, 2]
        if high > 0:
            for c in range(cols):
                count[c] += strips[k, 3] * high * (min(c + half + 1, cols) - max(c - half, 0))


@numba.njit(cache=True, nogil=True)
def _add_strip(upper, lower, half, sign, total):  # type: ignore[no-untyped-def]  # numba infers the types
    """Add to each cell the sum of a strip around it, from running sums above and below the strip."""
    weight = float(sign)
    cols = total.size
    inner = max(min(cols - half - 1, cols), half)
    # Slices from 0 let the compiler work on several cells at once.
    below, above, sums = lower[2 * half + 1 :], upper[2 * half + 1 :], total[half:]
    for i in range(inner - half):
        sums[i] += weight * (below[i] - lower[i] - above[i] + upper[i])
    for c in range(min(half, cols)):
        b = min(c + half + 1, cols)
        total[c] += weight * (lower[b] - lower[0] - upper[b] + upper[0])
    for c in range(max(inner, half), cols):
        a = max(c - half, 0)
        total[c] += weight * (lower[cols] - lower[a] - upper[cols] + upper[a])


@numba.njit(cache=True, nogil=True, parallel=True)
def _position_rows(z, middle, running, strips, rows_range, whole, out):  # type: ignore[no-untyped-def]  # numba infers the types
    """Height less the mean of the strips around each cell, over their deviation when there are sums of squares.

    ``whole`` says that all cells have values: the cells within the strips are then counted by the strips alone.
    """
    sums, squares, counts = running
    standardised = squares.size > 0
    rows, cols = z.shape
    reach = max(-strips[:, 0].min(), strips[:, 1].max())
    inner = np.zeros(cols)
    _cells_of_row(rows + reach, 3 * (rows + reach), cols, strips, inner)  # of a row that no edge is near
    for r in numba.prange(rows_range[0], rows_range[1]):
        total, square, count = np.zeros(cols), np.zeros(cols), np.zeros(cols)
        for k in range(strips.shape[0]):
            top, bottom = max(r + strips[k, 0], 0), min(r + strips[k, 1] + 1, rows)
            if bottom > top:
                half, sign = strips[k, 2], strips[k, 3]
                _add_strip(sums[top], sums[bottom], half, sign, total)
                if not whole:
                    _add_strip(counts[top], counts[bottom], half, sign, count)
                if standardised:
                    _add_strip(squares[top], squares[bottom], half, sign, square)
        if whole and reach <= r < rows - reach:
            count = inner
        elif whole:
            _cells_of_row(r, rows, cols, strips, count)
        for c in range(cols):
            v = z[r, c]
            out[r, c] = np.float32(np.nan)
            if v == v and count[c] >= 1:
                mean = total[c] / count[c]
                d = v - middle - mean
                if standardised:
                    deviation = np.sqrt(max(square[c] / count[c] - mean * mean, 0.0))
                    d = d / deviation if deviation > 0 else 0.0
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
    whole = dem.valid_count == dem.values.size
    sums = _corner_sums(dem.values, middle, 1)
    none = np.empty((0, 0))
    squares = _corner_sums(dem.values, middle, 2) if standardised else none
    counts = none if whole else _corner_sums(dem.values, middle, 0)
    out = np.empty((rows, cols), np.float32)
    for first, last in progress.blocks(rows, 512, "Working out position"):
        _position_rows(dem.values, middle, (sums, squares, counts), strips, (first, last), whole, out)
    return Surface(out, dem.frame, NONE if standardised else dem.unit, "position")


def _corner_sums(z: np.ndarray, middle: float, what: int) -> np.ndarray:
    sums = np.zeros((z.shape[0] + 1, z.shape[1] + 1))
    _sums_of_rows(z, middle, what, sums)
    _add_down(sums, 2 * numba.get_num_threads())
    return sums


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
    from scipy import ndimage  # slow to load, and only needed here

    (progress or silent()).at(0.1, "Working out local relief")
    _ = dem.metres_per_height
    reach = max(1, round(radius / dem.frame.cell_metres[0]))
    hole = np.isnan(dem.values)
    high = ndimage.maximum_filter(np.where(hole, -np.inf, dem.values), 2 * reach + 1, mode="nearest")
    low = ndimage.minimum_filter(np.where(hole, np.inf, dem.values), 2 * reach + 1, mode="nearest")
    values = np.where(hole, np.nan, high - low).astype(np.float32)
    return Surface(values, dem.frame, dem.unit, "relief")


def _standardised(values: np.ndarray) -> np.ndarray:
    if np.isnan(values).all():
        raise MossError("The ground holds no values.", "Choose another ground.")
    with np.errstate(over="ignore"):
        deviation = float(np.nanstd(values, dtype=np.float64))
    if not np.isfinite(deviation):
        raise MossError("The heights are too large to be worked with.", "Check their unit, and which value stands for no-data.")
    return (values - float(np.nanmean(values, dtype=np.float64))) / (deviation or 1.0)

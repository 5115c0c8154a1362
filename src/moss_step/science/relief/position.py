"""Topographic position, landforms and local relief: a cell against the ground around it."""

from __future__ import annotations

import math
from typing import Literal

import numba
import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import NONE
from moss_step.science.relief.gradient import slope

Window = Literal["disk", "ring"]
MOST_ROWS, BOXES = 129, 9
"""A disk of up to 129 rows and columns is exact to the cell; a larger one is made of nine boxes, so that any radius takes the same time."""
_PIECE = 512
_A_HAIR = 1.0 + 1e-9
"""A distance that is a whole number of cells but for rounding counts as that number."""

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
def _strips_of_row(parts, width, height, strips):  # type: ignore[no-untyped-def]  # numba infers the types
    """Turn parts of a disk in metres into strips of cells for one row; gives how many.

    A part is the nearest and farthest distance of its rows, half its width (0: a circle of the farthest distance, row by row) and
    its sign. A strip is its first row, last row, half width in cells, and sign.
    """
    n = 0
    for p in range(parts.shape[0]):
        near, far, half, sign = parts[p]
        reach = int(np.floor(far / height * _A_HAIR))
        if half == 0.0:
            start = n
            for i in range(-reach, reach + 1):
                wide = np.int64(np.floor(np.sqrt(max(far * far * _A_HAIR - (i * height) ** 2, 0.0)) / width * _A_HAIR))
                if n > start and strips[n - 1, 2] == wide:
                    strips[n - 1, 1] = i  # rows of one width are one strip
                    continue
                strips[n, 0], strips[n, 1], strips[n, 2], strips[n, 3] = i, i, wide, np.int64(sign)
                n += 1
            continue
        inner, wide = int(np.floor(near / height * _A_HAIR)), np.int64(np.floor(half / width * _A_HAIR))
        if near == 0.0:
            strips[n, 0], strips[n, 1], strips[n, 2], strips[n, 3] = -reach, reach, wide, np.int64(sign)
            n += 1
        elif reach > inner:
            for side in (-1, 1):
                first, last = side * (inner + 1), side * reach
                strips[n, 0], strips[n, 1], strips[n, 2], strips[n, 3] = min(first, last), max(first, last), wide, np.int64(sign)
                n += 1
    return n


@numba.njit(cache=True, nogil=True)
def _cells_of_row(r, rows, cols, strips, count):  # type: ignore[no-untyped-def]  # numba infers the types
    """Number of cells of the grid within the strips around each cell of a row, when all have values."""
    widest, inside = 0, 0.0
    for k in range(strips.shape[0]):
        high = max(min(r + strips[k, 1] + 1, rows) - max(r + strips[k, 0], 0), 0)
        widest = max(widest, strips[k, 2])
        inside += float(strips[k, 3] * high * (2 * strips[k, 2] + 1))
    count[widest : cols - widest] = inside
    for k in range(strips.shape[0]):
        weight = float(strips[k, 3] * max(min(r + strips[k, 1] + 1, rows) - max(r + strips[k, 0], 0), 0))
        half = strips[k, 2]
        for c in range(min(widest, cols)):
            count[c] += weight * (min(c + half + 1, cols) - max(c - half, 0))
        for c in range(max(widest, cols - widest), cols):
            count[c] += weight * (min(c + half + 1, cols) - max(c - half, 0))


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
def _position_rows(z, middle, running, disk, rows_range, whole, out):  # type: ignore[no-untyped-def]  # numba infers the types
    """Height less the mean of the disk around each cell, over its deviation when there are sums of squares.

    ``disk`` are its parts, the most strips that they give, and the width and height of a cell by row; ``whole`` says that all cells have
    values: the cells within the strips are then counted by the strips alone.
    """
    sums, squares, counts = running
    parts, most, widths, heights = disk
    standardised = squares.size > 0
    rows, cols = z.shape
    for r in numba.prange(rows_range[0], rows_range[1]):
        total, square, count = np.zeros(cols), np.zeros(cols), np.zeros(cols)
        strips = np.empty((most, 4), np.int64)
        strips = strips[: _strips_of_row(parts, widths[r], heights[r], strips)]
        for k in range(strips.shape[0]):
            top, bottom = max(r + strips[k, 0], 0), min(r + strips[k, 1] + 1, rows)
            if bottom > top:
                half, sign = strips[k, 2], strips[k, 3]
                _add_strip(sums[top], sums[bottom], half, sign, total)
                if not whole:
                    _add_strip(counts[top], counts[bottom], half, sign, count)
                if standardised:
                    _add_strip(squares[top], squares[bottom], half, sign, square)
        if whole:
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


_BEYOND = 16.0
"""A disk so many times the size of the ground covers all of it from every cell, each of its boxes, too."""


def disk_parts(radius: float, frame: Frame, sign: int = 1) -> np.ndarray:
    """A disk of a radius in metres as parts for ``_strips_of_row``: exact while it is small, else of nine boxes.

    The boxes have their corners at even angles around the quarter circle, scaled so that their area is the disk's: the same shape
    however the ground is turned.
    """
    finest = min(float(frame.row_widths.min()), float(frame.row_heights.min()))
    radius = min(radius, _BEYOND * (float(frame.row_widths.max()) * frame.cols + float(frame.row_heights.sum())))
    if 2 * int(radius / finest * _A_HAIR) + 1 <= MOST_ROWS:
        return np.array([[0.0, radius, 0.0, sign]])
    angles = (np.arange(BOXES) + 0.5) * (math.pi / 2.0 / BOXES)
    far, half = np.sin(angles), np.cos(angles)  # rows from near to far, ever narrower
    near = np.concatenate([[0.0], far[:-1]])
    scale = radius * math.sqrt(math.pi / (4.0 * float(((far - near) * half).sum())))
    return np.column_stack([near * scale, far * scale, half * scale, np.full(BOXES, float(sign))])


def _most_strips(parts: np.ndarray, frame: Frame) -> int:
    """The most strips that parts of disks can give in any row."""
    rows = 2.0 * parts[:, 1] / float(frame.row_heights.min()) + 3.0
    return int(np.where(parts[:, 2] == 0.0, rows, 2.0).sum())


def position(
    dem: Surface, radius: float, window: Window = "disk", inner: float = 0.0, standardised: bool = False,
    progress: Progress | None = None,
) -> Surface:  # fmt: skip
    """Topographic position: height less the mean height within ``radius`` metres on the ground (Weiss 2001); a ring leaves out the
    ground within ``inner`` metres. Standardised: over the standard deviation of the same ground.

    Works on running sums, so the time does not grow with the radius. A radius of up to 64 cells gives a disk exact to the cell, a larger
    one is made of boxes (``disk_parts``). Raises AskedWronglyError for a radius below a cell.
    """
    progress = progress or silent()
    check_radius(radius, dem.frame)
    if window == "ring" and not 0 <= inner < radius:
        raise AskedWronglyError(f"An inner radius of {inner:g} m does not fit.", f"Use one from 0 to below {radius:g} m.")
    if window == "disk" and inner > 0:
        raise AskedWronglyError("A disk has no inner radius.", "Use window=ring, or leave inner out.")
    parts = disk_parts(radius, dem.frame)
    if window == "ring" and inner > 0:
        parts = np.vstack([parts, disk_parts(inner, dem.frame, -1)])
    rows, cols = dem.frame.shape
    _ = dem.metres_per_height
    level, _ = dem.levelled
    z, middle = level.values, level.summary.mean if level.summary.count else 0.0
    progress.at(0.05, "Summing up the ground")
    whole = dem.valid_count == z.size
    sums = _corner_sums(z, middle, 1)
    none = np.empty((0, 0))
    squares = _corner_sums(z, middle, 2) if standardised else none
    counts = none if whole else _corner_sums(z, middle, 0)
    out = np.empty((rows, cols), np.float32)
    disk = (parts, _most_strips(parts, dem.frame), dem.frame.row_widths, dem.frame.row_heights)
    for first, last in progress.blocks(rows, 512, "Working out position"):
        _position_rows(z, middle, (sums, squares, counts), disk, (first, last), whole, out)
    return Surface(out, dem.frame, NONE if standardised else dem.unit, "position")


def check_radius(radius: float, frame: Frame) -> None:
    """Raise AskedWronglyError for a radius that reaches no neighbour."""
    cell = min(frame.cell_metres)
    if radius * _A_HAIR < cell:
        raise AskedWronglyError(f"A radius of {radius:g} m is less than a cell ({cell:.4g} m).", "Use a larger one.")


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
    progress = progress or silent()
    near = _standardised(position(dem, small, progress=progress.part(0.0, 0.4)).values)
    far = _standardised(position(dem, large, progress=progress.part(0.4, 0.8)).values)
    steep = slope(dem, progress=progress.part(0.8, 0.9)).values
    code = np.empty(dem.frame.shape, np.uint8)
    for first, last in progress.part(0.9, 1.0).blocks(dem.frame.rows, 256, "Putting cells in classes"):
        code[first:last] = _landform_codes(near[first:last], far[first:last], steep[first:last] > 5.0)
    named = zip(_LANDFORMS, _LANDFORM_COLORS, strict=True)
    entries = tuple(ClassEntry(i, name, color) for i, (name, color) in enumerate(named, 1))
    return ClassMap(code, dem.frame, entries)


def _landform_codes(near: np.ndarray, far: np.ndarray, steep: np.ndarray) -> np.ndarray:
    code = np.select(
        [(near <= -1) & (far <= -1), (near <= -1) & (far < 1), near <= -1, (near < 1) & (far <= -1),
         (near < 1) & (far < 1) & ~steep, (near < 1) & (far < 1), near < 1, far <= -1, far < 1],
        np.arange(1, 10, dtype=np.uint8), np.uint8(10),
    )  # fmt: skip
    code[np.isnan(near) | np.isnan(far)] = NO_CLASS
    return code


def local_relief(dem: Surface, radius: float, progress: Progress | None = None) -> Surface:
    """Highest less lowest height of the cells whose centres lie within ``radius`` metres to each side, in the unit of the heights.

    Raises AskedWronglyError for a radius below a cell.
    """
    progress = progress or silent()
    _ = dem.metres_per_height
    check_radius(radius, dem.frame)
    level, _ = dem.levelled
    hole = np.isnan(level.values)
    high = _extreme(np.where(hole, -np.inf, level.values), radius, dem.frame, progress, True)
    low = _extreme(np.where(hole, np.inf, level.values), radius, dem.frame, progress, False)
    values = np.where(hole, np.nan, high - low).astype(np.float32)
    return Surface(values, dem.frame, dem.unit, "relief")


def _extreme(z: np.ndarray, radius: float, frame: Frame, progress: Progress, highest: bool) -> np.ndarray:
    """Highest (or lowest) value of the square around each cell, as many rows and columns as the radius holds at each row."""
    from scipy import ndimage  # slow to load, and only needed here

    run = ndimage.maximum_filter1d if highest else ndimage.minimum_filter1d
    out = np.empty_like(z)
    up = np.minimum(np.floor(radius / frame.row_heights * _A_HAIR), frame.rows).astype(np.int64)
    aside = np.minimum(np.floor(radius / frame.row_widths * _A_HAIR), frame.cols).astype(np.int64)
    cuts = np.flatnonzero(np.diff(up) | np.diff(aside)) + 1  # rows that look equally far: all of them but for degrees
    pieces = [(part[k], min(part[k] + _PIECE, part[-1] + 1)) for part in np.split(np.arange(frame.rows), cuts) for k in range(0, len(part), _PIECE)]
    for first, last in pieces:
        reach = int(up[first])
        progress.at((0.0 if highest else 0.5) + 0.5 * first / frame.rows, "Working out local relief")
        above = max(first - reach, 0)
        columns = run(z[above : last + reach], 2 * reach + 1, axis=0, mode="nearest")[first - above : last - above]
        out[first:last] = run(columns, 2 * int(aside[first]) + 1, axis=1, mode="nearest")
    return out


def _standardised(values: np.ndarray) -> np.ndarray:
    if np.isnan(values).all():
        raise MossError("The ground holds no values.", "Choose another ground.")
    with np.errstate(over="ignore", invalid="ignore"):
        mean, deviation = _mean_and_deviation(values)
    if not np.isfinite(deviation):
        raise MossError("The heights are too large to be worked with.", "Check their unit, and which value stands for no-data.")
    return np.asarray((values - mean) / (deviation or 1.0), values.dtype)


def _mean_and_deviation(values: np.ndarray) -> tuple[float, float]:
    """Mean and standard deviation in double precision, some rows at a time: the whole would take twice the memory once more."""
    count = total = square = 0.0
    blocks = [values[k : k + _PIECE] for k in range(0, len(values), _PIECE)]
    for some in blocks:
        count, total = count + np.count_nonzero(~np.isnan(some)), total + float(np.nansum(some, dtype=np.float64))
    mean = total / count
    for some in blocks:
        square += float(np.nansum((some.astype(np.float64) - mean) ** 2))
    return mean, math.sqrt(square / count)

"""Slope, aspect and hillshade from the gradient of an elevation grid.

Two ways to the gradient: third-order differences weighted 1-2-1 over eight neighbours (Horn 1981, Proc. IEEE
69(1)), and the second-order fit through four neighbours (Zevenbergen & Thorne 1987, Earth Surface Processes and
Landforms 12). Beside an edge or no-data each difference uses the cells that exist: one-sided where a neighbour
is missing, left out where none is. A plane keeps its exact gradient there.
"""

from __future__ import annotations

import math
from typing import Literal

import numba
import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import FLAT, Surface
from moss_step.model.units import BEARING, DEGREE, PERCENT, SHADE
from moss_step.science.numeric import atan2_fast, atan_positive

Method = Literal["horn", "quadratic"]
SlopeUnit = Literal["degrees", "percent"]

BLOCK_ROWS = 512
_DEGREES, _PERCENT, _ASPECT, _SHADE = 0, 1, 2, 3
_TO_DEGREES = np.float32(180.0 / math.pi)
_NAN = np.float32(np.nan)


@numba.njit(inline="always", cache=True)
def _difference(low, middle, high):  # type: ignore[no-untyped-def]  # numba infers the types
    """Change per cell along three cells in a line, from those that exist; NaN when fewer than two do."""
    d = (high - low) * np.float32(0.5)
    if d != d:
        d = high - middle
    if d != d:
        d = middle - low
    return d


@numba.njit(cache=True, nogil=True)
def _gradient_at(z, ax, ay, r, c, horn):  # type: ignore[no-untyped-def]  # numba infers the types
    """Gradient (east, north) of one cell from the neighbours that exist."""
    rows, cols = z.shape
    sx = sy = np.float32(0.0)
    wx = wy = np.float32(0.0)
    for k in range(-1, 2):
        if k != 0 and not horn:
            continue
        w = np.float32(2.0) if k == 0 else np.float32(1.0)
        if 0 <= r + k < rows:
            left = z[r + k, c - 1] if c > 0 else _NAN
            right = z[r + k, c + 1] if c + 1 < cols else _NAN
            d = _difference(left, z[r + k, c], right) * ax[r + k]
            if d == d:
                sx += w * d
                wx += w
        if 0 <= c + k < cols:
            south = z[r + 1, c + k] if r + 1 < rows else _NAN
            north = z[r - 1, c + k] if r > 0 else _NAN
            d = _difference(south, z[r, c + k], north) * ay[r]
            if d == d:
                sy += w * d
                wy += w
    if wx == 0 or wy == 0:
        return _NAN, _NAN
    return sx / wx, sy / wy


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _row_gradient(z, ax, ay, r, horn, gx, gy):  # type: ignore[no-untyped-def]  # numba infers the types
    """Gradient of one row of cells into ``gx`` (east) and ``gy`` (north)."""
    rows, cols = z.shape
    gx[:] = gy[:] = _NAN
    if 0 < r < rows - 1 and cols > 2:
        n = cols - 2
        ia, ib, ic = z[r - 1, :n], z[r - 1, 1 : n + 1], z[r - 1, 2 : n + 2]
        id_, ie, if_ = z[r, :n], z[r, 1 : n + 1], z[r, 2 : n + 2]
        ig, ih, ii = z[r + 1, :n], z[r + 1, 1 : n + 1], z[r + 1, 2 : n + 2]
        ox, oy = gx[1 : n + 1], gy[1 : n + 1]
        if horn:
            w0, w1 = ax[r - 1] * np.float32(0.125), ax[r] * np.float32(0.25)
            w2, wy = ax[r + 1] * np.float32(0.125), ay[r] * np.float32(0.125)
            for j in range(n):
                # A missing cell itself makes the result missing, although it has no weight.
                here = ie[j] - ie[j]
                ox[j] = (ic[j] - ia[j]) * w0 + (if_[j] - id_[j]) * w1 + (ii[j] - ig[j]) * w2 + here
                oy[j] = ((ia[j] - ig[j]) + (ib[j] - ih[j]) * np.float32(2.0) + (ic[j] - ii[j])) * wy + here
        else:
            w1, wy = ax[r] * np.float32(0.5), ay[r] * np.float32(0.5)
            for j in range(n):
                here = ie[j] - ie[j]
                ox[j] = (if_[j] - id_[j]) * w1 + here
                oy[j] = (ib[j] - ih[j]) * wy + here
    row = z[r]
    for j in range(cols):
        if (gx[j] != gx[j] or gy[j] != gy[j]) and row[j] == row[j]:
            gx[j], gy[j] = _gradient_at(z, ax, ay, r, j, horn)


@numba.njit(cache=True, nogil=True, parallel=True, error_model="numpy")
def _measure_rows(z, ax, ay, first, last, horn, measure, light, out):  # type: ignore[no-untyped-def]  # numba infers the types
    """Write one measure of the gradient for rows ``first`` to ``last``."""
    cols = z.shape[1]
    for r in numba.prange(first, last):
        gx = np.empty(cols, np.float32)
        gy = np.empty(cols, np.float32)
        _row_gradient(z, ax, ay, r, horn, gx, gy)
        o = out[r]
        if measure == _DEGREES:
            for j in range(cols):
                o[j] = atan_positive(np.sqrt(gx[j] * gx[j] + gy[j] * gy[j])) * _TO_DEGREES
        elif measure == _PERCENT:
            for j in range(cols):
                o[j] = np.sqrt(gx[j] * gx[j] + gy[j] * gy[j]) * np.float32(100.0)
        elif measure == _ASPECT:
            for j in range(cols):
                a = atan2_fast(-gx[j], -gy[j]) * _TO_DEGREES
                a = a + np.float32(360.0) if a < np.float32(0.0) else a
                a = a - np.float32(360.0) if a >= np.float32(360.0) else a
                o[j] = np.float32(-1.0) if abs(gx[j]) + abs(gy[j]) == np.float32(0.0) else a
                o[j] = _NAN if gx[j] != gx[j] or gy[j] != gy[j] else o[j]
        else:
            east, north, up = light[0], light[1], light[2]
            for j in range(cols):
                shade = (up - gx[j] * east - gy[j] * north) / np.sqrt(np.float32(1.0) + gx[j] * gx[j] + gy[j] * gy[j])
                o[j] = np.float32(0.0) if shade < np.float32(0.0) else shade * np.float32(255.0)


def slope(
    dem: Surface,
    unit: SlopeUnit = "degrees",
    method: Method = "horn",
    z_factor: float = 1.0,
    progress: Progress | None = None,
) -> Surface:
    """Slope of a ground: its angle in degrees or its tangent in percent, as a float32 surface.

    Distances are ground metres (ellipsoidal, by row, for longitude and latitude); heights are converted to metres
    and multiplied by ``z_factor``. 45 degrees is 100 percent. Raises MossError for grids of fewer than 2 x 2 cells.
    """
    measure = _DEGREES if unit == "degrees" else _PERCENT
    values = _measure(dem, measure, method, z_factor, (0.0, 0.0, 1.0), progress or silent(), "Working out slope")
    return Surface(values, dem.frame, DEGREE if unit == "degrees" else PERCENT, "slope")


def aspect(dem: Surface, method: Method = "horn", progress: Progress | None = None) -> Surface:
    """Direction that each cell faces (downslope), degrees clockwise from the grid's north, 0 <= a < 360; flat cells hold -1.

    Raises MossError for grids of fewer than 2 x 2 cells.
    """
    values = _measure(dem, _ASPECT, method, 1.0, (0.0, 0.0, 1.0), progress or silent(), "Working out aspect")
    return Surface(values, dem.frame, BEARING, "aspect")


def hillshade(
    dem: Surface,
    azimuth: float = 315.0,
    altitude: float = 45.0,
    z_factor: float = 1.0,
    progress: Progress | None = None,
) -> Surface:
    """Light that each cell gets from a lamp at ``azimuth`` (degrees from north) and ``altitude`` (degrees), 0 to 255.

    Lambert's cosine law on the gradient after Horn; cells turned away hold 0. Raises MossError for grids of fewer
    than 2 x 2 cells.
    """
    light = light_vector(azimuth, altitude)
    values = _measure(dem, _SHADE, "horn", z_factor, light, progress or silent(), "Shading")
    return Surface(values, dem.frame, SHADE, "shade")


def light_vector(azimuth: float, altitude: float) -> tuple[float, float, float]:
    """Unit vector (east, north, up) towards a lamp at an azimuth and altitude in degrees."""
    a, h = math.radians(azimuth), math.radians(altitude)
    return math.sin(a) * math.cos(h), math.cos(a) * math.cos(h), math.sin(h)


def gradient_weights(dem: Surface, z_factor: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """Metres of height per metre of ground for a difference of one height unit over one cell, by row (float32)."""
    scale = dem.metres_per_height * z_factor
    return (scale / dem.frame.row_widths).astype(np.float32), (scale / dem.frame.row_heights).astype(np.float32)


def _measure(
    dem: Surface,
    measure: int,
    method: Method,
    z_factor: float,
    light: tuple[float, float, float],
    progress: Progress,
    doing: str,
) -> np.ndarray:
    rows, cols = dem.frame.shape
    if rows < 2 or cols < 2:
        raise MossError(f"{doing} needs at least 2 x 2 cells; this grid has {rows} x {cols}.", "Open a larger grid.")
    ax, ay = gradient_weights(dem, z_factor)
    level, _ = dem.levelled
    out = np.empty((rows, cols), np.float32)
    lamp = np.array(light, np.float32)
    for first, last in progress.blocks(rows, BLOCK_ROWS, doing):
        _measure_rows(level.values, ax, ay, first, last, method == "horn", measure, lamp, out)
    return out


def flat_share(aspect_surface: Surface) -> float:
    """Share of the valid cells that are flat (0 to 1)."""
    valid = aspect_surface.valid_count
    return float(np.count_nonzero(aspect_surface.values == FLAT)) / valid if valid else 0.0

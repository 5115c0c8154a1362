"""Openness: how much of the sky, or of the ground below, a cell has around it (Yokoyama, Shirasawa & Pike 2002, PE&RS 68)."""

from __future__ import annotations

import math

import numba
import numpy as np

from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import ANGLE


@numba.njit(cache=True, nogil=True, parallel=True)
def _openness_rows(z, widths, heights, scale, reach, sign, first, last, out):  # type: ignore[no-untyped-def]  # numba infers the types
    """Mean over eight directions of the angle from the zenith (``sign`` 1) or nadir (-1) to the horizon."""
    rows, cols = z.shape
    for r in numba.prange(first, last):
        dx, dy = widths[r], heights[r]
        for c in range(cols):
            here = z[r, c]
            if here != here:
                out[r, c] = np.float32(np.nan)
                continue
            total, n = 0.0, 0
            for k in range(8):
                dr = (-1, -1, 0, 1, 1, 1, 0, -1)[k]
                dc = (0, 1, 1, 1, 0, -1, -1, -1)[k]
                step = math.sqrt((dr * dy) ** 2 + (dc * dx) ** 2)
                best = -np.inf
                i, j, d = r + dr, c + dc, step
                while d <= reach * (1.0 + 1e-9) and 0 <= i < rows and 0 <= j < cols:
                    v = z[i, j]
                    if v == v:
                        best = max(best, sign * (v - here) * scale / d)
                    i += dr
                    j += dc
                    d += step
                if best > -np.inf:
                    total += 90.0 - math.degrees(math.atan(best))
                    n += 1
            out[r, c] = np.float32(total / n) if n else np.float32(np.nan)


def openness(dem: Surface, radius: float, positive: bool = True, progress: Progress | None = None) -> Surface:
    """Openness in degrees within ``radius`` metres: above 90 on domes (positive) or in hollows (negative), 90 on a plane.

    Raises AskedWronglyError for a radius below a cell.
    """
    cell = min(dem.frame.cell_metres)
    if radius < cell:
        raise AskedWronglyError(f"A radius of {radius:g} m is less than a cell ({cell:.4g} m).", "Use a larger one.")
    out, (level, _) = np.empty(dem.frame.shape, np.float32), dem.levelled
    for first, last in (progress or silent()).blocks(dem.frame.rows, 64, "Looking around each cell"):
        _openness_rows(
            level.values, dem.frame.row_widths, dem.frame.row_heights, dem.metres_per_height, radius,
            1.0 if positive else -1.0, first, last, out,
        )  # fmt: skip
    return Surface(out, dem.frame, ANGLE, "openness")

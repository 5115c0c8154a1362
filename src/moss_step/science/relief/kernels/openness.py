"""Kernels: openness: how much of the sky, or of the ground below, a cell has around it (Yokoyama, Shirasawa &
Pike 2002, PE&RS 68).
"""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def openness_rows(z, widths, heights, scale, reach, sign, first, last, out):
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

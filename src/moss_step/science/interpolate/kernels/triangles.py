"""Kernels: values of a triangulation at the middles of cells."""

from __future__ import annotations

import numba
import numpy as np

_NEAR = 1e-9
_BANDS = 2


@numba.njit(inline="always", cache=True)
def _lean(ax, ay, bx, by):
    """Columns that a side moves by from row to row; 0 for a level one."""
    return (bx - ax) / (by - ay) if by != ay else 0.0


@numba.njit(inline="always", cache=True)
def _crossing(r, ax, ay, bx, by, lean, low, high):
    """Widen an interval of columns by where a row crosses a side."""
    if r < min(ay, by) - _NEAR or r > max(ay, by) + _NEAR:
        return low, high
    if ay == by:
        return min(low, ax, bx), max(high, ax, bx)
    at = min(max(ax + (r - ay) * lean, min(ax, bx)), max(ax, bx))
    return min(low, at), max(high, at)


@numba.njit(cache=True, nogil=True, parallel=True)
def fill_triangles(x, y, z, triangles, wide, high, longest, out):
    """Heights on triangles at the cells of a grid; ``x`` and ``y`` are columns and rows of the points,
    counted from the middle of the first cell. Triangles with a side longer than ``longest`` are left out;
    ``wide`` and ``high`` are the sides of a cell in its unit.

    Bands of rows are filled side by side: each cell is written by one thread.
    """
    rows, cols = out.shape
    most = longest * longest
    held = np.empty((x.size, 3))  # what belongs to a point lies together
    for i in numba.prange(x.size):
        held[i, 0], held[i, 1], held[i, 2] = x[i], y[i], z[i]
    for band in numba.prange(_BANDS):
        top, bottom = band * rows // _BANDS, (band + 1) * rows // _BANDS - 1
        for t in range(triangles.shape[0]):
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            ay, by, cy = held[a, 1], held[b, 1], held[c, 1]
            first = max(int(np.ceil(min(ay, by, cy) - _NEAR)), top)
            last = min(int(np.floor(max(ay, by, cy) + _NEAR)), bottom)
            if first > last:
                continue
            ax, bx, cx = held[a, 0], held[b, 0], held[c, 0]
            if max(ax, bx, cx) < -_NEAR or min(ax, bx, cx) > cols - 1 + _NEAR:
                continue
            ab = ((ax - bx) * wide) ** 2 + ((ay - by) * high) ** 2
            bc = ((bx - cx) * wide) ** 2 + ((by - cy) * high) ** 2
            ca = ((cx - ax) * wide) ** 2 + ((cy - ay) * high) ** 2
            twice = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
            if max(ab, bc, ca) > most or twice == 0.0:
                continue
            az, u, v = held[a, 2], held[b, 2] - held[a, 2], held[c, 2] - held[a, 2]
            across = (u * (cy - ay) - v * (by - ay)) / twice
            down = (v * (bx - ax) - u * (cx - ax)) / twice
            # A sliver is steep: rounding must not carry a cell beyond its corners.
            floor, top_z = az + min(0.0, u, v), az + max(0.0, u, v)
            ab, bc, ca = _lean(ax, ay, bx, by), _lean(bx, by, cx, cy), _lean(cx, cy, ax, ay)
            for r in range(first, last + 1):
                low, far = _crossing(r, ax, ay, bx, by, ab, np.inf, -np.inf)
                low, far = _crossing(r, bx, by, cx, cy, bc, low, far)
                low, far = _crossing(r, cx, cy, ax, ay, ca, low, far)
                if low > far:
                    continue
                left, right = max(int(np.ceil(low - _NEAR)), 0), min(int(np.floor(far + _NEAR)), cols - 1)
                start = az + down * (r - ay)
                for k in range(left, right + 1):
                    out[r, k] = min(max(start + across * (k - ax), floor), top_z)

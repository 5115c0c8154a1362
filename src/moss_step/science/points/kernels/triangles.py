"""Kernels: values of a triangulation at the middles of cells."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def fill_triangles(x, y, z, triangles, wide, high, longest, out):
    """Heights on triangles at the cells of a grid; ``x`` and ``y`` are columns and rows of the points,
    counted from the middle of the first cell. Triangles with a side longer than ``longest`` are left out;
    ``wide`` and ``high`` are the sides of a cell in its unit.
    """
    rows, cols = out.shape
    most = longest * longest
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by, cx, cy = x[a], y[a], x[b], y[b], x[c], y[c]
        ab = ((ax - bx) * wide) ** 2 + ((ay - by) * high) ** 2
        bc = ((bx - cx) * wide) ** 2 + ((by - cy) * high) ** 2
        ca = ((cx - ax) * wide) ** 2 + ((cy - ay) * high) ** 2
        if max(ab, bc, ca) > most:
            continue
        twice = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if twice == 0.0:
            continue
        first = max(int(np.ceil(min(ay, by, cy) - 1e-9)), 0)
        last = min(int(np.floor(max(ay, by, cy) + 1e-9)), rows - 1)
        left = max(int(np.ceil(min(ax, bx, cx) - 1e-9)), 0)
        right = min(int(np.floor(max(ax, bx, cx) + 1e-9)), cols - 1)
        for r in range(first, last + 1):
            for k in range(left, right + 1):
                u = ((bx - k) * (cy - r) - (cx - k) * (by - r)) / twice
                v = ((cx - k) * (ay - r) - (ax - k) * (cy - r)) / twice
                w = 1.0 - u - v
                if u >= -1e-9 and v >= -1e-9 and w >= -1e-9:
                    out[r, k] = u * z[a] + v * z[b] + w * z[c]

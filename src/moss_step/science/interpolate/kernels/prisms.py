"""Kernels: what lies on one side of a level over triangles."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True)
def _part(area, a, b, c):
    """Share of a triangle's plan area where depths a, b and c (at its corners) are above 0, and the volume
    there: cut exactly, as depth runs straight along each side.
    """
    wet = (a > 0) + (b > 0) + (c > 0)
    if wet == 0:
        return 0.0, 0.0
    if wet == 3:
        return area, area * (a + b + c) / 3.0
    if wet == 1:
        if b > 0:
            a, b = b, a
        elif c > 0:
            a, c = c, a
        share = (a / (a - b)) * (a / (a - c))
        return area * share, area * share * a / 3.0
    if b <= 0:
        a, b = b, a
    elif c <= 0:
        a, c = c, a
    # What is left of the whole once the dry corner, a, is taken off.
    dry = (a / (a - b)) * (a / (a - c))
    return area * (1.0 - dry), area * ((a + b + c) / 3.0 - dry * a / 3.0)


@numba.njit(cache=True, nogil=True)
def below_level(x, y, z, triangles, level, below, sums):
    """Add to ``sums`` the volume, plan area and area on the ground of triangles below a level, or above it,
    and put the greatest depth in the last. All in metres.
    """
    sign = 1.0 if below else -1.0
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ux, uy, uz = x[b] - x[a], y[b] - y[a], z[b] - z[a]
        vx, vy, vz = x[c] - x[a], y[c] - y[a], z[c] - z[a]
        plan = 0.5 * abs(ux * vy - uy * vx)
        if plan == 0.0:
            continue
        da, db, dc = sign * (level - z[a]), sign * (level - z[b]), sign * (level - z[c])
        area, volume = _part(plan, da, db, dc)
        if area > 0.0:
            nx, ny = uy * vz - uz * vy, uz * vx - ux * vz
            slanted = 0.5 * np.sqrt(nx * nx + ny * ny + (2.0 * plan) ** 2)
            sums[0] += volume
            sums[1] += area
            sums[2] += area * slanted / plan
            sums[3] = max(sums[3], da, db, dc)


@numba.njit(cache=True, nogil=True, parallel=True)
def cells_below(values, steep, row_areas, level, below, sums):
    """Add to ``sums`` the volume (square metres times the unit of heights), plan area and area on the ground
    of cells below a level, or above it, and put the greatest depth in the last; ``steep`` is the area on the
    ground over that on the plan.
    """
    rows, cols = values.shape
    sign = 1.0 if below else -1.0
    parts = np.zeros((rows, 4))
    for r in numba.prange(rows):
        volume, count, ground, deepest = 0.0, 0, 0.0, 0.0
        for c in range(cols):
            depth = sign * (level - np.float64(values[r, c]))
            if depth > 0.0:
                volume += depth
                count += 1
                ground += steep[r, c]
                deepest = max(deepest, depth)
        parts[r, 0], parts[r, 1] = volume * row_areas[r], count * row_areas[r]
        parts[r, 2], parts[r, 3] = ground * row_areas[r], deepest
    for r in range(rows):
        sums[0] += parts[r, 0]
        sums[1] += parts[r, 1]
        sums[2] += parts[r, 2]
        sums[3] = max(sums[3], parts[r, 3])

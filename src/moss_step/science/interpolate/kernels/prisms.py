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

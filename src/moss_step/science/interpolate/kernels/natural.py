"""Kernels: natural neighbours on a triangulation whose edges know their twins."""

from __future__ import annotations

import numba
import numpy as np

_NEAR = 1e-9
_ROOM = 512
"""Triangles whose circle may hold one place; a place with more takes the plane of its triangle."""


@numba.njit(cache=True, nogil=True)
def twins_of(triangles, points, twins):
    """Fill for each edge, three to a triangle, the same one of the triangle beside, -1 on the hull."""
    count = triangles.shape[0]
    # Edges that leave a point are chained, so that the way back is found without a table of pairs.
    first = np.full(points, -1, np.int64)
    after = np.empty(3 * count, np.int64)
    for e in range(3 * count):
        a = triangles[e // 3, e % 3]
        after[e] = first[a]
        first[a] = e
    for e in range(3 * count):
        a, b = triangles[e // 3, e % 3], triangles[e // 3, (e + 1) % 3]
        twins[e] = -1
        g = first[b]
        while g != -1:
            if triangles[g // 3, (g % 3 + 1) % 3] == a:
                twins[e] = g
                break
            g = after[g]


@numba.njit(cache=True, error_model="numpy")
def _circle(ax, ay, bx, by, cx, cy):
    """Middle of the circle through three points."""
    dx, dy, ex, ey = bx - ax, by - ay, cx - ax, cy - ay
    twice = 2.0 * (dx * ey - dy * ex)
    d2, e2 = dx * dx + dy * dy, ex * ex + ey * ey
    return ax + (ey * d2 - dy * e2) / twice, ay + (dx * e2 - ex * d2) / twice


@numba.njit(cache=True, nogil=True, error_model="numpy")
def circles(x, y, triangles, out):
    """Middle and squared radius of the circle of each triangle (m, 3)."""
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        u, v = _circle(x[a], y[a], x[b], y[b], x[c], y[c])
        out[t, 0], out[t, 1] = u, v
        out[t, 2] = (u - x[a]) ** 2 + (v - y[a]) ** 2


@numba.njit(cache=True)
def _turn(ax, ay, bx, by, px, py):
    return (bx - ax) * (py - ay) - (by - ay) * (px - ax)


@numba.njit(cache=True, nogil=True)
def _walk(t, px, py, x, y, triangles, twins, sense):
    """The triangle that holds a place, walked to from another; -1 outside the hull."""
    for _ in range(4 * triangles.shape[0] + 8):
        moved = False
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            if sense * _turn(x[a], y[a], x[b], y[b], px, py) < 0.0:
                other = twins[3 * t + k]
                if other == -1:
                    return -1
                t = other // 3
                moved = True
                break
        if not moved:
            return t
    return -1


@numba.njit(cache=True)
def _on_edge(t, px, py, x, y, z, triangles):
    """The value where a place lies on an edge or corner of its triangle, else NaN."""
    for k in range(3):
        a, b = triangles[t, k], triangles[t, (k + 1) % 3]
        dx, dy = x[b] - x[a], y[b] - y[a]
        d2 = dx * dx + dy * dy
        if abs(_turn(x[a], y[a], x[b], y[b], px, py)) <= _NEAR * d2:
            s = ((px - x[a]) * dx + (py - y[a]) * dy) / d2
            if s <= _NEAR:
                return z[a]
            if s >= 1.0 - _NEAR:
                return z[b]
            return z[a] + s * (z[b] - z[a])
    return np.nan


@numba.njit(cache=True)
def _plane(t, px, py, x, y, z, triangles):
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    whole = _turn(x[a], y[a], x[b], y[b], x[c], y[c])
    u = _turn(x[b], y[b], x[c], y[c], px, py) / whole
    v = _turn(x[c], y[c], x[a], y[a], px, py) / whole
    return u * z[a] + v * z[b] + (1.0 - u - v) * z[c]


@numba.njit(cache=True, nogil=True)
def _cavity(t, px, py, circle, twins, held, stamp, mark):
    """Triangles whose circle holds a place, from the one that holds it itself; gives their number, or -1
    for too many.
    """
    held[0], count = t, 1
    mark[t] = stamp
    n = 0
    while n < count:
        t = held[n]
        n += 1
        for k in range(3):
            g = twins[3 * t + k]
            if g == -1 or mark[g // 3] == stamp:
                continue
            o = g // 3
            u, v = px - circle[o, 0], py - circle[o, 1]
            if u * u + v * v < circle[o, 2] * (1.0 - 1e-12):
                if count == held.size:
                    return -1
                mark[o] = stamp
                held[count] = o
                count += 1
    return count


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _stolen(held, count, px, py, mesh, stamp, mark):
    """Value at a place by the areas that it takes from the cells of its neighbours (Sibson 1981)."""
    x, y, z, triangles, twins, circle = mesh
    start = -1
    for n in range(count):
        for k in range(3):
            g = twins[3 * held[n] + k]
            if g == -1 or mark[g // 3] != stamp:
                start = 3 * held[n] + k
                break
        if start != -1:
            break
    e, whole, total = start, 0.0, 0.0
    a, b = triangles[e // 3, e % 3], triangles[e // 3, (e % 3 + 1) % 3]
    ux, uy = _circle(px, py, x[a], y[a], x[b], y[b])
    for _ in range(6 * count + 6):
        # Around the far corner of the edge, through the triangles of the cavity, to the next edge of it.
        corner = b
        fx, fy = ux, uy
        area = 0.0
        t = e // 3
        while True:
            area += (fx - px) * (circle[t, 1] - py) - (circle[t, 0] - px) * (fy - py)
            fx, fy = circle[t, 0], circle[t, 1]
            f = 3 * t + (e % 3 + 1) % 3
            g = twins[f]
            if g == -1 or mark[g // 3] != stamp:
                break
            e, t = g, g // 3
        e = f
        a, b = triangles[e // 3, e % 3], triangles[e // 3, (e % 3 + 1) % 3]
        vx, vy = _circle(px, py, x[a], y[a], x[b], y[b])
        area += (fx - px) * (vy - py) - (vx - px) * (fy - py)
        area += (vx - px) * (uy - py) - (ux - px) * (vy - py)
        ux, uy = vx, vy
        area = abs(area)
        whole += area
        total += area * z[corner]
        if e == start:
            break
    return total / whole


@numba.njit(cache=True)
def _at_corner(t, px, py, x, y, triangles):
    """Whether a place is a corner of its triangle."""
    for k in range(3):
        a, b = triangles[t, k], triangles[t, (k + 1) % 3]
        d2 = (x[b] - x[a]) ** 2 + (y[b] - y[a]) ** 2
        if (px - x[a]) ** 2 + (py - y[a]) ** 2 <= _NEAR * _NEAR * d2:
            return True
    return False


@numba.njit(cache=True, nogil=True, parallel=True)
def natural(px, py, mesh, sense, flat, bands, out):
    """Values at places, which follow each other closely, by their natural neighbours; NaN outside the hull.

    ``mesh`` are points with values, triangles, twins and circles. ``sense`` is 1 where triangles run against
    the clock, -1 with it; ``bands`` are worked on side by side; ``flat`` gives values on triangles.
    """
    x, y, z, triangles, twins, circle = mesh
    for band in numba.prange(bands):
        mark = np.zeros(triangles.shape[0], np.int32)
        held = np.empty(_ROOM, np.int64)
        t, stamp = np.int64(0), np.int32(0)
        for i in range(band * px.size // bands, (band + 1) * px.size // bands):
            inside = _walk(t, px[i], py[i], x, y, triangles, twins, sense)
            if inside == -1:
                out[i] = np.nan
                continue
            t, stamp = inside, stamp + np.int32(1)
            hit = _on_edge(t, px[i], py[i], x, y, z, triangles)
            outer = twins[3 * t] == -1 or twins[3 * t + 1] == -1 or twins[3 * t + 2] == -1
            if hit == hit and (outer or _at_corner(t, px[i], py[i], x, y, triangles)):
                out[i] = hit
                continue
            if flat:
                out[i] = _plane(t, px[i], py[i], x, y, z, triangles)
                continue
            count = _cavity(t, px[i], py[i], circle, twins, held, stamp, mark)
            if count == -1:
                out[i] = _plane(t, px[i], py[i], x, y, z, triangles)
            else:
                out[i] = _stolen(held, count, px[i], py[i], mesh, stamp, mark)
                if not np.isfinite(out[i]):  # on the line through two neighbours on a rim
                    out[i] = _plane(t, px[i], py[i], x, y, z, triangles)

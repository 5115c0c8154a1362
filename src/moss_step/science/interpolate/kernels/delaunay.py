"""Kernels: the Delaunay triangulation by a sweep from the middle outwards, with a hull that grows and edges
that are flipped (Sinclair 2010, S-hull).

Edges are numbered three to a triangle; ``twins`` holds the same edge of the triangle beside, -1 on the hull.
Coordinates are whole numbers of at most 25 bits: which side of a line a point lies on is then exact.
"""

from __future__ import annotations

import numba
import numpy as np

_STACK = 512
_IN_CIRCLE = 1.2e-15
"""Error bound of the determinant in double precision (Shewchuk 1997): what is nearer to 0 counts as 0."""


@numba.njit(inline="always", cache=True)
def side(ax, ay, bx, by, cx, cy):
    """Above 0 where a, b and c run clockwise, with y up."""
    return (ay - cy) * (bx - cx) - (ax - cx) * (by - cy)


@numba.njit(inline="always", cache=True)
def in_circle(ax, ay, bx, by, cx, cy, px, py):
    """Whether p lies for certain inside the circle through a, b and c."""
    dx, dy, ex, ey, fx, fy = ax - px, ay - py, bx - px, by - py, cx - px, cy - py
    a2, b2, c2 = dx * dx + dy * dy, ex * ex + ey * ey, fx * fx + fy * fy
    d1, d2, d3 = ex * fy - ey * fx, dx * fy - dy * fx, dx * ey - dy * ex
    most = (
        a2 * (abs(ex * fy) + abs(ey * fx))
        + b2 * (abs(dx * fy) + abs(dy * fx))
        + c2 * (abs(dx * ey) + abs(dy * ex))
    )
    return a2 * d1 - b2 * d2 + c2 * d3 < -_IN_CIRCLE * most


@numba.njit(inline="always", cache=True)
def _key(x, y, mx, my, size):
    """Place of a direction from the middle in the table of the hull."""
    dx, dy = x - mx, y - my
    whole = abs(dx) + abs(dy)
    p = dx / whole if whole > 0 else 0.0
    turn = (3.0 - p if dy > 0 else 1.0 + p) / 4.0
    return int(turn * size) % size


@numba.njit(inline="always", cache=True)
def _link(twins, a, b):
    twins[a] = b
    if b != -1:
        twins[b] = a


@numba.njit(cache=True, nogil=True)
def _flip(a, x, y, corners, twins, hull_start, hull_prev, hull_edge, stack):
    """Flip edges from one on until all are legal; gives the edge that stands for it now."""
    held, ar = 0, 0
    while True:
        b = twins[a]
        a0 = a - a % 3
        ar = a0 + (a + 2) % 3
        if b == -1:
            if held == 0:
                break
            held -= 1
            a = stack[held]
            continue
        b0 = b - b % 3
        al, bl = a0 + (a + 1) % 3, b0 + (b + 2) % 3
        p0, pr, pl, p1 = corners[ar], corners[a], corners[al], corners[bl]
        if in_circle(x[p0], y[p0], x[pr], y[pr], x[pl], y[pl], x[p1], y[p1]):
            corners[a] = p1
            corners[b] = p0
            outer = twins[bl]
            if outer == -1:  # the flipped edge lay on the hull
                e = hull_start
                while True:
                    if hull_edge[e] == bl:
                        hull_edge[e] = a
                        break
                    e = hull_prev[e]
                    if e == hull_start:
                        break
            _link(twins, a, outer)
            _link(twins, b, twins[ar])
            _link(twins, ar, bl)
            if held < _STACK:
                stack[held] = b0 + (b + 1) % 3
                held += 1
        else:
            if held == 0:
                break
            held -= 1
            a = stack[held]
    return ar


@numba.njit(inline="always", cache=True)
def _add(corners, twins, t, i, j, k, a, b, c):
    corners[t], corners[t + 1], corners[t + 2] = i, j, k
    _link(twins, t, a)
    _link(twins, t + 1, b)
    _link(twins, t + 2, c)
    return t + 3


@numba.njit(cache=True, nogil=True)
def _seen(px, py, x, y, table, key, hull_next, hull_prev):
    """An edge of the hull that is seen from a point, by its first corner (-1 for none), and the corner that
    was begun from.
    """
    first = np.int32(0)
    for j in range(table.size):
        first = table[(key + j) % table.size]
        if first != -1 and first != hull_next[first]:
            break
    first = hull_prev[first]
    e = first
    while True:
        q = hull_next[e]
        if side(px, py, x[e], y[e], x[q], y[q]) < 0:
            return e, first
        e = q
        if e == first:
            return np.int32(-1), first


@numba.njit(cache=True, nogil=True)
def sweep(x, y, seeds, mx, my, corners, twins):
    """Fill ``corners`` (room for three of each of 2n triangles) from points that stand in the order of their
    distance from a middle, begun with the triangle of three ``seeds``, which run clockwise; gives how many
    are filled. No two points stand in one place.
    """
    n = x.size
    size = int(np.ceil(np.sqrt(n)))
    table = np.full(size, -1, np.int32)
    hull_next, hull_prev = np.zeros(n, np.int32), np.zeros(n, np.int32)
    hull_edge = np.zeros(n, np.int32)
    stack = np.zeros(_STACK, np.int32)
    i0, i1, i2 = seeds[0], seeds[1], seeds[2]
    start_of_hull = i0
    for k in range(3):
        i, following = seeds[k], seeds[(k + 1) % 3]
        hull_next[i], hull_prev[following], hull_edge[i] = following, i, k
        table[_key(x[i], y[i], mx, my, size)] = i
    count = _add(corners, twins, 0, i0, i1, i2, -1, -1, -1)
    for i in range(n):
        px, py = x[i], y[i]
        if i in (i0, i1, i2):
            continue
        e, first = _seen(px, py, x, y, table, _key(px, py, mx, my, size), hull_next, hull_prev)
        if e == -1:
            continue  # it lies on the hull, where another point stands
        t = count
        count = _add(corners, twins, t, e, i, hull_next[e], -1, -1, hull_edge[e])
        hull_edge[i] = _flip(t + 2, x, y, corners, twins, start_of_hull, hull_prev, hull_edge, stack)
        hull_edge[e] = t
        n_ = hull_next[e]
        while True:  # forward along the hull
            q = hull_next[n_]
            if not side(px, py, x[n_], y[n_], x[q], y[q]) < 0:
                break
            t = count
            count = _add(corners, twins, t, n_, i, q, hull_edge[i], -1, hull_edge[n_])
            hull_edge[i] = _flip(t + 2, x, y, corners, twins, start_of_hull, hull_prev, hull_edge, stack)
            hull_next[n_] = n_
            n_ = q
        if e == first:
            while True:  # and backward
                q = hull_prev[e]
                if not side(px, py, x[q], y[q], x[e], y[e]) < 0:
                    break
                t = count
                count = _add(corners, twins, t, q, i, e, -1, hull_edge[e], hull_edge[q])
                _flip(t + 2, x, y, corners, twins, start_of_hull, hull_prev, hull_edge, stack)
                hull_edge[q] = t
                hull_next[e] = e
                e = q
        start_of_hull = e
        hull_prev[i] = e
        hull_next[e], hull_prev[n_] = i, i
        hull_next[i] = n_
        table[_key(px, py, mx, my, size)] = i
        table[_key(x[e], y[e], mx, my, size)] = e
    return count

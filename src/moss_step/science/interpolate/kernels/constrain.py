"""Kernels: edges that a triangulation must have, forced by flips (Sloan 1993).

Edges are numbered three to a triangle; ``twins`` holds the same edge of the triangle beside, -1 on the hull;
triangles run with the clock where y is up. Coordinates are whole numbers of at most 25 bits, so that sides
of lines are exact.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.interpolate.kernels.delaunay import in_circle, side

DONE, CROSSES, LOST = 0, 1, 2
"""What became of an edge: it is there, it crosses another that must be, or there is no way to it."""


@numba.njit(cache=True, nogil=True)
def leaving_of(corners, leaving):
    """Fill for each point an edge that leaves it, -1 where no triangle has it."""
    leaving[:] = -1
    for e in range(corners.size):
        leaving[corners[e]] = e


@numba.njit(cache=True)
def _next(e):
    return e - 2 if e % 3 == 2 else e + 1


@numba.njit(cache=True)
def _before(e):
    return e + 2 if e % 3 == 0 else e - 1


@numba.njit(cache=True)
def _first_around(e, twins):
    """The first edge that leaves a point, where it lies on the hull; any where it does not."""
    start = e
    while True:
        t = twins[e]
        if t == -1:
            return e
        e = _next(t)
        if e == start:
            return e


@numba.njit(cache=True, nogil=True)
def edge_between(a, b, corners, twins, leaving):
    """The edge from one point to another or back, -1 for none."""
    if leaving[a] == -1:
        return -1
    e = _first_around(leaving[a], twins)
    start = e
    while True:
        if corners[_next(e)] == b:
            return e
        f = _before(e)  # it ends at the point
        if corners[f] == b:
            return f
        e = twins[f]
        if e in (-1, start):
            return -1


@numba.njit(cache=True)
def _link(twins, a, b):
    twins[a] = b
    if b != -1:
        twins[b] = a


@numba.njit(cache=True, nogil=True)
def _flip(a, corners, twins, leaving, fixed):
    """Turn the edge that two triangles share into the other one of their four corners; gives it."""
    b = twins[a]
    al, ar, br, bl = _next(a), _before(a), _next(b), _before(b)
    p0, p1, pl = corners[ar], corners[bl], corners[al]
    pr = corners[a]
    corners[a], corners[b] = p1, p0
    _link(twins, a, twins[bl])
    _link(twins, b, twins[ar])
    _link(twins, ar, bl)
    fixed[a], fixed[b] = fixed[bl], fixed[ar]
    fixed[ar] = fixed[bl] = False
    leaving[p1], leaving[pl], leaving[p0], leaving[pr] = a, al, ar, br
    return ar


@numba.njit(cache=True)
def _apart(ax, ay, bx, by, cx, cy, dx, dy):
    """Whether two points lie strictly on either side of a line through two others."""
    u, v = side(ax, ay, bx, by, cx, cy), side(ax, ay, bx, by, dx, dy)
    return (u > 0 and v < 0) or (u < 0 and v > 0)


@numba.njit(cache=True, nogil=True)
def _first_crossed(a, b, x, y, corners, twins, leaving):
    """The edge across from a point that a line to another crosses, or else, as ``-2 - point``, a point that
    stands on the line; -1 where there is neither.
    """
    e = _first_around(leaving[a], twins)
    start = e
    while True:
        u, v = corners[_next(e)], corners[_before(e)]
        for p in (u, v):
            ahead = (x[p] - x[a]) * (x[b] - x[a]) + (y[p] - y[a]) * (y[b] - y[a]) > 0
            if ahead and side(x[a], y[a], x[b], y[b], x[p], y[p]) == 0:
                return -2 - p
        across = _apart(x[a], y[a], x[b], y[b], x[u], y[u], x[v], y[v])
        # The far side of the line through a is crossed backwards: only what lies ahead counts.
        if across and _apart(x[u], y[u], x[v], y[v], x[a], y[a], x[b], y[b]):
            return _next(e)
        e = twins[_before(e)]
        if e in (-1, start):
            return -1


@numba.njit(cache=True, nogil=True)
def _crossed(a, b, x, y, corners, twins, leaving, fixed, us, vs):
    """Fill the ends of the edges that a line crosses on its way to a point or to the first that stands on it;
    gives their number and that point, or -1 and what is wrong.
    """
    e = _first_crossed(a, b, x, y, corners, twins, leaving)
    if e < -1:
        return 0, -2 - e
    if e == -1:
        return -1, LOST
    count = 0
    while True:
        if fixed[e]:
            return -1, CROSSES
        if count == us.size:
            return -1, LOST
        us[count], vs[count] = corners[e], corners[_next(e)]
        count += 1
        t = twins[e]
        if t == -1:
            return -1, LOST
        p = corners[_before(t)]
        s = side(x[a], y[a], x[b], y[b], x[p], y[p])
        if p == b or s == 0:
            return count, p
        first = _next(t)
        u, v = corners[first], corners[_next(first)]
        su, sv = side(x[a], y[a], x[b], y[b], x[u], y[u]), side(x[a], y[a], x[b], y[b], x[v], y[v])
        e = first if (su > 0 and sv < 0) or (su < 0 and sv > 0) else _before(t)


@numba.njit(cache=True, nogil=True)
def _force(a, b, x, y, mesh, us, vs, count):
    """Flip the crossed edges until none crosses; new ones stand in their place: their number, or -1."""
    corners, twins, leaving, fixed = mesh
    head, held, made = 0, count, 0
    size = us.size
    new_u, new_v = np.empty(count, np.int64), np.empty(count, np.int64)
    tries = 0
    while held > 0:
        tries += 1
        if tries > 64 * count * (1 + count):
            return -1
        u, v = us[head], vs[head]
        head = (head + 1) % size
        held -= 1
        e = edge_between(u, v, corners, twins, leaving)
        if e == -1 or twins[e] == -1:
            return -1
        p, q = corners[_before(e)], corners[_before(twins[e])]
        tail = (head + held) % size
        if not _apart(x[p], y[p], x[q], y[q], x[u], y[u], x[v], y[v]):
            us[tail], vs[tail] = u, v
            held += 1
            continue
        _flip(e, corners, twins, leaving, fixed)
        shares = p in (a, b) or q in (a, b)
        if not shares and _apart(x[a], y[a], x[b], y[b], x[p], y[p], x[q], y[q]):
            us[tail], vs[tail] = p, q
            held += 1
        else:
            new_u[made], new_v[made] = p, q
            made += 1
    for k in range(made):
        us[k], vs[k] = new_u[k], new_v[k]
    return made


@numba.njit(cache=True, nogil=True)
def _restore(a, b, x, y, mesh, us, vs, made):
    """Flip new edges, but for the forced one, until no point lies in a circle that it may not."""
    corners, twins, leaving, fixed = mesh
    for _ in range(2 * made + 4):
        changed = False
        for k in range(made):
            u, v = us[k], vs[k]
            if (u == a and v == b) or (u == b and v == a):
                continue
            e = edge_between(u, v, corners, twins, leaving)
            if e == -1 or twins[e] == -1 or fixed[e]:
                continue
            p, q = corners[_before(e)], corners[_before(twins[e])]
            pr, pl = corners[e], corners[_next(e)]
            if in_circle(x[p], y[p], x[pr], y[pr], x[pl], y[pl], x[q], y[q]) and _apart(
                x[p], y[p], x[q], y[q], x[u], y[u], x[v], y[v]
            ):
                _flip(e, corners, twins, leaving, fixed)
                us[k], vs[k] = p, q
                changed = True
        if not changed:
            return


@numba.njit(cache=True, nogil=True)
def constrain(edges, x, y, corners, twins, leaving, fixed, room):
    """Force edges (m, 2) into a triangulation one after the other; gives the number of the first that fails
    (m for none) and why.
    """
    us, vs = np.empty(room, np.int64), np.empty(room, np.int64)
    mesh = (corners, twins, leaving, fixed)
    for n in range(edges.shape[0]):
        a, b = edges[n, 0], edges[n, 1]
        while a != b:
            if leaving[a] == -1 or leaving[b] == -1:
                return n, LOST
            e = edge_between(a, b, corners, twins, leaving)
            if e != -1:
                fixed[e] = True
                if twins[e] != -1:
                    fixed[twins[e]] = True
                break
            count, end = _crossed(a, b, x, y, corners, twins, leaving, fixed, us, vs)
            if count == -1:
                return n, end
            if count > 0:
                made = _force(a, end, x, y, mesh, us, vs, count)
                if made == -1:
                    return n, LOST
                _restore(a, end, x, y, mesh, us, vs, made)
            e = edge_between(a, end, corners, twins, leaving)
            if e == -1:
                return n, LOST
            fixed[e] = True
            if twins[e] != -1:
                fixed[twins[e]] = True
            a = end
    return edges.shape[0], DONE

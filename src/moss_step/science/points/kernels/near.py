"""Kernels: points near to points. Points lie column after column of square cells, and within one from low to
high: of each of the nine columns around a point a window of heights moves up with it.
"""

from __future__ import annotations

import numba
import numpy as np

FAST = {"reassoc", "nsz", "contract", "nnan"}
PART = 4096
"""Points whose measures one core works out at once."""


@numba.njit(inline="always")
def dealt(k, count):
    """Place of the k-th row when rows are dealt out in turn: what is crowded at one side keeps all cores at
    work.
    """
    half = (count + 1) // 2
    return 2 * k if k < half else 2 * (k - half) + 1


@numba.njit(inline="always")
def columns_around(row, col, rows, cols, starts, first, last):
    """First points and ends of the columns around a cell; how many there are."""
    count = 0
    for r in range(max(row - 1, 0), min(row + 2, rows)):
        for c in range(max(col - 1, 0), min(col + 2, cols)):
            cell = r * cols + c
            if starts[cell + 1] > starts[cell]:
                first[count] = starts[cell]
                last[count] = starts[cell + 1]
                count += 1
    return count


@numba.njit(cache=True, nogil=True)
def slab_end(z, at, end, radius):
    """End of the points that lie at most a radius above one of their column."""
    top = z[at] + radius
    while at < end and z[at] <= top:
        at += 1
    return at


@numba.njit(cache=True, nogil=True)
def around_slab(held, last, count, low, high, bounds, into):
    """Copy what points of some columns hold (x, y, z and perhaps more) between two heights, which only move
    up, into rows; how many these are. ``low`` and ``high`` are the ends of the windows so far.
    """
    n, z = 0, held[2]
    for c in range(count):
        at = low[c]
        while at < last[c] and z[at] < bounds[0]:
            at += 1
        low[c] = at
        up = max(high[c], at)
        while up < last[c] and z[up] <= bounds[1]:
            up += 1
        high[c] = up
        for k in range(up - at):
            for one in range(len(held)):
                into[one, n + k] = held[one][at + k]
        n += up - at
    return n


@numba.njit(cache=True, nogil=True)
def most_around(starts, rows, cols):
    """Most points that the nine columns around a cell hold."""
    most = 0
    for row in range(rows):
        for col in range(cols):
            held = 0
            for r in range(max(row - 1, 0), min(row + 2, rows)):
                first = r * cols + max(col - 1, 0)
                held += starts[r * cols + min(col + 2, cols)] - starts[first]
            most = max(most, held)
    return most


@numba.njit(cache=True, nogil=True, fastmath=FAST)
def _moments(x, y, z, px, py, pz, square, into):
    """Count, sums and products of the points within a ball."""
    n = sx = sy = sz = sxx = sxy = sxz = syy = syz = szz = 0.0
    for k in range(x.size):
        dx, dy, dz = x[k] - px, y[k] - py, z[k] - pz
        w = 1.0 if dx * dx + dy * dy + dz * dz <= square else 0.0
        wx, wy, wz = w * dx, w * dy, w * dz
        n += w
        sx += wx
        sy += wy
        sz += wz
        sxx += wx * dx
        sxy += wx * dy
        sxz += wx * dz
        syy += wy * dy
        syz += wy * dz
        szz += wz * dz
    into[0], into[1], into[2], into[3] = n, sx, sy, sz
    into[4], into[5], into[6], into[7], into[8], into[9] = sxx, sxy, sxz, syy, syz, szz


@numba.njit(parallel=True, nogil=True, cache=True)
def moments(x, y, z, starts, shape, radius, out):
    """Count, sums and products of the points within a radius of each, itself among them, all as seen from it:
    ``out`` (n, 10). Those of a column within a radius of height share the points around them.
    """
    rows, cols = shape
    most = most_around(starts, rows, cols)
    square = radius * radius
    for k in numba.prange(rows):
        row = dealt(k, rows)
        first, last = np.empty(9, np.int64), np.empty(9, np.int64)
        low, high, near = np.empty(9, np.int64), np.empty(9, np.int64), np.empty((3, most))
        for col in range(cols):
            at, end = starts[row * cols + col], starts[row * cols + col + 1]
            count = columns_around(row, col, rows, cols, starts, first, last)
            low[:], high[:] = first, first
            while at < end:
                up = slab_end(z, at, end, radius)
                bounds = (z[at] - radius, z[up - 1] + radius)
                n = around_slab((x, y, z), last, count, low, high, bounds, near)
                for i in range(at, up):
                    _moments(near[0, :n], near[1, :n], near[2, :n], x[i], y[i], z[i], square, out[i])
                at = up


@numba.njit(cache=True, nogil=True)
def _reached(x, y, z, first, last, step, px, py, pz, square):
    """Height over a point of the first of a run, from ``first`` on by ``step``, within a ball; 0 without."""
    at = first
    while at != last:
        dx, dy, dz = x[at] - px, y[at] - py, z[at] - pz
        if dx * dx + dy * dy + dz * dz <= square:
            return dz
        at += step
    return 0.0


@numba.njit(parallel=True, nogil=True, cache=True)
def reaches(x, y, z, starts, shape, radius, out):
    """How far the points within a radius of each reach from the lowest to the highest: ``out`` (n)."""
    rows, cols = shape
    square = radius * radius
    for k in numba.prange(rows):
        row = dealt(k, rows)
        first, last = np.empty(9, np.int64), np.empty(9, np.int64)
        low, high = np.empty(9, np.int64), np.empty(9, np.int64)
        for col in range(cols):
            count = columns_around(row, col, rows, cols, starts, first, last)
            low[:], high[:] = first, first
            for i in range(starts[row * cols + col], starts[row * cols + col + 1]):
                least = most = 0.0
                for c in range(count):
                    while low[c] < last[c] and z[low[c]] < z[i] - radius:
                        low[c] += 1
                    high[c] = max(high[c], low[c])
                    while high[c] < last[c] and z[high[c]] <= z[i] + radius:
                        high[c] += 1
                    least = min(least, _reached(x, y, z, low[c], high[c], 1, x[i], y[i], z[i], square))
                    most = max(most, _reached(x, y, z, high[c] - 1, low[c] - 1, -1, x[i], y[i], z[i], square))
                out[i] = most - least


@numba.njit(cache=True, nogil=True, fastmath=FAST)
def _sums(x, y, z, values, px, py, pz, base, square, into):
    """Count, sum and squares of values, less a base, of the points within a ball."""
    n = s = q = 0.0
    for k in range(x.size):
        dx, dy, dz = x[k] - px, y[k] - py, z[k] - pz
        w = 1.0 if dx * dx + dy * dy + dz * dz <= square else 0.0
        v = values[k] - base
        n += w
        s += w * v
        q += w * v * v
    into[0], into[1], into[2] = n, s, q


@numba.njit(parallel=True, nogil=True, cache=True)
def means(x, y, z, values, starts, shape, radius, out):
    """Mean and standard deviation of values of the points within a radius of each: ``out`` (n, 2)."""
    rows, cols = shape
    most = most_around(starts, rows, cols)
    square = radius * radius
    for k in numba.prange(rows):
        row = dealt(k, rows)
        first, last = np.empty(9, np.int64), np.empty(9, np.int64)
        low, high, near = np.empty(9, np.int64), np.empty(9, np.int64), np.empty((4, most))
        into = np.empty(3)
        for col in range(cols):
            at, end = starts[row * cols + col], starts[row * cols + col + 1]
            count = columns_around(row, col, rows, cols, starts, first, last)
            low[:], high[:] = first, first
            while at < end:
                up = slab_end(z, at, end, radius)
                bounds = (z[at] - radius, z[up - 1] + radius)
                n = around_slab((x, y, z, values), last, count, low, high, bounds, near)
                for i in range(at, up):
                    _sums(
                        near[0, :n], near[1, :n], near[2, :n], near[3, :n], x[i], y[i], z[i], values[i],
                        square, into,
                    )  # fmt: skip
                    mean = into[1] / into[0]
                    out[i, 0] = mean + values[i]
                    out[i, 1] = np.sqrt(max(into[2] / into[0] - mean * mean, 0.0))
                at = up


@numba.njit(cache=True, nogil=True, fastmath=FAST)
def _beside(x, y, first, last, px, py, square):
    """Points of a run within a circle."""
    n = 0
    for k in range(last - first):
        dx, dy = x[first + k] - px, y[first + k] - py
        n += 1 if dx * dx + dy * dy <= square else 0
    return n


@numba.njit(parallel=True, nogil=True, cache=True)
def above_and_below(x, y, starts, shape, radius, out):
    """Points within a radius of each on the plan, whatever their heights: ``out`` (n)."""
    rows, cols = shape
    for k in numba.prange(rows):
        row = dealt(k, rows)
        first, last = np.empty(9, np.int64), np.empty(9, np.int64)
        for col in range(cols):
            cell = row * cols + col
            if starts[cell] == starts[cell + 1]:
                continue
            count = columns_around(row, col, rows, cols, starts, first, last)
            for i in range(starts[cell], starts[cell + 1]):
                held = 0
                for c in range(count):
                    held += _beside(x, y, first[c], last[c], x[i], y[i], radius * radius)
                out[i] = held


@numba.njit(cache=True, nogil=True)
def _turn(pp, qq, pq):
    """Sine, cosine and tangent of the turn by which the element beside the diagonal becomes 0."""
    if pq == 0.0:
        return 0.0, 1.0, 0.0
    theta = (qq - pp) / (2.0 * pq)
    t = (1.0 if theta >= 0.0 else -1.0) / (abs(theta) + np.sqrt(theta * theta + 1.0))
    c = 1.0 / np.sqrt(t * t + 1.0)
    return t * c, c, t


@numba.njit(cache=True, nogil=True)
def axes_of(xx, xy, xz, yy, yz, zz, values, vectors):
    """Eigenvalues of a symmetric matrix, rising, and eigenvectors in the columns of ``vectors``: Jacobi's
    rotations (Jacobi 1846; Golub & Van Loan 2013, 8.5).
    """
    a0, a1, a2 = 1.0, 0.0, 0.0
    b0, b1, b2 = 0.0, 1.0, 0.0
    c0, c1, c2 = 0.0, 0.0, 1.0
    for _ in range(12):
        if abs(xy) + abs(xz) + abs(yz) <= 1e-11 * (abs(xx) + abs(yy) + abs(zz)):
            break
        s, c, t = _turn(xx, yy, xy)
        xx, yy, xy = xx - t * xy, yy + t * xy, 0.0
        xz, yz = c * xz - s * yz, s * xz + c * yz
        a0, b0 = c * a0 - s * b0, s * a0 + c * b0
        a1, b1 = c * a1 - s * b1, s * a1 + c * b1
        a2, b2 = c * a2 - s * b2, s * a2 + c * b2
        s, c, t = _turn(xx, zz, xz)
        xx, zz, xz = xx - t * xz, zz + t * xz, 0.0
        xy, yz = c * xy - s * yz, s * xy + c * yz
        a0, c0 = c * a0 - s * c0, s * a0 + c * c0
        a1, c1 = c * a1 - s * c1, s * a1 + c * c1
        a2, c2 = c * a2 - s * c2, s * a2 + c * c2
        s, c, t = _turn(yy, zz, yz)
        yy, zz, yz = yy - t * yz, zz + t * yz, 0.0
        xy, xz = c * xy - s * xz, s * xy + c * xz
        b0, c0 = c * b0 - s * c0, s * b0 + c * c0
        b1, c1 = c * b1 - s * c1, s * b1 + c * c1
        b2, c2 = c * b2 - s * c2, s * b2 + c * c2
    if yy < xx:
        xx, yy, a0, a1, a2, b0, b1, b2 = yy, xx, b0, b1, b2, a0, a1, a2
    if zz < xx:
        xx, zz, a0, a1, a2, c0, c1, c2 = zz, xx, c0, c1, c2, a0, a1, a2
    if zz < yy:
        yy, zz, b0, b1, b2, c0, c1, c2 = zz, yy, c0, c1, c2, b0, b1, b2
    values[0], values[1], values[2] = xx, yy, zz
    vectors[0, 0], vectors[1, 0], vectors[2, 0] = a0, a1, a2
    vectors[0, 1], vectors[1, 1], vectors[2, 1] = b0, b1, b2
    vectors[0, 2], vectors[1, 2], vectors[2, 2] = c0, c1, c2


@numba.njit(parallel=True, nogil=True, cache=True)
def forms(held, radius, out):
    """Measures of shape from moments: ``out`` (n, 15) as `measures.FORMS` names them; NaN where fewer than
    three points, or points in one place, have no shape.
    """
    parts = -(-held.shape[0] // PART)
    for part in numba.prange(parts):
        a, v = np.empty(3), np.empty((3, 3))
        for i in range(part * PART, min((part + 1) * PART, held.shape[0])):
            _form(held[i], radius, a, v, out[i])


@numba.njit(cache=True, nogil=True)
def _form(held, radius, a, v, out):
    n = held[0]
    out[:] = np.nan
    out[0] = n / (4.0 / 3.0 * np.pi * radius**3)
    if n < 3.0:
        return
    mx, my, mz = held[1] / n, held[2] / n, held[3] / n
    deep = held[9] / n - mz * mz
    out[1] = np.sqrt(max(deep, 0.0))
    axes_of(
        held[4] / n - mx * mx, held[5] / n - mx * my, held[6] / n - mx * mz, held[7] / n - my * my,
        held[8] / n - my * mz, deep, a, v,
    )  # fmt: skip
    one, two, three = max(a[2], 0.0), max(a[1], 0.0), max(a[0], 0.0)
    if one <= 1e-12 * radius * radius:
        return
    total = one + two + three
    e1, e2, e3 = one / total, two / total, three / total
    out[2] = (one - two) / one
    out[3] = (two - three) / one
    out[4] = three / one
    out[5] = np.cbrt(e1 * e2 * e3)
    out[6] = (one - three) / one
    entropy = 0.0
    for e in (e1, e2, e3):
        if e > 0.0:
            entropy -= e * np.log(e)
    out[7] = entropy
    out[8] = e3
    # A line has no plane: its points lie in many, and none tells how steep it stands.
    if two > 1e-9 * one:
        nx, ny, nz = v[0, 0], v[1, 0], v[2, 0]
        up = 1.0 if nz >= 0.0 else -1.0
        out[9] = 1.0 - abs(nz)
        out[10] = abs(nx * mx + ny * my + nz * mz)
        out[11], out[12], out[13] = up * nx, up * ny, up * nz
    out[14] = np.sqrt(three)

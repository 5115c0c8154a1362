"""Kernels: the exact share of each cell inside outlines, row by row, and what is cut and filled there.

Each piece of an edge adds to a cell the share of it that lies to the right, and to the next what is left of
its rise; a running sum along the row is the share inside. It is how outlines of letters are filled with exact
coverage, by signed areas.
"""

from __future__ import annotations

import numba
import numpy as np

SUMS = 8
"""Sums of a row: cut, fill, area of each, whole area, that without a height, deepest cut and fill."""
LEAST = 1e-12
"""Share of a cell that is none."""


@numba.njit(inline="always", cache=True)
def add_piece(share, u0, u1, rise, cols):
    """Add a piece of an edge that lies in one row: from column ``u0`` to ``u1``, rising by ``rise``."""
    if u0 > u1:
        u0, u1 = u1, u0
    if u1 <= 0.0:  # all to the left: the whole row lies to the right of it
        share[0] += rise
        return
    if u0 >= cols:
        return
    whole = u1 - u0
    if u0 < 0.0:
        share[0] += rise * (0.0 - u0) / whole
        rise -= rise * (0.0 - u0) / whole
        u0 = 0.0
        whole = u1 - u0
    if u1 > cols:
        rise -= rise * (u1 - cols) / whole
        u1 = float(cols)
        whole = u1 - u0
    first = min(int(u0), cols - 1)
    last = min(int(u1), cols - 1)
    if first == last or whole <= 0.0:
        middle = 0.5 * (u0 + u1) - first
        share[first] += rise * (1.0 - middle)
        share[first + 1] += rise * middle
        return
    left = u0
    for c in range(first, last + 1):
        right = min(u1, c + 1.0)
        part = rise * (right - left) / whole
        middle = 0.5 * (left + right) - c
        share[c] += part * (1.0 - middle)
        share[c + 1] += part * middle
        left = right


@numba.njit(inline="always", cache=True)
def clipped(edges, e, row):
    """The part of an edge in a row: the columns of both ends, and its rise (0 where it only touches)."""
    u0, v0, u1, v1 = edges[e, 0], edges[e, 1], edges[e, 2], edges[e, 3]
    if v0 < v1:
        start, end = max(v0, float(row)), min(v1, row + 1.0)
    else:
        start, end = min(v0, row + 1.0), max(v1, float(row))
    slope = (u1 - u0) / (v1 - v0)
    return u0 + (start - v0) * slope, u0 + (end - v0) * slope, end - start


@numba.njit(inline="always", cache=True)
def _shares(share, row, edges, first, listed, cols):
    """Fill the differences of the shares of a row; give the first and the last column that may have any."""
    low, high = cols, -1
    for k in range(first[row], first[row + 1]):
        left, right, rise = clipped(edges, listed[k], row)
        if rise == 0.0:
            continue
        add_piece(share, left, right, rise, cols)
        low = min(low, max(int(np.floor(min(left, right))), 0))
        high = max(high, min(int(np.floor(max(left, right))), cols - 1))
    return low, high


@numba.njit(parallel=True, nogil=True, cache=True)
def share_inside(edges, first, listed, out):
    """Share of each cell (rows, cols) that lies inside: of ``edges`` (m, 4) with column and row of both ends,
    listed by the rows that they cross.
    """
    rows, cols = out.shape
    for row in numba.prange(rows):
        share = np.zeros(cols + 1)
        low, high = _shares(share, row, edges, first, listed, cols)
        end = _held(share, low, high, cols)
        out[row, low:end] = share[low:end]


@numba.njit(inline="always", cache=True)
def _held(share, low, high, cols):
    """Turn differences into shares inside, and give the column after the last that may have any."""
    held = 0.0
    end = low
    for c in range(low, cols):
        held += share[c]
        if held < LEAST:
            share[c] = 0.0
            if c > high:
                break
            continue
        share[c] = min(held, 1.0)
        end = c + 1
    return end


@numba.njit(nogil=True, cache=True, fastmath=True)
def _add_known(off, share, sums):
    """Add up a row of heights above the base that are all known, each with the share of its cell."""
    cut, fill, cut_area, fill_area, whole = 0.0, 0.0, 0.0, 0.0, 0.0
    most, least = 0.0, 0.0
    for c in range(off.size):
        d, part = off[c], share[c]
        cut += part * max(d, 0.0)
        fill -= part * min(d, 0.0)
        cut_area += part if d > 0.0 else 0.0
        fill_area += part if d < 0.0 else 0.0
        whole += part
        most = max(most, d if part > 0.0 else 0.0)
        least = min(least, d if part > 0.0 else 0.0)
    sums[0], sums[1], sums[2], sums[3], sums[4], sums[6], sums[7] = (
        cut, fill, cut_area, fill_area, whole, most, 0.0 - least,
    )  # fmt: skip


@numba.njit(nogil=True, cache=True)
def _add_row(off, share, area, sums):
    """Add up a row; where a height is not known, what is lost."""
    lost = 0.0
    for c in range(off.size):
        known = off[c] == off[c]
        lost += 0.0 if known else share[c]
        off[c] = off[c] if known else 0.0
    _add_known(off, share, sums)
    sums[5] = lost
    for k in range(6):
        sums[k] *= area


@numba.njit(parallel=True, nogil=True, cache=True)
def sums_inside(values, base, plane, top, left, edges, first, listed, areas, sums):
    """Add up what lies above and below a base inside edges, a row of ``sums`` (rows, 8) for each row.

    The base is a grid like that of the values (rows, cols), or where that has no rows a ``plane`` (3): its
    height at the grid's upper left corner, and its rise by a column and a row. ``top`` and ``left`` are where
    the part of the grid begins that the edges are given in; ``areas`` are of its rows.
    """
    cols = values.shape[1] - left
    for k in numba.prange(sums.shape[0]):
        share, off = np.zeros(cols + 1), np.empty(cols)
        low, high = _shares(share, k, edges, first, listed, cols)
        end = max(_held(share, low, high, cols), low)
        row, start = top + k, left + low
        held, above = values[row, start : left + end], off[low:end]
        if base.shape[0] > 0:
            under = base[row, start : left + end]
            for c in range(held.size):
                above[c] = np.float64(held[c]) - np.float64(under[c])
        else:
            level = plane[0] + plane[1] * (start + 0.5) + plane[2] * (row + 0.5)
            for c in range(held.size):
                above[c] = np.float64(held[c]) - (level + plane[1] * c)
        _add_row(above, share[low:end], areas[k], sums[k])


@numba.njit(nogil=True, cache=True)
def count_rows(edges, rows, count):
    """Count the edges that cross each row; flat ones cross none."""
    for e in range(edges.shape[0]):
        v0, v1 = edges[e, 1], edges[e, 3]
        if v0 == v1:
            continue
        low, high = max(int(np.floor(min(v0, v1))), 0), min(int(np.ceil(max(v0, v1))), rows)
        for row in range(low, high):
            count[row] += 1


@numba.njit(nogil=True, cache=True)
def list_rows(edges, rows, place, listed):
    """List the edges of each row from its ``place`` on."""
    for e in range(edges.shape[0]):
        v0, v1 = edges[e, 1], edges[e, 3]
        if v0 == v1:
            continue
        low, high = max(int(np.floor(min(v0, v1))), 0), min(int(np.ceil(max(v0, v1))), rows)
        for row in range(low, high):
            listed[place[row]] = e
            place[row] += 1

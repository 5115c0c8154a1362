"""Kernels: the exact share of each cell inside outlines, row by row.

Each piece of an edge adds to a cell the share of it that lies to the right, and to the next what is left of
its rise; a running sum along the row is the share inside. It is how outlines of letters are filled with exact
coverage, by signed areas.
"""

from __future__ import annotations

import numba
import numpy as np

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
def share_inside(edges, first, listed, skipped, out):
    """Share of each cell (rows, cols) that lies inside: of ``edges`` (m, 4) with column and row of both ends,
    listed by the rows that they cross; the first of ``out`` comes after some rows that are ``skipped``.
    """
    rows, cols = out.shape
    for row in numba.prange(rows):
        share = np.zeros(cols + 1)
        low, high = _shares(share, skipped + row, edges, first, listed, cols)
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

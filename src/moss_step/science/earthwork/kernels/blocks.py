"""Kernels: heights above a base inside outlines, row by row: cells that a rim cuts one by one, and what lies
between them at once; heights that are asked for often are added up in blocks of columns first.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.earthwork.kernels.cover import LEAST, add_piece, clipped

SUMS = 8
"""Sums of a row: cut, fill, area of each, whole area, that without a height, deepest cut and fill."""
WIDE, GROUP = 16, 16
"""Columns of a block, and blocks of a group."""
_STRIPS = 24
"""Parts of the rows that are looked at beside one another."""
KEPT = 5
"""Kept up to each block: cut, fill, cells of each, cells without a height."""
_MIXED = {"reassoc", "nsz", "contract"}
"""Sums in any order, while what is no number stays none."""


@numba.njit(inline="always", cache=True)
def _above(values, base, plane, row, col):
    """Height above the base: of a grid where there is one, else of a plane."""
    if base.shape[0] > 0:
        return np.float64(values[row, col]) - np.float64(base[row, col])
    under = plane[0] + plane[1] * (col + 0.5) + plane[2] * (row + plane[3] + 0.5)
    return np.float64(values[row, col]) - under


@numba.njit(nogil=True, cache=True, fastmath=_MIXED)
def _over(values, base, start, rise, found):
    """Add up a stretch of cells over a base of as many; over one of none, over a plane: its height at the
    first cell, and its rise by a column.
    """
    cut, fill, up, down, lost, most, least = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    on_grid = base.size > 0
    for c in range(values.size):
        d = np.float64(values[c]) - (np.float64(base[c]) if on_grid else start + rise * c)
        lost += 0.0 if d == d else 1.0
        d = d if d == d else 0.0
        cut += max(d, 0.0)
        fill -= min(d, 0.0)
        up += 1.0 if d > 0.0 else 0.0
        down += 1.0 if d < 0.0 else 0.0
        most = max(most, d)
        least = min(least, d)
    found[0], found[1], found[2], found[3], found[4] = cut, fill, up, down, lost
    found[5], found[6] = most, -least


@numba.njit(nogil=True, cache=True)
def _stretch(values, base, plane, row, start, end, found):
    """Add up the columns from ``start`` to before ``end``."""
    under = base[row, start:end] if base.shape[0] > 0 else values[row, :0]
    first = plane[0] + plane[1] * (start + 0.5) + plane[2] * (row + plane[3] + 0.5)
    _over(values[row, start:end], under, first, plane[1], found)


@numba.njit(parallel=True, nogil=True, cache=True)
def add_up(values, base, plane, up_to, deep, deepest):
    """Add up a grid (rows, cols) up to each block (blocks + 1, rows, 5), with the greatest depths of cut and
    fill of each block (blocks, rows, 2) and of each group (groups, rows, 2): a rim moves little from
    row to row, and finds in the cache what it asks for next.
    """
    rows, cols = values.shape
    for row in numba.prange(rows):
        found = np.zeros(7)
        up_to[0, row] = 0.0
        deepest[:, row] = 0.0
        for k in range(deep.shape[0]):
            _stretch(values, base, plane, row, k * WIDE, min((k + 1) * WIDE, cols), found)
            for j in range(KEPT):
                up_to[k + 1, row, j] = up_to[k, row, j] + found[j]
            for j in range(2):
                deep[k, row, j] = found[5 + j]
                deepest[k // GROUP, row, j] = max(deepest[k // GROUP, row, j], found[5 + j])


@numba.njit(inline="always", cache=True)
def _cell(d, part, sums):
    """Add a cell with a share of it."""
    if d > 0.0:
        sums[0] += part * d
        sums[2] += part
        sums[6] = max(sums[6], d)
    elif d < 0.0:
        sums[1] -= part * d
        sums[3] += part
        sums[7] = max(sums[7], -d)
    elif d != d:
        sums[5] += part
    sums[4] += part


@numba.njit(inline="always", cache=True)
def _add(found, part, count, sums):
    """Add what a stretch of cells holds, all with one share."""
    sums[0] += part * found[0]
    sums[1] += part * found[1]
    sums[2] += part * found[2]
    sums[3] += part * found[3]
    sums[4] += part * count
    sums[5] += part * found[4]
    sums[6] = max(sums[6], found[5])
    sums[7] = max(sums[7], found[6])


@numba.njit(nogil=True, cache=True)
def _blocks(up_to, deep, deepest, row, a, b, found):
    """What the blocks from ``a`` to before ``b`` hold."""
    for j in range(KEPT):
        found[j] = up_to[b, row, j] - up_to[a, row, j]
    found[5], found[6] = 0.0, 0.0
    k = a
    while k < b:
        if k % GROUP == 0 and k + GROUP <= b:
            found[5] = max(found[5], deepest[k // GROUP, row, 0])
            found[6] = max(found[6], deepest[k // GROUP, row, 1])
            k += GROUP
        else:
            found[5], found[6] = max(found[5], deep[k, row, 0]), max(found[6], deep[k, row, 1])
            k += 1


@numba.njit(nogil=True, cache=True)
def _span(values, base, plane, kept, row, start, end, part, sums, found):
    """Add the columns from ``start`` to before ``end``, all with one share: whole blocks at once."""
    up_to, deep, deepest = kept
    a, b = -(-start // WIDE), end // WIDE
    if up_to.shape[1] == 0 or a >= b:
        _stretch(values, base, plane, row, start, end, found)
        _add(found, part, end - start, sums)
    else:
        if start < a * WIDE:
            _stretch(values, base, plane, row, start, a * WIDE, found)
            _add(found, part, a * WIDE - start, sums)
        _blocks(up_to, deep, deepest, row, a, b, found)
        _add(found, part, (b - a) * WIDE, sums)
        if b * WIDE < end:
            _stretch(values, base, plane, row, b * WIDE, end, found)
            _add(found, part, end - b * WIDE, sums)


@numba.njit(nogil=True, cache=True)
def _order(edges, first, listed, k, cols, share, spans, pieces):
    """Clip the edges of row ``k``, clear the shares that they touch, and put their spans of columns in order;
    gives how many there are.
    """
    count = 0
    for j in range(first[k], first[k + 1]):
        left, right, rise = clipped(edges, listed[j], k)
        if rise == 0.0:
            continue
        pieces[count, 0], pieces[count, 1], pieces[count, 2] = left, right, rise
        low = min(max(int(np.floor(min(left, right))), 0), cols - 1)
        high = min(max(int(np.floor(max(left, right))) + 1, 0), cols - 1)
        share[low : high + 2] = 0.0
        place = count  # in the order of their beginnings
        while place > 0 and spans[place - 1, 0] > low:
            spans[place, 0], spans[place, 1] = spans[place - 1, 0], spans[place - 1, 1]
            place -= 1
        spans[place, 0], spans[place, 1] = low, high
        count += 1
    for j in range(count):
        add_piece(share, pieces[j, 0], pieces[j, 1], pieces[j, 2], cols)
    return count


@numba.njit(parallel=True, nogil=True, cache=True)
def sums_inside(values, base, plane, kept, places, edges, first, listed, areas, sums):
    """Add up what lies inside edges, a row of ``sums`` (rows, 8) for each of some rows of the values; the
    columns of the edges are those of the grid. ``kept`` is what ``add_up`` made, or has no rows. ``places``
    are the first of these rows, and that of the edges which it is.

    The base is a grid like that of the values (rows, cols), or where that has no rows a ``plane`` (4): its
    height at the grid's upper left corner, its rise by a column and a row, and the rows of the grid before
    those of the values.
    """
    top, skipped = places
    rows, cols = sums.shape[0], values.shape[1]
    most = 1
    for k in range(rows):
        most = max(most, first[skipped + k + 1] - first[skipped + k])
    for strip in numba.prange(_STRIPS):
        share, found = np.empty(cols + 2), np.zeros(7)  # only what edges touch is looked at
        spans, pieces = np.empty((most, 2), np.int64), np.empty((most, 3))
        for k in range(strip * rows // _STRIPS, (strip + 1) * rows // _STRIPS):
            row, own, line = top + k, sums[k], skipped + k
            count = _order(edges, first, listed, line, cols, share, spans, pieces)
            held, col = 0.0, 0
            for j in range(count):
                start, end = spans[j, 0], spans[j, 1]
                if held > LEAST and start > col:
                    _span(values, base, plane, kept, row, col, start, min(held, 1.0), own, found)
                for c in range(max(col, start), end + 1):
                    held += share[c]
                    if held > LEAST:
                        _cell(_above(values, base, plane, row, c), min(held, 1.0), own)
                col = max(col, end + 1)
            if held > LEAST and col < cols:
                _span(values, base, plane, kept, row, col, cols, min(held, 1.0), own, found)
            for j in range(6):
                own[j] *= areas[line]


@numba.njit(nogil=True, cache=True)
def touched_cells(edges, first, listed, out):
    """Mark the cells (rows, cols) that edges run through."""
    rows, cols = out.shape
    for row in range(rows):
        for j in range(first[row], first[row + 1]):
            left, right, rise = clipped(edges, listed[j], row)
            if rise != 0.0:
                low = max(int(np.floor(min(left, right))), 0)
                high = min(int(np.floor(max(left, right))), cols - 1)
                for col in range(low, high + 1):
                    out[row, col] = True

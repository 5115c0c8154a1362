"""Kernels: heights above a base added up in blocks of columns once, so that outlines are answered by their
rims alone.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.earthwork.kernels.cover import LEAST, add_piece, clipped

WIDE = 32
"""Columns of a block."""
KEPT = 7
"""Kept of a block: cut, fill, cells of each, cells without a height, deepest cut and fill."""


@numba.njit(inline="always", cache=True)
def _above(values, base, plane, row, col):
    """Height above the base: of a grid where there is one, else of a plane."""
    if base.shape[0] > 0:
        return np.float64(values[row, col]) - np.float64(base[row, col])
    return np.float64(values[row, col]) - (plane[0] + plane[1] * (col + 0.5) + plane[2] * (row + 0.5))


@numba.njit(parallel=True, nogil=True, cache=True)
def add_up(values, base, plane, blocks):
    """Add up each block (rows, blocks, 7) of a grid (rows, cols)."""
    rows, cols = values.shape
    for row in numba.prange(rows):
        for k in range(blocks.shape[1]):
            cut, fill, up, down, lost, most, least = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
            for col in range(k * WIDE, min((k + 1) * WIDE, cols)):
                d = _above(values, base, plane, row, col)
                if d > 0.0:
                    cut += d
                    up += 1.0
                    most = max(most, d)
                elif d < 0.0:
                    fill -= d
                    down += 1.0
                    least = max(least, -d)
                elif d != d:
                    lost += 1.0
            blocks[row, k, 0], blocks[row, k, 1], blocks[row, k, 2] = cut, fill, up
            blocks[row, k, 3], blocks[row, k, 4] = down, lost
            blocks[row, k, 5], blocks[row, k, 6] = most, least


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
def _span(values, base, plane, blocks, row, start, end, part, sums):
    """Add the columns from ``start`` to before ``end``, all with one share: whole blocks at once."""
    col = start
    while col < end:
        if col % WIDE == 0 and col + WIDE <= end:
            k = col // WIDE
            sums[0] += part * blocks[row, k, 0]
            sums[1] += part * blocks[row, k, 1]
            sums[2] += part * blocks[row, k, 2]
            sums[3] += part * blocks[row, k, 3]
            sums[4] += part * WIDE
            sums[5] += part * blocks[row, k, 4]
            sums[6] = max(sums[6], blocks[row, k, 5])
            sums[7] = max(sums[7], blocks[row, k, 6])
            col += WIDE
        else:
            _cell(_above(values, base, plane, row, col), part, sums)
            col += 1


@numba.njit(parallel=True, nogil=True, cache=True)
def sums_of_blocks(values, base, plane, blocks, top, edges, first, listed, areas, sums):
    """Add up what lies inside edges, a row of ``sums`` (rows, 8) for each row from ``top`` on; the columns of
    the edges are those of the grid.
    """
    cols = values.shape[1]
    for k in numba.prange(sums.shape[0]):
        row = top + k
        count = first[k + 1] - first[k]
        if count == 0:
            continue
        share = np.empty(cols + 1)  # only what edges touch is looked at
        starts, ends = np.empty(count, np.int64), np.empty(count, np.int64)
        pieces = np.empty((count, 3))
        held_count = 0
        for j in range(first[k], first[k + 1]):
            left, right, rise = clipped(edges, listed[j], k)
            if rise == 0.0:
                continue
            pieces[held_count, 0], pieces[held_count, 1], pieces[held_count, 2] = left, right, rise
            low = min(max(int(np.floor(min(left, right))), 0), cols - 1)
            high = min(max(int(np.floor(max(left, right))) + 1, 0), cols - 1)
            share[low : high + 2] = 0.0
            place = held_count  # in the order of their beginnings
            while place > 0 and starts[place - 1] > low:
                starts[place], ends[place] = starts[place - 1], ends[place - 1]
                place -= 1
            starts[place], ends[place] = low, high
            held_count += 1
        for j in range(held_count):
            add_piece(share, pieces[j, 0], pieces[j, 1], pieces[j, 2], cols)
        own = sums[k]
        held, col = 0.0, 0
        for j in range(held_count):
            if held > LEAST and starts[j] > col:
                _span(values, base, plane, blocks, row, col, starts[j], min(held, 1.0), own)
            for c in range(max(col, starts[j]), ends[j] + 1):
                held += share[c]
                if held > LEAST:
                    _cell(_above(values, base, plane, row, c), min(held, 1.0), own)
            col = max(col, ends[j] + 1)
        if held > LEAST and col < cols:
            _span(values, base, plane, blocks, row, col, cols, min(held, 1.0), own)
        for j in range(6):
            own[j] *= areas[k]

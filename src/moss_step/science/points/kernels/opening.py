"""Kernels: morphological opening of a surface with disks, and smooth filling of its gaps."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def _slide_row(values, row, half, out, ahead, behind):
    """Highest value within ``half`` cells to both sides, along one row (van Herk 1992, Gil & Werman 1993)."""
    cols = values.shape[1]
    wide = 2 * half + 1
    at = 0  # place within the block
    for c in range(cols):
        ahead[c] = values[row, c] if at == 0 else max(ahead[c - 1], values[row, c])
        at = 0 if at == wide - 1 else at + 1
    at = (cols - 1) % wide
    for c in range(cols - 1, -1, -1):
        ends = at == wide - 1 or c == cols - 1
        behind[c] = values[row, c] if ends else max(behind[c + 1], values[row, c])
        at = wide - 1 if at == 0 else at - 1
    if half == 0:
        out[row] = values[row]
        return
    for c in range(cols):
        first, last = c - half, min(c + half, cols - 1)
        best = ahead[last]
        if first >= 0:  # cut off at the right end both may lie in one block, whose beginning is not meant
            cut = last - first < wide - 1 and first // wide == last // wide
            best = behind[first] if cut else max(best, behind[first])
        out[row, c] = best


@numba.njit(cache=True, nogil=True, parallel=True)
def slide_rows(values, half, out):
    """Highest value within ``half`` cells to both sides, along each row."""
    for r in numba.prange(values.shape[0]):
        ahead, behind = np.empty(values.shape[1]), np.empty(values.shape[1])
        _slide_row(values, np.int64(r), half, out, ahead, behind)  # its number may be unsigned


@numba.njit(cache=True, nogil=True, parallel=True)
def take_higher(best, slid, shift):
    """Let each row take what is higher in the row ``shift`` below; rows outside count for nothing."""
    rows, cols = best.shape
    for r in numba.prange(rows):
        other = np.int64(r) + shift
        if 0 <= other < rows:
            for c in range(cols):
                best[r, c] = max(best[r, c], slid[other, c])


@numba.njit(cache=True, nogil=True, parallel=True)
def smooth_gaps(values, gaps):
    """Let each cell of a gap go beyond the mean of its neighbours (over-relaxation): the surface that is bent
    least. ``gaps`` are the numbers of cells, row by row, of one colour of a chess board.
    """
    rows, cols = values.shape
    parts = max(min(gaps.size // 4096, 64), 1)
    for part in numba.prange(parts):
        first = np.int64(part) * gaps.size // parts
        for i in range(first, (np.int64(part) + 1) * gaps.size // parts):
            cell = gaps[i]
            r, c = cell // cols, cell % cols
            total, count = 0.0, 0
            if r > 0:
                total += values[r - 1, c]
                count += 1
            if r < rows - 1:
                total += values[r + 1, c]
                count += 1
            if c > 0:
                total += values[r, c - 1]
                count += 1
            if c < cols - 1:
                total += values[r, c + 1]
                count += 1
            values[r, c] += 1.6 * (total / count - values[r, c])


@numba.njit(cache=True, nogil=True)
def read_bilinear(values, rows, cols, out):
    """Values between the middles of cells, at fractional rows and columns; at the rim those of the edge."""
    height, width = values.shape
    for k in range(rows.size):
        r = min(max(rows[k], 0.0), height - 1.0)
        c = min(max(cols[k], 0.0), width - 1.0)
        i, j = min(int(r), max(height - 2, 0)), min(int(c), max(width - 2, 0))
        u, v = r - i, c - j
        i2, j2 = min(i + 1, height - 1), min(j + 1, width - 1)
        above = values[i, j] * (1.0 - v) + values[i, j2] * v
        below = values[i2, j] * (1.0 - v) + values[i2, j2] * v
        out[k] = above * (1.0 - u) + below * u

"""Kernels: topographic position, landforms and local relief: a cell against the ground around it."""

from __future__ import annotations

import numba
import numpy as np

A_HAIR = 1.0 + 1e-9
"""A distance that is a whole number of cells but for rounding counts as that number."""


@numba.njit(cache=True, nogil=True, parallel=True)
def sums_of_rows(z, middle, what, sums):
    """Running sums along each row: of heights less ``middle`` (1), of their squares (2), or of cells with
    values (0).
    """
    for r in numba.prange(z.shape[0]):
        total = 0.0
        for c in range(z.shape[1]):
            v = z[r, c]
            if v == v:
                d = v - middle
                total += 1.0 if what == 0 else d if what == 1 else d * d
            sums[r + 1, c + 1] = total


@numba.njit(cache=True, nogil=True, parallel=True)
def add_down(sums, blocks):
    """Turn running sums along rows to sums of all cells above and left of each corner, by blocks of
    columns.
    """
    cols = sums.shape[1]
    for b in numba.prange(blocks):
        for r in range(1, sums.shape[0]):
            for c in range(b * cols // blocks, (b + 1) * cols // blocks):
                sums[r, c] += sums[r - 1, c]


@numba.njit(cache=True, nogil=True)
def strips_of_row(parts, width, height, strips):
    """Turn parts of a disk in metres into strips of cells for one row; gives how many.

    A part is the nearest and farthest distance of its rows, half its width (0: a circle of the farthest
    distance, row by row) and its sign. A strip is its first row, last row, half width in cells, and sign.
    """
    n = 0
    for p in range(parts.shape[0]):
        near, far, half, sign = parts[p]
        reach = int(np.floor(far / height * A_HAIR))
        if half == 0.0:
            start = n
            for i in range(-reach, reach + 1):
                wide = np.int64(
                    np.floor(np.sqrt(max(far * far * A_HAIR - (i * height) ** 2, 0.0)) / width * A_HAIR)
                )
                if n > start and strips[n - 1, 2] == wide:
                    strips[n - 1, 1] = i  # rows of one width are one strip
                    continue
                strips[n, 0], strips[n, 1], strips[n, 2], strips[n, 3] = i, i, wide, np.int64(sign)
                n += 1
            continue
        inner, wide = int(np.floor(near / height * A_HAIR)), np.int64(np.floor(half / width * A_HAIR))
        if near == 0.0:
            strips[n, 0], strips[n, 1], strips[n, 2], strips[n, 3] = -reach, reach, wide, np.int64(sign)
            n += 1
        elif reach > inner:
            for side in (-1, 1):
                first, last = side * (inner + 1), side * reach
                strips[n, 0], strips[n, 1], strips[n, 2], strips[n, 3] = (
                    min(first, last),
                    max(first, last),
                    wide,
                    np.int64(sign),
                )
                n += 1
    return n


@numba.njit(cache=True, nogil=True)
def cells_of_row(r, rows, cols, strips, count):
    """Number of cells of the grid within the strips around each cell of a row, when all have values."""
    widest, inside = 0, 0.0
    for k in range(strips.shape[0]):
        high = max(min(r + strips[k, 1] + 1, rows) - max(r + strips[k, 0], 0), 0)
        widest = max(widest, strips[k, 2])
        inside += float(strips[k, 3] * high * (2 * strips[k, 2] + 1))
    count[widest : cols - widest] = inside
    for k in range(strips.shape[0]):
        weight = float(strips[k, 3] * max(min(r + strips[k, 1] + 1, rows) - max(r + strips[k, 0], 0), 0))
        half = strips[k, 2]
        for c in range(min(widest, cols)):
            count[c] += weight * (min(c + half + 1, cols) - max(c - half, 0))
        for c in range(max(widest, cols - widest), cols):
            count[c] += weight * (min(c + half + 1, cols) - max(c - half, 0))


@numba.njit(cache=True, nogil=True)
def add_strip(upper, lower, half, sign, total):
    """Add to each cell the sum of a strip around it, from running sums above and below the strip."""
    weight = float(sign)
    cols = total.size
    inner = max(min(cols - half - 1, cols), half)
    # Slices from 0 let the compiler work on several cells at once.
    below, above, sums = lower[2 * half + 1 :], upper[2 * half + 1 :], total[half:]
    for i in range(inner - half):
        sums[i] += weight * (below[i] - lower[i] - above[i] + upper[i])
    for c in range(min(half, cols)):
        b = min(c + half + 1, cols)
        total[c] += weight * (lower[b] - lower[0] - upper[b] + upper[0])
    for c in range(max(inner, half), cols):
        a = max(c - half, 0)
        total[c] += weight * (lower[cols] - lower[a] - upper[cols] + upper[a])


@numba.njit(cache=True, nogil=True, parallel=True)
def position_rows(z, middle, running, disk, rows_range, whole, out):
    """Height less the mean of the disk around each cell, over its deviation when there are sums of squares.

    ``disk`` are its parts, the most strips that they give, and the width and height of a cell by row;
    ``whole`` says that all cells have values: the cells within the strips are then counted by the strips
    alone.
    """
    sums, squares, counts = running
    parts, most, widths, heights = disk
    standardised = squares.size > 0
    rows, cols = z.shape
    for r in numba.prange(rows_range[0], rows_range[1]):
        total, square, count = np.zeros(cols), np.zeros(cols), np.zeros(cols)
        strips = np.empty((most, 4), np.int64)
        strips = strips[: strips_of_row(parts, widths[r], heights[r], strips)]
        for k in range(strips.shape[0]):
            top, bottom = max(r + strips[k, 0], 0), min(r + strips[k, 1] + 1, rows)
            if bottom > top:
                half, sign = strips[k, 2], strips[k, 3]
                add_strip(sums[top], sums[bottom], half, sign, total)
                if not whole:
                    add_strip(counts[top], counts[bottom], half, sign, count)
                if standardised:
                    add_strip(squares[top], squares[bottom], half, sign, square)
        if whole:
            cells_of_row(r, rows, cols, strips, count)
        for c in range(cols):
            v = z[r, c]
            out[r, c] = np.float32(np.nan)
            if v == v and count[c] >= 1:
                mean = total[c] / count[c]
                d = v - middle - mean
                if standardised:
                    deviation = np.sqrt(max(square[c] / count[c] - mean * mean, 0.0))
                    d = d / deviation if deviation > 0 else 0.0
                out[r, c] = np.float32(d)

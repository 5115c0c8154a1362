"""Steepest descent of every cell to one of its eight neighbours: O'Callaghan & Mark 1984, CVGIP 28."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, NONE, OUT, PIT, span, stands


@numba.njit(cache=True, nogil=True)
def descent_at(z, metres, r, c):
    """Direction of steepest descent of one cell anywhere; without one it is an outlet at an edge, or a
    pit.
    """
    rows, cols = z.shape
    v, best, way, edge = z[r, c], np.float32(0.0), PIT, False
    if v != v:
        return NONE
    for k in range(8):
        i, j = r + DR[k], c + DC[k]
        if i < 0 or j < 0 or i >= rows or j >= cols or z[i, j] != z[i, j]:
            edge = True
            continue
        drop = (v - z[i, j]) / span(metres, r, k)
        if drop > best:
            best, way = drop, np.uint8(k)
    return OUT if edge and way == PIT else way


@numba.njit(cache=True, nogil=True, error_model="numpy")
def descend_row(above, here, below, east, diagonal, south, way):
    """Directions of steepest descent along a row that has rows on both sides and no missing values near
    it.
    """
    n = here.size - 2
    for c in range(n):
        v = here[c + 1]
        best, k = np.float32(0.0), PIT
        drop = (v - here[c + 2]) * east
        if drop > best:
            best, k = drop, np.uint8(0)
        drop = (v - below[c + 2]) * diagonal
        if drop > best:
            best, k = drop, np.uint8(1)
        drop = (v - below[c + 1]) * south
        if drop > best:
            best, k = drop, np.uint8(2)
        drop = (v - below[c]) * diagonal
        if drop > best:
            best, k = drop, np.uint8(3)
        drop = (v - here[c]) * east
        if drop > best:
            best, k = drop, np.uint8(4)
        drop = (v - above[c]) * diagonal
        if drop > best:
            best, k = drop, np.uint8(5)
        drop = (v - above[c + 1]) * south
        if drop > best:
            best, k = drop, np.uint8(6)
        drop = (v - above[c + 2]) * diagonal
        if drop > best:
            best, k = drop, np.uint8(7)
        way[c + 1] = k


@numba.njit(cache=True, nogil=True, parallel=True)
def descend(z, metres, first, last, descent):
    """Direction of steepest descent; cells without one are outlets at an edge, or pits."""
    rows, cols = z.shape
    one = np.float32(1.0)
    for r in numba.prange(first, last):
        inner = 0 < r < rows - 1 and cols > 2
        if inner:
            descend_row(
                z[r - 1],
                z[r],
                z[r + 1],
                one / metres[r, 0],
                one / metres[r, 1],
                one / metres[r, 2],
                descent[r],
            )
        for c in range(cols):
            if inner and 0 < c < cols - 1 and descent[r, c] != PIT and z[r, c] == z[r, c]:
                continue  # only what lies without a way down, or is no ground, needs a closer look
            descent[r, c] = descent_at(z, metres, r, c)


@numba.njit(cache=True, nogil=True, error_model="numpy")
def water_within(ground, metres, r, c):
    """Direction of steepest descent of a cell under water that has eight neighbours: what lies beside it
    cannot be guessed.
    """
    one, best, way, edge = np.float32(1.0), np.float32(0.0), PIT, False
    v, near = (
        stands(ground, (r, c)),
        (one / metres[r, 0], one / metres[r, 1], one / metres[r, 2], one / metres[r, 1]),
    )
    for k in range(8):
        at = (r + DR[k], c + DC[k])
        edge |= ground.labels[at] == 0
        drop = (v - stands(ground, at)) * near[k & 3]
        steeper = drop > best
        best, way = drop if steeper else best, np.uint8(k) if steeper else way
    return OUT if edge and way == PIT else way


@numba.njit(cache=True, nogil=True)
def water_at_edge(ground, metres, r, c):
    """The same for a cell at the edge of the grid."""
    rows, cols = ground.z.shape
    v, best, way = stands(ground, (r, c)), np.float32(0.0), OUT
    for k in range(8):
        i, j = r + DR[k], c + DC[k]
        if 0 <= i < rows and 0 <= j < cols:
            drop = (v - stands(ground, (i, j))) / span(metres, r, k)
            if drop > best:
                best, way = drop, np.uint8(k)
    return way


@numba.njit(cache=True, nogil=True)
def water_row(ground, r, out):
    """Heights of a row of a filled ground; NaN beyond the grid."""
    if 0 <= r < ground.z.shape[0]:
        for c in range(out.size):
            out[c] = stands(ground, (r, c))
    else:
        out[:] = np.nan


@numba.njit(cache=True, nogil=True, error_model="numpy")
def water_along(above, here, below, metres, way, edge):
    """Directions of steepest descent along a row of a filled ground, but for the outermost cells, and which
    of these may have a neighbour that is no ground: what is not marked has none.
    """
    one = np.float32(1.0)
    descend_row(above, here, below, one / metres[0], one / metres[1], one / metres[2], way)
    for c in range(here.size - 2):
        every = above[c] + above[c + 1] + above[c + 2] + here[c] + here[c + 2]
        every += below[c] + below[c + 1] + below[c + 2]
        edge[c + 1] = not np.abs(every) < np.inf


@numba.njit(cache=True, nogil=True, parallel=True)
def descend_water(ground, metres, first, last, ways):
    """Let what pools cover follow the filled ground; ground above the water runs on as it lies."""
    z, labels, level = ground
    rows, cols = z.shape
    for r in numba.prange(first, last):
        wet = False
        for c in range(cols):
            wet |= labels[r, c] != 0 and z[r, c] <= level[labels[r, c]]
        if not wet:
            continue
        inner = 0 < r < rows - 1 and cols > 2
        around, way, edge = (
            np.empty((3, cols), np.float32),
            np.empty(cols, np.uint8),
            np.empty(cols, np.bool_),
        )
        if inner:
            for k in range(3):
                water_row(ground, r + k - 1, around[k])
            water_along(around[0], around[1], around[2], metres[r], way, edge)
        for c in range(cols):
            if labels[r, c] == 0 or z[r, c] > level[labels[r, c]]:
                continue
            if not (inner and 0 < c < cols - 1):
                ways[r, c] = water_at_edge(ground, metres, r, c)
            elif way[c] == PIT and edge[c]:
                ways[r, c] = water_within(ground, metres, r, c)
            else:
                ways[r, c] = way[c]

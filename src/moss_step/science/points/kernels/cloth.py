"""Kernels: a cloth at rest on a ground that was turned over."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def settle(cloth, out, floor, load):
    """Let each particle go to the mean of its neighbours, less the load, all at once; none goes below the
    floor. Beyond the rim the cloth goes on as it leans there.
    """
    rows, cols = cloth.shape
    for row in numba.prange(rows):
        r = np.int64(row)
        for c in range(cols):
            at = cloth[r, c]
            along = cloth[r - 1, c] + cloth[r + 1, c] if 0 < r < rows - 1 else 2.0 * at
            across = cloth[r, c - 1] + cloth[r, c + 1] if 0 < c < cols - 1 else 2.0 * at
            mean = 0.25 * (along + across)
            out[r, c] = max(0.2 * at + 0.8 * (mean - load), floor[r, c])


@numba.njit(cache=True, nogil=True)
def lay_on_slopes(cloth, floor, step, near):
    """Lay particles down that hang at most ``near`` over the floor beside one that lies, where the floor
    changes by less than ``step`` between them; and so on from there.
    """
    rows, cols = cloth.shape
    todo = np.empty(rows * cols, np.int64)
    first, last = 0, 0
    for r in range(rows):
        for c in range(cols):
            if cloth[r, c] <= floor[r, c]:
                todo[last] = r * cols + c
                last += 1
    while first < last:
        cell = todo[first]
        first += 1
        r, c = cell // cols, cell % cols
        for k in range(4):
            i, j = r + (k == 0) - (k == 1), c + (k == 2) - (k == 3)
            if not (0 <= i < rows and 0 <= j < cols) or cloth[i, j] <= floor[i, j]:
                continue
            if abs(floor[i, j] - floor[r, c]) < step and cloth[i, j] - floor[i, j] < near:
                cloth[i, j] = floor[i, j]
                todo[last] = i * cols + j
                last += 1

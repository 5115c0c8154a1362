"""Kernels: outlines of numbered cells as areas, each walked once along the borders of its cells."""

from __future__ import annotations

import numba
import numpy as np

DOWN, RIGHT = np.array([0, 1, 0, -1]), np.array([1, 0, -1, 0])
"""Steps along the borders to the east, south, west and north, in rows and columns of corners."""
LEFT = np.array([[-1, 0], [0, 0], [0, -1], [-1, -1]])
"""The cell ahead on the left hand, from the corner that is met on the way east, south, west and north; the
next is the one on the right.
"""


@numba.njit(cache=True, nogil=True)
def is_cells(parts, r, c, k):
    return 0 <= r < parts.shape[0] and 0 <= c < parts.shape[1] and parts[r, c] == k


@numba.njit(cache=True, nogil=True)
def walk_ring(parts, walked, r, c, corners, count):
    """Add the corners of the ring that runs east from one over the top of its cell; gives the corners, and
    how many there are then.
    """
    k, start, way = parts[r, c], (r, c), 0
    corners[count, 0], corners[count, 1] = r, c
    count += 1
    while True:
        if way == 0:
            walked[r, c] = True
        r, c = r + DOWN[way], c + RIGHT[way]
        left, right = LEFT[way], LEFT[(way + 1) % 4]
        turn = (
            3
            if is_cells(parts, r + left[0], c + left[1], k)
            else 0
            if is_cells(parts, r + right[0], c + right[1], k)
            else 1
        )
        way = (way + turn) % 4
        if turn != 0:
            if count + 1 >= corners.shape[0]:
                corners = np.concatenate((corners, np.empty_like(corners)))
            corners[count, 0], corners[count, 1] = r, c
            count += 1
        if (r, c) == start and way == 0:
            return corners, count


@numba.njit(cache=True, nogil=True)
def walk_rings(parts, pulse):
    """Corners of all rings, closed, where each begins, and the part that it belongs to: the outer ring of a
    part comes before its inner ones.
    """
    rows, cols = parts.shape
    walked = np.zeros((rows, cols), np.bool_)
    corners, count = np.empty((4096, 2), np.int32), 0
    starts, owner, rings = np.empty(1024, np.int64), np.empty(1024, np.int32), 0
    for r in range(rows):
        if pulse[1]:
            break
        pulse[0] = r
        for c in range(cols):
            if parts[r, c] == 0 or walked[r, c] or (r > 0 and parts[r - 1, c] == parts[r, c]):
                continue
            if rings + 1 >= starts.size:
                starts, owner = (
                    np.append(starts, np.empty_like(starts)),
                    np.append(owner, np.empty_like(owner)),
                )
            starts[rings], owner[rings] = count, parts[r, c]
            rings += 1
            corners, count = walk_ring(parts, walked, r, c, corners, count)
    starts[rings] = count
    return corners[:count], starts[: rings + 1], owner[:rings]

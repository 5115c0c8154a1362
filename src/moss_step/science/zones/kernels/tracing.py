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

TURNS = np.full((16, 2), -1)
"""How an outline runs through a corner, 4 times the way it comes on plus the one it goes on in, by which of
the four cells there are of its area: north-west 1, north-east 2, south-west 4, south-east 8.
"""
TURNS[[1, 2, 4, 8], 0] = 4 * 1 + 2, 4 * 2 + 3, 4 * 0 + 1, 4 * 3 + 0
TURNS[[14, 13, 11, 7], 0] = 4 * 0 + 3, 4 * 1 + 0, 4 * 3 + 2, 4 * 2 + 1
TURNS[9], TURNS[6] = (4 * 1 + 0, 4 * 3 + 2), (4 * 2 + 1, 4 * 0 + 3)


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


@numba.njit(cache=True, nogil=True)
def list_corners(parts, last_row, last_col):
    """Corners of the parts of a tile, each where its outline comes to it and leaves it.

    ``parts`` (int32) have one more cell on each side. Each corner of the grid belongs to the cell below it on
    the right; those at the end of the ground to its ``last_row`` and ``last_col``. Gives part, row and column
    of the corner, and 4 times the way that the outline comes on plus the one that it goes on in; ways are to
    the east, south, west and north, with the area on the right hand. An area that meets itself at a corner
    turns to the left.
    """
    rows, cols = parts.shape[0] - 2 + last_row, parts.shape[1] - 2 + last_col
    out, count = np.empty((4096, 4), np.int32), 0
    for r in range(rows):
        for c in range(cols):
            a, b, d, e = parts[r, c], parts[r, c + 1], parts[r + 1, c], parts[r + 1, c + 1]
            if a == b and d == e and a == d:
                continue
            if count + 4 > out.shape[0]:
                out = np.concatenate((out, np.empty_like(out)))
            for n in range(4):
                k = (a, b, d, e)[n]
                if k == 0 or (n > 0 and k == a) or (n > 1 and k == b) or (n > 2 and k == d):
                    continue
                for turn in TURNS[(a == k) | (b == k) << 1 | (d == k) << 2 | (e == k) << 3]:
                    if turn >= 0:
                        out[count, 0], out[count, 1], out[count, 2], out[count, 3] = k, r, c, turn
                        count += 1
    return out[:count]


@numba.njit(cache=True, nogil=True)
def close_rings(follows, begins):
    """Walk from corner to corner until all rings are closed; gives the corners, each ring's first again as
    its last, and where rings begin. ``begins`` are corners that a ring may begin at, in order.
    """
    seen = np.zeros(follows.size, np.bool_)
    walk, starts = np.empty(follows.size + begins.size, np.int64), np.empty(begins.size + 1, np.int64)
    count, rings = 0, 0
    for first in begins:
        if seen[first]:
            continue
        starts[rings] = count
        rings += 1
        here = first
        while not seen[here]:
            seen[here] = True
            walk[count] = here
            count += 1
            here = follows[here]
        walk[count] = here
        count += 1
    starts[rings] = count
    return walk[:count], starts[: rings + 1]

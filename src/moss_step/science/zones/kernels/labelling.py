"""Kernels: connected components of a class map: one pass with union-find in strips, which are then joined,
rows in parallel.
"""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(inline="always", cache=True)
def root(parent, k):
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@numba.njit(inline="always", cache=True)
def join(parent, a, b):
    a, b = root(parent, a), root(parent, b)
    if a < b:
        parent[b] = a
    elif b < a:
        parent[a] = b


@numba.njit(cache=True, nogil=True)
def scan_row(codes, r, none, corners, up, parent):
    """Give each cell of a row the component of the cell before it and, with ``up``, of the cells above it."""
    cols = codes.shape[1]
    base = r * cols
    for c in range(cols):
        k, code = base + c, codes[r, c]
        if code == none:
            parent[k] = -1
            continue
        if c > 0 and codes[r, c - 1] == code:
            parent[k] = parent[k - 1]
        else:
            parent[k] = k
        if not up:
            continue
        if codes[r - 1, c] == code:
            # The cell before is already joined with the one above when the cell between them is of the class
            # too.
            if not (c > 0 and codes[r, c - 1] == code and codes[r - 1, c - 1] == code):
                join(parent, k, k - cols)
        elif corners:
            if c > 0 and codes[r - 1, c - 1] == code and codes[r, c - 1] != code:
                join(parent, k, k - cols - 1)
            if c + 1 < cols and codes[r - 1, c + 1] == code:
                join(parent, k, k - cols + 1)


@numba.njit(cache=True, nogil=True)
def join_rows(codes, r, none, corners, parent):
    """Join the first row of a strip with the last of the strip above it."""
    cols = codes.shape[1]
    for c in range(cols):
        code, k = codes[r, c], r * cols + c
        if code == none:
            continue
        if codes[r - 1, c] == code:
            join(parent, k, k - cols)
        if corners and c > 0 and codes[r - 1, c - 1] == code:
            join(parent, k, k - cols - 1)
        if corners and c + 1 < cols and codes[r - 1, c + 1] == code:
            join(parent, k, k - cols + 1)


@numba.njit(cache=True, nogil=True, parallel=True)
def roots(codes, none, corners, strips, parent, found):
    """Find the root of every cell, and count the roots of each strip."""
    rows, cols = codes.shape
    for s in numba.prange(strips):
        first, last = s * rows // strips, (s + 1) * rows // strips
        for r in range(first, last):
            scan_row(codes, r, none, corners, r > first, parent)
    for s in range(1, strips):
        first = s * rows // strips
        if first < (s + 1) * rows // strips:
            join_rows(codes, first, none, corners, parent)
    for s in numba.prange(strips):
        n = 0
        for k in range((s * rows // strips) * cols, ((s + 1) * rows // strips) * cols):
            n += parent[k] == k
        found[s] = n


@numba.njit(cache=True, nogil=True, parallel=True)
def number(codes, strips, parent, before, owner, labels):
    """Number the roots in order of rows, then give every cell its root's number."""
    rows, cols = codes.shape
    flat, out = codes.reshape(-1), labels.reshape(-1)
    for s in numba.prange(strips):
        n = before[s]
        for k in range((s * rows // strips) * cols, ((s + 1) * rows // strips) * cols):
            if parent[k] == k:
                n += 1
                out[k] = n
                owner[n] = flat[k]
    for s in numba.prange(strips):
        for k in range((s * rows // strips) * cols, ((s + 1) * rows // strips) * cols):
            p = parent[k]
            if p == k:
                continue
            if p < 0:
                out[k] = 0
                continue
            while parent[p] != p:
                p = parent[p]
            out[k] = out[p]


@numba.njit(cache=True, nogil=True)
def count_labels(labels, row_areas, n):
    """Cells and ground area of each of ``n`` numbers; ``row_areas`` is the area of a cell by row."""
    cells, areas = np.zeros(n, np.int64), np.zeros(n)
    for r in range(labels.shape[0]):
        for c in range(labels.shape[1]):
            cells[labels[r, c]] += 1
            areas[labels[r, c]] += row_areas[r]
    return cells, areas

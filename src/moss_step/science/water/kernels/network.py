"""Kernels: streams: where enough ground drains to a cell, joined to links from springs and junctions to
junctions and outlets.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, OUT


@numba.njit(cache=True, nogil=True)
def carry_down(ways, stream):
    """Make all cells downstream of a stream cell stream too."""
    rows, cols = ways.shape
    for r in range(rows):
        for c in range(cols):
            if stream[r, c] != 1:
                continue
            i, j = r, c
            while ways[i, j] < OUT:
                k = ways[i, j]
                i, j = i + DR[k], j + DC[k]
                if stream[i, j] == 1:
                    break
                stream[i, j] = 1


@numba.njit(cache=True, nogil=True)
def walk(target, feeders, ends):
    """Walk each link down from its head or junction; gives the places of all cells in a row, the links'
    starts, and their upper ends.

    ``target`` is the place that each stream cell runs to (-1: water leaves the ground), ``feeders`` how many
    run to it; ``ends`` the number of those that are fed by none or by several.
    """
    cells, starts = np.empty(target.size + ends + 1, np.int64), np.empty(ends + 1, np.int64)
    count, link = 0, 0
    for n in range(target.size):
        if feeders[n] == 1 or target[n] < 0:
            continue
        starts[link] = count
        link += 1
        here = n
        cells[count] = here
        count += 1
        while target[here] >= 0:
            here = target[here]
            cells[count] = here
            count += 1
            if feeders[here] != 1:
                break
    starts[link] = count
    return cells[:count], starts[: link + 1]


@numba.njit(cache=True, nogil=True)
def drop_lone(ways, stream):
    """Cells that water leaves the ground at without a stream cell above are no stream: they make no line."""
    rows, cols = ways.shape
    for r in range(rows):
        for c in range(cols):
            if stream[r, c] == 0 or ways[r, c] < OUT:
                continue
            fed = False
            for k in range(8):
                i, j = r + DR[k], c + DC[k]
                fed |= 0 <= i < rows and 0 <= j < cols and stream[i, j] == 1 and ways[i, j] == k ^ 4
            if not fed:
                stream[r, c] = 0


@numba.njit(cache=True)
def stream_orders(below):
    """Strahler and Shreve orders of links, and the links in an order in which each comes before the one below
    it.
    """
    n = below.size
    waiting, highest, twice = np.zeros(n, np.int64), np.zeros(n, np.int64), np.zeros(n, np.int64)
    strahler, shreve = np.ones(n, np.int32), np.zeros(n, np.int64)
    for k in range(n):
        if below[k] >= 0:
            waiting[below[k]] += 1
    queue, tail = np.empty(n, np.int64), 0
    for k in range(n):
        if waiting[k] == 0:
            shreve[k] = 1
            queue[tail] = k
            tail += 1
    for head in range(n):
        k = queue[head]
        if highest[k] > 0:
            strahler[k] = highest[k] + (1 if twice[k] > 1 else 0)
        b = below[k]
        if b < 0:
            continue
        shreve[b] += shreve[k]
        if strahler[k] > highest[b]:
            highest[b], twice[b] = strahler[k], 1
        elif strahler[k] == highest[b]:
            twice[b] += 1
        waiting[b] -= 1
        if waiting[b] == 0:
            queue[tail] = b
            tail += 1
    return strahler, shreve, queue


@numba.njit(cache=True)
def horton_orders(below, sizes, strahler, queue):
    """Horton orders: the link of the larger catchment carries the order of the link below it upstream."""
    n = below.size
    main = np.full(n, -1)
    for k in range(n):
        b = below[k]
        if b >= 0 and (main[b] < 0 or sizes[k] > sizes[main[b]]):
            main[b] = k
    horton = strahler.copy()
    for head in range(n - 1, -1, -1):
        k = queue[head]
        if below[k] >= 0 and main[below[k]] == k:
            horton[k] = horton[below[k]]
    return horton

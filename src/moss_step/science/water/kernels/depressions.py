"""Kernels: depressions: what a ground holds back, filling it level or with a gradient, keeping real lakes,
and breaching.
"""

from __future__ import annotations

import heapq
from typing import NamedTuple

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, NONE, span

FALL = 0.001
"""Fall of a cut channel from cell to cell, in the unit of the ground, where it has to leave at an edge that
is not lower.
"""
A_CELL = 1e-9
"""Cost of a cell without digging: of channels that cost the same the shorter one is cut."""


@numba.njit(cache=True, nogil=True)
def measure_lakes(numbered, filled, z, row_areas, n):
    depth, volume, level = np.zeros(n), np.zeros(n), np.zeros(n)
    for r in range(z.shape[0]):
        for c in range(z.shape[1]):
            k = numbered[r, c]
            if k > 0:
                d = float(filled[r, c]) - z[r, c]
                depth[k] = max(depth[k], d)
                volume[k] += d * row_areas[r]
                level[k] = filled[r, c]
    return depth, volume, level


@numba.njit(cache=True, nogil=True)
def spill_cells(ways, numbered, n):
    rows, cols = ways.shape
    found = np.full(n, -1)
    for r in range(rows):
        for c in range(cols):
            k = numbered[r, c]
            if k > 0 and found[k] < 0:
                i, j = r, c
                while numbered[i, j] == k and ways[i, j] < 8:
                    w = ways[i, j]
                    i, j = i + DR[w], j + DC[w]
                found[k] = i * cols + j
    return found


@numba.njit(cache=True, nogil=True)
def fill_with_gradient(z, ways, metres, gradient, pulse):
    """Priority flood with a least rise a metre (Barnes, Lehman & Mulla 2014, algorithm 3, with a gradient for
    its step).
    """
    rows, cols = z.shape
    out = np.full(z.shape, np.float32(np.inf))
    heap = [(np.float32(0.0), np.int64(0)) for _ in range(0)]
    for r in range(rows):
        for c in range(cols):
            if ways[r, c] == NONE:
                out[r, c] = np.nan
            elif leaves(z, ways, r, c):
                heapq.heappush(heap, (z[r, c], np.int64(r * cols + c)))
                out[r, c] = z[r, c]
    _let_rise(z, out, 0, metres, gradient, heap, pulse)
    return out


@numba.njit(cache=True, nogil=True)
def rise_in_tile(z, out, fresh, changed, metres, gradient):
    """The same in a tile, with one more cell on each side, whose heights are NaN beyond the ground: ``out``
    holds what the cells around were raised to so far, infinite where that is not known, and is filled in. It
    is the least of all ways in, so that it does not matter in what order tiles learn of each other.

    ``fresh``: nothing is known of the tile; otherwise its cells hold what came of what was known before, and
    ``changed`` marks those around that were learnt since.
    """
    rows, cols = z.shape
    heap = [(np.float32(0.0), np.int64(0)) for _ in range(0)]
    for r in range(rows):
        for c in range(cols):
            inside = 0 < r < rows - 1 and 0 < c < cols - 1
            if inside and fresh:
                out[r, c] = np.nan if np.isnan(z[r, c]) else np.inf
                beside = False
                for k in range(8):
                    beside |= np.isnan(z[r + DR[k], c + DC[k]])
                if beside and not np.isnan(z[r, c]):
                    out[r, c] = z[r, c]
                    heapq.heappush(heap, (z[r, c], np.int64(r * cols + c)))
            elif not inside and changed[r, c] and np.isfinite(out[r, c]):
                heapq.heappush(heap, (out[r, c], np.int64(r * cols + c)))
    _let_rise(z, out, 1, metres, gradient, heap, np.zeros(2, np.int64))


@numba.njit(cache=True, nogil=True)
def _let_rise(z, out, rim, metres, gradient, heap, pulse):
    rows, cols = z.shape
    while len(heap) > 0:
        height, cell = heapq.heappop(heap)
        r, c = cell // cols, cell % cols
        if height > out[r, c]:
            continue  # it was reached lower meanwhile
        pulse[0] += 1
        if pulse[1]:
            break
        for k in range(8):
            i, j = r + DR[k], c + DC[k]
            if i < rim or j < rim or i >= rows - rim or j >= cols - rim:
                continue
            wanted = max(z[i, j], height + np.float32(gradient) * span(metres, min(i, r), k))
            if wanted < out[i, j]:  # never where there is no ground
                out[i, j] = wanted
                heapq.heappush(heap, (wanted, np.int64(i * cols + j)))


@numba.njit(cache=True, nogil=True)
def leaves(z, ways, r, c):
    """Whether a cell lies at the edge of the ground."""
    rows, cols = z.shape
    if r == 0 or c == 0 or r == rows - 1 or c == cols - 1:
        return True
    beside = False
    for k in range(8):
        beside |= ways[r + DR[k], c + DC[k]] == NONE
    return beside


class Settled(NamedTuple):
    """Of each cell the pit that it was settled for last and the fewest cells to it then (int32, of shape
    (rows, cols)); and the number of pits of earlier calls.
    """

    stamp: np.ndarray
    fewest: np.ndarray
    before: int


@numba.njit(cache=True, nogil=True)
def breach(z, ways, row_areas, pits, most_cells, settled):
    """Cut a channel from each of some pits; gives how many found a way.

    A label is one way to a cell: its cell, the label it came from, and the number of cells. Labels are
    settled in order of digging, and one that has no fewer cells than an earlier one of the same cell is no
    use. Of ways that take the same digging the lower end counts, wherever it lies.
    """
    (rows, cols), (stamp, fewest, before), done = z.shape, settled, 0
    cells, origin, steps = np.empty(4096, np.int64), np.empty(4096, np.int64), np.empty(4096, np.int32)
    for n in range(pits.size):
        start, found, mark = pits[n], np.int64(-1), before + n + 1
        low = z[start // cols, start % cols]
        cells[0], origin[0], steps[0], count = start, -1, 0, 1
        heap = [(0.0, low, np.int64(0))]
        while len(heap) > 0:
            cost, _, label = heapq.heappop(heap)
            cell, far = cells[label], steps[label]
            r, c = cell // cols, cell % cols
            if stamp[r, c] == mark and fewest[r, c] <= far:
                continue
            stamp[r, c], fewest[r, c] = mark, far
            if cell != start and (z[r, c] < low or leaves(z, ways, r, c)):
                found = label
                break
            if far >= most_cells:
                continue
            for k in range(8):
                i, j = r + DR[k], c + DC[k]
                if i < 0 or j < 0 or i >= rows or j >= cols or ways[i, j] == NONE:
                    continue
                if stamp[i, j] == mark and fewest[i, j] <= far + 1:
                    continue
                if count == cells.size:
                    cells, origin = np.append(cells, cells), np.append(origin, origin)
                    steps = np.append(steps, steps)
                cells[count], origin[count], steps[count] = i * cols + j, label, far + 1
                dug = max(float(z[i, j]) - low, 0.0) * row_areas[i]
                heapq.heappush(heap, (cost + dug + A_CELL, z[i, j], np.int64(count)))
                count += 1
        if found < 0:
            continue
        done += 1
        cut(z, cells, origin, found, low)
    return done


@numba.njit(cache=True, nogil=True)
def cut(z, cells, origin, label, low):
    """Lower the channel from its end up to the pit so that it falls all the way."""
    cols, count, up = z.shape[1], 0, label
    while origin[up] >= 0:
        up = origin[up]
        count += 1
    r, c = cells[label] // cols, cells[label] % cols
    floor = min(z[r, c], low)
    if z[r, c] >= low:
        floor = low - np.float32(FALL * count)
        z[r, c] = floor
    for n in range(1, count + 1):
        label = origin[label]
        r, c = cells[label] // cols, cells[label] % cols
        z[r, c] = min(z[r, c], np.float32(floor + (low - floor) * n / count))

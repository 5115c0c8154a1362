"""Kernels: basins: the ground divided by where its water ends, with figures of each; and catchments of
points, lines and areas.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, OUT, span, stands


@numba.njit(cache=True, nogil=True, parallel=True)
def relabel(labels, number, out):
    """Give each cell the number of its node."""
    for r in numba.prange(labels.shape[0]):
        for c in range(labels.shape[1]):
            out[r, c] = number[labels[r, c]]


@numba.njit(cache=True, nogil=True)
def count_nodes(labels, root, row_areas, counts, areas):
    for r in range(labels.shape[0]):
        for c in range(labels.shape[1]):
            counts[root[labels[r, c]]] += 1
            areas[root[labels[r, c]]] += row_areas[r]


@numba.njit(cache=True, nogil=True)
def add_steps(ways, metres, stream, numbered, total):
    for r in range(ways.shape[0]):
        for c in range(ways.shape[1]):
            k = ways[r, c]
            if stream[r, c] == 1 and k < OUT:
                total[numbered[r, c]] += span(metres, min(r, r + DR[k]), k)


@numba.njit(cache=True, nogil=True)
def add_depths(numbered, z, full, row_areas, volume):
    """Add up what stands over the cells of each basin whose pool is filled to a height."""
    for r in range(z.shape[0]):
        for c in range(z.shape[1]):
            k = numbered[r, c]
            if k > 0 and full[k] > z[r, c]:
                volume[k] += (np.float64(full[k]) - z[r, c]) * row_areas[r]


@numba.njit(cache=True, nogil=True)
def add_up(numbered, z, base, steep, row_areas, sums, pulse):
    """Add the cells of each basin up into its row of ``sums``, as ``Sums`` names them. Heights count above a
    base, or small relief on a large one would be lost in the sums.
    """
    sums[:, 2], sums[:, 3] = np.inf, -np.inf
    for r in range(z.shape[0]):
        pulse[0] = r
        if pulse[1]:
            return
        area = row_areas[r]
        for c in range(z.shape[1]):
            k = numbered[r, c]
            if k == 0:
                continue
            v, own = np.float64(z[r, c]), sums[k]
            own[0] += 1.0
            own[1] += area
            own[2], own[3] = min(own[2], v), max(own[3], v)
            own[4] += area * (v - base)
            if steep[r, c] == steep[r, c]:
                own[5] += area * steep[r, c]
                own[6] += area


@numba.njit(cache=True, nogil=True)
def ways_within(ground, course, numbered, longest, fall, pulse):
    """Longest way that water runs within each numbered basin, and how far it falls along it."""
    ways, metres, order = course
    cols = ways.shape[1]
    length, foot = np.zeros(ways.shape), np.zeros(ways.shape, np.float32)
    for n in range(order.size - 1, -1, -1):
        if n & 0xFFFF == 0:
            pulse[0] += 0x10000
            if pulse[1]:
                return
        r, c = order[n] // cols, order[n] % cols
        number, k = numbered[r, c], ways[r, c]
        stood = stands(ground, (r, c))
        foot[r, c] = stood
        if k < OUT and numbered[r + DR[k], c + DC[k]] == number:
            i, j = r + DR[k], c + DC[k]
            length[r, c] = length[i, j] + span(metres, min(r, i), k)
            foot[r, c] = foot[i, j]
        if number > 0:
            drop, near = stood - foot[r, c], 1e-9 * longest[number]
            # Of ways that are equally long the one that falls most counts, however the ground is turned.
            if length[r, c] > longest[number] + near or (
                length[r, c] >= longest[number] - near and drop > fall[number]
            ):
                longest[number], fall[number] = length[r, c], drop


@numba.njit(cache=True, nogil=True)
def longest_of(numbered, metres, water, longest, head):
    """Longest way from the cells of each number, and the height of the water where it begins, where the way
    of each cell is known; of ways that are equally long the one that begins highest.
    """
    for r in range(numbered.shape[0]):
        for c in range(numbered.shape[1]):
            number = numbered[r, c]
            if number == 0:
                continue
            near = 1e-9 * longest[number]
            if metres[r, c] > longest[number] + near or (
                metres[r, c] >= longest[number] - near and water[r, c] > head[number]
            ):
                longest[number], head[number] = metres[r, c], water[r, c]


@numba.njit(cache=True, nogil=True)
def longest_to(numbered, labels, metres, water, foot, longest, fall):
    """Longest way within each number, and how far water falls along it, where the way of each cell within its
    number and the height of the water at its end, by labels, are known; of ways that are equally long the one
    that falls most.
    """
    for r in range(numbered.shape[0]):
        for c in range(numbered.shape[1]):
            number = numbered[r, c]
            if number == 0:
                continue
            drop, near = water[r, c] - foot[labels[r, c]], 1e-9 * longest[number]
            if metres[r, c] > longest[number] + near or (
                metres[r, c] >= longest[number] - near and drop > fall[number]
            ):
                longest[number], fall[number] = metres[r, c], drop

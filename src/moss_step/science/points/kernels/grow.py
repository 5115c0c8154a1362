"""Kernels: segments that grow from point to point."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.points.kernels.near import columns_around


@numba.njit(inline="always")
def _from(z, first, last, bound):
    """The first of a run whose height is not below a bound."""
    low, high = first, last
    while low < high:
        middle = (low + high) // 2
        if z[middle] < bound:
            low = middle + 1
        else:
            high = middle
    return low


@numba.njit(cache=True, nogil=True)
def cells_of_points(starts, cells):
    """Number of the column that each point lies in."""
    for cell in range(starts.size - 1):
        for k in range(starts[cell], starts[cell + 1]):
            cells[k] = cell


@numba.njit(cache=True, nogil=True)
def _grow(places, layout, bands, normals, firm, limits, number, waiting, labels):
    """Grow one segment from the point that waits; how many points it got."""
    x, y, z = places
    starts, (rows, cols), cells = layout
    radius, least_cosine = limits
    square = radius * radius
    first, last = np.empty(9, np.int64), np.empty(9, np.int64)
    done, held = 0, 1
    while done < held:
        i = waiting[done]
        done += 1
        if not firm[i]:
            continue
        count = columns_around(cells[i] // cols, cells[i] % cols, rows, cols, starts, first, last)
        for c in range(count):
            for j in range(_from(z, first[c], last[c], z[i] - radius), last[c]):
                if z[j] > z[i] + radius:
                    break
                if labels[j]:
                    continue
                apart = (x[j] - x[i]) ** 2 + (y[j] - y[i]) ** 2 + (z[j] - z[i]) ** 2
                for b in range(bands.shape[1]):
                    apart += (bands[j, b] - bands[i, b]) ** 2
                if apart > square:
                    continue
                if least_cosine > 0.0:
                    cosine = 0.0
                    for b in range(3):
                        cosine += normals[i, b] * normals[j, b]
                    if not abs(cosine) >= least_cosine:
                        continue
                labels[j] = number
                waiting[held] = j
                held += 1
    return held


@numba.njit(cache=True, nogil=True)
def grow(places, layout, surface, limits, seeds, at, most, state, labels):
    """Grow segments from the seeds, in their order, from the one at ``at`` on until about so many points are
    taken; the place of the next seed. ``places`` are x, y and z; ``layout`` first points of the columns,
    their rows and columns, and the column of each point; ``surface`` bands, normals, and which points carry a
    segment on; ``limits`` radius and least cosine; ``state`` holds the number of segments so far.
    """
    bands, normals, firm = surface
    waiting = np.empty(labels.size, np.int64)
    taken = 0
    while at < seeds.size and taken < most:
        i = seeds[at]
        at += 1
        if labels[i]:
            continue
        state[0] += 1
        labels[i] = state[0]
        waiting[0] = i
        taken += _grow(places, layout, bands, normals, firm, limits, state[0], waiting, labels)
    return at

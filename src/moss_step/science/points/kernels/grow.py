"""Kernels: segments that grow from point to point."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.kernels.numeric import first_from
from moss_step.science.points.kernels.near import columns_around


@numba.njit(cache=True, nogil=True)
def cells_of_points(starts, cells):
    """Number of the column that each point lies in."""
    for cell in range(starts.size - 1):
        for k in range(starts[cell], starts[cell + 1]):
            cells[k] = cell


@numba.njit(cache=True, nogil=True)
def _grow(places, layout, bands, normals, firm, limits, most, state, waiting, labels):
    """Grow the segment that is under way by about so many points at the most: ``state`` holds its number, how
    many of those that wait were looked at, and how many wait.
    """
    x, y, z = places
    starts, (rows, cols), cells = layout
    radius, least_cosine = limits
    square = radius * radius
    first, last = np.empty(9, np.int64), np.empty(9, np.int64)
    number, done, held = state[0], state[1], state[2]
    end = done + most
    while done < held and done < end:
        i = waiting[done]
        done += 1
        if not firm[i]:
            continue
        count = columns_around(cells[i] // cols, cells[i] % cols, rows, cols, starts, first, last)
        for c in range(count):
            for j in range(first_from(z, z[i] - radius, first[c], last[c]), last[c]):
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
    state[1], state[2] = done, held


@numba.njit(cache=True, nogil=True)
def grow(places, layout, surface, limits, seeds, at, most, state, waiting, labels):
    """Grow segments from the seeds, in their order, from the one at ``at`` on until about so many points were
    looked at; the place of the next seed. ``places`` are x, y and z; ``layout`` first points of the columns,
    their rows and columns, and the column of each point; ``surface`` bands, normals, and which points carry a
    segment on; ``limits`` radius and least cosine; ``state`` number of the segment under way, and how many of
    those in ``waiting`` were looked at and wait.
    """
    bands, normals, firm = surface
    left = most
    while left > 0:
        if state[1] == state[2]:
            while at < seeds.size and labels[seeds[at]]:
                at += 1
            if at == seeds.size:
                break
            state[0] += 1
            labels[seeds[at]] = state[0]
            waiting[0] = seeds[at]
            state[1], state[2] = 0, 1
        before = state[1]
        _grow(places, layout, bands, normals, firm, limits, left, state, waiting, labels)
        left -= state[1] - before
    return at

"""Kernels: how much ground lies upstream of each cell: by one receiver, by all lower neighbours, or by the
two of a facet.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, NONE, OUT, span


@numba.njit(cache=True, nogil=True, parallel=True)
def count_donors(ways, donors):
    """How many neighbours run to each cell."""
    rows, cols = ways.shape
    for r in numba.prange(rows):
        inner = 0 < r < rows - 1
        for c in range(cols):
            n = 0
            if inner and 0 < c < cols - 1:
                for k in range(8):
                    n += ways[r + DR[k], c + DC[k]] == k ^ 4
            else:
                for k in range(8):
                    i, j = r + DR[k], c + DC[k]
                    n += 0 <= i < rows and 0 <= j < cols and ways[i, j] == k ^ 4
            donors[r, c] = n


@numba.njit(cache=True, nogil=True)
def walk(ways, donors, total, steps, here, first, last):
    """Follow the water from a cell that all is known of until it waits for other donors (-1), or to where it
    leaves a strip.

    The cell it leaves at is given; it has still to be added to its receiver.
    """
    amount = total[here]
    while True:
        donors[here] = 255  # done
        way = ways[here]
        if way >= OUT:
            return -1
        next_ = here + steps[way]
        if next_ < first or next_ >= last:
            return here
        here = next_
        amount += total[here]
        total[here] = amount
        donors[here] -= 1
        if donors[here] > 0:
            return -1


@numba.njit(cache=True, nogil=True, parallel=True)
def accumulate_cells(ways, donors, total, steps, cols, strips):
    rows = ways.size // cols
    waiting, count = np.empty((strips, 2 * cols), np.int64), np.zeros(strips, np.int64)
    for s in numba.prange(strips):
        first, last = s * rows // strips * cols, (s + 1) * rows // strips * cols
        for start in range(first, last):
            if donors[start] == 0 and ways[start] != NONE:
                left = walk(ways, donors, total, steps, start, first, last)
                if left >= 0:
                    waiting[s, count[s]] = left
                    count[s] += 1
    for s in range(strips):
        for n in range(count[s]):
            here = waiting[s, n] + steps[ways[waiting[s, n]]]
            total[here] += total[waiting[s, n]]
            donors[here] -= 1
            if donors[here] == 0:
                walk(ways, donors, total, steps, here, 0, ways.size)


@numba.njit(cache=True, nogil=True, parallel=True, error_model="numpy")
def facet_ways(ground, first, last, share):
    """Direction of steepest descent over the eight facets around each cell, as eighths of a turn clockwise
    from east.

    Cells that no facet leads down from keep their single receiver; a facet without one of its cells is none;
    -1 is out of the ground, NaN is none. Angles are worked out for the steepest facet only.
    """
    z, ways, metres = ground
    rows, cols = z.shape
    zero = np.float32(0.0)
    for r in numba.prange(first, last):
        east, south = metres[r, 0], metres[r, 2]
        slant = east * east + south * south
        for c in range(cols):
            way = ways[r, c]
            share[r, c] = np.nan if way == NONE else -1.0 if way >= OUT else np.float32(way)
            if way >= OUT:
                continue
            rim = r == 0 or c == 0 or r == rows - 1 or c == cols - 1
            e0, best, found, one, two = z[r, c], zero, -1, zero, zero
            for k in range(8):
                straight, corner = ((k + 1) // 2 * 2) & 7, k // 2 * 2 + 1
                if rim and not (0 <= r + DR[corner] < rows and 0 <= c + DC[corner] < cols):
                    continue  # the corner lies beyond the grid: as beside no-data, this facet is none
                e1 = z[r + DR[straight], c + DC[straight]]
                e2 = z[r + DR[corner], c + DC[corner]]
                if e1 >= e0 and e2 >= e0:
                    continue
                flat = (straight & 2) == 0
                d1, d2 = (east, south) if flat else (south, east)
                s1, s2 = (e0 - e1) / d1, (e1 - e2) / d2
                if s2 <= zero:
                    s2, steep = zero, s1 * s1 if s1 > zero else zero
                elif s1 <= zero or s2 * d1 >= s1 * d2:
                    s1, s2 = zero, np.float32(1.0)
                    steep = (e0 - e2) * (e0 - e2) / slant if e2 < e0 else zero
                else:
                    steep = s1 * s1 + s2 * s2
                if steep > best:
                    best, found, one, two = steep, k, s1, s2
            if found >= 0:
                straight, corner = ((found + 1) // 2 * 2) & 7, found // 2 * 2 + 1
                flat = (straight & 2) == 0
                part = (
                    1.0
                    if one == zero
                    else np.arctan2(two, one) / (np.arctan2(south, east) if flat else np.arctan2(east, south))
                )
                side = 1.0 if corner == straight + 1 else -1.0
                eighths = np.float32((straight + side * part) % 8.0)
                share[r, c] = (
                    eighths if eighths < 8.0 else zero
                )  # a hair below east is rounded to a whole turn


@numba.njit(inline="always", cache=True)
def two_cells(share):
    """Both receivers of a facet direction, and the part that runs to the second."""
    k = int(share)
    return k % 8, (k + 1) % 8, share - k


@numba.njit(cache=True, nogil=True)
def accumulate_facets(share, total, pulse):
    """Add to each cell of ``total`` its part of all that runs to it, divided between two receivers by angle.

    ``pulse`` is that of ``Progress.pulse``.
    """
    rows, cols = share.shape
    donors = np.zeros((rows, cols), np.uint8)
    for r in range(rows):
        for c in range(cols):
            if share[r, c] >= 0:
                p, q, part = two_cells(share[r, c])
                if part < 1.0:
                    donors[r + DR[p], c + DC[p]] += 1
                if part > 0.0:
                    donors[r + DR[q], c + DC[q]] += 1
    stack = np.empty(1024, np.int64)
    for r in range(rows):
        pulse[0] += cols
        for c in range(cols):
            if donors[r, c] != 0:
                continue
            if pulse[1]:
                return
            stack[0], top = r * cols + c, 1
            donors[r, c] = 255
            while top > 0:
                top -= 1
                i, j = stack[top] // cols, stack[top] % cols
                if not share[i, j] >= 0:
                    continue
                p, q, part = two_cells(share[i, j])
                for side in range(2):
                    k, weight = (p, 1.0 - part) if side == 0 else (q, part)
                    if weight <= 0.0:
                        continue
                    a, b = i + DR[k], j + DC[k]
                    total[a, b] += weight * total[i, j]
                    donors[a, b] -= 1
                    if donors[a, b] == 0:
                        donors[a, b] = 255
                        if top == stack.size:
                            stack = np.append(stack, np.empty(stack.size, np.int64))
                        stack[top] = a * cols + b
                        top += 1


@numba.njit(cache=True, nogil=True)
def freeman_shares(ground, exponent, r, c, shares):
    """Shares that run to the eight neighbours: to all lower ones by slope, or to the single receiver on level
    ground.
    """
    z, ways, metres = ground
    rows, cols = z.shape
    total = 0.0
    shares[:] = 0.0
    if ways[r, c] >= OUT:
        return
    for k in range(8):
        i, j = r + DR[k], c + DC[k]
        if 0 <= i < rows and 0 <= j < cols and z[i, j] < z[r, c]:
            shares[k] = ((z[r, c] - z[i, j]) / span(metres, r, k)) ** exponent
            total += shares[k]
    if total > 0.0:
        shares /= total
    else:
        shares[ways[r, c]] = 1.0


@numba.njit(cache=True, nogil=True)
def accumulate_freeman(ground, exponent, total, pulse):
    """Add to each cell of ``total`` its share of all that runs to it from higher neighbours."""
    ways = ground.ways
    rows, cols = ways.shape
    donors, shares = np.zeros((rows, cols), np.uint8), np.zeros(8)
    for r in range(rows):
        pulse[0] += cols
        if pulse[1]:
            return
        for c in range(cols):
            freeman_shares(ground, exponent, r, c, shares)
            for k in range(8):
                if shares[k] > 0.0:
                    donors[r + DR[k], c + DC[k]] += 1
    stack = np.empty(1024, np.int64)
    for r in range(rows):
        pulse[0] += cols
        for c in range(cols):
            if donors[r, c] != 0 or ways[r, c] == NONE:
                continue
            if pulse[1]:
                return
            stack[0], top = r * cols + c, 1
            donors[r, c] = 255
            while top > 0:
                top -= 1
                i, j = stack[top] // cols, stack[top] % cols
                freeman_shares(ground, exponent, i, j, shares)
                for k in range(8):
                    if shares[k] <= 0.0:
                        continue
                    a, b = i + DR[k], j + DC[k]
                    total[a, b] += shares[k] * total[i, j]
                    donors[a, b] -= 1
                    if donors[a, b] == 0:
                        donors[a, b] = 255
                        if top == stack.size:
                            stack = np.append(stack, np.empty(stack.size, np.int64))
                        stack[top] = a * cols + b
                        top += 1

"""Kernels: how much ground lies upstream of each cell: by one receiver, by all lower neighbours, or by the
two of a facet.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, LOWEST, NONE, OUT, span


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


NO_ORDER = np.empty(0, np.int32)
"""For an order of cells that nobody asks for."""


class Shared(NamedTuple):
    """How the water of each cell of a ground (see ``Drained``) is shared out: over the two cells of its facet
    (``facets``, as ``facet_ways`` gives them), or, where these are of no cells, over all lower neighbours by
    slope to the ``exponent`` (``whole``: what these come to together, as ``add_slopes`` gives it).
    """

    z: np.ndarray
    ways: np.ndarray
    metres: np.ndarray
    exponent: float
    whole: np.ndarray
    facets: np.ndarray


@numba.njit(cache=True, nogil=True, parallel=True)
def add_slopes(ground, exponent, first, last, whole):
    """Slope to the ``exponent`` of all lower neighbours of each cell of some rows together; 0 on level
    ground, and where water leaves it.
    """
    z, ways, metres = ground
    rows, cols = z.shape
    for r in numba.prange(first, last):
        for c in range(cols):
            total = 0.0
            if ways[r, c] < OUT:
                for k in range(8):
                    i, j = r + DR[k], c + DC[k]
                    if 0 <= i < rows and 0 <= j < cols and z[i, j] < z[r, c]:
                        total += ((z[r, c] - z[i, j]) / span(metres, r, k)) ** exponent
            whole[r, c] = total


@numba.njit(inline="always", cache=True)
def part_to(facet, k):
    """Part of the water of a cell that runs to its neighbour k, by its direction over a facet."""
    if not facet >= 0:
        return 0.0
    p = int(facet)
    part = np.float64(facet) - p
    return 1.0 - part if (p & 7) == k else part if ((p + 1) & 7) == k else 0.0


@numba.njit(inline="always", cache=True)
def runs_to(shared, r, c, k):
    """Whether some water of a cell runs to its neighbour k, which lies in the grid."""
    if shared.facets.size > 0:
        return part_to(shared.facets[r, c], k) > 0.0
    z, ways = shared.z, shared.ways
    if ways[r, c] >= OUT:
        return False
    if shared.whole[r, c] > 0.0:
        return z[r + DR[k], c + DC[k]] < z[r, c]
    return k == ways[r, c]


@numba.njit(inline="always", cache=True)
def share_to(shared, r, c, k):
    """Which share of its water a cell sends to a neighbour that it runs to."""
    if shared.facets.size > 0:
        return part_to(shared.facets[r, c], k)
    whole = shared.whole[r, c]
    if whole > 0.0:
        fall = shared.z[r, c] - shared.z[r + DR[k], c + DC[k]]
        return (fall / span(shared.metres, r, k)) ** shared.exponent / whole
    return 1.0


@numba.njit(cache=True, nogil=True, parallel=True)
def mark_donors(shared, margin, donors):
    """Which neighbours send water to each cell, a bit for each; none in a ``margin`` of the grid."""
    rows, cols = donors.shape
    for r in numba.prange(rows):
        for c in range(cols):
            bits = 0
            if margin <= r < rows - margin and margin <= c < cols - margin:
                for k in range(8):
                    i, j = r + DR[k], c + DC[k]
                    if 0 <= i < rows and 0 <= j < cols and runs_to(shared, i, j, k ^ 4):
                        bits |= 1 << k
            donors[r, c] = bits


@numba.njit(inline="always", cache=True)
def take_in(shared, donors, total, r, c):
    """Add to a cell what it is sent by its donors, in the order of neighbours: it is the same whichever was
    worked out first.
    """
    bits = np.int64(donors[r, c])
    while bits:
        k = LOWEST[bits]
        bits &= bits - 1
        i, j = r + DR[k], c + DC[k]
        share = share_to(shared, i, j, k ^ 4)
        for f in range(total.shape[0]):
            total[f, r, c] += share * total[f, i, j]


@numba.njit(cache=True, nogil=True)
def accumulate_shared(shared, margin, donors, total, order, pulse):
    """Add to each cell of ``total`` (fields, rows, cols) its share of all that runs to it; ``donors`` are of
    ``mark_donors``. What the cells of a ``margin`` hold is all that there is of them.

    Gives how many cells there are; ``order`` takes these as they were added up, each after its donors, where
    it has room for any. ``pulse`` is that of ``Progress.pulse``.
    """
    rows, cols = donors.shape
    left = donors.copy()
    stack, count = np.empty(1024, np.int64), 0
    for r in range(rows):
        pulse[0] += cols
        if pulse[1]:
            return count
        for c in range(cols):
            if donors[r, c] != 0 or shared.ways[r, c] == NONE:
                continue
            stack[0], top = r * cols + c, 1
            while top > 0:
                top -= 1
                i, j = stack[top] // cols, stack[top] % cols
                if margin <= i < rows - margin and margin <= j < cols - margin:
                    take_in(shared, donors, total, i, j)
                    if order.size > 0:
                        order[count] = stack[top]
                    count += 1
                for k in range(8):
                    a, b, bit = i + DR[k], j + DC[k], np.uint8(1 << (k ^ 4))
                    if not (0 <= a < rows and 0 <= b < cols and donors[a, b] & bit):
                        continue
                    left[a, b] &= ~bit
                    if left[a, b] == 0:
                        if top == stack.size:
                            stack = np.append(stack, np.empty(stack.size, np.int64))
                        stack[top] = a * cols + b
                        top += 1
    return count


@numba.njit(inline="always", cache=True)
def mark_receivers(donors, r, c, marked):
    """Mark the cells that a cell sends water to."""
    rows, cols = donors.shape
    for k in range(8):
        i, j = r + DR[k], c + DC[k]
        if 0 <= i < rows and 0 <= j < cols and donors[i, j] >> (k ^ 4) & 1:
            marked[i, j] = 1


@numba.njit(cache=True, nogil=True)
def accumulate_again(shared, donors, changed, own, total, order):
    """Add up again what ``changed`` cells (r, c) of a margin of one send water to, and what changes by that;
    ``own`` is what the cells within the margin hold by themselves (fields, rows, cols), and ``order`` has
    each after its donors.
    """
    fields, rows, cols = total.shape
    marked, before = np.zeros((rows, cols), np.uint8), np.empty(fields)
    for n in range(len(changed)):
        mark_receivers(donors, changed[n, 0], changed[n, 1], marked)
    for n in range(order.size):
        r, c = order[n] // cols, order[n] % cols
        if marked[r, c] == 0:
            continue
        for f in range(fields):
            before[f] = total[f, r, c]
            total[f, r, c] = own[f, r - 1, c - 1]
        take_in(shared, donors, total, r, c)
        for f in range(fields):
            now = total[f, r, c]
            if now != before[f] and (now == now or before[f] == before[f]):
                mark_receivers(donors, r, c, marked)
                break


@numba.njit(cache=True, nogil=True)
def mark_senders(shared, sends):
    """1 for the cells beside a margin of one that send water into it."""
    rows, cols = sends.shape
    for r in range(1, rows - 1):
        step = 1 if r == 1 or r == rows - 2 else max(cols - 3, 1)
        for c in range(1, cols - 1, step):
            for k in range(8):
                i, j = r + DR[k], c + DC[k]
                beyond = i == 0 or j == 0 or i == rows - 1 or j == cols - 1
                if beyond and runs_to(shared, r, c, k):
                    sends[r, c] = 1

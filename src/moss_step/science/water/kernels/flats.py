"""Kernels: ways over level ground: away from higher ground and toward lower, in one drainage without
loops.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, LOWEST, PIT, stands

HIGHER, LOWER, OUT = 256, 512, 10
"""What lies beside a level cell: a bit for each neighbour of its flat, two more bits, and from bit 10 the
first way out.
"""


@numba.njit(cache=True, nogil=True, parallel=True)
def look_around(z, labels, level, ways, place):
    """Note what lies beside each level cell in ``place``, as -1 less the bits; a flat of one cell is done
    with at once.

    Gives the number of cells of larger flats.
    """
    count = 0
    for r in numba.prange(1, z.shape[0] - 1):
        for c in range(1, z.shape[1] - 1):
            if ways[r, c] != PIT:
                continue
            height, same, ways_out, higher = stands(z, labels, level, (r, c)), 0, 0, False
            for k in range(
                8
            ):  # without branches: what lies beside the cells of small flats cannot be guessed
                at = (r + DR[k], c + DC[k])
                v, way = stands(z, labels, level, at), ways[at]
                same |= ((v == height) & (way == PIT)) << k
                ways_out |= ((v == height) & (way < PIT)) << k
                higher |= v > height
            out = LOWEST[ways_out & 0x55 if ways_out & 0x55 else ways_out]  # straight neighbours first
            if same:
                place[r, c] = -1 - (same | higher << 8 | (ways_out > 0) << 9 | out << OUT)
                count += 1
            elif ways_out:
                ways[r, c] = (
                    out  # no flat looks at it: none of its neighbours is level with it and without a way
                )
            else:
                ways[r, c] = least_way_down(z, labels, level, r, c, height)
    return count


@numba.njit(cache=True, nogil=True)
def least_way_down(z, labels, level, r, c, height):
    """A way down over a drop so small that its slope is no number above 0, or none."""
    for k in range(8):
        if stands(z, labels, level, (r + DR[k], c + DC[k])) < height:
            return np.uint8(k)
    return PIT


@numba.njit(cache=True, nogil=True)
def gather(start, steps, place, cells, beside, count):
    """Add the cells of a flat to the lists, with what lies beside each; ``place`` gains their numbers in the
    flat, from 1.

    Gives the count of cells in the lists.
    """
    first = done = count
    cells[count], beside[count] = start, -1 - place[start]
    count += 1
    place[start] = 1
    while done < count:
        here, bits = cells[done], beside[done] & 255
        done += 1
        while bits:
            at = here + steps[LOWEST[bits]]
            bits &= bits - 1
            if place[at] < 0:
                cells[count], beside[count] = at, -1 - place[at]
                count += 1
                place[at] = count - first
    return count


@numba.njit(cache=True, nogil=True)
def spread(steps, place, cells, beside, flag, far, queue):
    """Number of steps to each cell of a flat from those with a flag, which are 1 step away; gives the
    largest.
    """
    tail, head, most = 0, 0, 0
    for n in range(cells.size):
        far[n] = 0
        if beside[n] & flag:
            far[n] = 1
            queue[tail] = n
            tail += 1
    while head < tail:
        n = queue[head]
        head += 1
        most = far[n]
        bits = beside[n] & 255
        while bits:
            m = place[cells[n] + steps[LOWEST[bits]]] - 1
            bits &= bits - 1
            if far[m] == 0:
                far[m] = most + 1
                queue[tail] = m
                tail += 1
    return most


@numba.njit(cache=True, nogil=True)
def run_to_first(ways, steps, place, cells, beside):
    """Leave one pit in a flat without lower ground. The cells are in order of steps from the first one."""
    for n in range(cells.size):
        for k in range(8):
            at = cells[n] + steps[k]
            if (beside[n] >> k) & 1 and ways[at] == PIT and place[at] > 1:
                ways[at] = k ^ 4


@numba.njit(cache=True, nogil=True)
def drain(ways, steps, place, cells, beside, away, toward, queue):
    """Give the cells of one flat their ways; one without lower ground runs to its first cell."""
    if spread(steps, place, cells, beside, LOWER, toward, queue) == 0:
        run_to_first(ways, steps, place, cells, beside)
        return
    highest = spread(steps, place, cells, beside, HIGHER, away, queue)
    for n in range(cells.size):
        if toward[n] == 1:
            ways[cells[n]] = beside[n] >> OUT
            continue
        best, way = 2 * toward[n] + highest - away[n], PIT
        for some in (0x55, 0xAA):  # straight neighbours first
            bits = beside[n] & some
            while bits:
                k = LOWEST[bits]
                bits &= bits - 1
                m = place[cells[n] + steps[k]] - 1
                if 2 * toward[m] + highest - away[m] < best:
                    best, way = 2 * toward[m] + highest - away[m], np.uint8(k)
        ways[cells[n]] = way


@numba.njit(cache=True, nogil=True)
def gather_some(at, steps, place, cells, beside, starts):
    """List the cells of flats from a cell on, until ``starts`` is full or as many cells are listed; gives the
    next cell.
    """
    flats = count = 0
    while at < place.size and max(count, flats + 1) < starts.size:
        if place[at] < 0:
            starts[flats] = count
            flats += 1
            count = gather(at, steps, place, cells, beside, count)
        at += 1
    starts[flats] = count
    return at, flats


@numba.njit(cache=True, nogil=True, parallel=True)
def drain_all(ways, steps, place, lists, starts):
    """Work on all flats at once: each reads and changes its own cells only."""
    cells, beside, away, toward, queue = lists
    flats = starts.size - 1
    blocks = min(flats, 256)
    for b in numba.prange(blocks):
        # Every 256th flat: large ones, which lie near each other in order, are shared out between the
        # threads.
        for f in range(b, flats, blocks):
            i, j = starts[f], starts[f + 1]
            drain(ways, steps, place, cells[i:j], beside[i:j], away[i:j], toward[i:j], queue[i:j])

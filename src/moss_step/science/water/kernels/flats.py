"""Kernels: ways over level ground: away from higher ground and toward lower, in one drainage without
loops.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np

from moss_step.science.water.kernels.descent import water_row
from moss_step.science.water.kernels.neighbours import DC, DR, LOWEST, PIT, stands

HIGHER, LOWER, OUT = 256, 512, 10
"""What lies beside a level cell: a bit for each neighbour of its flat, two more bits, and from bit 10 the
first way out.
"""


class Places(NamedTuple):
    """Where level cells lie: the steps in a flat grid to the eight neighbours, and the grid itself (int32):
    each level cell's number in its flat from 1, or what lies beside it before that is known.
    """

    steps: np.ndarray
    place: np.ndarray


class Flats(NamedTuple):
    """Lists of the level cells of some flats: cell, what lies beside it, steps from higher and from lower
    ground, and a queue to work in.
    """

    cells: np.ndarray
    beside: np.ndarray
    away: np.ndarray
    toward: np.ndarray
    queue: np.ndarray


@numba.njit(cache=True, nogil=True)
def bits_beside(heights, ways, bits):
    """What lies beside each cell of a row but the outermost: a bit for each neighbour as high that has no
    way, one from bit 16 for each as high that has one, and from bit 8 whether any is higher. Heights and ways
    are those of the row above, its own and the one below.
    """
    (z0, z1, z2), (w0, w1, w2) = heights, ways
    for c in range(bits.size - 2):  # without branches, so that many cells are done at once
        v = z1[c + 1]
        b = one_beside(z1[c + 2], w1[c + 2], v)
        b |= one_beside(z2[c + 2], w2[c + 2], v) << 1
        b |= one_beside(z2[c + 1], w2[c + 1], v) << 2
        b |= one_beside(z2[c], w2[c], v) << 3
        b |= one_beside(z1[c], w1[c], v) << 4
        b |= one_beside(z0[c], w0[c], v) << 5
        b |= one_beside(z0[c + 1], w0[c + 1], v) << 6
        b |= one_beside(z0[c + 2], w0[c + 2], v) << 7
        bits[c + 1] = b


@numba.njit(inline="always", cache=True)
def one_beside(z, way, height):
    """What one neighbour adds to the bits of a cell of a height."""
    level = np.int32(z == height)
    return (level & np.int32(way == PIT)) | np.int32(z > height) << 8 | (level & np.int32(way < PIT)) << 16


@numba.njit(cache=True, nogil=True, parallel=True)
def look_around(ground, ways, place):
    """Note what lies beside each level cell in ``place``, as -1 less the bits; a flat of one cell is done
    with at once.

    Gives the number of cells of larger flats.
    """
    rows, cols = ways.shape
    strips, count = (rows + 63) // 64, 0
    for s in numba.prange(strips):
        above, here, below = (
            np.empty(cols, np.float32),
            np.empty(cols, np.float32),
            np.empty(cols, np.float32),
        )
        bits, filled = np.zeros(cols, np.int32), -2
        for r in range(max(s * 64, 1), min(s * 64 + 64, rows - 1)):
            level = False
            for c in range(1, cols - 1):
                level |= ways[r, c] == PIT
            if not level:
                continue
            if filled == r - 1:
                above, here, below = here, below, above
            else:
                water_row(ground, r - 1, above)
                water_row(ground, r, here)
            water_row(ground, r + 1, below)
            filled = r
            bits_beside((above, here, below), (ways[r - 1], ways[r], ways[r + 1]), bits)
            for c in range(1, cols - 1):
                if ways[r, c] != PIT:
                    continue
                ways_out = bits[c] >> 16
                out = LOWEST[ways_out & 0x55 if ways_out & 0x55 else ways_out]  # straight neighbours first
                if bits[c] & 255:
                    higher = (bits[c] & 0xFF00) > 0
                    place[r, c] = -1 - (bits[c] & 255 | higher << 8 | (ways_out > 0) << 9 | out << OUT)
                    count += 1
                elif ways_out:
                    # No flat looks at it: none of its neighbours is level with it and without a way.
                    ways[r, c] = out
                else:
                    ways[r, c] = least_way_down(ground, r, c, here[c])
    return count


@numba.njit(cache=True, nogil=True)
def least_way_down(ground, r, c, height):
    """A way down over a drop so small that its slope is no number above 0, or none."""
    for k in range(8):
        if stands(ground, (r + DR[k], c + DC[k])) < height:
            return np.uint8(k)
    return PIT


@numba.njit(cache=True, nogil=True)
def gather(start, places, flats, count):
    """Add the cells of a flat to the lists, with what lies beside each; its places gain their numbers, from
    1.

    Gives the count of cells in the lists.
    """
    (steps, place), cells, beside = places, flats.cells, flats.beside
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
def spread(places, flat, flag, far):
    """Number of steps to each cell of a flat from those with a flag, which are 1 step away; gives the
    largest.
    """
    (steps, place), cells, beside, queue = places, flat.cells, flat.beside, flat.queue
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
def run_to_first(ways, places, flat):
    """Leave one pit in a flat without lower ground. The cells are in order of steps from the first one."""
    (steps, place), cells, beside = places, flat.cells, flat.beside
    for n in range(cells.size):
        for k in range(8):
            at = cells[n] + steps[k]
            if (beside[n] >> k) & 1 and ways[at] == PIT and place[at] > 1:
                ways[at] = k ^ 4


@numba.njit(cache=True, nogil=True)
def drain(ways, places, flat):
    """Give the cells of one flat their ways; one without lower ground runs to its first cell."""
    (steps, place), (cells, beside, away, toward, _) = places, flat
    if spread(places, flat, LOWER, toward) == 0:
        run_to_first(ways, places, flat)
        return
    highest = spread(places, flat, HIGHER, away)
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
def gather_some(at, places, lists, starts):
    """List the cells of flats from a cell on, until ``starts`` is full or as many cells are listed; gives the
    next cell.
    """
    flats = count = 0
    place = places.place
    while at < place.size and max(count, flats + 1) < starts.size:
        if place[at] < 0:
            starts[flats] = count
            flats += 1
            count = gather(at, places, lists, count)
        at += 1
    starts[flats] = count
    return at, flats


@numba.njit(cache=True, nogil=True, parallel=True)
def drain_all(ways, places, lists, starts):
    """Work on all flats at once: each reads and changes its own cells only."""
    cells, beside, away, toward, queue = lists
    flats = starts.size - 1
    blocks = min(flats, 256)
    for b in numba.prange(blocks):
        # Every 256th flat: large ones, which lie near each other in order, are shared out between the
        # threads.
        for f in range(b, flats, blocks):
            i, j = starts[f], starts[f + 1]
            flat = Flats(cells[i:j], beside[i:j], away[i:j], toward[i:j], queue[i:j])
            drain(ways, places, flat)

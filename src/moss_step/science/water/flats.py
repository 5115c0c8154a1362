"""Ways over level ground: away from higher ground and toward lower, in one drainage without loops.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces in raster digital elevation
models, Computers & Geosciences 62, after Garbrecht & Martz 1997, Journal of Hydrology 193. One flat is worked on at a
time, so that the memory follows the level cells and not the grid.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.neighbours import DC, DR, PIT

_HIGHER, _LOWER = np.uint8(1), np.uint8(2)


@numba.njit(cache=True, nogil=True)
def _gather(z, ways, start, steps, place, cells, beside):  # type: ignore[no-untyped-def]  # numba infers the types
    """List the cells of a flat from one on, with whether higher ground, or a way down at its height, lies beside each.

    ``place`` gains the number of each cell in the list, from 1. Gives how many there are.
    """
    cells[0], count, done = start, 1, 0
    place[start] = 1
    height = z[start]
    while done < count:
        here, flags = cells[done], np.uint8(0)
        for k in range(8):
            at = here + steps[k]
            v = z[at]
            if v > height:
                flags |= _HIGHER
            elif v == height:
                if ways[at] < PIT:
                    flags |= _LOWER
                elif ways[at] == PIT and place[at] == 0:
                    cells[count] = at
                    count += 1
                    place[at] = count
        beside[done] = flags
        done += 1
    return count


@numba.njit(cache=True, nogil=True)
def _spread(z, steps, place, cells, beside, flag, far, queue):  # type: ignore[no-untyped-def]  # numba infers the types
    """Number of steps to each cell of a flat from those with a flag, which are 1 step away; gives the largest."""
    tail, head, most, height = 0, 0, 0, z[cells[0]]
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
        for k in range(8):
            at = cells[n] + steps[k]
            m = place[at] - 1
            if m >= 0 and far[m] == 0 and z[at] == height:
                far[m] = most + 1
                queue[tail] = m
                tail += 1
    return most


@numba.njit(cache=True, nogil=True)
def _drain(z, ways, steps, place, cells, beside, away, toward, queue):  # type: ignore[no-untyped-def]  # numba infers the types
    """Find the way of every cell of one flat, in ``beside``; nothing is found when the flat has no lower ground."""
    highest = _spread(z, steps, place, cells, beside, _HIGHER, away, queue)
    if _spread(z, steps, place, cells, beside, _LOWER, toward, queue) == 0:
        beside[:] = PIT
        return
    height = z[cells[0]]
    for n in range(cells.size):
        best, way = 2 * toward[n] + highest - away[n], PIT
        for turn in range(8):
            k = (turn * 2) % 8 + (turn >= 4)  # straight neighbours first
            at = cells[n] + steps[k]
            if z[at] != height:
                continue
            m = place[at] - 1
            if toward[n] == 1:
                if m < 0 and ways[at] < PIT:
                    way = np.uint8(k)
                    break
            elif m >= 0 and 2 * toward[m] + highest - away[m] < best:
                best, way = 2 * toward[m] + highest - away[m], np.uint8(k)
        beside[n] = way


@numba.njit(cache=True, nogil=True)
def _gather_all(z, ways, steps, place, cells, beside, starts):  # type: ignore[no-untyped-def]  # numba infers the types
    """List the cells of all flats one after the other; gives how many flats there are."""
    flats, count = 0, 0
    for at in range(z.size):
        if ways[at] == PIT and place[at] == 0:
            starts[flats] = count
            flats += 1
            count += _gather(z, ways, at, steps, place, cells[count:], beside[count:])
    starts[flats] = count
    return flats


@numba.njit(cache=True, nogil=True, parallel=True)
def _drain_all(z, ways, steps, place, lists, starts, flats):  # type: ignore[no-untyped-def]  # numba infers the types
    """Work on all flats at once: each only reads ground and ways that no other one changes."""
    cells, beside, away, toward, queue = lists
    blocks = min(flats, 256)
    for b in numba.prange(blocks):
        # Every 256th flat: large ones, which lie near each other in order, are shared out between the threads.
        for f in range(b, flats, blocks):
            i, j = starts[f], starts[f + 1]
            _drain(z, ways, steps, place, cells[i:j], beside[i:j], away[i:j], toward[i:j], queue[i:j])


@numba.njit(cache=True, nogil=True)
def _write(ways, cells, beside):  # type: ignore[no-untyped-def]  # numba infers the types
    for n in range(cells.size):
        ways[cells[n]] = beside[n]


def drain_flats(z: np.ndarray, ways: np.ndarray, place: np.ndarray) -> int:
    """Give the cells of ``ways`` without a way (PIT) one, where their flat has lower ground beside it.

    ``z`` is the ground, ``place`` an int32 grid of zeros to work in, which is left in disorder. Gives the number of flats.
    Cells at the edge always have a way, so that the neighbours of all others lie within the grid.
    """
    count = int(np.count_nonzero(ways == PIT))
    if count == 0:
        return 0
    steps = DR * z.shape[1] + DC
    flat_z, flat_ways, flat_place = z.reshape(-1), ways.reshape(-1), place.reshape(-1)
    cells, beside, starts = np.empty(count, np.int32), np.empty(count, np.uint8), np.empty(count + 1, np.int64)
    flats = int(_gather_all(flat_z, flat_ways, steps, flat_place, cells, beside, starts))
    lists = (cells, beside, np.empty(count, np.int32), np.empty(count, np.int32), np.empty(count, np.int32))
    _drain_all(flat_z, flat_ways, steps, flat_place, lists, starts, flats)
    _write(flat_ways, cells, beside)
    return flats

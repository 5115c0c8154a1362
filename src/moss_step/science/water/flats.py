"""Ways over level ground: away from higher ground and toward lower, in one drainage without loops.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces in raster digital elevation
models, Computers & Geosciences 62, after Garbrecht & Martz 1997, Journal of Hydrology 193. One flat is worked on at a
time, so that the memory follows the level cells and not the grid.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.neighbours import DC, DR, PIT


@numba.njit(cache=True, nogil=True)
def _gather(z, ways, r, c, place, cells):  # type: ignore[no-untyped-def]
    """List the cells of a flat that have no way yet; ``place`` gains the number of each in the list, from 1."""
    cols = z.shape[1]
    cells[0], count, done = r * cols + c, 1, 0
    place[r, c] = 1
    while done < count:
        i, j = cells[done] // cols, cells[done] % cols
        done += 1
        for k in range(8):
            a, b = i + DR[k], j + DC[k]
            if ways[a, b] == PIT and place[a, b] == 0 and z[a, b] == z[i, j]:
                cells[count] = a * cols + b
                count += 1
                place[a, b] = count
    return count


@numba.njit(cache=True, nogil=True)
def _spread(z, place, cells, steps, queue, tail):  # type: ignore[no-untyped-def]
    """Number of steps from the cells in the queue to all others of the flat; gives the largest."""
    cols, head, most = z.shape[1], 0, 0
    while head < tail:
        n = queue[head]
        head += 1
        most = steps[n]
        i, j = cells[n] // cols, cells[n] % cols
        for k in range(8):
            a, b = i + DR[k], j + DC[k]
            m = place[a, b] - 1
            if m >= 0 and z[a, b] == z[i, j] and steps[m] == 0:
                steps[m] = steps[n] + 1
                queue[tail] = m
                tail += 1
    return most


@numba.njit(cache=True, nogil=True)
def _drain(z, ways, place, cells, count, away, toward, queue):  # type: ignore[no-untyped-def]
    """Give every cell of one flat a way; False when no cell of it has lower ground to run to."""
    cols = z.shape[1]
    away[:count], toward[:count] = 0, 0
    tail = 0
    for n in range(count):
        i, j = cells[n] // cols, cells[n] % cols
        for k in range(8):
            if z[i + DR[k], j + DC[k]] > z[i, j]:
                away[n] = 1
                queue[tail] = n
                tail += 1
                break
    highest = _spread(z, place, cells, away, queue, tail)
    tail = 0
    for n in range(count):
        i, j = cells[n] // cols, cells[n] % cols
        for k in range(8):
            a, b = i + DR[k], j + DC[k]
            if z[a, b] == z[i, j] and ways[a, b] < PIT:
                toward[n] = 1
                queue[tail] = n
                tail += 1
                break
    if tail == 0:
        return False
    _spread(z, place, cells, toward, queue, tail)
    for n in range(count):
        i, j = cells[n] // cols, cells[n] % cols
        best, way = 2 * toward[n] + highest - away[n], PIT
        for turn in range(8):
            k = (turn * 2) % 8 + (turn >= 4)  # straight neighbours first
            a, b = i + DR[k], j + DC[k]
            if z[a, b] != z[i, j]:
                continue
            m = place[a, b] - 1
            if m < 0:
                if toward[n] == 1 and ways[a, b] < PIT:
                    way = np.uint8(k)
                    break
            elif toward[n] > 1 and 2 * toward[m] + highest - away[m] < best:
                best, way = 2 * toward[m] + highest - away[m], np.uint8(k)
        cells[n] = -cells[n] * 16 - way  # kept apart until all are found: ways already given must not count as lower ground
    for n in range(count):
        code = -cells[n]
        cells[n] = code // 16
        ways[cells[n] // cols, cells[n] % cols] = code % 16
    return True


@numba.njit(cache=True, nogil=True)
def drain_flats(z, ways, place):  # type: ignore[no-untyped-def]
    """Give the cells of ``ways`` without a way (PIT) one, where their flat has lower ground beside it.

    ``z`` is the ground, ``place`` an int32 grid of zeros to work in, which is left in disorder. Gives the number of flats.
    """
    rows, cols = z.shape
    count = 0
    for r in range(rows):
        for c in range(cols):
            count += ways[r, c] == PIT
    cells, queue = np.empty(count, np.int64), np.empty(count, np.int32)
    away, toward = np.empty(count, np.int32), np.empty(count, np.int32)
    flats = 0
    for r in range(rows):
        for c in range(cols):
            if ways[r, c] == PIT and place[r, c] == 0:
                n = _gather(z, ways, r, c, place, cells)
                flats += 1
                _drain(z, ways, place, cells, n, away, toward, queue)
    return flats

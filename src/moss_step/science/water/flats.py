"""Ways over level ground: away from higher ground and toward lower, in one drainage without loops.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces in raster digital elevation
models, Computers & Geosciences 62, after Garbrecht & Martz 1997, Journal of Hydrology 193. What lies beside each level
cell is looked up once, in order of rows; then some flats at a time are worked on, so that the memory follows the level
cells and not the grid.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.model.progress import Progress
from moss_step.science.water.neighbours import DC, DR, LOWEST, PIT, stands

_HIGHER, _LOWER, _OUT = 256, 512, 10
"""What lies beside a level cell: a bit for each neighbour of its flat, two more bits, and from bit 10 the first way out."""
_AT_ONCE = 50_000
"""Level cells that are worked on at a time, or as many as the largest flat has."""


@numba.njit(cache=True, nogil=True, parallel=True)
def _look_around(z, labels, level, ways, place):  # type: ignore[no-untyped-def]  # numba infers the types
    """Note what lies beside each level cell in ``place``, as -1 less the bits; a flat of one cell is done with at once.

    Gives the number of cells of larger flats.
    """
    count = 0
    for r in numba.prange(1, z.shape[0] - 1):
        for c in range(1, z.shape[1] - 1):
            if ways[r, c] != PIT:
                continue
            height, same, ways_out, higher = stands(z, labels, level, (r, c)), 0, 0, False
            for k in range(8):  # without branches: what lies beside the cells of small flats cannot be guessed
                at = (r + DR[k], c + DC[k])
                v, way = stands(z, labels, level, at), ways[at]
                same |= ((v == height) & (way == PIT)) << k
                ways_out |= ((v == height) & (way < PIT)) << k
                higher |= v > height
            out = LOWEST[ways_out & 0x55 if ways_out & 0x55 else ways_out]  # straight neighbours first
            if same:
                place[r, c] = -1 - (same | higher << 8 | (ways_out > 0) << 9 | out << _OUT)
                count += 1
            elif ways_out:
                ways[r, c] = out  # no flat looks at it: none of its neighbours is level with it and without a way
            else:
                ways[r, c] = _least_way_down(z, labels, level, r, c, height)
    return count


@numba.njit(cache=True, nogil=True)
def _least_way_down(z, labels, level, r, c, height):  # type: ignore[no-untyped-def]  # numba infers the types
    """A way down over a drop so small that its slope is no number above 0, or none."""
    for k in range(8):
        if stands(z, labels, level, (r + DR[k], c + DC[k])) < height:
            return np.uint8(k)
    return PIT


@numba.njit(cache=True, nogil=True)
def _gather(start, steps, place, cells, beside, count):  # type: ignore[no-untyped-def]  # numba infers the types
    """Add the cells of a flat to the lists, with what lies beside each; ``place`` gains their numbers in the flat, from 1.

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
def _spread(steps, place, cells, beside, flag, far, queue):  # type: ignore[no-untyped-def]  # numba infers the types
    """Number of steps to each cell of a flat from those with a flag, which are 1 step away; gives the largest."""
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
def _run_to_first(ways, steps, place, cells, beside):  # type: ignore[no-untyped-def]  # numba infers the types
    """Leave one pit in a flat without lower ground. The cells are in order of steps from the first one."""
    for n in range(cells.size):
        for k in range(8):
            at = cells[n] + steps[k]
            if (beside[n] >> k) & 1 and ways[at] == PIT and place[at] > 1:
                ways[at] = k ^ 4


@numba.njit(cache=True, nogil=True)
def _drain(ways, steps, place, cells, beside, away, toward, queue):  # type: ignore[no-untyped-def]  # numba infers the types
    """Give the cells of one flat their ways; one without lower ground runs to its first cell."""
    if _spread(steps, place, cells, beside, _LOWER, toward, queue) == 0:
        _run_to_first(ways, steps, place, cells, beside)
        return
    highest = _spread(steps, place, cells, beside, _HIGHER, away, queue)
    for n in range(cells.size):
        if toward[n] == 1:
            ways[cells[n]] = beside[n] >> _OUT
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
def _gather_some(at, steps, place, cells, beside, starts):  # type: ignore[no-untyped-def]  # numba infers the types
    """List the cells of flats from a cell on, until ``starts`` is full or as many cells are listed; gives the next cell."""
    flats = count = 0
    while at < place.size and max(count, flats + 1) < starts.size:
        if place[at] < 0:
            starts[flats] = count
            flats += 1
            count = _gather(at, steps, place, cells, beside, count)
        at += 1
    starts[flats] = count
    return at, flats


@numba.njit(cache=True, nogil=True, parallel=True)
def _drain_all(ways, steps, place, lists, starts):  # type: ignore[no-untyped-def]  # numba infers the types
    """Work on all flats at once: each reads and changes its own cells only."""
    cells, beside, away, toward, queue = lists
    flats = starts.size - 1
    blocks = min(flats, 256)
    for b in numba.prange(blocks):
        # Every 256th flat: large ones, which lie near each other in order, are shared out between the threads.
        for f in range(b, flats, blocks):
            i, j = starts[f], starts[f + 1]
            _drain(ways, steps, place, cells[i:j], beside[i:j], away[i:j], toward[i:j], queue[i:j])


def drain_flats(z: np.ndarray, labels: np.ndarray, level: np.ndarray, ways: np.ndarray, place: np.ndarray, progress: Progress) -> None:
    """Give the cells of ``ways`` without a way (PIT) one: out of their flat, or without lower ground beside it to its one pit.

    ``z`` is the ground and ``level`` the height of water over cells of each of the ``labels``; ``place`` is an int32 grid of
    zeros to work in, which is left in disorder. Cells at the edge always have a way, so
    that the neighbours of all others lie within the grid.
    """
    progress.at(0.0, "Draining level ground")
    level_cells = _look_around(z, labels, level, ways, place)
    flat_ways, flat_place, steps = ways.reshape(-1), place.reshape(-1), DR * z.shape[1] + DC
    at = 0
    # The lists have room for all level cells, yet take memory only as far as some flats at a time fill them.
    lists = (np.empty(level_cells, np.int32), np.empty(level_cells, np.int16), *(np.empty(level_cells, np.int32) for _ in range(3)))
    starts = np.empty(min(level_cells, _AT_ONCE) + 1, np.int32)
    while level_cells and at < ways.size:
        progress.at(at / ways.size, "Draining level ground")
        at, flats = _gather_some(at, steps, flat_place, lists[0], lists[1], starts)
        _drain_all(flat_ways, steps, flat_place, lists, starts[: flats + 1])

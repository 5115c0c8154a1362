"""Kernels: ground that is shaped along lines, each cell by its nearest place on them. Side slopes end where
they first meet the ground.
"""

from __future__ import annotations

import math

import numba
import numpy as np

UNTOUCHED, BED, CUT, FILL, LOST = 0, 1, 2, 3, 4
"""What a cell becomes: left as it is, bed, slope in cut, slope in fill, and one whose ground is not known."""
SUMS = 11
"""Sums of a row: cut, fill, area of each, whole area, that without a height, deepest cut and fill, and area
of bed, slopes in cut and slopes in fill.
"""
_TINY = 1e-9
_NEARER = 1.0 - _TINY
_EASED = 0.999
"""Share of the reach beyond which a slope counts as cut off by it."""


@numba.njit(inline="always", cache=True)
def height_of_ground(ground, wides, plane, east, north):
    """Height between the middles of cells, in metres; the nearest cell's at the rim and beside no-data, NaN
    beyond the grid. ``plane`` is the north of the upper edge, the height of a row and the middle column.
    """
    rows, cols = ground.shape
    top, high, middle = plane
    row = (top - north) / high - 0.5
    near = math.floor(row + 0.5)
    if near < 0 or near >= rows:
        return np.nan
    col = east / wides[near] + middle - 0.5
    beside = math.floor(col + 0.5)
    if beside < 0 or beside >= cols:
        return np.nan
    nearest = np.float64(ground[near, beside])
    if row < 0.0 or row > rows - 1.0 or col < 0.0 or col > cols - 1.0 or rows < 2 or cols < 2:
        return nearest
    return _between(ground, row, col, nearest)


@numba.njit(inline="always", cache=True)
def _between(ground, row, col, nearest):
    """Height between four cells by a row and a column of middles; the nearest cell's beside no-data."""
    rows, cols = ground.shape
    r, c = min(math.floor(row), rows - 2), min(math.floor(col), cols - 2)
    v, u = row - r, col - c
    above = ground[r, c] * (1.0 - u) + ground[r, c + 1] * u
    below = ground[r + 1, c] * (1.0 - u) + ground[r + 1, c + 1] * u
    between = above * (1.0 - v) + below * v
    return between if between == between else nearest


@numba.njit(parallel=True, nogil=True, cache=True)
def heights_at(ground, wides, plane, places, metres, out):
    """Heights in metres (n) of a ground at places (n, 2), metres east and north."""
    for k in numba.prange(out.size):
        out[k] = height_of_ground(ground, wides, plane, places[k, 0], places[k, 1]) * metres


@numba.njit(inline="always", cache=True)
def _nearest(lines, north, reach, wides_row, middle, best, which):
    """The nearest of the lines (m, 7) to each cell of a row, with the square of the distance."""
    cols = best.size
    low, last = cols, -1
    for s in range(lines.shape[0]):
        e0, n0, e1, n1 = lines[s, 0], lines[s, 1], lines[s, 2], lines[s, 3]
        if north < min(n0, n1) - reach or north > max(n0, n1) + reach:
            continue
        first = math.floor((min(e0, e1) - reach) / wides_row + middle - 0.5)
        end = math.ceil((max(e0, e1) + reach) / wides_row + middle - 0.5)
        first, end = max(first, 0), min(end, cols - 1)
        low, last = min(low, first), max(last, end)
        de, dn = e1 - e0, n1 - n0
        length = de * de + dn * dn
        for col in range(first, end + 1):
            east = (col + 0.5 - middle) * wides_row
            t = ((east - e0) * de + (north - n0) * dn) / length if length > 0.0 else 0.0
            t = min(max(t, 0.0), 1.0)
            off_e, off_n = east - e0 - t * de, north - n0 - t * dn
            d = off_e * off_e + off_n * off_n
            if d < best[col] * _NEARER:  # of two that are as near the first counts
                best[col], which[col] = d, s
    return low, last


@numba.njit(inline="always", cache=True)
def _meets(ground, wides, plane, place, way, span, height, rise, cut):
    """Whether a slope meets the ground on its way out: ``span`` is where it begins and ends, and the step."""
    start, end, step = span
    d = start
    while d < end:
        g = height_of_ground(ground, wides, plane, place[0] + d * way[0], place[1] + d * way[1])
        z = height + rise * (d - start)
        if g != g or (g <= z if cut else g >= z):
            return True
        d += step
    return False


@numba.njit(parallel=True, nogil=True, cache=True)
def shape_along(ground, wides, plane, lines, template, how, limits, design, kinds, open_):
    """Shape the ground (rows, cols; metres) along ``lines`` (m, 7): both ends east and north, both heights,
    and 1 or 2 where the line begins or ends there, 3 for both.

    ``template`` is half the width, the rise outward left and right, and metres outward for each metre of
    height left and right, in cut and in fill; ``how`` says whether nothing is cut, and nothing built beyond
    the ends; ``limits`` are how far from the lines slopes may reach, the step in which they look for the
    ground, and its lowest and highest height. Cells whose kind is bed already are left alone. ``open_``
    (rows) counts the cells of slopes that are cut off.
    """
    rows, cols = ground.shape
    (top, high, middle), (reach, step, lowest, highest) = plane, limits
    half, (only_fill, square) = template[0], how
    for row in numba.prange(rows):
        north, wide = top - (row + 0.5) * high, wides[row]
        best, which = np.full(cols, np.inf), np.full(cols, -1, np.int64)
        low, last = _nearest(lines, north, reach, wide, middle, best, which)
        for col in range(low, last + 1):
            if which[col] < 0 or best[col] > reach * reach or kinds[row, col] == BED:
                continue
            line = lines[which[col]]
            east, off = (col + 0.5 - middle) * wide, math.sqrt(best[col])
            de, dn = line[2] - line[0], line[3] - line[1]
            length = de * de + dn * dn
            t = ((east - line[0]) * de + (north - line[1]) * dn) / length if length > 0.0 else 0.0
            ends = int(line[6])
            if square and ((t < -_TINY and ends & 1) or (t > 1.0 + _TINY and ends & 2)):
                continue
            t = min(max(t, 0.0), 1.0)
            place = (line[0] + t * de, line[1] + t * dn)
            side = 1 if de * (north - place[1]) - dn * (east - place[0]) < 0.0 else 0
            height, fall = line[4] + t * (line[5] - line[4]), template[1 + side]
            g = np.float64(ground[row, col])
            if off <= half * (1.0 + _TINY):
                z = height + fall * off
                if g != g:
                    kinds[row, col] = LOST
                elif not only_fill or g < z:
                    kinds[row, col], design[row, col] = BED, z
                continue
            edge = height + fall * half
            way = ((east - place[0]) / off, (north - place[1]) / off)
            start = height_of_ground(ground, wides, plane, place[0] + half * way[0], place[1] + half * way[1])
            if start != start or start == edge or (only_fill and start > edge):
                continue
            cut = start > edge
            rise = 1.0 / template[3 + side] if cut else -1.0 / template[5 + side]
            z = edge + rise * (off - half)
            if g == g and (g <= z if cut else g >= z):
                continue
            # A slope that is beyond all ground here was so on its whole way: it need not look.
            looks = z > lowest if cut else z < highest
            if looks and _meets(ground, wides, plane, place, way, (half, off, step), edge, rise, cut):
                continue
            if g != g:
                kinds[row, col] = LOST
                continue
            design[row, col], kinds[row, col] = z, CUT if cut else FILL
            if off > _EASED * reach - 1.5 * max(wide, high):
                open_[row] += 1


@numba.njit(parallel=True, nogil=True, cache=True)
def add_up_works(ground, design, kinds, areas, sums):
    """Add up what is cut and filled, a row of ``sums`` (rows, 11) for each row of the ground (rows, cols)."""
    rows, cols = ground.shape
    for row in numba.prange(rows):
        for col in range(cols):
            kind = kinds[row, col]
            if kind == UNTOUCHED:
                continue
            sums[row, 4] += 1.0
            if kind == LOST:
                sums[row, 5] += 1.0
                continue
            sums[row, 7 + kind] += 1.0
            d = np.float64(ground[row, col]) - np.float64(design[row, col])
            if d > 0.0:
                sums[row, 0] += d
                sums[row, 2] += 1.0
                sums[row, 6] = max(sums[row, 6], d)
            elif d < 0.0:
                sums[row, 1] -= d
                sums[row, 3] += 1.0
                sums[row, 7] = max(sums[row, 7], -d)
        for k in (0, 1, 2, 3, 4, 5, 8, 9, 10):
            sums[row, k] *= areas[row]


@numba.njit(parallel=True, nogil=True, cache=True)
def split_cells(ground, pieces, metres, fine):
    """Heights in metres in pieces of cells (rows x pieces, cols x pieces), read between the middles of cells;
    the cell's own beside no-data.
    """
    rows, cols = ground.shape
    for row in numba.prange(fine.shape[0]):
        v = (row + 0.5) / pieces - 0.5
        along = rows > 1 and 0.0 <= v <= rows - 1.0
        for col in range(fine.shape[1]):
            u = (col + 0.5) / pieces - 0.5
            # A cell without a height has none in any of its pieces.
            z = np.float64(ground[row // pieces, col // pieces])
            if z == z and along and cols > 1 and 0.0 <= u <= cols - 1.0:
                z = _between(ground, v, u, z)
            fine[row, col] = z * metres


@numba.njit(parallel=True, nogil=True, cache=True)
def mean_changes(ground, design, kinds, pieces, change):
    """Change of height of each cell (rows, cols), the mean over its pieces; NaN where none changes."""
    share = 1.0 / (pieces * pieces)
    for row in numba.prange(change.shape[0]):
        for col in range(change.shape[1]):
            total, touched = 0.0, False
            for r in range(row * pieces, (row + 1) * pieces):
                for c in range(col * pieces, (col + 1) * pieces):
                    if kinds[r, c] != UNTOUCHED and kinds[r, c] != LOST:
                        total += np.float64(design[r, c]) - np.float64(ground[r, c])
                        touched = True
            change[row, col] = total * share if touched else np.nan

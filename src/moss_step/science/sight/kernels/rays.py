"""Kernels: rays over a ground: every target by its own ray, and a faster way that takes each target's height
from the nearest ray.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numba
import numpy as np

SHEAF, GROUP = 128, 16
"""Rays that go out together, and those of them that are looked at together for whether they can still rise.
"""
TINY = 1e-9
"""Parts of a cell, or of a distance, that are rounding."""
PATCH, TILE, LONG = 4, 16, 128
"""Cells on the side of the tiles whose highest point lets a ray skip them, and of the tiles of tiles that
long stretches skip.
"""


class Surfaces(NamedTuple):
    """What rays run over: the ground, what blocks (both float32 of shape (rows, cols)), and the highest of
    its tiles, or the bounds of them.
    """

    ground: np.ndarray
    top: np.ndarray
    tiles: Any


class Stand(NamedTuple):
    """Where an observer stands: row and column, height of the eye and size of the cell there in metres; and
    the fall of the earth a metre squared.
    """

    row: int
    col: int
    eye: float
    bend: float
    wide: float
    high: float


class Reach(NamedTuple):
    """The nearest and the farthest distance that counts, in metres."""

    near: float
    far: float


class Line(NamedTuple):
    """A row or a column that rays cross: its number, whether it is a row, the observer's place along it, and
    its length.
    """

    major: int
    by_rows: bool
    base: int
    most: int


class Spread(NamedTuple):
    """Where the rays of a sheaf are at a step: its number, rays a cell, the step's inverse, the first ray."""

    step: int
    per_step: float
    inverse: float
    first: int


@numba.njit(cache=True, nogil=True, parallel=True)
def highest_of(top, size):
    """Highest value of each tile of so many cells on a side; -inf where there is none."""
    rows, cols = (top.shape[0] + size - 1) // size, (top.shape[1] + size - 1) // size
    out = np.full((rows, cols), np.float32(-np.inf))
    for i in numba.prange(rows):
        for r in range(i * size, min((i + 1) * size, top.shape[0])):
            for c in range(top.shape[1]):
                v = top[r, c]
                out[i, c // size] = max(out[i, c // size], v)
    return out


@numba.njit(inline="always", cache=True)
def crossing(top, r0, c0, by_rows, sign, slope, i):
    """Height where a ray crosses the line i steps from the observer; NaN when a cell beside it has none."""
    if by_rows:
        r = r0 + sign * i
        minor = c0 + slope * i
        j = int(np.floor(minor))
        f = minor - j
        v = np.float64(top[r, j])
        return v if f == 0.0 else v * (1.0 - f) + top[r, j + 1] * f
    c = c0 + sign * i
    minor = r0 + slope * i
    j = int(np.floor(minor))
    f = minor - j
    v = np.float64(top[j, c])
    return v if f == 0.0 else v * (1.0 - f) + top[j + 1, c] * f


@numba.njit(cache=True, nogil=True)
def steepest_near(top, ray, likely, n, eye, lengths):
    """Largest rise a step of the three crossings around one; -inf when there is none."""
    (r0, c0, by_rows, sign, slope), (bend, step), best = ray, lengths, -np.inf
    for k in range(max(likely - 1, 1), min(likely + 2, n)):
        v = crossing(top, r0, c0, by_rows, sign, slope, k)
        if v == v:
            best = max(best, (v - bend * (k * step) ** 2 - eye) / k)
    return best


@numba.njit(inline="always", cache=True)
def under(highest, size, r, c):
    """Bound on the ground within ``size`` cells south and east of a cell."""
    return highest[int(r) // size, int(c) // size]


@numba.njit(inline="always", cache=True)
def too_low(high, i, last, fall, eye, bound):
    """Whether ground no higher than ``high`` can raise a ray no more than a bound within some steps; it falls
    away by ``fall`` a step squared.
    """
    rise = high - fall * i * i - eye
    return rise <= bound * (i if rise > 0 else last)


@numba.njit(cache=True, nogil=True)
def steepest(top, bounds, start, target, eye, bend, metres, limit, likely):
    """Largest rise a step of all crossings between two cells, as the ray sees it; stops above ``limit``.

    ``eye`` is the observer's height, ``bend`` the fall of the ground by distance squared, ``metres`` the
    length of the whole ray. -inf when nothing lies between. ``bounds`` are those of ``bounds_of``: long
    stretches that lie too low to matter are skipped, then short ones: most of them when the steepest crossing
    stands near the step ``likely`` (0: not known), which is looked at first.
    """
    (r0, c0), (r1, c1) = start, target
    near, short, long = bounds
    dr, dc = r1 - r0, c1 - c0
    by_rows = abs(dr) >= abs(dc)
    n = max(abs(dr), abs(dc))
    if n < 2:
        return -np.inf
    sign = (1 if dr > 0 else -1) if by_rows else (1 if dc > 0 else -1)
    slope = (dc if by_rows else dr) / n
    step = metres / n
    fall = bend * step * step
    down, across = (float(sign), slope) if by_rows else (slope, float(sign))
    best, i = -np.inf, 1
    if likely > 0:
        best = steepest_near(top, (r0, c0, by_rows, sign, slope), likely, n, eye, (bend, step))
    bound = best if limit == np.inf else max(best, limit)
    while i < n:
        far = min(i + LONG - 1, n - 1)
        if bound > -1e300 and far - i >= TILE:
            r, c = (
                r0 + (down * i if down > 0 else down * far),
                c0 + (across * i if across > 0 else across * far),
            )
            if too_low(under(long, LONG, r, c), i, far, fall, eye, bound):
                i = far + 1
                continue
        while i <= far:
            last = min(i + TILE - 1, far)
            if bound > -1e300 and last - i >= TILE // 2:
                r, c = (
                    r0 + (down * i if down > 0 else down * last),
                    c0 + (across * i if across > 0 else across * last),
                )
                if too_low(under(short, TILE, r, c), i, last, fall, eye, bound):
                    i = last + 1
                    continue
            while i <= last:
                end = min(i + PATCH - 1, last)
                if bound > -1e300 and end > i:
                    r, c = (
                        r0 + (down * i if down > 0 else down * end),
                        c0 + (across * i if across > 0 else across * end),
                    )
                    if too_low(under(near, PATCH, r, c), i, end, fall, eye, bound):
                        i = end + 1
                        continue
                while i <= end:
                    v = crossing(top, r0, c0, by_rows, sign, slope, i)
                    if v == v:
                        rise = (v - fall * i * i - eye) / i
                        if rise > best:
                            best = rise
                            if best > limit:
                                return best
                            bound = max(bound, best)
                    i += 1
    return best


@numba.njit(cache=True, nogil=True)
def blocked_near(top, start, end, eye, bend, metres, limit, likely):
    """Whether a ray is blocked at one of the three crossings around a step."""
    dr, dc = end[0] - start[0], end[1] - start[1]
    by_rows = abs(dr) >= abs(dc)
    n = max(abs(dr), abs(dc))
    sign = (1 if dr > 0 else -1) if by_rows else (1 if dc > 0 else -1)
    slope, step = (dc if by_rows else dr) / n, metres / n
    for i in range(max(likely - 1, 1), min(likely + 2, n)):
        v = crossing(top, start[0], start[1], by_rows, sign, slope, i)
        if v == v and (v - bend * (i * step) ** 2 - eye) / i > limit:
            return True
    return False


@numba.njit(cache=True, nogil=True, parallel=True)
def see_exactly(surfaces, stand, heights, sizes, reach, block, where, out):
    """Whether each cell of a block of rows is seen from a cell (1, 0; 2 where it is not asked for).

    ``heights`` those of targets above the ground; ``sizes`` the
    cell's width and height by row; ``reach`` the nearest and farthest distance in metres. ``where`` says at
    which step a ray is most likely blocked: looked at first. It and ``out`` hold the block alone.
    """
    ground, top, bounds = surfaces
    r0, c0, eye, bend, _, _ = stand
    for r in numba.prange(block[0], block[1]):
        own = r - block[0]
        wide = 0.5 * (sizes[r, 0] + sizes[r0, 0])
        for c in range(ground.shape[1]):
            z = np.float64(ground[r, c])
            d = np.hypot((c - c0) * wide, (r - r0) * sizes[r, 1])
            if z != z or d < reach.near or d > reach.far:
                out[own, c] = 2
                continue
            n = max(abs(r - r0), abs(c - c0))
            if n < 2:
                out[own, c] = 1
                continue
            limit = (z + heights - bend * d * d - eye) / n
            if blocked_near(top, (r0, c0), (r, c), eye, bend, d, limit, where[own, c]):
                out[own, c] = 0
                continue
            out[own, c] = steepest(top, bounds, (r0, c0), (r, c), eye, bend, d, limit, 0) <= limit


@numba.njit(cache=True, nogil=True, parallel=True)
def ray_heights(surfaces, stand, sizes, reach, block, where, out):
    """How high above the ground (below it: negative) the lowest free ray from a cell passes over each, where
    lower than ``out``.

    -inf where nothing stands between the two. ``where`` says at which step a ray most likely rises most. It
    and ``out`` hold the block of rows alone.
    """
    ground, top, bounds = surfaces
    r0, c0, eye, bend, _, _ = stand
    for r in numba.prange(block[0], block[1]):
        own = r - block[0]
        wide = 0.5 * (sizes[r, 0] + sizes[r0, 0])
        for c in range(ground.shape[1]):
            z = np.float64(ground[r, c])
            d = np.hypot((c - c0) * wide, (r - r0) * sizes[r, 1])
            if z != z or d < reach.near or d > reach.far:
                continue
            n = max(abs(r - r0), abs(c - c0))
            over = -np.inf
            if n >= 2:
                steep = steepest(top, bounds, (r0, c0), (r, c), eye, bend, d, np.inf, where[own, c])
                if steep > -np.inf:
                    over = steep * n + eye + bend * d * d - z
            if not out[own, c] <= over:
                out[own, c] = np.float32(over)


@numba.njit(cache=True, nogil=True, parallel=True)
def see_fast(surfaces, stand, heights, cells, reach, part, out, where):
    """The same by rays to the rim of a square of ``cells`` around the observer; each cell is read off its
    nearest ray.

    ``surfaces`` are the ground, what blocks, and its tiles; ``stand`` is the observer's row and column, eye
    height, the bend of the earth, and the size of a cell there; ``part`` the first of the sheaves of rays
    that are sent out, and the end of them. ``where`` gains the step of the ray at which the highest crossing
    before each cell stands; this or ``out`` may be empty, when it is not asked for. Rays beside each other go
    out together, step by step: they lie near each other in memory.
    """
    side = 2 * cells + 1
    per_step, inverse = cells / np.maximum(np.arange(cells + 1), 1), 1.0 / np.maximum(np.arange(cells + 1), 1)
    for k in numba.prange(part[0], part[1]):
        first = (
            k // 4 * SHEAF
        )  # sides in turn: those along columns take longer, and both threads get their share
        ends = (first - cells, min(first + SHEAF, side) - cells)
        send_sheaf(surfaces, stand, heights, cells, reach, (per_step, inverse), (k % 4, *ends), out, where)


@numba.njit(cache=True, nogil=True, error_model="numpy")
def send_sheaf(surfaces, stand, heights, cells, reach, steps, sheaf, out, where):
    """Follow the rays to some neighbouring ends on one side (0 south, 1 north, 2 east, 3 west)."""
    ground, top, tiles = surfaces
    r0, c0, eye, bend, wide, high = stand
    (rows, cols), (per_step, inverse), (which, first, last) = ground.shape, steps, sheaf
    sign, by_rows = (1 if which % 2 == 0 else -1), which < 2
    along, aside = (high, wide) if by_rows else (wide, high)
    base, most, depth, start = (c0, cols, rows, r0) if by_rows else (r0, rows, cols, c0)
    slopes = np.arange(first, last) / cells
    falls = bend * (along * along + (slopes * aside) ** 2)
    best, highest = np.full(last - first, -np.inf), np.zeros(last - first, np.int64)
    low, end = 0, last - first  # the rays from low to end are still over the ground
    awake = np.zeros((end + GROUP - 1) // GROUP, np.bool_)
    for i in range(1, cells + 1):
        major = start + sign * i
        while low < end and base + slopes[low] * i < 0:
            low += 1
        while low < end and base + slopes[end - 1] * i > most - 1:
            end -= 1
        if major < 0 or major >= depth or low >= end:
            return
        line, spread = Line(major, by_rows, base, most), Spread(i, per_step[i], inverse[i], first)
        read_off(
            ground,
            line,
            spread,
            (low, end),
            (along, aside),
            (eye - heights, bend),
            reach,
            (best, highest),
            (out, where),
        )
        if i % TILE == 1:
            until = min(i + TILE - 1, cells)
            majors = major // TILE, min(max(start + sign * until, 0), depth - 1) // TILE
            wake(
                tiles, line, (i, until), majors, (low, end), slopes, (bend * along * along, eye), best, awake
            )
        for group in range(awake.size):
            if awake[group]:
                part = max(group * GROUP, low), min((group + 1) * GROUP, end)
                raise_rays(top, line, (i, inverse[i]), part, slopes, falls, eye, best, highest)


@numba.njit(cache=True, nogil=True, inline="always", error_model="numpy")
def wake(tiles, line, steps, majors, rays, slopes, eye, best, awake):
    """Say which groups of rays can rise within some steps: not those whose lowest looks over all tiles that
    lie under them.

    ``majors`` are the rows (or columns) of tiles of the first and last step; ``eye`` the fall of the ground a
    step squared, and the eye's height.
    """
    (_, by_rows, base, most), (i, last) = line, steps
    fall = eye[0] * i * i  # the ground falls away more and more
    for group in range(awake.size):
        one, end = max(group * GROUP, rays[0]), min((group + 1) * GROUP, rays[1])
        awake[group] = False
        if one >= end:
            continue
        lowest = best[one]
        for n in range(one + 1, end):
            lowest = min(lowest, best[n])
        west = base + int(np.floor(min(slopes[one] * i, slopes[one] * last)))
        east = base + int(np.ceil(max(slopes[end - 1] * i, slopes[end - 1] * last)))
        high = np.float32(-np.inf)
        for a in range(min(majors), max(majors) + 1):
            for b in range(max(west, 0) // TILE, min(east, most - 1) // TILE + 1):
                high = max(high, tiles[a, b] if by_rows else tiles[b, a])
        rise = high - fall - eye[1]
        awake[group] = (rise / i if rise > 0 else rise / last) > lowest


@numba.njit(cache=True, nogil=True, error_model="numpy")
def read_off(ground, line, spread, rays, sizes, eye, reach, found, results):
    """Say of the cells of a line whose nearest rays are ``rays`` whether they are seen.

    ``line`` is the row (or column) and where on it the observer stands, ``spread`` the step, rays a cell, 1 /
    step and the first end of the sheaf.
    """
    (major, by_rows, base, most), (i, per_cell, inverse, first), (along, aside) = line, spread, sizes
    (best, highest), (out, where) = found, results
    on2 = (along * i) ** 2
    left = reach[1] * reach[1] - on2
    if left < 0:
        return
    # Cells on both diagonals belong to the sides that go by rows.
    aside_most = int(min(np.sqrt(left) / aside, i if by_rows else i - 1.0))
    m = max(int(np.ceil((first + rays[0] - 0.5) / per_cell)), -aside_most, -base)
    while m * per_cell + 0.5 < first + rays[0]:
        m += 1
    flat, near2 = eye[0] + eye[1] * on2, reach[0] * reach[0]
    while m <= min(aside_most, most - 1 - base):
        n = int(m * per_cell + (0.5 - first))
        if n >= rays[1]:
            return
        r, c = (major, base + m) if by_rows else (base + m, major)
        z, aside2 = ground[r, c], (aside * m) ** 2
        if z == z and aside2 + on2 >= near2:
            if out.size > 0:
                out[r, c] = (z - flat - eye[1] * aside2) * inverse >= best[n]
            if where.size > 0:
                where[r, c] = highest[n]
        m += 1


@numba.njit(cache=True, nogil=True, inline="always", error_model="numpy")
def raise_rays(top, line, step, rays, slopes, falls, eye, best, highest):
    """Let the ground that rays cross at a step count, without branches: what lies on their way cannot be
    guessed.
    """
    (major, by_rows, base, most), (i, inverse) = line, step
    for n in range(rays[0], rays[1]):
        place = base + slopes[n] * i
        j = int(place)
        f = place - j
        k = min(j + 1, most - 1)
        v = np.float64(top[major, j] if by_rows else top[j, major])
        w = np.float64(top[major, k] if by_rows else top[k, major])
        v = v if f == 0.0 else v * (1.0 - f) + w * f
        rise = (v - falls[n] * (i * i) - eye) * inverse
        higher = rise > best[n]
        best[n] = rise if higher else best[n]
        highest[n] = i if higher else highest[n]


@numba.njit(cache=True, nogil=True)
def between_cells(top, r, c):
    """Bilinear height between the centres of four cells, of those that have a part in it; NaN when one of
    these has none.
    """
    i, j = int(np.floor(r + TINY)), int(np.floor(c + TINY))
    fr, fc = max(r - i, 0.0), max(c - j, 0.0)
    fr, fc = 0.0 if fr < TINY else fr, 0.0 if fc < TINY else fc
    height = 0.0
    for k in range(2):
        for m in range(2):
            share = (fr if k else 1.0 - fr) * (fc if m else 1.0 - fc)
            if share > 0.0:
                height += share * top[i + k, j + m]
    return height


@numba.njit(cache=True, nogil=True)
def steepest_in_cell(heights, near, far, eye, bend):
    """Steepest rise from the eye to a stretch of ground within one cell, and how far off it stands.

    ``heights`` are those at the near end, middle and far end: bilinear ground runs along a ray as a
    polynomial of second degree, which they settle. Its rise is highest at an end or where its derivative is
    0.
    """
    low, middle, high = heights
    rise, at = -np.inf, far
    if high == high:
        rise = (high - bend * far * far - eye) / far
    if low == low and near > 0.0:
        first = (low - bend * near * near - eye) / near
        if first > rise:
            rise, at = first, near
    length = far - near
    if low == low and middle == middle and high == high and length > 0.0:
        bow = 2.0 * (low + high - 2.0 * middle) / (length * length)
        run = (4.0 * middle - 3.0 * low - high) / length
        # Ground less eye and bend as a + b d + c d² of the distance from the eye: the rise a / d + b + c d
        # has its top at sqrt(a / c).
        flat, square = low - run * near + bow * near * near - eye, bow - bend
        if flat < 0.0 and square < 0.0:
            d = np.sqrt(flat / square)
            if near < d < far:
                inner = flat / d + (run - 2.0 * bow * near) + square * d
                if inner > rise:
                    rise, at = inner, d
    return rise, at


@numba.njit(cache=True, nogil=True, parallel=True)
def horizon_of(top, stand, bearings, reach, angle, distance):
    """Steepest rise along each bearing (radians from north) over the bilinear ground, and how far off it
    stands.

    The ray is followed from one line between cell centres to the next, so that no top is passed over.
    ``stand`` is as in ``see_fast``; ``reach`` are the nearest and farthest distance in metres. -inf where
    there is no ground.
    """
    r0, c0, eye, bend, wide, high = stand
    rows, cols = top.shape
    for k in numba.prange(bearings.size):
        dc, dr = np.sin(bearings[k]) / wide, -np.cos(bearings[k]) / high  # columns and rows a metre
        dc, dr = 0.0 if abs(dc) * wide < TINY else dc, 0.0 if abs(dr) * high < TINY else dr
        best, far_off = -np.inf, np.nan
        n, m, here = 1, 1, 0.0
        low, known = np.float64(top[r0, c0]), True
        while here < reach[1]:
            by_row, by_col = n / abs(dr) if dr != 0.0 else np.inf, m / abs(dc) if dc != 0.0 else np.inf
            there = min(by_row, by_col)
            n += by_row <= there * (1.0 + TINY)
            m += by_col <= there * (1.0 + TINY)
            r, c = r0 + dr * there, c0 + dc * there
            if r < -TINY or c < -TINY or r > rows - 1 + TINY or c > cols - 1 + TINY:
                break
            start, end = max(here, reach[0]), min(there, reach[1])
            if end > start * (1.0 + TINY):
                ends = (start, 0.5 * (start + end), end)
                if start > here or not known:
                    low = between_cells(top, r0 + dr * start, c0 + dc * start)
                middle = between_cells(top, r0 + dr * ends[1], c0 + dc * ends[1])
                high_end = between_cells(top, r0 + dr * end, c0 + dc * end)
                rise, at = steepest_in_cell((low, middle, high_end), start, end, eye, bend)
                if rise > best:
                    best, far_off = rise, at
                low = high_end
            known = end > start * (1.0 + TINY)
            here = there
        angle[k], distance[k] = best, far_off

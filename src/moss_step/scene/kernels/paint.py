"""Kernels: colouring the plan's pixels straight from the grids: one pass a layer, rows in parallel."""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np

Grid = np.ndarray
RB, G, SOLID = np.uint32(0x00FF00FF), np.uint32(0x0000FF00), np.uint32(0xFF000000)
EIGHT, WHOLE = np.uint32(8), np.uint32(256)
CODES, RAMP, RANGES = 0, 1, 2
"""Ways from a value to its colour."""


@numba.njit(inline="always", cache=True)
def mix(old: np.uint32, new: np.uint32, strength: np.uint32) -> np.uint32:
    """Blend two pixels; ``strength`` of the new one is 0 to 256."""
    rest = WHOLE - strength
    rb = (((old & RB) * rest + (new & RB) * strength) >> EIGHT) & RB
    g = (((old & G) >> EIGHT) * rest + ((new & G) >> EIGHT) * strength) & G
    return SOLID | rb | g


class Scale(NamedTuple):
    """How a value finds its colour: one of the ways below, with what that needs.

    ``CODES``: the value is the place of its colour. ``RAMP``: places 0 to 255 from ``low`` on, ``scale`` a
    unit; ``below`` is that of values under it, and ``clear`` a value that is not drawn (NaN for none).
    ``RANGES``: by how many ``bounds`` lie below a value or at it, ``lookup`` gives the place.
    """

    way: int
    low: np.float32
    scale: np.float32
    below: int
    clear: np.float32
    bounds: np.ndarray
    lookup: np.ndarray


@numba.njit(inline="always", cache=True)
def place_of(v, how):
    """Place of a value's colour; -1 for one that is not drawn."""
    if how.way == CODES:
        return np.int64(v)
    if v != v:
        return np.int64(-1)
    if how.way == RAMP:
        if v == how.clear:
            return np.int64(-1)
        place = (v - how.low) * how.scale
        return np.int64(how.below) if place < 0.0 else (np.int64(255) if place > 255.0 else np.int64(place))
    rank = 0
    for i in range(how.bounds.size):
        rank += (v > how.bounds[i]) + (v >= how.bounds[i])
    return np.int64(how.lookup[rank])


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_grid(grid, rows, cols, how, colors, drawn, strength, picture):
    """Blend a grid into ``picture``; ``rows`` and ``cols`` give each pixel's cell or -1.

    ``how`` finds the place of a value among the ``colors`` (pixels); ``drawn`` says which of them are drawn.
    """
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        row, line = grid[r], picture[y]
        for x in range(cols.size):
            c = cols[x]
            if c < 0:
                continue
            k = place_of(row[c], how)
            if k >= 0 and drawn[k]:
                line[x] = mix(line[x], colors[k], strength)


@numba.njit(cache=True, nogil=True, parallel=True, error_model="numpy")
def shade_picture(
    heights: Grid,
    rows: Grid,
    cols: Grid,
    ax: Grid,
    ay: Grid,
    light: Grid,
    strength: np.float32,
    picture: Grid,
) -> None:
    """Darken and lighten ``picture`` by the light on the ground; level ground keeps its colour.

    ``ax`` and ``ay`` turn height differences over one cell into gradients, by row of ``heights``; ``light``
    is the vector (east, north, up) towards the lamp.
    """
    n_rows, n_cols = heights.shape
    n = cols.size
    east, north, up = light[0], light[1], light[2]
    level = np.float32(1.0) / max(up, np.float32(0.05))
    one, none = np.float32(1.0), np.float32(0.0)
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        gx, gy = np.zeros(n, np.float32), np.zeros(n, np.float32)
        share, lift = np.empty(n, np.uint32), np.empty(n, np.uint32)
        r0, r1 = max(r - 1, 0), min(r + 1, n_rows - 1)
        here, above, below = heights[r], heights[r0], heights[r1]
        wx, wy = ax[r], ay[r] / np.float32(max(r1 - r0, 1))
        half = wx * np.float32(0.5)
        for x in range(n):
            c = cols[x]
            if c > 0 and c + 1 < n_cols:
                gx[x] = (here[c + 1] - here[c - 1]) * half
                gy[x] = (above[c] - below[c]) * wy
            elif c >= 0:
                c0, c1 = max(c - 1, 0), min(c + 1, n_cols - 1)
                gx[x] = (here[c1] - here[c0]) * wx / np.float32(max(c1 - c0, 1))
                gy[x] = (above[c] - below[c]) * wy
        for x in range(n):
            s = (up - gx[x] * east - gy[x] * north) / np.sqrt(one + gx[x] * gx[x] + gy[x] * gy[x]) * level
            s = s if s == s else one
            s = min(max(s, none), np.float32(1.6))
            factor = one + (s - one) * strength
            bright = max(factor - one, none) * np.float32(0.7)
            share[x] = np.uint32(min(factor, one) * (one - bright) * np.float32(256.0))
            lift[x] = np.uint32(bright * np.float32(255.0 * 256.0))
        line = picture[y]
        for x in range(n):
            old = line[x]
            rb = (((old & RB) * share[x] + (lift[x] | (lift[x] << np.uint32(16)))) >> EIGHT) & RB
            g = (((old & G) >> EIGHT) * share[x] + lift[x]) & G
            line[x] = SOLID | rb | g


@numba.njit(cache=True, nogil=True, parallel=True)
def half_mean(values: Grid) -> Grid:
    """Halve a surface by the mean of the cells that have values in each 2 x 2 block."""
    rows, cols = (values.shape[0] + 1) // 2, (values.shape[1] + 1) // 2
    out = np.empty((rows, cols), np.float32)
    for r in numba.prange(rows):
        for c in range(cols):
            total, n = np.float32(0.0), 0
            for i in range(2 * r, min(2 * r + 2, values.shape[0])):
                for j in range(2 * c, min(2 * c + 2, values.shape[1])):
                    v = values[i, j]
                    if v == v:
                        total += v
                        n += 1
            out[r, c] = total / n if n else np.float32(np.nan)
    return out


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_pixels(grid, rows, cols, strength, picture):
    """Blend a grid of pixels into ``picture``; 0 is none."""
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        for x in range(cols.size):
            c = cols[x]
            if c >= 0 and grid[r, c] != 0:
                picture[y, x] = mix(picture[y, x], grid[r, c], strength)


@numba.njit(cache=True, nogil=True)
def splat(px, py, heights, values, radius, out, top):
    """Draw values as disks around places, the higher over the lower; ``top`` takes the heights, and holds the
    lowest there is where nothing was drawn.
    """
    rows, cols = out.shape
    square = radius * radius
    for k in range(px.size):
        x, y, height, value = px[k], py[k], heights[k], values[k]
        above, below = max(int(np.ceil(y - radius)), 0), min(int(np.floor(y + radius)), rows - 1)
        left, right = max(int(np.ceil(x - radius)), 0), min(int(np.floor(x + radius)), cols - 1)
        for r in range(above, below + 1):
            down = (r - y) ** 2
            for c in range(left, right + 1):
                if down + (c - x) ** 2 <= square and height > top[r, c]:
                    out[r, c] = value
                    top[r, c] = height


@numba.njit(cache=True, nogil=True)
def gather(starts, order, first_row, last_row, first_col, last_col, width, out):
    """Points of a block of cells, row by row; gives how many."""
    count = 0
    for r in range(first_row, last_row):
        for k in range(starts[r * width + first_col], starts[r * width + last_col]):
            out[count] = order[k]
            count += 1
    return count

"""Kernels: colouring the plan's pixels straight from the grids: one pass a layer, rows in parallel."""

from __future__ import annotations

import numba
import numpy as np

Grid = np.ndarray
RB, G, SOLID = np.uint32(0x00FF00FF), np.uint32(0x0000FF00), np.uint32(0xFF000000)
EIGHT, WHOLE = np.uint32(8), np.uint32(256)


@numba.njit(inline="always", cache=True)
def mix(old: np.uint32, new: np.uint32, strength: np.uint32) -> np.uint32:
    """Blend two pixels; ``strength`` of the new one is 0 to 256."""
    rest = WHOLE - strength
    rb = (((old & RB) * rest + (new & RB) * strength) >> EIGHT) & RB
    g = (((old & G) >> EIGHT) * rest + ((new & G) >> EIGHT) * strength) & G
    return SOLID | rb | g


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_surface(
    values: Grid,
    rows: Grid,
    cols: Grid,
    colors: Grid,
    below: int,
    low: np.float32,
    scale: np.float32,
    strength: np.uint32,
    clear: np.float32,
    picture: Grid,
) -> None:
    """Blend a surface into ``picture``; ``rows`` and ``cols`` give each pixel's cell or -1.

    ``colors`` are 257 pixels: 256 along the ramp and one more; ``below`` is the place of values under
    ``low``; ``clear`` is a value that is not drawn (NaN for none).
    """
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        row, line = values[r], picture[y]
        for x in range(cols.size):
            c = cols[x]
            if c < 0:
                continue
            v = row[c]
            if v == v and v != clear:
                place = (v - low) * scale
                k = below if place < 0.0 else (np.int64(255) if place > 255.0 else np.int64(place))
                line[x] = mix(line[x], colors[k], strength)


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_classes(
    codes: Grid, rows: Grid, cols: Grid, colors: Grid, drawn: Grid, strength: np.uint32, picture: Grid
) -> None:
    """Blend a class map into ``picture``; ``drawn`` says which of the 256 codes are drawn."""
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        row, line = codes[r], picture[y]
        for x in range(cols.size):
            c = cols[x]
            if c >= 0 and drawn[row[c]]:
                line[x] = mix(line[x], colors[row[c]], strength)


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_ranges(
    values: Grid,
    rows: Grid,
    cols: Grid,
    bounds: Grid,
    lookup: Grid,
    colors: Grid,
    drawn: Grid,
    strength: np.uint32,
    picture: Grid,
) -> None:
    """Blend a surface as classes by its bounds, without classifying it first: for bounds that are being
    dragged.
    """
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        row, line = values[r], picture[y]
        for x in range(cols.size):
            c = cols[x]
            if c < 0:
                continue
            v = row[c]
            if v == v:
                place = 0
                for i in range(bounds.size):
                    place += (v > bounds[i]) + (v >= bounds[i])
                k = lookup[place]
                if drawn[k]:
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

"""Colouring the plan's pixels straight from the grids: one pass a layer, rows in parallel."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_surface(values, rows, cols, colors, below, low, scale, opacity, picture):  # type: ignore[no-untyped-def]
    """Blend a surface into ``picture`` (H, W, 4 bytes, blue first); ``rows`` and ``cols`` give each pixel's cell or -1.

    ``below`` is the place in ``colors`` of values under ``low``.
    """
    strength = np.int32(round(opacity * 256.0))
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        for x in range(cols.size):
            c = cols[x]
            if c < 0:
                continue
            v = values[r, c]
            if v == v:  # noqa: PLR0124 - no-data stays transparent
                place = (v - low) * scale
                k = below if place < 0.0 else (255 if place > 255.0 else np.int32(place))
                for b in range(3):
                    old = np.int32(picture[y, x, 2 - b])
                    picture[y, x, 2 - b] = old + ((np.int32(colors[k, b]) - old) * strength >> 8)


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_classes(codes, rows, cols, colors, drawn, opacity, picture):  # type: ignore[no-untyped-def]
    """Blend a class map into ``picture``; ``drawn`` says which of the 256 codes are drawn."""
    strength = np.int32(round(opacity * 256.0))
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        for x in range(cols.size):
            c = cols[x]
            if c < 0:
                continue
            k = codes[r, c]
            if drawn[k]:
                for b in range(3):
                    old = np.int32(picture[y, x, 2 - b])
                    picture[y, x, 2 - b] = old + ((np.int32(colors[k, b]) - old) * strength >> 8)


@numba.njit(cache=True, nogil=True, parallel=True)
def paint_ranges(values, rows, cols, bounds, lookup, colors, drawn, opacity, picture):  # type: ignore[no-untyped-def]
    """Blend a surface as classes by its bounds, without classifying it first: for bounds that are being dragged."""
    strength = np.int32(round(opacity * 256.0))
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        for x in range(cols.size):
            c = cols[x]
            if c < 0:
                continue
            v = values[r, c]
            if v == v:  # noqa: PLR0124
                place = 0
                for i in range(bounds.size):
                    place += (v > bounds[i]) + (v >= bounds[i])
                k = lookup[place]
                if drawn[k]:
                    for b in range(3):
                        old = np.int32(picture[y, x, 2 - b])
                        picture[y, x, 2 - b] = old + ((np.int32(colors[k, b]) - old) * strength >> 8)


@numba.njit(cache=True, nogil=True, parallel=True, error_model="numpy")
def shade_picture(heights, rows, cols, ax, ay, light, strength, picture):  # type: ignore[no-untyped-def]
    """Darken and lighten ``picture`` by the light on the ground; level ground keeps its colour.

    ``ax`` and ``ay`` turn height differences over two cells into gradients, by row of ``heights``.
    """
    n_rows, n_cols = heights.shape
    east, north, up = light[0], light[1], max(light[2], np.float32(0.05))
    for y in numba.prange(rows.size):
        r = rows[y]
        if r < 0:
            continue
        r0, r1 = max(r - 1, 0), min(r + 1, n_rows - 1)
        wy = ay[r] / max(r1 - r0, 1)
        for x in range(cols.size):
            c = cols[x]
            if c < 0:
                continue
            c0, c1 = max(c - 1, 0), min(c + 1, n_cols - 1)
            gx = (heights[r, c1] - heights[r, c0]) * ax[r] / max(c1 - c0, 1)
            gy = (heights[r0, c] - heights[r1, c]) * wy
            s = (light[2] - gx * east - gy * north) / (np.sqrt(np.float32(1.0) + gx * gx + gy * gy) * up)
            if s == s:  # noqa: PLR0124
                s = min(max(s, np.float32(0.0)), np.float32(1.6))
                factor = np.float32(1.0) + (s - np.float32(1.0)) * strength
                if factor <= np.float32(1.0):
                    for b in range(3):
                        picture[y, x, b] = np.uint8(picture[y, x, b] * factor)
                else:
                    lift = (factor - np.float32(1.0)) * np.float32(0.7)
                    for b in range(3):
                        old = np.float32(picture[y, x, b])
                        picture[y, x, b] = np.uint8(old + (np.float32(255.0) - old) * lift)


@numba.njit(cache=True, nogil=True, parallel=True)
def half_mean(values):  # type: ignore[no-untyped-def]
    """Halve a surface by the mean of the cells that have values in each 2 x 2 block."""
    rows, cols = (values.shape[0] + 1) // 2, (values.shape[1] + 1) // 2
    out = np.empty((rows, cols), np.float32)
    for r in numba.prange(rows):
        for c in range(cols):
            total, n = np.float32(0.0), 0
            for i in range(2 * r, min(2 * r + 2, values.shape[0])):
                for j in range(2 * c, min(2 * c + 2, values.shape[1])):
                    v = values[i, j]
                    if v == v:  # noqa: PLR0124
                        total += v
                        n += 1
            out[r, c] = total / n if n else np.float32(np.nan)
    return out

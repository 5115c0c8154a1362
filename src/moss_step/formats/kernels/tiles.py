"""Kernels: grids as files hold them, in tiles."""

from __future__ import annotations

import numba


@numba.njit(cache=True, nogil=True, parallel=True)
def lay_tiles(values, no_data, out):
    """Lay a window out in square tiles, row by row of tiles: ``out`` has the shape (tiles down, tiles across,
    side, side); NaN, and what lies beyond the window, is no-data.
    """
    rows, cols = values.shape
    down, across, side, _ = out.shape
    for line in numba.prange(down * side):
        t, i = line // side, line % side
        for u in range(across):
            for j in range(side):
                c = u * side + j
                v = no_data
                if line < rows and c < cols and values[line, c] == values[line, c]:
                    v = values[line, c]
                out[t, u, i, j] = v

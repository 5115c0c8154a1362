"""What tiles hold along their sides, and what lies around one."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from moss_step.large.tiling import Tile, Tiling

Sides = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]
"""Values along the top, right, bottom and left side of a tile."""


_CORNERS = ((-1, -1, (0, 0), -1), (-1, 1, (0, -1), 0), (1, 1, (-1, -1), 0), (1, -1, (-1, 0), -1))
"""Rows and columns of tiles to the corners, where these lie in the ring, and which end of the side they
are.
"""


def ring(rows: int, cols: int) -> tuple[np.ndarray, np.ndarray]:
    """Rows and columns of the cells around a window of so many: at the top, right, bottom and left, in a
    window with one more cell on each side.
    """
    across, down = np.arange(cols + 2), np.arange(1, rows + 1)
    r = np.concatenate([np.zeros(cols + 2, int), down, np.full(cols + 2, rows + 1), down])
    c = np.concatenate([across, np.full(rows, cols + 1), across, np.zeros(rows, int)])
    return r, c


def sides_of(array: np.ndarray) -> Sides:
    """The outermost values of a tile."""
    return array[0].copy(), array[:, -1].copy(), array[-1].copy(), array[:, 0].copy()


def around(tile: Tile, tiling: Tiling, sides: Mapping[str, Sides], blank: float = 0) -> np.ndarray:
    """What the tiles around one have along its sides, in the order of ``ring``: ``blank`` where they have
    nothing.
    """
    rows, cols = tile.bottom - tile.top, tile.right - tile.left
    first = next(iter(sides.values()), None)
    dtype = np.int32 if first is None else first[0].dtype
    out = np.full((rows + 2, cols + 2), blank, dtype)

    def of(down: int, across: int) -> Sides | None:
        r, c = tile.row + down, tile.col + across
        there = 0 <= r < tiling.down and 0 <= c < tiling.across
        return sides.get(tiling.tile(r, c).name) if there else None

    above, right, below, left = of(-1, 0), of(0, 1), of(1, 0), of(0, -1)
    if above is not None:
        out[0, 1:-1] = above[2]
    if right is not None:
        out[1:-1, -1] = right[3]
    if below is not None:
        out[-1, 1:-1] = below[0]
    if left is not None:
        out[1:-1, 0] = left[1]
    for down, across, at, end in _CORNERS:
        corner = of(down, across)
        if corner is not None:
            out[at] = corner[2 if down < 0 else 0][end]
    result: np.ndarray = out[ring(rows, cols)]
    return result

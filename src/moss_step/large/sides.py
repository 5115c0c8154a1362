"""What tiles hold along their sides, and what lies around one."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from moss_step.large.tiling import Tile, Tiling

Sides = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]
"""Values along the top, right, bottom and left side of a tile."""


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
    first = next(iter(sides.values()), None)
    dtype = np.asarray(blank).dtype if first is None else first[0].dtype
    high, wide = tile.bottom - tile.top, tile.right - tile.left

    def of(down: int, across: int, side: int, end: int | None = None) -> np.ndarray:
        """A side of a tile beside this one, or one of its ends."""
        r, c = tile.row + down, tile.col + across
        there = 0 <= r < tiling.down and 0 <= c < tiling.across
        found = sides.get(tiling.tile(r, c).name) if there else None
        if found is None:
            return np.full(1 if end is not None else wide if side in (0, 2) else high, blank, dtype)
        return found[side] if end is None else found[side][[end]]

    above = of(-1, -1, 2, -1), of(-1, 0, 2), of(-1, 1, 2, 0)
    below = of(1, -1, 0, -1), of(1, 0, 0), of(1, 1, 0, 0)
    return np.concatenate([*above, of(0, 1, 3), *below, of(0, -1, 1)])

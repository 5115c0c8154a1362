"""Rays over a ground: every target by its own ray, and a faster way that takes each target's height from the
nearest ray.

Franklin & Ray 1994, Higher isn't necessarily better: visibility algorithms and experiments. A ray runs from
the observer's cell to the target's; where it crosses the rows (or columns) of its longer axis, the ground is
interpolated between the two cells beside it. A target is seen when no crossing stands above the straight line
to it. The ground falls away by d² (1 - k) / (2 R): Ghilani & Wolf, Elementary Surveying.
"""

from __future__ import annotations

import numpy as np

from moss_step.science.sight.kernels.rays import LONG, PATCH, SHEAF, TILE, highest_of

EARTH_RADIUS = 6_371_000.0
"""Mean radius in metres."""


def bounds_of(top: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Highest values of patches, of tiles and of tiles of tiles, each with those south and east of it.

    As many steps of a ray as one has cells on its side lie within one of these, whichever way it goes: one
    look tells whether they matter.

    Parameters
    ----------
    top
        Heights that block, float32 of shape (rows, cols).

    Returns
    -------
    tuple[np.ndarray, np.ndarray, np.ndarray]
        Three grids, float32.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.rays import bounds_of
    >>> [level.shape for level in bounds_of(tilted().values.astype(np.float32))]
    [(1, 2), (1, 1), (1, 1)]
    """
    patches = highest_of(top, PATCH)
    tiles = highest_of(patches, TILE // PATCH)
    return _with_next(patches), _with_next(tiles), _with_next(highest_of(tiles, LONG // TILE))


def _with_next(tiles: np.ndarray) -> np.ndarray:
    down = np.maximum(tiles, np.vstack([tiles[1:], tiles[-1:]]))
    return np.asarray(np.maximum(down, np.hstack([down[:, 1:], down[:, -1:]])))


def sheaves_of(cells: int) -> int:
    """Number of sheaves that the rays to the rim of a square go out in.

    Parameters
    ----------
    cells
        Numbers of cells, row by row, or a count of them, as the type says.

    Returns
    -------
    int
        The number.

    Examples
    --------
    >>> from moss_step.science.sight.rays import sheaves_of
    >>> sheaves_of(1_000_000)
    62504
    """
    return 4 * -(-(2 * cells + 1) // SHEAF)

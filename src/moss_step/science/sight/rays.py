"""Rays over a ground: every target by its own ray, and a faster way that takes each target's height from the
nearest ray.

Franklin & Ray 1994, Higher isn't necessarily better: visibility algorithms and experiments. A ray runs from
the observer's cell to the target's; where it crosses the rows (or columns) of its longer axis, the ground is
interpolated between the two cells beside it. A target is seen when no crossing stands above the straight line
to it. The ground falls away by d² (1 - k) / (2 R): Ghilani & Wolf, Elementary Surveying.
"""

from __future__ import annotations

import numpy as np

from moss_step.model.mapped import blocks_of
from moss_step.science.sight.kernels.rays import LONG, PATCH, SHEAF, TILE, highest_of

EARTH_RADIUS = 6_371_000.0
"""Mean radius in metres."""


def patches_of(top: np.ndarray) -> np.ndarray:
    """Highest values of patches.

    Parameters
    ----------
    top
        Heights that block, float32 of shape (rows, cols).

    Returns
    -------
    np.ndarray
        float32, for each four rows and columns one; -inf where none has a height.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.rays import patches_of
    >>> patches_of(tilted().values.astype(np.float32)).tolist()
    [[6.0, 8.0]]
    """
    return np.asarray(highest_of(top, PATCH))


def tiles_of(patches: np.ndarray) -> np.ndarray:
    """Highest values of tiles of four patches by four.

    Parameters
    ----------
    patches
        Highest values of patches, as ``patches_of`` gives them.

    Returns
    -------
    np.ndarray
        float32.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.rays import patches_of, tiles_of
    >>> tiles_of(patches_of(tilted().values.astype(np.float32))).tolist()
    [[8.0]]
    """
    return np.asarray(highest_of(patches, TILE // PATCH))


def bounds_of(patches: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Highest values of patches, of tiles and of tiles of tiles, each with those south and east of it.

    As many steps of a ray as one has cells on its side lie within one of these, whichever way it goes: one
    look tells whether they matter.

    Parameters
    ----------
    patches
        Highest values of patches, as ``patches_of`` gives them.

    Returns
    -------
    tuple[np.ndarray, np.ndarray, np.ndarray]
        Three grids, float32.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.rays import bounds_of, patches_of
    >>> [level.shape for level in bounds_of(patches_of(tilted().values.astype(np.float32)))]
    [(1, 2), (1, 1), (1, 1)]
    """
    tiles = tiles_of(patches)
    return _with_next(patches), _with_next(tiles), _with_next(highest_of(tiles, LONG // TILE))


def _with_next(tiles: np.ndarray) -> np.ndarray:
    out = tiles.copy()
    for rows in blocks_of(out):  # a copy of all of it for each direction would take much memory
        down = tiles[rows.start + 1 : rows.stop + 1]
        np.maximum(out[rows][: len(down)], down, out=out[rows][: len(down)])
        out[rows, :-1] = np.maximum(out[rows, :-1], out[rows, 1:])
    return out


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

"""Small voids, filled from their rims."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.memory import check_memory
from moss_step.model.surface import Surface
from moss_step.science.algebra.bearings import bearing_of, vectors
from moss_step.science.algebra.kernels.membrane import stretch_small

_SMALL = 100
"""Cells of a void up to which it is solved as a whole table of weights."""
_BYTES = 1200
"""Bytes that solving a larger one takes for each of its cells, where it has a million."""
_ABOVE, _LEFT, _RIGHT, _BELOW = range(4)
"""Order of the neighbours of a cell."""


class Voids(NamedTuple):
    """Cells of voids by flat index (int64), those of a void together and in ascending order; and where each
    void begins among them, with their number at the end.
    """

    cells: np.ndarray
    starts: np.ndarray

    @property
    def first(self) -> np.ndarray:
        """The first cell of each."""
        first: np.ndarray = self.cells[self.starts[:-1]]
        return first


def fill_voids(surface: Surface, most_cells: int) -> tuple[Surface, Voids]:
    """Fill voids of at most ``most_cells`` cells, which hang together over their sides, from their rims;
    those that reach the edge of the grid stay.

    A membrane over each void: the discrete Laplace equation with the cell's own width and height, solved at
    once. It gives planes back exactly, stays between the lowest and highest value of the rim, and does not
    depend on how the grid is turned, nor on what lies beyond the rim. Bearings are filled as vectors.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    most_cells
        Most cells of one void.

    Returns
    -------
    tuple[Surface, Voids]
        The surface, and what was filled.

    Raises
    ------
    MossError
        Where a void has too many cells for memory.

    Source
    ------
    The discrete Laplace equation (mathematics).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.voids import fill_voids
    >>> from moss_step.science.sample import ground, tilted
    >>> z = tilted().values.copy()
    >>> z[1, 2] = np.nan
    >>> filled, voids = fill_voids(ground(z), most_cells=10)
    >>> float(filled.values[1, 2]), len(voids.first), len(voids.cells)
    (4.0, 1, 1)
    """
    voids = small_voids(surface.values, most_cells)
    if not voids.cells.size:
        return surface, voids
    values = surface.values.copy()
    around = beside(surface.values, voids.cells)
    values.reshape(-1)[voids.cells] = stretched(voids, around, surface.frame, surface.cyclic)
    return Surface(values, surface.frame, surface.unit, surface.quantity), voids


def small_voids(values: np.ndarray, most_cells: int) -> Voids:
    """Voids of at most some cells that do not reach the edge of a grid.

    Parameters
    ----------
    values
        Values of shape (rows, cols); NaN is no-data.
    most_cells
        Most cells of one void.

    Returns
    -------
    Voids
        Their cells.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.voids import small_voids
    >>> z = np.zeros((4, 4))
    >>> z[0, 0] = z[1:3, 2] = np.nan
    >>> small_voids(z, 2).cells.tolist()
    [6, 10]
    """
    from scipy import ndimage

    labels, n = ndimage.label(np.isnan(values))
    sizes = np.bincount(labels.ravel(), minlength=n + 1)
    wanted = sizes <= most_cells
    wanted[labels[0]] = wanted[labels[-1]] = wanted[labels[:, 0]] = wanted[labels[:, -1]] = False
    wanted[0] = False
    cells = np.flatnonzero(wanted[labels])
    own = labels.reshape(-1)[cells]
    cells = cells[np.argsort(own, kind="stable")]
    return Voids(cells, np.concatenate([[0], np.cumsum(sizes[wanted])]).astype(np.int64))


def beside(values: np.ndarray, cells: np.ndarray) -> np.ndarray:
    """What stands above, to the left, to the right of and below cells of a grid.

    Parameters
    ----------
    values
        Values of shape (rows, cols).
    cells
        Flat indices of n cells, none at the edge of the grid.

    Returns
    -------
    np.ndarray
        Values of shape (n, 4).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.voids import beside
    >>> beside(np.arange(12.0).reshape(3, 4), np.array([5])).tolist()
    [[1.0, 4.0, 6.0, 9.0]]
    """
    flat, cols = values.reshape(-1), values.shape[1]
    return np.stack([flat[cells + step] for step in (-cols, -1, 1, cols)], axis=1)


def stretched(voids: Voids, around: np.ndarray, frame: Frame, cyclic: bool) -> np.ndarray:
    """Values of the cells of voids, each the weighted mean of its four neighbours: void by void, so that they
    do not depend on which others there are. Bearings go as vectors.

    Parameters
    ----------
    voids
        Voids with n cells in all, flat indices in the grid of ``frame``.
    around
        What stands beside each cell, of shape (n, 4) in the order of ``beside``; what stands in cells of a
        void does not count.
    frame
        Where the grid lies.
    cyclic
        Whether values are bearings in degrees.

    Returns
    -------
    np.ndarray
        Values of shape (n,).

    Raises
    ------
    MossError
        Where a void has too many cells for memory.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.voids import Voids, stretched
    >>> from moss_step.science.sample import tilted
    >>> voids = Voids(np.array([6]), np.array([0, 1]))
    >>> stretched(voids, np.array([[1.0, 2.0, 4.0, 5.0]]), tilted().frame, cyclic=False).tolist()
    [3.0]
    """
    if not cyclic:
        return _membrane(around, voids, frame)
    return bearing_of(*(_membrane(part, voids, frame) for part in vectors(around)))


def _membrane(around: np.ndarray, voids: Voids, frame: Frame) -> np.ndarray:
    across, along = 1.0 / frame.row_widths**2, 1.0 / frame.row_heights**2
    out = np.empty(len(voids.cells))
    stretch_small(voids.cells, voids.starts, around, _SMALL, frame.cols, across, along, out)
    for k in np.flatnonzero(np.diff(voids.starts) > _SMALL):
        own = slice(voids.starts[k], voids.starts[k + 1])
        out[own] = _solved(voids.cells[own], around[own], frame.cols, across, along)
    return out


def _solved(
    cells: np.ndarray, around: np.ndarray, cols: int, across: np.ndarray, along: np.ndarray
) -> np.ndarray:
    """The same of one large void."""
    from scipy.sparse import coo_array
    from scipy.sparse.linalg import splu

    check_memory(_BYTES * cells.size, f"Filling a void of {cells.size:,} cells", "Fill smaller ones alone.")
    each, row = np.arange(cells.size), cells // cols
    known = np.zeros(cells.size)
    entries = [(each, each, 2.0 * (across + along)[row])]
    for step, weight, side in (
        (1, across[row], _RIGHT),
        (-1, across[row], _LEFT),
        (cols, along[row], _BELOW),
        (-cols, along[row], _ABOVE),
    ):
        at = np.searchsorted(cells, cells + step).clip(max=cells.size - 1)
        inner = cells[at] == cells + step
        entries.append((each[inner], at[inner], -weight[inner]))
        known[~inner] += weight[~inner] * around[~inner, side]
    i, j, v = (np.concatenate([e[k] for e in entries]) for k in range(3))
    weights = coo_array((v, (i, j)), shape=(cells.size, cells.size)).tocsc()
    # No weight outweighs the one of the cell itself: rows may stay in an order that leaves most weights zero.
    factors = splu(weights, "MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    solved: np.ndarray = factors.solve(known)
    return solved

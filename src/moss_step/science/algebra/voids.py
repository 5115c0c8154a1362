"""Small voids, filled from their rims."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from moss_step.model.surface import Surface
from moss_step.science.algebra.bearings import bearing_of, vectors
from moss_step.science.algebra.kernels.membrane import stretch_small

_SMALL = 100
"""Cells of a void up to which it is solved as a whole table of weights."""


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
    voids = _small_voids(surface, most_cells)
    if not voids.cells.size:
        return surface, voids
    values = surface.values.copy()
    if surface.cyclic:
        parts = (_membrane(part, voids, surface) for part in vectors(surface.values))
        values.reshape(-1)[voids.cells] = bearing_of(*parts)
    else:
        values.reshape(-1)[voids.cells] = _membrane(surface.values, voids, surface)
    return Surface(values, surface.frame, surface.unit, surface.quantity), voids


def _small_voids(surface: Surface, most_cells: int) -> Voids:
    from scipy import ndimage

    labels, n = ndimage.label(np.isnan(surface.values))
    sizes = np.bincount(labels.ravel(), minlength=n + 1)
    wanted = sizes <= most_cells
    wanted[labels[0]] = wanted[labels[-1]] = wanted[labels[:, 0]] = wanted[labels[:, -1]] = False
    wanted[0] = False
    cells = np.flatnonzero(wanted[labels])
    own = labels.reshape(-1)[cells]
    cells = cells[np.argsort(own, kind="stable")]
    return Voids(cells, np.concatenate([[0], np.cumsum(sizes[wanted])]).astype(np.int64))


def _membrane(z: np.ndarray, voids: Voids, surface: Surface) -> np.ndarray:
    """Values of the cells of voids, each the weighted mean of its four neighbours: void by void, so that they
    do not depend on which others there are.
    """
    frame, flat = surface.frame, z.reshape(-1)
    across, along = 1.0 / frame.row_widths**2, 1.0 / frame.row_heights**2
    out = np.empty(len(voids.cells))
    stretch_small(flat, voids.cells, voids.starts, _SMALL, frame.cols, across, along, out)
    for k in np.flatnonzero(np.diff(voids.starts) > _SMALL):
        own = slice(voids.starts[k], voids.starts[k + 1])
        out[own] = _solved(flat, voids.cells[own], frame.cols, across, along)
    return out


def _solved(
    flat: np.ndarray, cells: np.ndarray, cols: int, across: np.ndarray, along: np.ndarray
) -> np.ndarray:
    """The same of one large void."""
    from scipy.sparse import coo_array
    from scipy.sparse.linalg import spsolve

    each, row = np.arange(cells.size), cells // cols
    known = np.zeros(cells.size)
    entries = [(each, each, 2.0 * (across + along)[row])]
    for step, weight in ((1, across[row]), (-1, across[row]), (cols, along[row]), (-cols, along[row])):
        at = np.searchsorted(cells, cells + step).clip(max=cells.size - 1)
        inner = cells[at] == cells + step
        entries.append((each[inner], at[inner], -weight[inner]))
        known[~inner] += weight[~inner] * flat[(cells + step)[~inner]]
    i, j, v = (np.concatenate([e[k] for e in entries]) for k in range(3))
    solved: np.ndarray = spsolve(coo_array((v, (i, j)), shape=(cells.size, cells.size)).tocsc(), known)
    return solved

"""Connected components of a class map: one pass with union-find in strips, which are then joined, rows in
parallel.

The two-pass method of Rosenfeld & Pfaltz 1966, Sequential operations in digital picture processing, with the
smallest cell of a component as its root and path halving, so that the strips can be labelled at the same
time.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.zones.kernels.labelling import number, roots


def label_components(codes: np.ndarray, neighbours: int, none: int) -> tuple[np.ndarray, np.ndarray]:
    """Number the connected components of equal codes (int32 grid, 0 for ``none``) and give the code of each
    number.

    ``codes`` is an integer grid; cells hang together along edges (4 neighbours) or also at corners (8).
    Numbers run in the order of each component's first cell.

    Parameters
    ----------
    codes
        Integer codes of shape (rows, cols).
    neighbours
        4 along edges, 8 at corners too.
    none
        The code that belongs to nothing.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Numbers (rows, cols), and codes by number.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.zones.labelling import label_components
    >>> label_components(np.array([[1, 1, 0], [0, 0, 1]], np.uint8), 4, 0)[0].tolist()
    [[1, 1, 0], [0, 0, 2]]
    """
    parent = np.empty(codes.size, np.int32 if codes.size < 2**31 else np.int64)
    strips = max(1, min(4 * numba.get_num_threads(), codes.shape[0] // 16))
    result = np.zeros(strips, np.int64)
    roots(codes, none, neighbours == 8, strips, parent, result)
    before = np.cumsum(result) - result
    owner, labels = np.zeros(int(result.sum()) + 1, np.int64), np.empty(codes.shape, np.int32)
    number(codes, strips, parent, before, owner, labels)
    return labels, owner

"""How much ground lies upstream of each cell: by one receiver, by all lower neighbours, or by the two of a
facet.

One receiver after O'Callaghan & Mark 1984; all lower neighbours after Freeman 1991, Computers & Geosciences
17; two after Tarboton 1997, Water Resources Research 33. Cells are visited downstream, each when all that
feeds it is known: Zhou, Wei & Fu 2019, A fast and simple algorithm for calculating flow accumulation
matrices, Frontiers of Earth Science 13.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.accumulation import accumulate_cells
from moss_step.science.water.kernels.neighbours import DC, DR

CONVERGENCE = 1.1
"""Exponent of the slope in the shares of Freeman 1991, who found 1.1 to spread water evenly over a cone."""


def accumulate(ways: np.ndarray, donors: np.ndarray, total: np.ndarray) -> None:
    """Add to each cell of ``total`` (which holds the cells' own amounts) all that runs to it; uses ``donors``
    up.

    Follows the water from every spring until it meets a cell that waits for other donors: strips of the
    ground at once, then what passes from one strip to another.

    Parameters
    ----------
    ways
        Direction of each cell as ``neighbours`` numbers them, uint8.
    donors
        Number of cells that run to each, uint8; used up.
    total
        Amounts of the cells, float64; what runs to them is added.

    Returns
    -------
    None
        Nothing: ``total`` holds the result.

    Source
    ------
    Barnes 2017, Parallel non-divergent flow accumulation, Environmental Modelling & Software 92, for strips.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.accumulation import accumulate
    >>> ways = np.array([[8, 4, 4]], np.uint8)  # both cells to the east run west, and out
    >>> total = np.ones((1, 3), np.int32)
    >>> accumulate(ways, np.array([[1, 1, 0]], np.uint8), total)
    >>> total.tolist()
    [[3, 2, 1]]
    """
    rows, cols = ways.shape
    strips = max(1, min(2 * numba.get_num_threads(), rows // 32))
    accumulate_cells(ways.reshape(-1), donors.reshape(-1), total.reshape(-1), DR * cols + DC, cols, strips)

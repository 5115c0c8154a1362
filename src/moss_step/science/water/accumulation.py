"""How much ground lies upstream of each cell: by one receiver, by all lower neighbours, or by the two of a
facet.

One receiver after O'Callaghan & Mark 1984; all lower neighbours after Freeman 1991, Computers & Geosciences
17; two after Tarboton 1997, Water Resources Research 33. Cells are visited downstream, each when all that
feeds it is known: Zhou, Wei & Fu 2019, A fast and simple algorithm for calculating flow accumulation
matrices, Frontiers of Earth Science 13.
"""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.science.water.kernels.accumulation import (
    NO_ORDER,
    Shared,
    accumulate_cells,
    accumulate_shared,
    add_slopes,
    facet_ways,
    mark_donors,
)
from moss_step.science.water.kernels.neighbours import DC, DR, Drained

FlowMethod = Literal["d8", "freeman", "dinf"]
_ROWS = 1024

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


def shared_out(
    ground: Drained,
    method: FlowMethod,
    exponent: float = CONVERGENCE,
    progress: Progress | None = None,
) -> Shared:
    """How the water of each cell is shared out among its neighbours.

    Parameters
    ----------
    ground
        Heights that hold no water back, ways, and distances in the unit of the heights.
    method
        ``dinf`` or ``freeman``.
    exponent
        Power of the slope, for ``freeman``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shared
        What ``accumulate_shared`` goes by.

    Source
    ------
    Freeman 1991, Computers & Geosciences 17; Tarboton 1997, Water Resources Research 33.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.accumulation import shared_out
    >>> from moss_step.science.water.drainage import prepare
    >>> shared_out(prepare(tilted()).drained(), "freeman", 1.0).whole[1, 2].round(2)
    np.float64(2.41)
    """
    progress = progress or silent()
    blocks = progress.blocks(len(ground.ways), _ROWS, "Sharing water out")
    whole, facets = np.empty((0, 0)), np.empty((0, 0), np.float32)
    if method == "dinf":
        facets = np.empty(ground.ways.shape, np.float32)
        for first, last in blocks:
            facet_ways(ground, first, last, facets)
    else:
        whole = np.empty(ground.ways.shape)
        for first, last in blocks:
            add_slopes(ground, exponent, first, last, whole)
    return Shared(*ground, exponent, whole, facets)


def accumulate_shares(
    ground: Drained,
    method: FlowMethod,
    total: np.ndarray,
    exponent: float = CONVERGENCE,
    progress: Progress | None = None,
) -> None:
    """Add to each cell of ``total`` (which holds the cells' own amounts) its share of all that runs to it.

    Each cell takes in what it is sent in the order of its neighbours, whichever was worked out first.

    Parameters
    ----------
    ground
        Heights that hold no water back, ways, and distances in the unit of the heights.
    method
        ``dinf`` or ``freeman``.
    total
        Amounts of the cells, float64 of shape (amounts, rows, cols); what runs to them is added.
    exponent
        Power of the slope, for ``freeman``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    None
        Nothing: ``total`` holds the result.

    Source
    ------
    Freeman 1991, Computers & Geosciences 17; Tarboton 1997, Water Resources Research 33.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.accumulation import accumulate_shares
    >>> from moss_step.science.water.drainage import prepare
    >>> total = np.ones((1, 4, 5))
    >>> accumulate_shares(prepare(tilted()).drained(), "dinf", total)
    >>> total[0, 1].tolist()
    [5.0, 4.0, 3.0, 2.0, 1.0]
    """
    progress = progress or silent()
    shared = shared_out(ground, method, exponent, progress.part(0.0, 0.3))
    donors = np.empty(ground.ways.shape, np.uint8)
    mark_donors(shared, 0, donors)
    with progress.pulse(donors.size, 0.3, 1.0, "Adding up what lies upstream") as pulse:
        accumulate_shared(shared, 0, donors, total, NO_ORDER, pulse)

"""Ways over level ground: away from higher ground and toward lower, in one drainage without loops.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces in raster
digital elevation models, Computers & Geosciences 62, after Garbrecht & Martz 1997, Journal of Hydrology 193.
What lies beside each level cell is looked up once, in order of rows; then some flats at a time are worked on,
so that the memory follows the level cells and not the grid.
"""

from __future__ import annotations

import numpy as np

from moss_step.model.progress import Progress
from moss_step.science.water.kernels.flats import drain_all, gather_some, look_around
from moss_step.science.water.kernels.neighbours import DC, DR

_AT_ONCE = 50_000
"""Level cells that are worked on at a time, or as many as the largest flat has."""


def drain_flats(
    z: np.ndarray,
    labels: np.ndarray,
    level: np.ndarray,
    ways: np.ndarray,
    place: np.ndarray,
    progress: Progress,
) -> None:
    """Give the cells of ``ways`` without a way (PIT) one: out of their flat, or without lower ground beside
    it to its one pit.

    ``z`` is the ground and ``level`` the height of water over cells of each of the ``labels``; ``place`` is
    an int32 grid of zeros to work in, which is left in disorder. Cells at the edge always have a way, so that
    the neighbours of all others lie within the grid.

    Parameters
    ----------
    z
        Heights of shape (rows, cols).
    labels
        Pool of each cell, int32; 0 for none.
    level
        Height of the water by label.
    ways
        Direction of each cell as ``neighbours`` numbers them, uint8.
    place
        An int32 grid of zeros to work in, or places by number, as the type says.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    None
        Nothing: ``ways`` holds the result.

    Source
    ------
    Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces, Computers &
    Geosciences 62.
    """
    progress.at(0.0, "Draining level ground")
    level_cells = look_around(z, labels, level, ways, place)
    flat_ways, flat_place, steps = ways.reshape(-1), place.reshape(-1), DR * z.shape[1] + DC
    at = 0
    # The lists have room for all level cells, yet take memory only as far as some flats at a time fill them.
    lists = (
        np.empty(level_cells, np.int32),
        np.empty(level_cells, np.int16),
        *(np.empty(level_cells, np.int32) for _ in range(3)),
    )
    starts = np.empty(min(level_cells, _AT_ONCE) + 1, np.int32)
    while level_cells and at < ways.size:
        progress.at(at / ways.size, "Draining level ground")
        at, flats = gather_some(at, steps, flat_place, lists[0], lists[1], starts)
        drain_all(flat_ways, steps, flat_place, lists, starts[: flats + 1])

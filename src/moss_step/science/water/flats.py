"""Ways over level ground: away from higher ground and toward lower, in one drainage without loops.

Barnes, Lehman & Mulla 2014, An efficient assignment of drainage direction over flat surfaces in raster
digital elevation models, Computers & Geosciences 62, after Garbrecht & Martz 1997, Journal of Hydrology 193.
What lies beside each level cell is looked up once, in order of rows; then some flats at a time are worked on,
so that the memory follows the level cells and not the grid.
"""

from __future__ import annotations

import numpy as np

from moss_step.model.arrays import read_only
from moss_step.model.progress import Progress
from moss_step.science.water.kernels.flats import Flats, Places, drain_all, gather_some, look_around
from moss_step.science.water.kernels.neighbours import DC, DR, Filled

_AT_ONCE = 50_000
"""Level cells that are worked on at a time, or as many as the largest flat has."""


def drain_flats(
    ground: Filled,
    ways: np.ndarray,
    place: np.ndarray,
    progress: Progress,
) -> None:
    """Give the cells of ``ways`` without a way (PIT) one: out of their flat, or without lower ground beside
    it to its one pit.

    ``place`` is an int32 grid of zeros to work in, which is left in disorder. Cells at the edge always have a
    way, so that the neighbours of all others lie within the grid.

    Parameters
    ----------
    ground
        Heights, pools of the cells, and heights of the water.
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

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.water.flats import drain_flats
    >>> from moss_step.science.water.kernels.neighbours import DRY, OUT, PIT, Filled
    >>> z, ways = np.ones((3, 5), np.float32), np.full((3, 5), OUT)
    >>> ways[1, 1:4] = PIT
    >>> level = Filled(z, np.zeros((3, 5), np.int32), DRY)
    >>> drain_flats(level, ways, np.zeros((3, 5), np.int32), silent())
    >>> bool((ways == PIT).any())
    False
    """
    progress.at(0.0, "Draining level ground")
    level_cells = look_around(ground._replace(z=read_only(ground.z)), ways, place)
    flat_ways, places = ways.reshape(-1), Places(DR * ways.shape[1] + DC, place.reshape(-1))
    at = 0
    # The lists have room for all level cells, yet take memory only as far as some flats at a time fill them.
    lists = Flats(
        np.empty(level_cells, np.int32),
        np.empty(level_cells, np.int16),
        *(np.empty(level_cells, np.int32) for _ in range(3)),
    )
    starts = np.empty(min(level_cells, _AT_ONCE) + 1, np.int32)
    while level_cells and at < ways.size:
        progress.at(at / ways.size, "Draining level ground")
        at, flats = gather_some(at, places, lists, starts)
        drain_all(flat_ways, places, lists, starts[: flats + 1])

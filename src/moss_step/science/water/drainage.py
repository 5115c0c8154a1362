"""A ground prepared for questions about water: pools, ways, and the cells upstream of each cell."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.memory import give_back
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import CELLS, SQUARE_METRE, UNKNOWN
from moss_step.science.water import accumulation
from moss_step.science.water.descent import descend_water
from moss_step.science.water.flats import drain_flats
from moss_step.science.water.neighbours import NONE, distances
from moss_step.science.water.pools import Pools, fill_rows, find_pools

FlowMethod = Literal["d8", "freeman", "dinf"]
_KEPT = 3


@dataclass(frozen=True, eq=False)
class Drainage:
    """What is known of the water of a ground; heights are in its own unit, distances in metres.

    ``ways`` holds each cell's receiver as a neighbour 0 to 7 (east, then clockwise), 8 where water leaves the ground, 255
    where there is none. ``cells`` counts the cells upstream of each cell, itself included.
    """

    dem: Surface
    pools: Pools
    ways: np.ndarray
    cells: np.ndarray

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""
        return self.dem.frame

    @cached_property
    def metres(self) -> np.ndarray:
        """Distances to neighbours by row."""
        return distances(self.dem.frame)

    def filled(self) -> np.ndarray:
        """The ground with all pools filled, level (float32, made anew at each call)."""
        return filled_ground(self.dem.values, self.pools)

    @property
    def nbytes(self) -> int:
        """Bytes beside the ground."""
        pools = self.pools
        arrays = (self.ways, self.cells, pools.labels, pools.cell, pools.level, pools.depth, pools.across, pools.over)
        return sum(a.nbytes for a in arrays)


def filled_ground(z: np.ndarray, pools: Pools) -> np.ndarray:
    """A ground with all pools filled to the level they spill at (float32)."""
    out = np.empty(z.shape, np.float32)
    fill_rows(z, pools.labels, pools.level, 0, z.shape[0], out)
    return out


def prepare(dem: Surface, progress: Progress | None = None) -> Drainage:
    """Prepare a ground; grounds prepared lately are kept.

    Raises MossError for a ground without values, of unknown unit, or of more cells than can be numbered.
    """
    found = prepared(dem)
    if found is not None:
        return found
    made = _prepared(dem, progress or silent())
    with _LOCK:
        _READY[id(dem)] = made
        while len(_READY) > _KEPT:
            _READY.popitem(last=False)
    return made


def prepared(dem: Surface) -> Drainage | None:
    """Give a ground's drainage when it is ready."""
    with _LOCK:
        found = _READY.get(id(dem))
        if found is None or found.dem is not dem:
            return None
        _READY.move_to_end(id(dem))
        return found


_READY: OrderedDict[int, Drainage] = OrderedDict()
_LOCK = threading.Lock()


def check_ground(dem: Surface) -> None:
    """Refuse a ground that no water can be worked out on."""
    if dem.valid_count == 0:
        raise MossError("The ground holds no values.", "Choose another ground.")
    if dem.unit == UNKNOWN:
        raise MossError("The unit of the heights is unknown.", "State it in Gather first: water needs true slopes.")
    if dem.values.size >= 2**31 // 9:
        raise MossError(f"{dem.values.size:,} cells are too many for one piece.", "Crop the ground, or resample it to larger cells.")


def _prepared(dem: Surface, progress: Progress) -> Drainage:
    check_ground(dem)
    z, metres = dem.values, distances(dem.frame) / np.float32(dem.metres_per_height)
    pools, ways = find_pools(z, metres, progress)
    give_back()
    progress.at(0.6, "Finding receivers")
    descend_water(z, pools.labels, pools.level, metres, ways)
    cells = np.zeros(z.shape, np.int32)
    drain_flats(z, pools.labels, pools.level, ways, cells)
    give_back()
    progress.at(0.8, "Adding up what lies upstream")
    donors = np.empty(z.shape, np.uint8)
    accumulation.count_donors(ways, donors)
    np.not_equal(ways, NONE, out=cells)
    accumulation.accumulate(ways, donors, cells)
    for array in (ways, cells):
        array.flags.writeable = False
    return Drainage(dem, pools, ways, cells)


def amounts(frame: Frame, unit: Literal["cells", "area"], weights: np.ndarray | None, ways: np.ndarray) -> np.ndarray:
    """Each cell's own amount: 1, its area in square metres, or its weight times that; missing weights count as 0."""
    own = np.ones(frame.shape) if unit == "cells" else np.repeat(frame.row_areas[:, None], frame.cols, axis=1)
    if weights is not None:
        own *= np.nan_to_num(weights, nan=0.0)
    own[ways == NONE] = 0.0
    return own


def accumulated(
    drainage: Drainage, method: FlowMethod = "d8", unit: Literal["cells", "area"] = "cells",
    weights: np.ndarray | None = None, progress: Progress | None = None,
) -> Surface:  # fmt: skip
    """Accumulation of each cell, its own amount included: cells, square metres, or weighted by a surface (float32).

    ``d8`` runs to one receiver, ``freeman`` to all lower neighbours by slope, ``dinf`` to the two of the steepest facet.
    """
    progress = progress or silent()
    progress.at(0.1, "Adding up what lies upstream")
    ways = drainage.ways
    if method == "d8" and unit == "cells" and weights is None:
        total: np.ndarray = drainage.cells
    else:
        total = amounts(drainage.frame, unit, weights, ways)
        if method == "d8":
            donors = np.empty(ways.shape, np.uint8)
            accumulation.count_donors(ways, donors)
            accumulation.accumulate(ways, donors, total)
        elif method == "dinf":
            accumulation.accumulate_facets(facet_directions(drainage), total)
        else:
            metres = drainage.metres / np.float32(drainage.dem.metres_per_height)
            accumulation.accumulate_freeman(drainage.filled(), ways, metres, total)
    values = total.astype(np.float32)
    values[ways == NONE] = np.nan
    return Surface(values, drainage.frame, CELLS if unit == "cells" else SQUARE_METRE, "accumulation")


def facet_directions(drainage: Drainage) -> np.ndarray:
    """Direction over the steepest facet in eighths of a turn from east, clockwise; -1 out of the ground, NaN none."""
    share = np.empty(drainage.ways.shape, np.float32)
    metres = drainage.metres / np.float32(drainage.dem.metres_per_height)
    accumulation.facet_ways(drainage.filled(), drainage.ways, metres, 0, drainage.frame.rows, share)
    return share

"""A ground prepared for questions about water: pools, ways, and the cells upstream of each cell."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal, NamedTuple, Protocol

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame, check_same_frame
from moss_step.model.memory import give_back
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import CELLS, SQUARE_METRE, Unit
from moss_step.model.units import NONE as NO_UNIT
from moss_step.science.water import accumulation
from moss_step.science.water.accumulation import FlowMethod
from moss_step.science.water.flats import drain_flats
from moss_step.science.water.kernels.accumulation import count_donors
from moss_step.science.water.kernels.descent import descend_water
from moss_step.science.water.kernels.neighbours import NONE, Drained, Filled
from moss_step.science.water.kernels.pools import fill_rows
from moss_step.science.water.neighbours import distances
from moss_step.science.water.pools import Pools, find_pools

NO_VALUES = ("The ground holds no values.", "Choose another ground.")


class AtCells(NamedTuple):
    """What is known at some cells: how many cells and square metres are upstream, themselves included; the
    ground above its base, under water the height of the water; and the height of the ground.
    """

    upstream: np.ndarray
    area: np.ndarray
    water: np.ndarray
    height: np.ndarray


class Spaced(Protocol):
    """A ground whose cells have distances between them."""

    @property
    def dem(self) -> Surface:
        """The ground, or a surface like it: its unit counts."""

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""

    @property
    def metres(self) -> np.ndarray:
        """Distances to neighbours by row."""


class Watered(Spaced, Protocol):
    """A ground of whose water something is known: all of it, or what is at some cells."""

    def at(self, cells: np.ndarray) -> AtCells:
        """What is known at cells, by their numbers row by row."""


@dataclass(frozen=True, eq=False)
class Drainage:
    """What is known of the water of a ground; heights are in its own unit, distances in metres.

    ``ways`` holds each cell's receiver as a neighbour 0 to 7 (east, then clockwise), 8 where water leaves the
    ground, 255 where there is none. ``cells`` counts the cells upstream of each cell, itself included.
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

    @property
    def z(self) -> np.ndarray:
        """Heights above ``base`` in the unit of the ground (float32): what pools and ways are worked out
        from.
        """
        return self.dem.levelled[0].values

    @property
    def base(self) -> float:
        """What ``z`` and the levels of pools hold less than the ground's heights; 0 for a ground in single
        precision.
        """
        return self.dem.levelled[1]

    def drained(self) -> Drained:
        """The filled ground with its ways, and distances in the unit of the heights."""
        return Drained(self.filled(), self.ways, self.metres / np.float32(self.dem.metres_per_height))

    def filled(self) -> np.ndarray:
        """The ground above ``base`` with all pools filled, level (float32, made anew at each call)."""
        return filled_ground(self.z, self.pools)

    @cached_property
    def upstream_area(self) -> np.ndarray:
        """Ground area in square metres upstream of each cell, itself included (float64)."""
        if not self.frame.geographic:
            return self.cells * float(self.frame.row_areas[0])
        total, donors = amounts(self.frame, "area", None, self.ways), np.empty(self.ways.shape, np.uint8)
        count_donors(self.ways, donors)
        accumulation.accumulate(self.ways, donors, total)
        return total

    def at(self, cells: np.ndarray) -> AtCells:
        """What is known at cells, by their numbers row by row."""
        upstream, z = self.cells.reshape(-1)[cells], self.z.reshape(-1)[cells]
        plain = not self.frame.geographic
        area = upstream * float(self.frame.row_areas[0]) if plain else self.upstream_area.reshape(-1)[cells]
        water = np.maximum(z, self.pools.level[self.pools.labels.reshape(-1)[cells]])
        return AtCells(upstream, area, water, self.dem.values.reshape(-1)[cells])

    @property
    def nbytes(self) -> int:
        """Bytes beside the ground."""
        pools = self.pools
        arrays = (
            self.ways,
            self.cells,
            pools.labels,
            pools.cell,
            pools.level,
            pools.depth,
            pools.across,
            pools.over,
        )
        result = self.__dict__.get("upstream_area")
        return sum(a.nbytes for a in arrays) + (0 if result is None else int(result.nbytes))


def filled_ground(z: np.ndarray, pools: Pools) -> np.ndarray:
    """A ground with all pools filled to the level they spill at (float32).

    Parameters
    ----------
    z
        Heights of shape (rows, cols).
    pools
        The tree of pools, by ``find_pools``.

    Returns
    -------
    np.ndarray
        Heights of shape (rows, cols), float32.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.drainage import filled_ground, prepare
    >>> drainage = prepare(bowl())
    >>> (filled_ground(drainage.z, drainage.pools)[2] + drainage.base).tolist()
    [5.0, 4.0, 4.0, 4.0, 4.0]
    """
    out = np.empty(z.shape, np.float32)
    fill_rows(Filled(z, pools.labels, pools.level), 0, z.shape[0], out)
    return out


def prepare(dem: Surface, progress: Progress | None = None) -> Drainage:
    """Prepare a ground; what was worked out is kept with it, and worked out once where several ask.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Drainage
        Ways, pools, accumulation and what else is asked of a ground again and again.

    Raises
    ------
    MossError
        For a ground without values, or of more cells than can be numbered.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> prepare(tilted()).ways.shape
    (4, 5)
    """
    progress = progress or silent()
    return dem.derived.make(Drainage, lambda: work_out(dem, progress), progress)


def prepared(dem: Surface) -> Drainage | None:
    """Give a ground's drainage when it is ready.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.

    Returns
    -------
    Drainage | None
        The same, or None.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.drainage import prepare, prepared
    >>> dem = bowl()
    >>> before = prepared(dem)
    >>> before is None, prepare(dem) is prepared(dem)
    (True, True)
    """
    return dem.derived.ready(Drainage)


def check_ground(dem: Surface) -> None:
    """Refuse a ground that no water can be worked out on.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    MossError
        For a ground without values, or of more cells than can be numbered.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.drainage import check_ground
    >>> check_ground(bowl())  # there is ground: nothing is raised
    """
    if dem.valid_count == 0:
        raise MossError(*NO_VALUES)
    if dem.values.size >= 2**31 // 9:
        raise MossError(
            f"{dem.values.size:,} cells are too many for one piece.",
            "Crop the ground, or resample it to larger cells.",
        )


def work_out(dem: Surface, progress: Progress) -> Drainage:
    """Prepare a ground that nobody else will ask for: nothing is kept.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Drainage
        The same as ``prepare``.

    Examples
    --------
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import work_out
    >>> work_out(tilted(), silent()).cells[0].tolist()
    [5, 4, 3, 2, 1]
    """
    check_ground(dem)
    z, metres = dem.levelled[0].values, distances(dem.frame) / np.float32(dem.metres_per_height)
    pools, ways = find_pools(z, metres, progress.part(0.0, 0.6))
    give_back()
    ground = Filled(z, pools.labels, pools.level)
    for first, last in progress.part(0.6, 0.7).blocks(len(z), 1024, "Finding receivers"):
        descend_water(ground, metres, first, last, ways)
    cells = np.zeros(z.shape, np.int32)
    drain_flats(ground, ways, cells, progress.part(0.7, 0.8))
    give_back()
    progress.at(0.8, "Adding up what lies upstream")
    donors = np.empty(z.shape, np.uint8)
    count_donors(ways, donors)
    np.not_equal(ways, NONE, out=cells)
    progress.at(0.9, "Adding up what lies upstream")
    accumulation.accumulate(ways, donors, cells)
    for array in (ways, cells):
        array.flags.writeable = False
    return Drainage(dem, pools, ways, cells)


def amounts(
    frame: Frame, unit: Literal["cells", "area"], weights: np.ndarray | None, ways: np.ndarray
) -> np.ndarray:
    """Each cell's own amount: 1, its area in square metres, or its weight times that; missing weights count
    as 0.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.
    unit
        The unit asked for.
    weights
        Weights, 0 or above.
    ways
        Direction of each cell as ``neighbours`` numbers them, uint8.

    Returns
    -------
    np.ndarray
        Float64 of shape (rows, cols).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import amounts
    >>> amounts(tilted().frame, "area", None, np.zeros((4, 5), np.uint8))[0].tolist()
    [4.0, 4.0, 4.0, 4.0, 4.0]
    """
    own = np.ones(frame.shape) if unit == "cells" else np.repeat(frame.row_areas[:, None], frame.cols, axis=1)
    if weights is not None:
        own *= np.nan_to_num(weights, nan=0.0)
    own[ways == NONE] = 0.0
    return own


def accumulated(
    drainage: Drainage,
    method: FlowMethod = "d8",
    unit: Literal["cells", "area"] = "cells",
    weights: Surface | None = None,
    progress: Progress | None = None,
    exponent: float = accumulation.CONVERGENCE,
) -> Surface:
    """Accumulation of each cell, its own amount included: cells, square metres, or weighted by a surface
    (float32).

    ``d8`` runs to one receiver, ``freeman`` to all lower neighbours by slope to the ``exponent``, ``dinf`` to
    the two of the steepest facet. Weighted cells have the unit of the weights, weighted areas that unit times
    square metres.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    method
        Which of the published methods, see above.
    unit
        The unit asked for.
    weights
        Weights, 0 or above.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.
    exponent
        Power of the slope.

    Returns
    -------
    Surface
        Float32 of shape (rows, cols).

    Raises
    ------
    MossError
        For weights that do not lie cell on cell.

    Source
    ------
    O'Callaghan & Mark 1984, CVGIP 28; Freeman 1991, Computers & Geosciences 17; Tarboton 1997, Water
    Resources Research 33.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import accumulated
    >>> from moss_step.science.water.drainage import prepare
    >>> accumulated(prepare(tilted())).values[0].tolist()  # all runs to the west
    [5.0, 4.0, 3.0, 2.0, 1.0]
    """
    if weights is not None:
        check_same_frame(weights.frame, drainage.frame, "The weights and the ground")
    progress = progress or silent()
    progress.at(0.1, "Adding up what lies upstream")
    ways = drainage.ways
    if method == "d8" and unit == "cells" and weights is None:
        total: np.ndarray = drainage.cells
    else:
        total = amounts(drainage.frame, unit, None if weights is None else weights.values, ways)
        if method == "d8":
            donors = np.empty(ways.shape, np.uint8)
            count_donors(ways, donors)
            accumulation.accumulate(ways, donors, total)
        else:
            part = progress.part(0.1, 0.95)
            accumulation.accumulate_shares(drainage.drained(), method, total[None], exponent, part)
    values = total.astype(np.float32)
    values[ways == NONE] = np.nan
    return Surface(values, drainage.frame, unit_of_accumulation(unit, weights), "accumulation")


def unit_of_accumulation(unit: Literal["cells", "area"], weights: Surface | None) -> Unit:
    """The unit of what was added up.

    Parameters
    ----------
    unit
        The unit asked for.
    weights
        Weights, whatever their frame.

    Returns
    -------
    Unit
        Cells or square metres; that of the weights, or none for weights times square metres.

    Examples
    --------
    >>> from moss_step.science.water.drainage import unit_of_accumulation
    >>> unit_of_accumulation("cells", None).key
    'cells'
    """
    if weights is None:
        return CELLS if unit == "cells" else SQUARE_METRE
    return weights.unit if unit == "cells" else NO_UNIT

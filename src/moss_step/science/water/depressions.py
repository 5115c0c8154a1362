"""Depressions: what a ground holds back, filling it level or with a gradient, keeping real lakes, and
breaching.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import Unit
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.kernels.depressions import (
    Settled,
    breach,
    fill_with_gradient,
    measure_lakes,
    spill_cells,
)
from moss_step.science.zones.kernels.labelling import count_labels
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.tracing import areas_of


class Lakes(NamedTuple):
    """Depressions of a ground: number of each cell (0 for none), and by number (0 first) cells, area, depth,
    volume, level.
    """

    numbered: np.ndarray
    cells: np.ndarray
    area: np.ndarray
    depth: np.ndarray
    volume: np.ndarray
    level: np.ndarray


class LakeFigures(NamedTuple):
    """Figures of depressions by number, 0 first: cells, area, depth, volume and level as in ``Lakes``, and
    the cell that each spills to.
    """

    cells: np.ndarray
    area: np.ndarray
    depth: np.ndarray
    volume: np.ndarray
    level: np.ndarray
    spill: np.ndarray


def find_lakes(drainage: Drainage, progress: Progress | None = None) -> Lakes:
    """Find all depressions; depths and levels in the unit of the ground, areas in m² and volumes in m³.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Lakes
        The depressions, see ``Lakes``.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.depressions import find_lakes
    >>> from moss_step.science.water.drainage import prepare
    >>> lakes = find_lakes(prepare(bowl()))
    >>> lakes.area[1:].tolist(), lakes.volume[1:].tolist()
    ([36.0], [44.0])
    """
    progress = progress or silent()
    progress.at(0.0, "Finding depressions")
    filled, z = drainage.filled(), drainage.z
    under = np.where(filled > z, np.uint8(1), np.uint8(255))
    numbered, owner = label_components(under, 8, 255)
    n = len(owner)
    progress.at(0.5, "Measuring depressions")
    cells, area = count_labels(numbered, drainage.frame.row_areas, n)
    depth, volume, level = measure_lakes(numbered, filled, z, drainage.frame.row_areas, n)
    cells[0] = area[0] = 0
    return Lakes(numbered, cells, area, depth, volume * drainage.dem.metres_per_height, level + drainage.base)


def lake_shapes(
    drainage: Drainage, least_depth: float = 0.0, least_area: float = 0.0, progress: Progress | None = None
) -> Shapes:
    """Depressions as areas, the largest volume first, with depth, area, volume, level and the point they
    spill at.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    least_depth
        Least depth in the unit of the heights.
    least_area
        Least area in square metres.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their figures.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.depressions import lake_shapes
    >>> from moss_step.science.water.drainage import prepare
    >>> lake_shapes(prepare(bowl())).geometry[0].area
    36.0
    """
    progress = progress or silent()
    lakes = find_lakes(drainage, progress.part(0.0, 0.3))
    spill = spill_cells(drainage.ways, lakes.numbered, len(lakes.cells))
    figures = LakeFigures(*lakes[1:], spill)
    order = worth_telling(figures, least_depth, least_area)
    number = np.zeros(len(lakes.cells), np.int32)
    number[order] = np.arange(1, len(order) + 1)
    geometry = (
        areas_of(number[lakes.numbered], drainage.frame, len(order), progress.part(0.4, 1.0))
        if len(order)
        else np.empty(0, object)
    )
    columns, units = lake_columns(figures, order, drainage.frame, drainage.dem.unit)
    return Shapes(geometry, columns, drainage.frame.crs, units)


def worth_telling(lakes: LakeFigures, least_depth: float, least_area: float) -> np.ndarray:
    """The depressions that are deep and large enough, the largest volume first.

    Parameters
    ----------
    lakes
        Figures by number, 0 first.
    least_depth
        Least depth in the unit of the heights.
    least_area
        Least area in square metres.

    Returns
    -------
    np.ndarray
        Their numbers.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.depressions import LakeFigures, worth_telling
    >>> figures = np.array([0.0, 2.0, 3.0])
    >>> worth_telling(LakeFigures(*[figures] * 6), 0.0, 0.0).tolist()
    [2, 1]
    """
    kept = np.flatnonzero((lakes.depth >= least_depth) & (lakes.area >= least_area) & (lakes.cells > 0))
    order: np.ndarray = kept[np.argsort(-lakes.volume[kept], kind="stable")]
    return order


def lake_columns(
    lakes: LakeFigures, order: np.ndarray, frame: Frame, unit: Unit
) -> tuple[dict[str, np.ndarray], dict[str, str]]:
    """What is told of depressions: a column each, and the units of some.

    Parameters
    ----------
    lakes
        Figures by number, 0 first.
    order
        The numbers of those that are told of.
    frame
        Rows, columns, cell size and reference system of the grid.
    unit
        Unit of the heights.

    Returns
    -------
    tuple[dict[str, np.ndarray], dict[str, str]]
        Columns with a value for each of ``order``, and symbols of units.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.units import METRE
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.depressions import LakeFigures, lake_columns
    >>> lakes = LakeFigures(*[np.array([0, 2])] * 6)
    >>> columns, units = lake_columns(lakes, np.array([1]), bowl().frame, METRE)
    >>> columns["depth"].tolist(), units["depth"]
    ([2], 'm')
    """
    cell = lakes.spill[order]
    columns = {
        "depression": np.arange(1, len(order) + 1), "depth": lakes.depth[order], "area_m2": lakes.area[order],
        "volume_m3": lakes.volume[order], "level": lakes.level[order], "cells": lakes.cells[order],
        "spill_x": frame.x0 + (cell % frame.cols + 0.5) * frame.dx,
        "spill_y": frame.y0 - (cell // frame.cols + 0.5) * frame.dy,
    }  # fmt: skip
    return columns, {"depth": unit.symbol, "level": unit.symbol, "volume_m3": "m³"}


def staying(lakes: Lakes | LakeFigures, least_depth: float | None, least_area: float | None) -> np.ndarray:
    """Which depressions stay as lakes: those that are so deep, or so large.

    Parameters
    ----------
    lakes
        Figures by number, 0 first.
    least_depth
        Least depth in the unit of the heights; None where depth does not count.
    least_area
        Least area in square metres; None where area does not count.

    Returns
    -------
    np.ndarray
        Booleans by number.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.depressions import LakeFigures, staying
    >>> staying(LakeFigures(*[np.array([0.0, 2.0, 3.0])] * 6), 2.5, None).tolist()
    [False, False, True]
    """
    kept = np.zeros(len(lakes.cells), bool)
    if least_depth is not None:
        kept |= lakes.depth >= least_depth
    if least_area is not None:
        kept |= lakes.area >= least_area
    kept[0] = False
    return kept


def filled_surface(
    drainage: Drainage,
    gradient: float = 0.0,
    keep_depth: float | None = None,
    keep_area: float | None = None,
    progress: Progress | None = None,
) -> Surface:
    """The ground with depressions filled: level, or rising by ``gradient`` (metres a metre) from where they
    spill.

    Depressions of at least ``keep_depth`` (in the ground's unit) or ``keep_area`` (m²) stay as they are.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    gradient
        Rise in metres a metre from where it spills.
    keep_depth
        Depth from which depressions stay, in the unit of the ground.
    keep_area
        Area from which depressions stay, in square metres.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Heights in the unit of the ground.

    Source
    ------
    Barnes, Lehman & Mulla 2014, Priority-flood, Computers & Geosciences 62.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.depressions import filled_surface
    >>> from moss_step.science.water.drainage import prepare
    >>> filled_surface(prepare(bowl())).values[2].tolist()
    [5.0, 4.0, 4.0, 4.0, 4.0]
    """
    dem = drainage.dem
    progress = progress or silent()
    if gradient > 0:
        metres = drainage.metres / np.float32(dem.metres_per_height)
        with progress.pulse(dem.values.size, 0.0, 0.8, "Filling with a gradient") as pulse:
            out: np.ndarray = fill_with_gradient(drainage.z, drainage.ways, metres, gradient, pulse)
    else:
        out = drainage.filled()
    if keep_depth is not None or keep_area is not None:
        lakes = find_lakes(drainage, progress.part(0.8, 1.0))
        kept = staying(lakes, keep_depth, keep_area)
        out = np.where(kept[lakes.numbered], drainage.z, out)
    return _raised(drainage, out)


def _raised(drainage: Drainage, z: np.ndarray) -> Surface:
    """A surface of heights above the drainage's base: in double precision where the ground is."""
    dem = drainage.dem
    values = z if dem.values.dtype == np.float32 else z.astype(np.float64) + drainage.base
    return Surface(values, dem.frame, dem.unit, dem.quantity)


def breached_surface(
    drainage: Drainage, most_cells: int, progress: Progress | None = None
) -> tuple[Surface, int, int]:
    """The ground with a channel cut from each pit to lower ground, where one of up to ``most_cells`` cells is
    found.

    The channel of least digging, the volume of each cell above the height of the pit, by Dijkstra's method
    (Dijkstra 1959, Numerische Mathematik 1): Lindsay & Dhun 2015, Modelling surface drainage patterns in
    altered landscapes using LiDAR, IJGIS 29. A cell is left again by a dearer way when that has fewer cells,
    so that the channel is the cheapest of those short enough. Pits are taken from the highest down. Gives the
    surface, the pits breached and those left.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    most_cells
        Most cells of one void or channel.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[Surface, int, int]
        Heights in the unit of the ground, pits breached, and pits left.

    Source
    ------
    Lindsay & Dhun 2015, International Journal of Geographical Information Science 29.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.depressions import breached_surface
    >>> from moss_step.science.water.drainage import prepare
    >>> surface, breached, left = breached_surface(prepare(bowl()), most_cells=10)
    >>> breached, left
    (1, 0)
    """
    dem, pools, progress = drainage.dem, drainage.pools, progress or silent()
    out = drainage.z.copy()
    pits = np.flatnonzero((pools.depth > 0) & (pools.cell >= 0))
    pits = pits[np.argsort(-out.reshape(-1)[pools.cell[pits]], kind="stable")]
    done = 0
    stamp, fewest = np.zeros(out.shape, np.int32), np.zeros(out.shape, np.int32)
    for first, last in progress.blocks(len(pits), 256, "Cutting channels"):
        cells, settled = pools.cell[pits[first:last]], Settled(stamp, fewest, first)
        done += int(breach(out, drainage.ways, dem.frame.row_areas, cells, most_cells, settled))
    return _raised(drainage, out), done, len(pits) - done

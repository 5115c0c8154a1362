"""Figures of basins and catchments: areas, heights, slopes, the longest way, and what follows from
outlines.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.kernels.basins import add_up, ways_within
from moss_step.science.water.kernels.neighbours import Course, Filled
from moss_step.science.water.trace import down_order


class Sums(NamedTuple):
    """Of each basin: cells, ground area, lowest and highest cell, heights above a base by area, slopes by
    area, and the area that has a slope.
    """

    cells: np.ndarray
    area: np.ndarray
    low: np.ndarray
    high: np.ndarray
    moment: np.ndarray
    steep: np.ndarray
    sloping: np.ndarray


def steepness(drainage: Drainage) -> np.ndarray:
    """Slope in degrees of every cell; no-data on a ground of one row or column.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.

    Returns
    -------
    np.ndarray
        Degrees, float32 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basin_figures import steepness
    >>> from moss_step.science.water.drainage import prepare
    >>> steepness(prepare(tilted()))[1].tolist()
    [45.0, 45.0, 45.0, 45.0, 45.0]
    """
    if min(drainage.frame.shape) < 2:
        return np.full(drainage.frame.shape, np.float32(np.nan))
    return derive_slope(drainage.dem, "degrees").values


def figures(
    drainage: Drainage,
    numbered: np.ndarray,
    ends: np.ndarray,
    steep: np.ndarray,
    order: np.ndarray | None = None,
    progress: Progress | None = None,
) -> dict[str, np.ndarray]:
    """Figures of numbered basins whose water ends in the cells ``ends``: areas, heights, slopes, longest way.

    Means of heights and of the slope ``steep``, and so the hypsometric integral, weigh each cell by its
    ground area. ``order`` are the cells of all basins, each before the one it runs to; all of the ground when
    left out.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    numbered
        Number of the area of each cell, int32; 0 for none.
    ends
        Cells that the water of each number ends in.
    steep
        Slope in degrees of every cell.
    order
        Cells, each before the one it runs to.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    dict[str, np.ndarray]
        Columns of n values.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basin_figures import figures, steepness
    >>> from moss_step.science.water.basins import divided
    >>> from moss_step.science.water.drainage import prepare
    >>> drainage = prepare(tilted())
    >>> numbered, ends, _ = divided(drainage, None)
    >>> figures(drainage, numbered, ends, steepness(drainage))["area_m2"].tolist()
    [20.0, 20.0, 20.0, 20.0]
    """
    dem, frame, n, progress = drainage.dem, drainage.frame, len(ends), progress or silent()
    sums = np.zeros((n + 1, len(Sums._fields)))
    with progress.pulse(frame.rows, 0.0, 0.4, "Measuring basins") as pulse:
        add_up(numbered, dem.values, drainage.base, steep, frame.row_areas, sums, pulse)
    ways = _longest(drainage, numbered, n, order, progress.part(0.4, 1.0))
    outlet = dem.values.reshape(-1)[ends]
    return figure_columns(Sums(*sums[1:].T), ways, ends, outlet, (dem, drainage.base), frame)


def figure_columns(
    sums: Sums,
    ways: tuple[np.ndarray, np.ndarray],
    ends: np.ndarray,
    outlet: np.ndarray,
    ground: tuple[Surface, float],
    frame: Frame,
) -> dict[str, np.ndarray]:
    """Figures of basins from what was added up over their cells.

    Parameters
    ----------
    sums
        What was added up, n values each.
    ways
        Longest way in each basin in metres, and how far the water falls along it.
    ends
        Cells that the water of each ends in.
    outlet
        Heights of these.
    ground
        The ground, or a surface like it: its unit counts; and the base that heights were added up above.
    frame
        Rows, columns, cell size and reference system of the ground.

    Returns
    -------
    dict[str, np.ndarray]
        Columns of n values.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basin_figures import Sums, figure_columns
    >>> dem, one = tilted(), np.ones(1)
    >>> sums = Sums(one, one * 4.0, one, one * 3.0, one * 8.0, one * 180.0, one * 4.0)
    >>> figure_columns(sums, (one * 2.0, one), np.array([0]), one, (dem, 0.0), dem.frame)[
    ...     "mean_slope_deg"
    ... ].tolist()
    [45.0]
    """
    n, (lengths, drops), (dem, base) = len(ends), ways, ground
    x = frame.x0 + (ends % frame.cols + 0.5) * frame.dx
    y = frame.y0 - (ends // frame.cols + 0.5) * frame.dy
    with np.errstate(divide="ignore", invalid="ignore"):
        mean, relief = sums.moment / sums.area, sums.high - sums.low
        gradient = drops * dem.metres_per_height / lengths
        integral = (mean - (sums.low - base)) / np.where(relief > 0.0, relief, np.nan)  # level: there is none
        slope = sums.steep / sums.sloping
    return {
        "basin": np.arange(1, n + 1),
        "name": np.array([f"Basin {k}" for k in range(1, n + 1)], object),
        "cells": sums.cells.astype(np.int64),
        "area_m2": sums.area,
        "longest_path_m": lengths,
        "path_gradient": gradient,
        "mean_slope_deg": slope,
        "lowest": sums.low,
        "highest": sums.high,
        "relief": relief,
        "hypsometric_integral": integral,
        "outlet_x": x,
        "outlet_y": y,
        "outlet_height": outlet.astype(np.float64),
    }


def _longest(
    drainage: Drainage, numbered: np.ndarray, count: int, order: np.ndarray | None, progress: Progress
) -> tuple[np.ndarray, np.ndarray]:
    """Longest way down within each basin, in metres, and how far the water falls along it, in the unit of the
    ground.
    """
    longest, fall = np.zeros(count + 1), np.zeros(count + 1)
    pools = drainage.pools
    ground = Filled(drainage.z, pools.labels, pools.level)
    if order is None:
        order = down_order(drainage, progress.part(0.0, 0.5))
    with progress.pulse(order.size, 0.5, 1.0, "Measuring ways") as pulse:
        course = Course(drainage.ways, drainage.metres, order)
        ways_within(ground, course, numbered, longest, fall, pulse)
    return longest[1:], fall[1:]


def with_outlines(
    geometry: np.ndarray,
    columns: dict[str, np.ndarray],
    stream_metres: np.ndarray | None,
    dem: Surface,
    frame: Frame,
) -> Shapes:
    """Basins from their outlines and figures, and what follows from both.

    Parameters
    ----------
    geometry
        Outlines.
    columns
        Figures of each.
    stream_metres
        Metres of stream in each, which are told as a density.
    dem
        The ground, or a surface like it: its unit counts.
    frame
        Rows, columns, cell size and reference system of the ground.

    Returns
    -------
    Shapes
        Areas with their figures.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basin_figures import with_outlines
    >>> columns = {"area_m2": np.array([4.0]), "longest_path_m": np.array([2.0])}
    >>> dem = tilted()
    >>> found = with_outlines(np.array([shapely.box(0, 0, 2, 2)]), columns, np.array([2.0]), dem, dem.frame)
    >>> found.columns["perimeter_m"].tolist(), found.columns["drainage_density"].tolist()
    ([8.0], [500.0])
    """
    columns = {**columns, **_of_outline(geometry, columns, frame)}
    if stream_metres is not None:
        columns["drainage_density"] = stream_metres / columns["area_m2"] * 1000.0
    return Shapes(geometry, columns, frame.crs, _symbols(dem, columns))


def _of_outline(geometry: np.ndarray, columns: dict[str, np.ndarray], frame: Frame) -> dict[str, np.ndarray]:
    perimeter, longest = frame.lengths(geometry), columns["longest_path_m"]
    form = (
        columns["area_m2"] / np.where(longest > 0.0, longest, np.nan) ** 2
    )  # Horton 1932; a basin of one cell has no way to divide by
    return {"perimeter_m": perimeter, "form_factor": form}


def _symbols(dem: Surface, columns: dict[str, np.ndarray]) -> dict[str, str]:
    height = dict.fromkeys(("lowest", "highest", "relief", "outlet_height", "pool_depth"), dem.unit.symbol)
    return {
        n: s
        for n, s in {**height, "mean_slope_deg": "°", "pool_m3": "m³", "drainage_density": "km/km²"}.items()
        if n in columns
    }

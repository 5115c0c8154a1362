"""Basins: the ground divided by where its water ends, with figures of each; and catchments of points, lines
and areas.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import shapely
from rasterio.features import rasterize

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.science.regrid import affine
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.kernels.basins import (
    add_depths,
    add_steps,
    add_up,
    count_nodes,
    relabel,
    ways_within,
)
from moss_step.science.water.kernels.neighbours import NONE, Course, Filled
from moss_step.science.water.kernels.pools import label_ends, number_ends
from moss_step.science.water.kernels.trace import mark_upstream, order_within
from moss_step.science.water.trace import cell_at, down_order, snapped
from moss_step.science.zones.tracing import areas_of

MOST_BASINS, MOST_OUTLETS = 100_000, 2000


def divided(
    drainage: Drainage, least_depth: float | None, least_area: float = 0.0
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Number each basin from 1, largest first (int32 grid, 0 for no-data); give the cells that their water
    ends in, and their nodes.

    ``least_depth`` is in the unit of the heights: pools that are shallower spill on, deeper ones end a basin
    of their own; None lets all spill, so that there is a basin for each cell that water leaves the ground at.
    Basins of less than ``least_area`` square metres become 0.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    least_depth
        Least depth in the unit of the heights.
    least_area
        Least area in square metres.

    Returns
    -------
    tuple[np.ndarray, np.ndarray, np.ndarray]
        Numbers (rows, cols), cells (n) and nodes (n).

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.basins import divided
    >>> from moss_step.science.water.drainage import prepare
    >>> numbered, ends, areas = divided(prepare(bowl()), None)
    >>> len(ends)
    1
    """
    pools = drainage.pools
    if least_depth is None:
        labels = np.zeros(drainage.ways.shape, np.int32)
        cell = number_ends(drainage.ways, labels)
        label_ends(drainage.ways, labels)
        root = np.arange(len(cell), dtype=np.int32)
    else:
        labels, root, cell = pools.labels, pools.roots(least_depth), pools.cell
    counts, areas = np.zeros(len(root), np.int64), np.zeros(len(root))
    count_nodes(labels, root, drainage.frame.row_areas, counts, areas)
    kept = np.flatnonzero((counts > 0) & (areas >= least_area * (1.0 - 1e-9)) & (np.arange(len(root)) > 0))
    order = kept[np.argsort(-areas[kept], kind="stable")]
    number = np.zeros(len(root), np.int32)
    number[order] = np.arange(1, len(order) + 1)
    out = np.empty(labels.shape, np.int32)
    relabel(labels, number[root], out)
    if least_depth is None:
        ends = cell[order]
        return out, ends, pools.roots(np.inf)[pools.labels.reshape(-1)[ends]]
    return (
        out,
        np.where((pools.across[order] == 0) & (pools.over[order] >= 0), pools.over[order], cell[order]),
        order,
    )


def basin_shapes(
    drainage: Drainage,
    least_depth: float | None,
    least_area: float = 0.0,
    stream: np.ndarray | None = None,
    progress: Progress | None = None,
) -> Shapes:
    """Basins as areas, largest first, with their figures; heights and depths in the unit of the ground.

    With the cells of a ``stream`` its length in each basin is told as a density. A pool that is shallower
    than ``least_depth`` holds nothing back, and counts as none.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    least_depth
        Least depth in the unit of the heights.
    least_area
        Least area in square metres.
    stream
        Cells of streams, uint8 of shape (rows, cols).
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their figures.

    Raises
    ------
    MossError
        When there are more than 100,000, or none of ``least_area`` square metres.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.basins import basin_shapes
    >>> from moss_step.science.water.drainage import prepare
    >>> basin_shapes(prepare(bowl()), None).geometry[0].area
    100.0
    """
    progress = progress or silent()
    progress.at(0.0, "Dividing the ground")
    frame, pools = drainage.frame, drainage.pools
    numbered, ends, nodes = divided(drainage, least_depth, least_area)
    if len(nodes) > MOST_BASINS:
        raise MossError(f"There would be {len(nodes):,} basins.", "Ask for deeper pools or larger basins.")
    if len(nodes) == 0:
        raise MossError(f"No basin has {least_area:g} m².", "Ask for smaller ones.")
    columns = figures(drainage, numbered, ends, steepness(drainage), None, progress.part(0.1, 0.6))
    depth = pools.depth[nodes].astype(float)
    depth[depth < (least_depth or 0.0)] = 0.0
    columns["pool_depth"] = depth
    columns["pool_m3"] = _pool_volumes(drainage, numbered, nodes, depth)
    geometry = areas_of(numbered, frame, len(nodes), progress.part(0.6, 1.0))
    columns |= _of_outline(geometry, columns, frame)
    if stream is not None:
        columns["drainage_density"] = (
            stream_lengths(drainage, stream, numbered, len(nodes)) / columns["area_m2"] * 1000.0
        )
    return Shapes(geometry, columns, frame.crs, _symbols(drainage, columns))


def stream_lengths(drainage: Drainage, stream: np.ndarray, numbered: np.ndarray, count: int) -> np.ndarray:
    """Metres of stream in each numbered basin: the step from each stream cell to its receiver counts where it
    begins.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    stream
        Cells of streams, uint8 of shape (rows, cols).
    numbered
        Number of the area of each cell, int32; 0 for none.
    count
        How many are asked for, or there are.

    Returns
    -------
    np.ndarray
        Metres, ``count + 1`` values.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basins import stream_lengths
    >>> from moss_step.science.water.drainage import prepare
    >>> drainage = prepare(tilted())
    >>> stream = np.zeros((4, 5), np.uint8)
    >>> stream[1] = 1
    >>> stream_lengths(drainage, stream, np.ones((4, 5), np.int32), 1).tolist()
    [8.0]
    """
    total = np.zeros(count + 1)
    add_steps(drainage.ways, drainage.metres, stream, numbered, total)
    return total[1:]


def _pool_volumes(
    drainage: Drainage, numbered: np.ndarray, nodes: np.ndarray, pool_depth: np.ndarray
) -> np.ndarray:
    """Volume that stands in the pool a basin ends in when it is full: 0 where water leaves the ground without
    one.
    """
    pools, z = drainage.pools, drainage.z
    full = np.append(np.float32(0), z.reshape(-1)[pools.cell[nodes]] + pools.depth[nodes])
    full[1:][pool_depth == 0] = -np.inf
    volume = np.zeros(len(nodes) + 1)
    add_depths(numbered, z, full, drainage.frame.row_areas, volume)
    cubic: np.ndarray = volume[1:] * drainage.dem.metres_per_height
    return cubic


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
    >>> from moss_step.science.water.basins import steepness
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
    >>> from moss_step.science.water.basins import divided, figures, steepness
    >>> from moss_step.science.water.drainage import prepare
    >>> drainage = prepare(tilted())
    >>> numbered, ends, _ = divided(drainage, None)
    >>> figures(drainage, numbered, ends, steepness(drainage))["area_m2"].tolist()
    [20.0, 20.0, 20.0, 20.0]
    """
    dem, frame, n, progress = drainage.dem, drainage.frame, len(ends), progress or silent()
    sums = np.zeros((n + 1, len(Sums._fields)))
    with progress.pulse(frame.rows, 0.0, 0.4, "Measuring basins") as pulse:
        add_up(numbered, dem.values, steep, frame.row_areas, sums, pulse)
    result = Sums(*sums[1:].T)
    lengths, drops = _longest(drainage, numbered, n, order, progress.part(0.4, 1.0))
    x = frame.x0 + (ends % frame.cols + 0.5) * frame.dx
    y = frame.y0 - (ends // frame.cols + 0.5) * frame.dy
    outlet = dem.values.reshape(-1)[ends].astype(np.float64)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean, relief = result.moment / result.area, result.high - result.low
        gradient = drops * dem.metres_per_height / lengths
        integral = (mean - result.low) / relief
        slope = result.steep / result.sloping
    return {
        "basin": np.arange(1, n + 1),
        "name": np.array([f"Basin {k}" for k in range(1, n + 1)], object),
        "cells": result.cells.astype(np.int64),
        "area_m2": result.area,
        "longest_path_m": lengths,
        "path_gradient": gradient,
        "mean_slope_deg": slope,
        "lowest": result.low,
        "highest": result.high,
        "relief": relief,
        "hypsometric_integral": integral,
        "outlet_x": x,
        "outlet_y": y,
        "outlet_height": outlet,
    }


class Sums(NamedTuple):
    """Of each basin: cells, ground area, lowest and highest cell, heights by area, slopes by area, and the
    area that has a slope.
    """

    cells: np.ndarray
    area: np.ndarray
    low: np.ndarray
    high: np.ndarray
    moment: np.ndarray
    steep: np.ndarray
    sloping: np.ndarray


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


def _of_outline(geometry: np.ndarray, columns: dict[str, np.ndarray], frame: Frame) -> dict[str, np.ndarray]:
    perimeter, longest = frame.lengths(geometry), columns["longest_path_m"]
    form = (
        columns["area_m2"] / np.where(longest > 0.0, longest, np.nan) ** 2
    )  # Horton 1932; a basin of one cell has no way to divide by
    return {"perimeter_m": perimeter, "form_factor": form}


def _symbols(drainage: Drainage, columns: dict[str, np.ndarray]) -> dict[str, str]:
    height = dict.fromkeys(
        ("lowest", "highest", "relief", "outlet_height", "pool_depth"), drainage.dem.unit.symbol
    )
    return {
        n: s
        for n, s in {**height, "mean_slope_deg": "°", "pool_m3": "m³", "drainage_density": "km/km²"}.items()
        if n in columns
    }


def seeds_of(drainage: Drainage, geometry: Any, snap: float = 0.0) -> np.ndarray:
    """Cells of a point (moved to the largest stream within ``snap`` metres), a line or an area.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    geometry
        Geometries, in the system of the ground.
    snap
        Metres within which a point moves to the largest stream.

    Returns
    -------
    np.ndarray
        Numbers of cells, int64.

    Raises
    ------
    MossError
        When none of them has data.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basins import seeds_of
    >>> from moss_step.science.water.drainage import prepare
    >>> seeds_of(prepare(tilted()), shapely.Point(1.0, 1.0)).tolist()
    [15]
    """
    frame = drainage.frame
    if geometry.geom_type == "Point":
        cell = cell_at(drainage.dem, geometry.x, geometry.y)
        return np.array([snapped(drainage, cell, snap) if snap > 0 else cell])
    burnt = rasterize(
        [(geometry, 1)],
        frame.shape,
        fill=0,
        transform=affine(frame),
        all_touched=geometry.geom_type.endswith("LineString"),
    )
    cells = np.flatnonzero((burnt == 1).ravel() & (drainage.ways.ravel() != NONE))
    if cells.size == 0:
        raise MossError("The shape lies outside the ground or on no-data.", "Draw it on the ground.")
    return cells


def _nested(drainage: Drainage, seeds: list[np.ndarray], progress: Progress) -> np.ndarray:
    """Number what drains to each set of cells, without what drains to those further upstream (int32).

    Raises MossError for two in one cell.
    """
    numbered = np.zeros(drainage.frame.shape, np.int32)
    sizes = [int(drainage.cells.reshape(-1)[s].max()) for s in seeds]
    # the smallest first, so that larger ones leave them out
    for done, k in enumerate(np.argsort(sizes, kind="stable")):
        progress.at(done / len(seeds), "Walking upstream")
        count, *_ = mark_upstream(drainage.ways, seeds[k], k + 1, numbered)
        if count == 0:
            raise MossError("Two outlets lie in one cell.", "Move one of them.")
    return numbered


def _one_catchment(
    drainage: Drainage, seeds: np.ndarray, low: np.ndarray, steep: np.ndarray, progress: Progress
) -> tuple[dict[str, np.ndarray], shapely.Geometry]:
    """Figures and outline of what drains to some cells, worked out on the part of the ground that holds
    it.
    """
    progress.at(0.0, "Walking upstream")
    frame = drainage.frame
    numbered = np.zeros(frame.shape, np.int32)
    count, r0, r1, c0, c1 = mark_upstream(drainage.ways, seeds, 1, numbered)
    order = order_within(drainage.ways, np.unique(seeds), numbered, 1, count)
    rows, cols = slice(r0, r1 + 1), slice(c0, c1 + 1)
    result = figures(drainage, numbered, low, steep, order, progress.part(0.2, 0.7))
    area = areas_of(
        np.ascontiguousarray(numbered[rows, cols]), frame.part(rows, cols), 1, progress.part(0.7, 1.0)
    )[0]
    return result, area


def catchments(
    drainage: Drainage,
    seeds: list[np.ndarray],
    nested: bool = False,
    names: list[str] | None = None,
    progress: Progress | None = None,
) -> Shapes:
    """The ground that drains to each set of cells, as areas with figures; ``nested`` takes away those further
    upstream.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    seeds
        Cells of each catchment.
    nested
        Whether ground of those further upstream is taken away.
    names
        Names, in the order of what they are of.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their figures.

    Raises
    ------
    MossError
        For more than 2,000 of them, or two nested ones in one cell.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basins import catchments, seeds_of
    >>> from moss_step.science.water.drainage import prepare
    >>> drainage = prepare(tilted())
    >>> areas = catchments(drainage, [seeds_of(drainage, shapely.Point(1.0, 1.0))])
    >>> areas.geometry[0].area
    20.0
    """
    frame = drainage.frame
    if len(seeds) > MOST_OUTLETS:
        raise MossError(
            f"There are {len(seeds):,} outlets.",
            f"Give up to {MOST_OUTLETS:,} at a time, or divide the whole ground with basins.",
        )
    lows = np.array([cells[np.argmin(drainage.z.reshape(-1)[cells])] for cells in seeds])
    progress, steep = progress or silent(), steepness(drainage)
    if nested:
        numbered = _nested(drainage, seeds, progress.part(0.0, 0.3))
        columns = figures(drainage, numbered, lows, steep, None, progress.part(0.3, 0.7))
        geometry = areas_of(numbered, frame, len(seeds), progress.part(0.7, 1.0))
    else:
        parts = [
            _one_catchment(
                drainage, cells, lows[k : k + 1], steep, progress.part(k / len(seeds), (k + 1) / len(seeds))
            )
            for k, cells in enumerate(seeds)
        ]
        columns = {n: np.concatenate([result[n] for result, _ in parts]) for n in parts[0][0]}
        geometry = np.array([area for _, area in parts], object)
    columns |= _of_outline(geometry, columns, frame)
    columns["basin"] = np.arange(1, len(seeds) + 1)
    columns["name"] = np.array(names or [f"Catchment {k + 1}" for k in range(len(seeds))], object)
    return Shapes(geometry, columns, frame.crs, _symbols(drainage, columns))

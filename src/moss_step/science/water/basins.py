"""Basins: the ground divided by where its water ends, with figures of each; and catchments of points, lines and areas."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from rasterio.features import rasterize

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.science.regrid import affine
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.neighbours import DC, DR, NONE, OUT, span, stands
from moss_step.science.water.pools import label_ends, number_ends
from moss_step.science.water.trace import cell_at, down_order, mark_upstream, snapped
from moss_step.science.zones.tracing import areas_of

MOST_BASINS, MOST_OUTLETS = 100_000, 2000


@numba.njit(cache=True, nogil=True, parallel=True)
def relabel(labels, number, out):  # type: ignore[no-untyped-def]  # numba infers the types
    """Give each cell the number of its node."""
    for r in numba.prange(labels.shape[0]):
        for c in range(labels.shape[1]):
            out[r, c] = number[labels[r, c]]


def divided(drainage: Drainage, least_depth: float | None, least_area: float = 0.0) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Number each basin from 1, largest first (int32 grid, 0 for no-data); give the cells that their water ends in, and their nodes.

    ``least_depth`` is in the unit of the heights: pools that are shallower spill on, deeper ones end a basin of their own;
    None lets all spill, so that there is a basin for each cell that water leaves the ground at. Basins of less than ``least_area``
    square metres become 0.
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
    _count_nodes(labels, root, drainage.frame.row_areas, counts, areas)
    kept = np.flatnonzero((counts > 0) & (areas >= least_area * (1.0 - 1e-9)) & (np.arange(len(root)) > 0))
    order = kept[np.argsort(-areas[kept], kind="stable")]
    number = np.zeros(len(root), np.int32)
    number[order] = np.arange(1, len(order) + 1)
    out = np.empty(labels.shape, np.int32)
    relabel(labels, number[root], out)
    if least_depth is None:
        ends = cell[order]
        return out, ends, pools.roots(np.inf)[pools.labels.reshape(-1)[ends]]
    return out, np.where((pools.across[order] == 0) & (pools.over[order] >= 0), pools.over[order], cell[order]), order


@numba.njit(cache=True, nogil=True)
def _count_nodes(labels, root, row_areas, counts, areas):  # type: ignore[no-untyped-def]  # numba infers the types
    for r in range(labels.shape[0]):
        for c in range(labels.shape[1]):
            counts[root[labels[r, c]]] += 1
            areas[root[labels[r, c]]] += row_areas[r]


def basin_shapes(
    drainage: Drainage, least_depth: float | None, least_area: float = 0.0, stream: np.ndarray | None = None, progress: Progress | None = None
) -> Shapes:
    """Basins as areas, largest first, with their figures; heights and depths in the unit of the ground.

    With the cells of a ``stream`` its length in each basin is told as a density. A pool that is shallower than ``least_depth`` holds
    nothing back, and counts as none. Raises MossError when there are more than 100,000, or none of ``least_area`` square metres.
    """
    progress = progress or silent()
    progress.at(0.5, "Dividing the ground")
    frame, pools = drainage.frame, drainage.pools
    numbered, ends, nodes = divided(drainage, least_depth, least_area)
    if len(nodes) > MOST_BASINS:
        raise MossError(f"There would be {len(nodes):,} basins.", "Ask for deeper pools or larger basins.")
    if len(nodes) == 0:
        raise MossError(f"No basin has {least_area:g} m².", "Ask for smaller ones.")
    progress.at(0.7, "Measuring basins")
    columns = figures(drainage, numbered, ends)
    depth = pools.depth[nodes].astype(float)
    depth[depth < (least_depth or 0.0)] = 0.0
    columns["pool_depth"] = depth
    columns["pool_m3"] = _pool_volumes(drainage, numbered, nodes, depth)
    geometry = areas_of(numbered, frame, len(nodes))
    columns |= _of_outline(geometry, columns, frame)
    if stream is not None:
        columns["drainage_density"] = stream_lengths(drainage, stream, numbered, len(nodes)) / columns["area_m2"] * 1000.0
    return Shapes(geometry, columns, frame.crs, _symbols(drainage, columns))


def stream_lengths(drainage: Drainage, stream: np.ndarray, numbered: np.ndarray, count: int) -> np.ndarray:
    """Metres of stream in each numbered basin: the step from each stream cell to its receiver counts where it begins."""
    total = np.zeros(count + 1)
    _add_steps(drainage.ways, drainage.metres, stream, numbered, total)
    return total[1:]


@numba.njit(cache=True, nogil=True)
def _add_steps(ways, metres, stream, numbered, total):  # type: ignore[no-untyped-def]  # numba infers the types
    for r in range(ways.shape[0]):
        for c in range(ways.shape[1]):
            k = ways[r, c]
            if stream[r, c] == 1 and k < OUT:
                total[numbered[r, c]] += span(metres, min(r, r + DR[k]), k)


def _pool_volumes(drainage: Drainage, numbered: np.ndarray, nodes: np.ndarray, pool_depth: np.ndarray) -> np.ndarray:
    """Volume that stands in the pool a basin ends in when it is full: 0 where water leaves the ground without one."""
    pools, z = drainage.pools, drainage.z
    full = np.append(np.float32(0), z.reshape(-1)[pools.cell[nodes]] + pools.depth[nodes])
    full[1:][pool_depth == 0] = -np.inf
    with np.errstate(invalid="ignore"):
        depth = np.maximum(full[numbered] - z, 0.0)
    depth[(numbered == 0) | np.isnan(depth)] = 0.0
    volume = np.bincount(numbered.ravel(), (depth * drainage.frame.row_areas[:, None]).ravel(), minlength=len(nodes) + 1)
    cubic: np.ndarray = volume[1:] * drainage.dem.metres_per_height
    return cubic


def figures(drainage: Drainage, numbered: np.ndarray, ends: np.ndarray) -> dict[str, np.ndarray]:
    """Figures of numbered basins whose water ends in the cells ``ends``: areas, heights, slopes, longest way.

    Means of heights and slopes, and so the hypsometric integral, weigh each cell by its ground area.
    """
    dem, frame, n = drainage.dem, drainage.frame, len(ends)
    inside = numbered > 0
    which, z = numbered[inside], dem.values[inside].astype(np.float64)
    area_of_row = np.broadcast_to(frame.row_areas[:, None], numbered.shape)[inside]
    cells = np.bincount(which, minlength=n + 1)[1:]
    area = np.bincount(which, area_of_row, minlength=n + 1)[1:]
    low, high = np.full(n + 1, np.inf), np.full(n + 1, -np.inf)
    np.minimum.at(low, which, z)
    np.maximum.at(high, which, z)
    mean = _weighted_mean(which, z, area_of_row, n)
    steepness = np.full(n, np.nan)
    if min(frame.shape) > 1:
        steepness = _weighted_mean(which, derive_slope(dem, "degrees").values[inside], area_of_row, n)
    lengths, drops = _longest(drainage, numbered, n)
    x = frame.x0 + (ends % frame.cols + 0.5) * frame.dx
    y = frame.y0 - (ends // frame.cols + 0.5) * frame.dy
    outlet = dem.values.reshape(-1)[ends].astype(np.float64)
    with np.errstate(divide="ignore", invalid="ignore"):
        relief = (high - low)[1:]
        gradient = drops * dem.metres_per_height / lengths
        integral = (mean - low[1:]) / relief
    return {
        "basin": np.arange(1, n + 1), "name": np.array([f"Basin {k}" for k in range(1, n + 1)], object), "cells": cells, "area_m2": area,
        "longest_path_m": lengths, "path_gradient": gradient, "mean_slope_deg": steepness, "lowest": low[1:], "highest": high[1:],
        "relief": relief, "hypsometric_integral": integral, "outlet_x": x, "outlet_y": y, "outlet_height": outlet,
    }  # fmt: skip


def _weighted_mean(which: np.ndarray, values: np.ndarray, weights: np.ndarray, n: int) -> np.ndarray:
    """Mean of values by number from 1, weighed by ground area; cells without a value are left out, NaN where there is none."""
    known = ~np.isnan(values)
    total = np.bincount(which[known], weights[known], minlength=n + 1)[1:]
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.bincount(which[known], values[known] * weights[known], minlength=n + 1)[1:] / total)


@numba.njit(cache=True, nogil=True)
def _ways_within(drainage, metres, order, numbered, longest, fall):  # type: ignore[no-untyped-def]  # numba infers the types
    """Longest way that water runs within each numbered basin, and how far it falls along it.

    ``drainage`` are ways, ground, labels and levels; ``order`` has every cell before its receiver.
    """
    ways, z, labels, level = drainage
    cols = ways.shape[1]
    length, foot = np.zeros(ways.shape), np.zeros(ways.shape, np.float32)
    for n in range(order.size - 1, -1, -1):
        r, c = order[n] // cols, order[n] % cols
        number, k = numbered[r, c], ways[r, c]
        stood = stands(z, labels, level, (r, c))
        foot[r, c] = stood
        if k < OUT and numbered[r + DR[k], c + DC[k]] == number:
            i, j = r + DR[k], c + DC[k]
            length[r, c] = length[i, j] + span(metres, min(r, i), k)
            foot[r, c] = foot[i, j]
        if number > 0:
            drop, near = stood - foot[r, c], 1e-9 * longest[number]
            # Of ways that are equally long the one that falls most counts, however the ground is turned.
            if length[r, c] > longest[number] + near or (length[r, c] >= longest[number] - near and drop > fall[number]):
                longest[number], fall[number] = length[r, c], drop


def _longest(drainage: Drainage, numbered: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    """Longest way down within each basin, in metres, and how far the water falls along it, in the unit of the ground."""
    longest, fall = np.zeros(count + 1), np.zeros(count + 1)
    pools = drainage.pools
    ground = (drainage.ways, drainage.z, pools.labels, pools.level)
    _ways_within(ground, drainage.metres, down_order(drainage), numbered, longest, fall)
    return longest[1:], fall[1:]


def _of_outline(geometry: np.ndarray, columns: dict[str, np.ndarray], frame: Frame) -> dict[str, np.ndarray]:
    perimeter = frame.lengths(geometry)
    with np.errstate(divide="ignore", invalid="ignore"):
        form = columns["area_m2"] / columns["longest_path_m"] ** 2  # Horton 1932
    return {"perimeter_m": perimeter, "form_factor": form}


def _symbols(drainage: Drainage, columns: dict[str, np.ndarray]) -> dict[str, str]:
    height = dict.fromkeys(("lowest", "highest", "relief", "outlet_height", "pool_depth"), drainage.dem.unit.symbol)
    return {n: s for n, s in {**height, "mean_slope_deg": "°", "pool_m3": "m³", "drainage_density": "km/km²"}.items() if n in columns}


def seeds_of(drainage: Drainage, geometry: Any, snap: float = 0.0) -> np.ndarray:
    """Cells of a point (moved to the largest stream within ``snap`` metres), a line or an area.

    Raises MossError when none of them has data.
    """
    frame = drainage.frame
    if geometry.geom_type == "Point":
        cell = cell_at(drainage.dem, geometry.x, geometry.y)
        return np.array([snapped(drainage, cell, snap) if snap > 0 else cell])
    burnt = rasterize([(geometry, 1)], frame.shape, fill=0, transform=affine(frame), all_touched=geometry.geom_type.endswith("LineString"))
    cells = np.flatnonzero((burnt == 1).ravel() & (drainage.ways.ravel() != NONE))
    if cells.size == 0:
        raise MossError("The shape lies outside the ground or on no-data.", "Draw it on the ground.")
    return cells


def _nested(drainage: Drainage, seeds: list[np.ndarray]) -> np.ndarray:
    """Number what drains to each set of cells, without what drains to those further upstream (int32).

    Raises MossError for two in one cell.
    """
    numbered = np.zeros(drainage.frame.shape, np.int32)
    sizes = [int(drainage.cells.reshape(-1)[s].max()) for s in seeds]
    for k in np.argsort(sizes, kind="stable"):  # the smallest first, so that larger ones leave them out
        count, *_ = mark_upstream(drainage.ways, seeds[k], k + 1, numbered)
        if count == 0:
            raise MossError("Two outlets lie in one cell.", "Move one of them.")
    return numbered


def catchments(drainage: Drainage, seeds: list[np.ndarray], nested: bool = False, names: list[str] | None = None) -> Shapes:
    """The ground that drains to each set of cells, as areas with figures; ``nested`` takes away those further upstream.

    Raises MossError for more than 2,000 of them, or two nested ones in one cell.
    """
    frame = drainage.frame
    if len(seeds) > MOST_OUTLETS:
        raise MossError(f"There are {len(seeds):,} outlets.", f"Give up to {MOST_OUTLETS:,} at a time, or divide the whole ground with basins.")
    lows = np.array([cells[np.argmin(drainage.z.reshape(-1)[cells])] for cells in seeds])
    if nested:
        numbered = _nested(drainage, seeds)
        columns = figures(drainage, numbered, lows)
        geometry = areas_of(numbered, frame, len(seeds))
    else:
        parts = []
        for k, cells in enumerate(seeds):
            numbered = np.zeros(frame.shape, np.int32)
            mark_upstream(drainage.ways, cells, 1, numbered)
            parts.append((figures(drainage, numbered, lows[k : k + 1]), areas_of(numbered, frame, 1)[0]))
        columns = {n: np.concatenate([found[n] for found, _ in parts]) for n in parts[0][0]}
        geometry = np.array([area for _, area in parts], object)
    columns |= _of_outline(geometry, columns, frame)
    columns["basin"] = np.arange(1, len(seeds) + 1)
    columns["name"] = np.array(names or [f"Catchment {k + 1}" for k in range(len(seeds))], object)
    return Shapes(geometry, columns, frame.crs, _symbols(drainage, columns))

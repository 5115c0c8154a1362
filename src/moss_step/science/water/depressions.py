"""Depressions: what a ground holds back, filling it level or with a gradient, keeping real lakes, and breaching."""

from __future__ import annotations

import heapq
from typing import NamedTuple

import numba
import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.neighbours import DC, DR, NONE, span
from moss_step.science.zones.labelling import count_labels, label_components
from moss_step.science.zones.tracing import areas_of

_FALL = 0.001
"""Fall of a cut channel from cell to cell, in the unit of the ground, where it has to leave at an edge that is not lower."""
_A_CELL = 1e-9
"""Cost of a cell without digging: of channels that cost the same the shorter one is cut."""


class Lakes(NamedTuple):
    """Depressions of a ground: number of each cell (0 for none), and by number (0 first) cells, area, depth, volume, level."""

    numbered: np.ndarray
    cells: np.ndarray
    area: np.ndarray
    depth: np.ndarray
    volume: np.ndarray
    level: np.ndarray


def find_lakes(drainage: Drainage, progress: Progress | None = None) -> Lakes:
    """Find all depressions; depths and levels in the unit of the ground, areas in m² and volumes in m³."""
    progress = progress or silent()
    progress.at(0.0, "Finding depressions")
    filled, z = drainage.filled(), drainage.z
    under = np.where(filled > z, np.uint8(1), np.uint8(255))
    numbered, owner = label_components(under, 8, 255)
    n = len(owner)
    progress.at(0.5, "Measuring depressions")
    cells, area = count_labels(numbered, drainage.frame.row_areas, n)
    depth, volume, level = _measure_lakes(numbered, filled, z, drainage.frame.row_areas, n)
    cells[0] = area[0] = 0
    return Lakes(numbered, cells, area, depth, volume * drainage.dem.metres_per_height, level + drainage.base)


@numba.njit(cache=True, nogil=True)
def _measure_lakes(numbered, filled, z, row_areas, n):  # type: ignore[no-untyped-def]  # numba infers the types
    depth, volume, level = np.zeros(n), np.zeros(n), np.zeros(n)
    for r in range(z.shape[0]):
        for c in range(z.shape[1]):
            k = numbered[r, c]
            if k > 0:
                d = float(filled[r, c]) - z[r, c]
                depth[k] = max(depth[k], d)
                volume[k] += d * row_areas[r]
                level[k] = filled[r, c]
    return depth, volume, level


def lake_shapes(drainage: Drainage, least_depth: float = 0.0, least_area: float = 0.0, progress: Progress | None = None) -> Shapes:
    """Depressions as areas, the largest volume first, with depth, area, volume, level and the point they spill at."""
    progress = progress or silent()
    lakes = find_lakes(drainage, progress.part(0.0, 0.3))
    kept = np.flatnonzero((lakes.depth >= least_depth) & (lakes.area >= least_area) & (lakes.cells > 0))
    order = kept[np.argsort(-lakes.volume[kept], kind="stable")]
    number = np.zeros(len(lakes.cells), np.int32)
    number[order] = np.arange(1, len(order) + 1)
    x, y = _spill_points(drainage, lakes)
    columns = {
        "depression": np.arange(1, len(order) + 1), "depth": lakes.depth[order], "area_m2": lakes.area[order],
        "volume_m3": lakes.volume[order], "level": lakes.level[order], "cells": lakes.cells[order],
        "spill_x": x[order], "spill_y": y[order],
    }  # fmt: skip
    geometry = areas_of(number[lakes.numbered], drainage.frame, len(order), progress.part(0.4, 1.0)) if len(order) else np.empty(0, object)
    unit = drainage.dem.unit.symbol
    return Shapes(geometry, columns, drainage.frame.crs, {"depth": unit, "level": unit, "volume_m3": "m³"})


def _spill_points(drainage: Drainage, lakes: Lakes) -> tuple[np.ndarray, np.ndarray]:
    """Where each depression spills: the first cell on its way out that is not under its water."""
    cell = _spill_cells(drainage.ways, lakes.numbered, len(lakes.cells))
    frame = drainage.frame
    return frame.x0 + (cell % frame.cols + 0.5) * frame.dx, frame.y0 - (cell // frame.cols + 0.5) * frame.dy


@numba.njit(cache=True, nogil=True)
def _spill_cells(ways, numbered, n):  # type: ignore[no-untyped-def]  # numba infers the types
    rows, cols = ways.shape
    found = np.full(n, -1)
    for r in range(rows):
        for c in range(cols):
            k = numbered[r, c]
            if k > 0 and found[k] < 0:
                i, j = r, c
                while numbered[i, j] == k and ways[i, j] < 8:
                    w = ways[i, j]
                    i, j = i + DR[w], j + DC[w]
                found[k] = i * cols + j
    return found


def filled_surface(
    drainage: Drainage, gradient: float = 0.0, keep_depth: float | None = None, keep_area: float | None = None,
    progress: Progress | None = None,
) -> Surface:  # fmt: skip
    """The ground with depressions filled: level, or rising by ``gradient`` (metres a metre) from where they spill.

    Depressions of at least ``keep_depth`` (in the ground's unit) or ``keep_area`` (m²) stay as they are.
    """
    dem = drainage.dem
    progress = progress or silent()
    if gradient > 0:
        metres = drainage.metres / np.float32(dem.metres_per_height)
        with progress.pulse(dem.values.size, 0.0, 0.8, "Filling with a gradient") as pulse:
            out: np.ndarray = _fill_with_gradient(drainage.z, drainage.ways, metres, gradient, pulse)
    else:
        out = drainage.filled()
    if keep_depth is not None or keep_area is not None:
        lakes = find_lakes(drainage, progress.part(0.8, 1.0))
        kept = np.zeros(len(lakes.cells), bool)
        if keep_depth is not None:
            kept |= lakes.depth >= keep_depth
        if keep_area is not None:
            kept |= lakes.area >= keep_area
        kept[0] = False
        out = np.where(kept[lakes.numbered], drainage.z, out)
    return _raised(drainage, out)


def _raised(drainage: Drainage, z: np.ndarray) -> Surface:
    """A surface of heights above the drainage's base: in double precision where the ground is."""
    dem = drainage.dem
    values = z if dem.values.dtype == np.float32 else z.astype(np.float64) + drainage.base
    return Surface(values, dem.frame, dem.unit, dem.quantity)


@numba.njit(cache=True, nogil=True)
def _fill_with_gradient(z, ways, metres, gradient, pulse):  # type: ignore[no-untyped-def]  # numba infers the types
    """Priority flood with a least rise a metre (Barnes, Lehman & Mulla 2014, algorithm 3, with a gradient for its step)."""
    rows, cols = z.shape
    out, done = np.full(z.shape, np.float32(np.inf)), np.zeros(z.shape, np.bool_)
    heap = [(np.float32(0.0), np.int64(0)) for _ in range(0)]
    for r in range(rows):
        for c in range(cols):
            if ways[r, c] == NONE:
                out[r, c] = np.nan
                continue
            edge = r == 0 or c == 0 or r == rows - 1 or c == cols - 1
            for k in range(8):
                edge = edge or ways[r + DR[k], c + DC[k]] == NONE
            if edge:
                heapq.heappush(heap, (z[r, c], np.int64(r * cols + c)))
                out[r, c] = z[r, c]
    while len(heap) > 0:
        height, cell = heapq.heappop(heap)
        r, c = cell // cols, cell % cols
        if done[r, c]:
            continue
        done[r, c] = True
        pulse[0] += 1
        if pulse[1]:
            break
        for k in range(8):
            i, j = r + DR[k], c + DC[k]
            if i < 0 or j < 0 or i >= rows or j >= cols or done[i, j] or ways[i, j] == NONE:
                continue
            wanted = max(z[i, j], height + np.float32(gradient) * span(metres, min(i, r), k))
            if wanted < out[i, j]:
                out[i, j] = wanted
                heapq.heappush(heap, (wanted, np.int64(i * cols + j)))
    return out


def breached_surface(drainage: Drainage, most_cells: int, progress: Progress | None = None) -> tuple[Surface, int, int]:
    """The ground with a channel cut from each pit to lower ground, where one of up to ``most_cells`` cells is found.

    The channel of least digging, the volume of each cell above the height of the pit, by Dijkstra's method (Dijkstra 1959,
    Numerische Mathematik 1): Lindsay & Dhun 2015, Modelling surface drainage patterns in altered landscapes using LiDAR, IJGIS 29. A
    cell is left again by a dearer way when that has fewer cells, so that the channel is the cheapest of those short enough. Pits are taken
    from the highest down. Gives the surface, the pits breached and those left.
    """
    dem, pools, progress = drainage.dem, drainage.pools, progress or silent()
    out = drainage.z.copy()
    pits = np.flatnonzero((pools.depth > 0) & (pools.cell >= 0))
    pits = pits[np.argsort(-out.reshape(-1)[pools.cell[pits]], kind="stable")]
    done = 0
    work = np.zeros(out.shape, np.int32), np.zeros(out.shape, np.int32)
    for first, last in progress.blocks(len(pits), 256, "Cutting channels"):
        done += int(_breach(out, drainage.ways, dem.frame.row_areas, pools.cell[pits[first:last]], first, most_cells, work))
    return _raised(drainage, out), done, len(pits) - done


@numba.njit(cache=True, nogil=True)
def _leaves(z, ways, r, c):  # type: ignore[no-untyped-def]  # numba infers the types
    """Whether a cell lies at the edge of the ground."""
    rows, cols = z.shape
    if r == 0 or c == 0 or r == rows - 1 or c == cols - 1:
        return True
    beside = False
    for k in range(8):
        beside |= ways[r + DR[k], c + DC[k]] == NONE
    return beside


@numba.njit(cache=True, nogil=True)
def _breach(z, ways, row_areas, pits, before, most_cells, work):  # type: ignore[no-untyped-def]  # numba infers the types
    """Cut a channel from each of some pits; ``work`` are the pit that each cell was settled for last, and the fewest cells to it then.

    A label is one way to a cell: its cell, the label it came from, and the number of cells. Labels are settled in order of digging, and
    one that has no fewer cells than an earlier one of the same cell is no use. Of ways that take the same digging the lower end counts,
    wherever it lies.
    """
    (rows, cols), (stamp, fewest), done = z.shape, work, 0
    cells, origin, steps = np.empty(4096, np.int64), np.empty(4096, np.int64), np.empty(4096, np.int32)
    for n in range(pits.size):
        start, found, mark = pits[n], np.int64(-1), before + n + 1
        low = z[start // cols, start % cols]
        cells[0], origin[0], steps[0], count = start, -1, 0, 1
        heap = [(0.0, low, np.int64(0))]
        while len(heap) > 0:
            cost, _, label = heapq.heappop(heap)
            cell, far = cells[label], steps[label]
            r, c = cell // cols, cell % cols
            if stamp[r, c] == mark and fewest[r, c] <= far:
                continue
            stamp[r, c], fewest[r, c] = mark, far
            if cell != start and (z[r, c] < low or _leaves(z, ways, r, c)):
                found = label
                break
            if far >= most_cells:
                continue
            for k in range(8):
                i, j = r + DR[k], c + DC[k]
                if i < 0 or j < 0 or i >= rows or j >= cols or ways[i, j] == NONE:
                    continue
                if stamp[i, j] == mark and fewest[i, j] <= far + 1:
                    continue
                if count == cells.size:
                    cells, origin = np.append(cells, cells), np.append(origin, origin)
                    steps = np.append(steps, steps)
                cells[count], origin[count], steps[count] = i * cols + j, label, far + 1
                dug = max(float(z[i, j]) - low, 0.0) * row_areas[i]
                heapq.heappush(heap, (cost + dug + _A_CELL, z[i, j], np.int64(count)))
                count += 1
        if found < 0:
            continue
        done += 1
        _cut(z, cells, origin, found, low)
    return done


@numba.njit(cache=True, nogil=True)
def _cut(z, cells, origin, label, low):  # type: ignore[no-untyped-def]  # numba infers the types
    """Lower the channel from its end up to the pit so that it falls all the way."""
    cols, count, up = z.shape[1], 0, label
    while origin[up] >= 0:
        up = origin[up]
        count += 1
    r, c = cells[label] // cols, cells[label] % cols
    floor = min(z[r, c], low)
    if z[r, c] >= low:
        floor = low - np.float32(_FALL * count)
        z[r, c] = floor
    for n in range(1, count + 1):
        label = origin[label]
        r, c = cells[label] // cols, cells[label] % cols
        z[r, c] = min(z[r, c], np.float32(floor + (low - floor) * n / count))

"""Depressions: what a ground holds back, filling it level or with a gradient, keeping real lakes, and breaching."""

from __future__ import annotations

import heapq
from typing import NamedTuple

import numba
import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.water.basins import areas_of
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.neighbours import DC, DR, NONE, span
from moss_step.science.zones.labelling import count_labels, label_components

_FALL = 0.001
"""Fall of a cut channel from cell to cell, in the unit of the ground, where it has to leave at an edge that is not lower."""


class Lakes(NamedTuple):
    """Depressions of a ground: number of each cell (0 for none), and by number (0 first) cells, area, depth, volume, level."""

    numbered: np.ndarray
    cells: np.ndarray
    area: np.ndarray
    depth: np.ndarray
    volume: np.ndarray
    level: np.ndarray


def find_lakes(drainage: Drainage) -> Lakes:
    """Find all depressions; depths and levels in the unit of the ground, areas in m² and volumes in m³."""
    filled, z = drainage.filled(), drainage.dem.values
    under = np.where(filled > z, np.uint8(1), np.uint8(255))
    numbered, owner = label_components(under, 8, 255)
    n = len(owner)
    cells, area = count_labels(numbered, drainage.frame.row_areas, n)
    depth, volume, level = _measure_lakes(numbered, filled, z, drainage.frame.row_areas, n)
    cells[0] = area[0] = 0
    return Lakes(numbered, cells, area, depth, volume * drainage.dem.metres_per_height, level)


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


def lake_shapes(drainage: Drainage, least_depth: float = 0.0, least_area: float = 0.0) -> Shapes:
    """Depressions as areas, the largest volume first, with depth, area, volume, level and the point they spill at."""
    lakes = find_lakes(drainage)
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
    geometry = areas_of(number[lakes.numbered], drainage.frame, len(order)) if len(order) else np.empty(0, object)
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
    if gradient > 0:
        (progress or silent()).at(0.5, "Filling with a gradient")
        metres = drainage.metres / np.float32(dem.metres_per_height)
        out: np.ndarray = _fill_with_gradient(dem.values, drainage.ways, metres, gradient)
    else:
        out = drainage.filled()
    if keep_depth is not None or keep_area is not None:
        lakes = find_lakes(drainage)
        kept = np.zeros(len(lakes.cells), bool)
        if keep_depth is not None:
            kept |= lakes.depth >= keep_depth
        if keep_area is not None:
            kept |= lakes.area >= keep_area
        kept[0] = False
        out = np.where(kept[lakes.numbered], dem.values, out)
    return Surface(out, dem.frame, dem.unit, dem.quantity)


@numba.njit(cache=True, nogil=True)
def _fill_with_gradient(z, ways, metres, gradient):  # type: ignore[no-untyped-def]  # numba infers the types
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

    The channel of least digging, by Dijkstra's method over the depth to cut: Lindsay & Dhun 2015, Modelling surface drainage
    patterns in altered landscapes using LiDAR, IJGIS 29. Gives the surface, the pits breached and those left.
    """
    dem, pools = drainage.dem, drainage.pools
    (progress or silent()).at(0.5, "Cutting channels")
    out = dem.values.copy()
    pits = np.flatnonzero((pools.depth > 0) & (pools.cell >= 0))
    pits = pits[np.argsort(-dem.values.reshape(-1)[pools.cell[pits]], kind="stable")]
    metres = drainage.metres / np.float32(dem.metres_per_height)
    done = _breach(out, drainage.ways, metres, pools.cell[pits], most_cells)
    return Surface(out, dem.frame, dem.unit, dem.quantity), int(done), len(pits) - int(done)


@numba.njit(cache=True, nogil=True)
def _breach(z, ways, metres, pits, most_cells):  # type: ignore[no-untyped-def]  # numba infers the types
    rows, cols = z.shape
    stamp, back, steps = np.zeros(z.shape, np.int32), np.zeros(z.shape, np.int8), np.zeros(z.shape, np.int32)
    done = 0
    for n in range(pits.size):
        start, end = pits[n], np.int64(-1)
        low = z[start // cols, start % cols]
        heap = [(0.0, np.int64(start))]
        stamp[start // cols, start % cols] = n + 1
        steps[start // cols, start % cols] = 0
        while len(heap) > 0:
            cost, cell = heapq.heappop(heap)
            r, c = cell // cols, cell % cols
            edge = r == 0 or c == 0 or r == rows - 1 or c == cols - 1
            if cell != start and (z[r, c] < low or edge):
                end = cell
                break
            if steps[r, c] >= most_cells:
                continue
            for k in range(8):
                i, j = r + DR[k], c + DC[k]
                if i < 0 or j < 0 or i >= rows or j >= cols or stamp[i, j] == n + 1:
                    continue
                if ways[i, j] == NONE:
                    if cell != start:
                        end = cell
                    continue
                stamp[i, j], back[i, j], steps[i, j] = n + 1, k, steps[r, c] + 1
                heapq.heappush(heap, (cost + max(float(z[i, j]) - low, 0.0) * span(metres, min(i, r), k) + 1e-9, np.int64(i * cols + j)))
            if end >= 0:
                break
        if end < 0:
            continue
        done += 1
        _cut(z, back, start, end, low)
    return done


@numba.njit(cache=True, nogil=True)
def _cut(z, back, start, end, low):  # type: ignore[no-untyped-def]  # numba infers the types
    """Lower the channel from its end up to the pit so that it falls all the way."""
    cols = z.shape[1]
    r, c, count = end // cols, end % cols, 0
    while r * cols + c != start:
        k = back[r, c]
        r, c = r - DR[k], c - DC[k]
        count += 1
    r, c = end // cols, end % cols
    floor = min(z[r, c], low)
    if z[r, c] >= low:
        z[r, c] = low - np.float32(_FALL * count)
        floor = z[r, c]
    n = 0
    while r * cols + c != start:
        k = back[r, c]
        r, c = r - DR[k], c - DC[k]
        n += 1
        wanted = np.float32(floor + (low - floor) * n / count)
        z[r, c] = min(z[r, c], wanted)

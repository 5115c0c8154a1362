"""A small landscape-evolution model: uplift, stream-power incision and hillslope diffusion.

Incision after the implicit, linear-time scheme of Braun & Willett 2013 (Geomorphology 180-181) with m = 0.5, n = 1;
routing by a priority flood (Barnes, Lehman & Mulla 2014), so that everything drains. Only the four basic operations
and square roots are used, in one thread, so that the result is the same bit for bit on every machine.
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass

import numba
import numpy as np

_DR = (-1, -1, -1, 0, 0, 1, 1, 1)
_DC = (-1, 0, 1, -1, 1, -1, 0, 1)


@numba.njit(cache=True, nogil=True)
def _route(z: np.ndarray, outlet: np.ndarray, order: np.ndarray, receiver: np.ndarray) -> None:
    """Fill ``z`` so that it drains to the outlets; give cells in ascending order and each one's receiver."""
    rows, cols = z.shape
    seen = np.zeros(rows * cols, np.bool_)
    heap = [(z[0, 0], 0) for _ in range(0)]
    flat = z.ravel()
    for i in range(rows * cols):
        receiver[i] = i
        if outlet[i]:
            heapq.heappush(heap, (flat[i], i))
            seen[i] = True
    n = 0
    while heap:
        height, i = heapq.heappop(heap)
        order[n] = i
        n += 1
        r, c = i // cols, i % cols
        for k in range(8):
            rr, cc = r + _DR[k], c + _DC[k]
            if 0 <= rr < rows and 0 <= cc < cols and not seen[rr * cols + cc]:
                j = rr * cols + cc
                seen[j] = True
                receiver[j] = i
                flat[j] = max(flat[j], height + 1e-4)
                heapq.heappush(heap, (flat[j], j))
    for i in range(rows * cols):
        if outlet[i]:
            continue
        r, c = i // cols, i % cols
        best = 0.0
        for k in range(8):
            rr, cc = r + _DR[k], c + _DC[k]
            if 0 <= rr < rows and 0 <= cc < cols:
                fall = flat[i] - z[rr, cc]
                if _DR[k] != 0 and _DC[k] != 0:
                    fall *= 0.7071067811865476
                if fall > best:
                    best = fall
                    receiver[i] = rr * cols + cc


@numba.njit(cache=True, nogil=True)
def _incise(z: np.ndarray, outlet: np.ndarray, order: np.ndarray, receiver: np.ndarray, cell: float, rate: float, uplift: np.ndarray) -> None:
    """Uplift, then lower each cell towards its receiver by the power of the area that drains through it."""
    rows, cols = z.shape
    flat, lift = z.ravel(), uplift.ravel()
    area = np.full(rows * cols, cell * cell)
    for n in range(rows * cols - 1, -1, -1):
        i = order[n]
        if receiver[i] != i:
            area[receiver[i]] += area[i]
    for n in range(rows * cols):
        i = order[n]
        if outlet[i]:
            continue
        j = receiver[i]
        step = 1.0 if abs(i - j) == 1 or abs(i - j) == cols else 1.4142135623730951
        f = rate * np.sqrt(area[i]) / (cell * step)
        flat[i] = (flat[i] + lift[i] + f * flat[j]) / (1.0 + f)


@numba.njit(cache=True, nogil=True)
def _diffuse(z: np.ndarray, outlet: np.ndarray, share: float, times: int) -> None:
    """Creep of soil: explicit diffusion, closed edges; ``share`` = diffusivity x time / cell area, below 0.25."""
    rows, cols = z.shape
    for _ in range(times):
        old = z.copy()
        for r in range(rows):
            for c in range(cols):
                if outlet[r * cols + c]:
                    continue
                here = old[r, c]
                change = 0.0
                if r > 0:
                    change += old[r - 1, c] - here
                if r + 1 < rows:
                    change += old[r + 1, c] - here
                if c > 0:
                    change += old[r, c - 1] - here
                if c + 1 < cols:
                    change += old[r, c + 1] - here
                z[r, c] = here + share * change


@dataclass(frozen=True)
class Pace:
    """How one stage of the evolution runs: cell size (m), number of steps, years a step, diffusion passes a step."""

    cell: float
    steps: int
    years: float
    passes: int


def evolve(z: np.ndarray, outlet: np.ndarray, uplift: np.ndarray, pace: Pace, erodibility: float, diffusivity: float) -> np.ndarray:
    """Run one stage on heights in metres (float64, rows x cols) and give the new heights.

    ``outlet`` marks the cells of fixed height, ``uplift`` is in metres a year, ``erodibility`` per year,
    ``diffusivity`` in square metres a year.
    """
    z = np.ascontiguousarray(z, np.float64).copy()
    fixed = np.ascontiguousarray(outlet).ravel()
    order, receiver = np.empty(z.size, np.int64), np.empty(z.size, np.int64)
    share = diffusivity * pace.years / pace.passes / pace.cell**2
    for _ in range(pace.steps):
        _route(z, fixed, order, receiver)
        _incise(z, fixed, order, receiver, pace.cell, erodibility * pace.years, uplift * pace.years)
        _diffuse(z, fixed, share, pace.passes)
    _route(z, fixed, order, receiver)
    return z


def refine(z: np.ndarray) -> np.ndarray:
    """Double the resolution by bilinear weights 9-3-3-1, edges repeated."""
    p = np.pad(z, 1, mode="edge")
    out = np.empty((z.shape[0] * 2, z.shape[1] * 2))
    for r in (0, 1):
        for c in (0, 1):
            near = p[1:-1, 1:-1]
            up = p[2 * r : p.shape[0] - 2 + 2 * r, 1:-1]
            side = p[1:-1, 2 * c : p.shape[1] - 2 + 2 * c]
            corner = p[2 * r : p.shape[0] - 2 + 2 * r, 2 * c : p.shape[1] - 2 + 2 * c]
            out[r::2, c::2] = (9.0 * near + 3.0 * up + 3.0 * side + corner) * 0.0625
    return out


def noise(rng: np.random.Generator, shape: tuple[int, int], start: int) -> np.ndarray:
    """Smooth noise from about -1 to 1: uniform draws on ``start`` squared cells, doubled until they cover ``shape``."""
    grid = rng.random((start, start)) * 2.0 - 1.0
    while min(grid.shape) < max(shape):
        grid = refine(grid)
    return grid[: shape[0], : shape[1]]

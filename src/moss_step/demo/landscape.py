"""A small landscape-evolution model: uplift, stream-power incision and hillslope diffusion.

Incision after the implicit, linear-time scheme of Braun & Willett 2013 (Geomorphology 180-181) with m = 0.5,
n = 1; routing by a priority flood (Barnes, Lehman & Mulla 2014), so that everything drains. Only the four
basic operations and square roots are used, in one thread, so that the result is the same bit for bit on every
machine.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from moss_step.demo.kernels.landscape import diffuse, incise, route


@dataclass(frozen=True)
class Pace:
    """How one stage of the evolution runs: cell size (m), number of steps, years a step, diffusion passes a
    step.
    """

    cell: float
    steps: int
    years: float
    passes: int


def evolve(
    z: np.ndarray, outlet: np.ndarray, uplift: np.ndarray, pace: Pace, erodibility: float, diffusivity: float
) -> np.ndarray:
    """Run one stage on heights in metres (float64, rows x cols) and give the new heights.

    ``outlet`` marks the cells of fixed height, ``uplift`` is in metres a year, ``erodibility`` per year,
    ``diffusivity`` in square metres a year.
    """
    z = np.ascontiguousarray(z, np.float64).copy()
    fixed = np.ascontiguousarray(outlet).ravel()
    order, receiver = np.empty(z.size, np.int64), np.empty(z.size, np.int64)
    share = diffusivity * pace.years / pace.passes / pace.cell**2
    for _ in range(pace.steps):
        route(z, fixed, order, receiver)
        incise(z, fixed, order, receiver, pace.cell, erodibility * pace.years, uplift * pace.years)
        diffuse(z, fixed, share, pace.passes)
    route(z, fixed, order, receiver)
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
    """Smooth noise from about -1 to 1: uniform draws on ``start`` squared cells, doubled until they cover
    ``shape``.
    """
    grid = rng.random((start, start)) * 2.0 - 1.0
    while min(grid.shape) < max(shape):
        grid = refine(grid)
    return grid[: shape[0], : shape[1]]

"""Kernels: a small landscape-evolution model: uplift, stream-power incision and hillslope diffusion."""

from __future__ import annotations

import heapq

import numba
import numpy as np

DR = (-1, -1, -1, 0, 0, 1, 1, 1)
DC = (-1, 0, 1, -1, 1, -1, 0, 1)


@numba.njit(cache=True, nogil=True)
def route(z: np.ndarray, outlet: np.ndarray, order: np.ndarray, receiver: np.ndarray) -> None:
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
            rr, cc = r + DR[k], c + DC[k]
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
            rr, cc = r + DR[k], c + DC[k]
            if 0 <= rr < rows and 0 <= cc < cols:
                fall = flat[i] - z[rr, cc]
                if DR[k] != 0 and DC[k] != 0:
                    fall *= 0.7071067811865476
                if fall > best:
                    best = fall
                    receiver[i] = rr * cols + cc


@numba.njit(cache=True, nogil=True)
def incise(
    z: np.ndarray,
    outlet: np.ndarray,
    order: np.ndarray,
    receiver: np.ndarray,
    cell: float,
    rate: float,
    uplift: np.ndarray,
) -> None:
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
def diffuse(z: np.ndarray, outlet: np.ndarray, share: float, times: int) -> None:
    """Creep of soil: explicit diffusion, closed edges; ``share`` = diffusivity x time / cell area, below
    0.25.
    """
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

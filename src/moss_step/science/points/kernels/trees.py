"""Kernels: tops of trees on a grid of heights, and the crowns that belong to them."""

from __future__ import annotations

import heapq

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def find_tops(height, sought, wide, high, least, base, growth, tops):
    """Mark cells that no other within the window is higher than; its diameter is ``base + growth * h *
    h`` for a cell that is ``h`` high. Of equal cells the first by rows is the top. ``sought`` are the
    heights that are compared, ``wide`` and ``high`` the sides of a cell; all in metres.
    """
    rows, cols = height.shape
    for row in numba.prange(rows):
        r = np.int64(row)
        for c in range(cols):
            at = sought[r, c]
            if not height[r, c] >= least or at != at:
                continue
            reach = 0.5 * (base + growth * height[r, c] * height[r, c])
            down = max(int(reach / high), 1)  # a cell is always held against those beside it
            best = True
            for i in range(max(r - down, 0), min(r + down, rows - 1) + 1):
                left = np.sqrt(max(reach * reach - ((i - r) * high) ** 2, 0.0))
                side = max(int(left / wide), 1)
                for j in range(max(c - side, 0), min(c + side, cols - 1) + 1):
                    other = sought[i, j]
                    if other > at or (other == at and (i < r or (i == r and j < c))):
                        best = False
                        break
                if not best:
                    break
            tops[r, c] = best


@numba.njit(cache=True, nogil=True)
def grow_crowns(height, number, bound):
    """Let numbered cells grow over their neighbours from the highest down (Meyer 1994): each takes the number
    of the crown that reaches it first, and stays free below the ``bound`` of that crown.
    """
    rows, cols = height.shape
    heap = [(0.0, np.int64(0), np.int64(0))]
    heap.pop()
    age = np.int64(0)
    for r in range(rows):
        for c in range(cols):
            if number[r, c] > 0:
                heapq.heappush(heap, (-height[r, c], age, np.int64(r * cols + c)))
                age += 1
    while len(heap) > 0:
        _, _, cell = heapq.heappop(heap)
        r, c = cell // cols, cell % cols
        own = number[r, c]
        for k in range(4):
            i, j = r + (k == 0) - (k == 1), c + (k == 2) - (k == 3)
            if 0 <= i < rows and 0 <= j < cols and number[i, j] == 0 and height[i, j] >= bound[own]:
                number[i, j] = own
                heapq.heappush(heap, (-height[i, j], age, np.int64(i * cols + j)))
                age += 1

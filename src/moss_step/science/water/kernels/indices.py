"""Kernels: indices of water on a ground: wetness, stream power, sediment transport, length-slope, and height
above the nearest drain.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, OUT


@numba.njit(cache=True, nogil=True)
def down_to(z, course, stream, drain, out, pulse):
    """Height of each cell above the stream cell that its water first meets; NaN where it meets none."""
    ways, order, cols = course.ways, course.order, z.shape[1]
    for n in range(order.size - 1, -1, -1):
        if n & 0xFFFF == 0:
            pulse[0] += 0x10000
            if pulse[1]:
                return
        r, c = order[n] // cols, order[n] % cols
        k = ways[r, c]
        drain[r, c] = np.nan
        if stream[r, c] == 1:
            drain[r, c] = z[r, c]
        elif k < OUT:
            drain[r, c] = drain[r + DR[k], c + DC[k]]
        out[r, c] = (
            max(z[r, c] - drain[r, c], np.float32(0.0)) if drain[r, c] == drain[r, c] else np.float32(np.nan)
        )

"""Colouring the plan's pixels straight from the grids: one pass a layer, rows in parallel.

A picture is a uint32 array of 0xAARRGGBB. Two of its bytes are worked on at once: ``RB`` holds red and blue,
with room above each for a product with up to 256, and ``G`` green.
"""

from __future__ import annotations

import numpy as np

from moss_step.scene.kernels.paint import Grid, paint_classes, paint_ranges, paint_surface, shade_picture


def rehearse(grid: Grid) -> None:
    """Have the kernels that draw a grid compiled, or taken from their cache, here and not in the window's
    thread; nothing is painted.
    """
    nowhere, picture, strength = np.full(1, -1, np.int32), np.zeros((1, 1), np.uint32), np.uint32(0)
    colors, drawn = np.zeros(257, np.uint32), np.zeros(256, np.bool_)
    if grid.dtype == np.uint8:
        paint_classes(grid, nowhere, nowhere, colors, drawn, strength, picture)
        return
    some, zero = np.zeros(1, np.float32), np.float32(0.0)
    paint_surface(grid, nowhere, nowhere, colors, 0, zero, zero, strength, zero, picture)
    paint_ranges(grid, nowhere, nowhere, some, np.zeros(3, np.uint8), colors, drawn, strength, picture)
    shade_picture(grid, nowhere, nowhere, some, some, np.zeros(3, np.float32), zero, picture)

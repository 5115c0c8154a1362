"""Colouring the plan's pixels straight from the grids: one pass a layer, rows in parallel.

A picture is a uint32 array of 0xAARRGGBB. Two of its bytes are worked on at once: ``RB`` holds red and blue,
with room above each for a product with up to 256, and ``G`` green.
"""

from __future__ import annotations

import numpy as np

from moss_step.scene.kernels.paint import CODES, RAMP, RANGES, Scale, paint_grid, shade_picture

_NONE, _NO_BOUNDS, _NO_LOOKUP = np.float32(np.nan), np.empty(0, np.float32), np.empty(0, np.uint8)
ALL_DRAWN = np.ones(257, np.bool_)
"""Every place of a ramp is drawn."""


def by_codes() -> Scale:
    """Colours of a class map: each code has its own."""
    return Scale(CODES, _NONE, _NONE, 0, _NONE, _NO_BOUNDS, _NO_LOOKUP)


def by_ramp(low: float, high: float, below: int, clear: float) -> Scale:
    """Colours along a ramp from a value to another; ``clear`` is a value that is not drawn, NaN for none."""
    return Scale(
        RAMP,
        np.float32(low),
        np.float32(255.999 / (high - low)),
        below,
        np.float32(clear),
        _NO_BOUNDS,
        _NO_LOOKUP,
    )


def by_ranges(bounds: np.ndarray, lookup: np.ndarray) -> Scale:
    """Colours of classes by their bounds, without classifying first: for bounds that are being dragged."""
    return Scale(RANGES, _NONE, _NONE, 0, _NONE, bounds, lookup)


def rehearse(grid: np.ndarray) -> None:
    """Have the kernels that draw a grid compiled, or taken from their cache, here and not in the window's
    thread; nothing is painted.
    """
    nowhere, picture, strength = np.full(1, -1, np.int32), np.zeros((1, 1), np.uint32), np.uint32(0)
    paint_grid(grid, nowhere, nowhere, by_codes(), np.zeros(257, np.uint32), ALL_DRAWN, strength, picture)
    if grid.dtype != np.uint8:
        some = np.zeros(1, np.float32)
        shade_picture(grid, nowhere, nowhere, some, some, np.zeros(3, np.float32), np.float32(0.0), picture)

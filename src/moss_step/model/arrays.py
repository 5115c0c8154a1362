"""Arrays as kernels take them."""

from __future__ import annotations

import math

import numpy as np

from moss_step.model.mapped import blocks_of, compact, let_go, row_by_row


def read_only(values: np.ndarray, dtype: np.dtype | None = None) -> np.ndarray:
    """Values row by row in a native type (their own where none is given), that cannot be written into, so
    that kernels which only read are compiled once: a view where they are so already, else a copy.

    The array that is given stays as it is, and may be written into.
    """
    view = compact(values, values.dtype if dtype is None else dtype).view()
    view.flags.writeable = False
    return view


def blurred(values: np.ndarray) -> bool:
    """Whether single precision cannot hold a thousandth of the relief of some float64 values."""
    low, high, held = math.inf, -math.inf, True
    for rows in blocks_of(values):
        finite = values[rows][np.isfinite(values[rows])]
        if finite.size:
            low, high = min(low, float(finite.min())), max(high, float(finite.max()))
            with np.errstate(over="ignore"):
                held = held and np.array_equal(finite.astype(np.float32), finite)
        let_go(values)
    if held or not max(abs(low), abs(high)) < np.finfo(np.float32).max:
        return False
    step = float(np.spacing(np.float32(max(abs(low), abs(high)))))
    return high > low and step > (high - low) / 1000.0


def as_short(values: np.ndarray) -> np.ndarray:
    """Values in single precision, or in double where single would blur their relief."""
    return values if blurred(values) else row_by_row(lambda some: some, np.float32, values)


def falling(values: np.ndarray) -> np.ndarray:
    """Places from the largest value to the smallest. Sums of the same parts in another order differ in their
    last digits, and count as equal: these stay in their order.
    """
    near: np.ndarray = values.astype(np.float64).view(np.int64) + (1 << 15) >> 16
    return np.argsort(-near, kind="stable")

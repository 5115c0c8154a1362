"""Arrays as kernels take them."""

from __future__ import annotations

import numpy as np


def read_only(values: np.ndarray, dtype: np.dtype) -> np.ndarray:
    """Values row by row in a native type, that cannot be written into: a view where they are so already, else
    a copy.

    The array that is given stays as it is, and may be written into.
    """
    view = np.ascontiguousarray(values, dtype).view()
    view.flags.writeable = False
    return view


def blurred(values: np.ndarray) -> bool:
    """Whether single precision cannot hold a thousandth of the relief of some float64 values."""
    finite = values[np.isfinite(values)]
    if finite.size == 0 or not np.abs(finite).max() < np.finfo(np.float32).max:
        return False
    low, high = float(finite.min()), float(finite.max())
    step = float(np.spacing(np.float32(max(abs(low), abs(high)))))
    return (
        high > low and step > (high - low) / 1000.0 and not np.array_equal(finite.astype(np.float32), finite)
    )


def as_short(values: np.ndarray) -> np.ndarray:
    """Values in single precision, or in double where single would blur their relief."""
    return values if blurred(values) else values.astype(np.float32)


def falling(values: np.ndarray) -> np.ndarray:
    """Places from the largest value to the smallest. Sums of the same parts in another order differ in their
    last digits, and count as equal: these stay in their order.
    """
    near: np.ndarray = values.astype(np.float64).view(np.int64) + (1 << 15) >> 16
    return np.argsort(-near, kind="stable")

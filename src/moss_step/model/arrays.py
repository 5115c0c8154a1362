"""Arrays as kernels take them."""

from __future__ import annotations

import math
from dataclasses import dataclass

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


@dataclass(frozen=True)
class Relief:
    """The lowest and highest of some float64 values (infinite, turned round, for none), and whether single
    precision holds all of them as they are.
    """

    low: float = math.inf
    high: float = -math.inf
    held: bool = True

    def __or__(self, other: Relief) -> Relief:
        """That of both together."""
        return Relief(min(self.low, other.low), max(self.high, other.high), self.held and other.held)

    @property
    def blurred(self) -> bool:
        """Whether single precision cannot hold a thousandth of it."""
        most = max(abs(self.low), abs(self.high))
        if self.held or not most < np.finfo(np.float32).max:
            return False
        step = float(np.spacing(np.float32(most)))
        return self.high > self.low and step > (self.high - self.low) / 1000.0


def relief_of(values: np.ndarray) -> Relief:
    """The relief of the finite ones of some values."""
    finite = values[np.isfinite(values)]
    if not finite.size:
        return Relief()
    with np.errstate(over="ignore"):
        held = np.array_equal(finite.astype(np.float32), finite)
    return Relief(float(finite.min()), float(finite.max()), held)


def blurred(values: np.ndarray) -> bool:
    """Whether single precision cannot hold a thousandth of the relief of some float64 values."""
    whole = Relief()
    for rows in blocks_of(values):
        whole |= relief_of(values[rows])
        let_go(values)
    return whole.blurred


def as_short(values: np.ndarray) -> np.ndarray:
    """Values in single precision, or in double where single would blur their relief."""
    return values if blurred(values) else row_by_row(lambda some: some, np.float32, values)


def falling(values: np.ndarray) -> np.ndarray:
    """Places from the largest value to the smallest. Sums of the same parts in another order differ in their
    last digits, and count as equal: these stay in their order.
    """
    near: np.ndarray = values.astype(np.float64).view(np.int64) + (1 << 15) >> 16
    return np.argsort(-near, kind="stable")

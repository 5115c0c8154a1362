"""Count, range and mean of a grid in one pass."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from moss_step.model.kernels.summary import summarise_cells
from moss_step.model.mapped import blocks_of

_CELLS = 16_000_000
"""Cells of double precision that are summed up at a time."""


@dataclass(frozen=True)
class Summary:
    """Number of valid cells, lowest, highest and mean value (NaN when there is none)."""

    count: int
    low: float
    high: float
    mean: float


def together(parts: Sequence[Summary]) -> Summary:
    """The summary of a grid from those of its parts."""
    known = [p for p in parts if p.count]
    count = sum(p.count for p in known)
    if count == 0:
        return Summary(0, np.nan, np.nan, np.nan)
    total = sum(p.mean * p.count for p in known)
    return Summary(count, min(p.low for p in known), max(p.high for p in known), total / count)


def summarise(values: np.ndarray) -> Summary:
    """Summarise a grid, leaving NaN out; the mean is accumulated in float64."""
    if values.dtype != np.float32:
        return together([_known(values[rows]) for rows in blocks_of(values, _CELLS)])
    blocks = min(16, values.shape[0])
    lows, highs = np.empty(blocks, np.int32), np.empty(blocks, np.int32)
    sums, counts = np.empty(blocks), np.empty(blocks, np.int64)
    summarise_cells(values, values.view(np.int32), lows, highs, sums, counts, blocks)
    n = int(counts.sum())
    if n == 0:
        return Summary(0, np.nan, np.nan, np.nan)
    low, high = (float(v) + 0.0 for v in _ordered(np.array([lows.min(), highs.max()])))  # no -0
    return Summary(n, low, high, float(sums.sum()) / n)


def _known(values: np.ndarray) -> Summary:
    known = values[~np.isnan(values)]
    if known.size == 0:
        return Summary(0, np.nan, np.nan, np.nan)
    return Summary(known.size, float(known.min()), float(known.max()), float(known.mean(dtype=np.float64)))


def _ordered(keys: np.ndarray) -> np.ndarray:
    """Values by the whole numbers that have their order."""
    ordered: np.ndarray = (keys ^ ((keys >> 31) & 0x7FFFFFFF)).astype(np.int32).view(np.float32)
    return ordered

"""Count, range and mean of a grid in one pass."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from moss_step.model.kernels.summary import summarise_cells


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
        known = values[~np.isnan(values)]
        if known.size == 0:
            return Summary(0, np.nan, np.nan, np.nan)
        return Summary(
            known.size, float(known.min()), float(known.max()), float(known.mean(dtype=np.float64))
        )
    blocks = min(16, values.shape[0])
    lows, highs, sums = np.empty(blocks), np.empty(blocks), np.empty(blocks)
    counts = np.empty(blocks, np.int64)
    summarise_cells(values, lows, highs, sums, counts, blocks)
    n = int(counts.sum())
    if n == 0:
        return Summary(0, np.nan, np.nan, np.nan)
    return Summary(n, float(lows.min()), float(highs.max()), float(sums.sum()) / n)

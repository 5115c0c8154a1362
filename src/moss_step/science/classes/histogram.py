"""Histogram of a surface: counts of its values in equal bins."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from moss_step.model.surface import Surface
from moss_step.science.classes.kernels.histogram import count_bins


@dataclass(frozen=True)
class Histogram:
    """Counts in equal bins from ``low`` to ``high``; the last bin includes ``high``."""

    counts: np.ndarray
    low: float
    high: float

    @property
    def edges(self) -> np.ndarray:
        """Edges of the bins, one more than bins."""
        return np.linspace(self.low, self.high, len(self.counts) + 1)

    def quantile(self, share: float) -> float:
        """Value below which a share of the cells lies, to within one bin."""
        total = np.cumsum(self.counts)
        if total.size == 0 or total[-1] == 0:
            return self.low
        target = share * total[-1]
        i = int(np.searchsorted(total, target))
        i = min(i, len(self.counts) - 1)
        below = total[i - 1] if i else 0
        inside = (target - below) / self.counts[i] if self.counts[i] else 0.0
        width = (self.high - self.low) / len(self.counts)
        return float(self.low + (i + inside) * width)


def histogram(surface: Surface, bins: int = 256, span: tuple[float, float] | None = None) -> Histogram:
    """Count a surface's values in equal bins over ``span`` (its own range by default).

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    bins
        Number of bins.
    span
        Lowest and highest value that count.

    Returns
    -------
    Histogram
        Counts and the span.

    Examples
    --------
    >>> from moss_step.science.classes.histogram import histogram
    >>> from moss_step.science.sample import tilted
    >>> histogram(tilted(), bins=4).counts.tolist()
    [4, 4, 4, 8]
    """
    low, high = span or surface.range or (0.0, 1.0)
    if high <= low:
        high = low + 1.0
    blocks = min(16, surface.frame.rows)
    counts = np.zeros((blocks, bins), np.int64)
    level, base = surface.levelled
    count_bins(level.values, low - base, bins / (high - low), counts, blocks)
    return Histogram(counts.sum(axis=0), low, high)

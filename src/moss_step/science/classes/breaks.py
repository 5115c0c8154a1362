"""Class breaks from the values themselves: equal interval, equal count and natural breaks."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.surface import Surface

BreakMethod = Literal["equal_interval", "equal_count", "natural"]
SAMPLE = 1000
"""Most values that natural breaks are fitted to: the fit grows with their square, and holds the interpreter."""


def breaks(surface: Surface, method: BreakMethod, count: int) -> list[float]:
    """Bounds of ``count`` classes, ascending: ``count + 1`` values, the first and last the surface's range.

    ``equal_interval`` splits the range, ``equal_count`` takes quantiles, ``natural`` finds the split with the least
    squared deviation inside the classes (Fisher 1958, J. Am. Stat. Assoc. 53; Jenks 1967) on an even sample of at
    most 3000 order statistics. Equal bounds are merged, so fewer may come back. Raises MossError without values.
    """
    if not 2 <= count <= 50:
        raise AskedWronglyError(f"{count} classes are not possible.", "Ask for 2 to 50.")
    if surface.range is None:
        raise MossError("The surface has no values to find breaks in.", "Choose another surface.")
    low, high = surface.range
    if low == high:
        raise MossError(f"Every cell holds {low:g}, so there is nothing to split.", "Choose another surface.")
    if method == "equal_interval":
        found = np.linspace(low, high, count + 1)
    elif method == "equal_count":
        valid = surface.values[~np.isnan(surface.values)]
        found = np.quantile(valid, np.linspace(0.0, 1.0, count + 1))
    else:
        found = np.concatenate([[low], natural_breaks(even_sample(surface), count)])
    found[0], found[-1] = low, high
    return [float(v) for v in np.unique(found.astype(np.float32))]


def natural_breaks(values: np.ndarray, count: int) -> np.ndarray:
    """Upper bounds of ``count`` natural classes of a one-dimensional array."""
    import mapclassify  # slow to load, and only needed here

    distinct = np.unique(values).size
    found: np.ndarray = mapclassify.FisherJenks(values.astype(np.float64), k=min(count, distinct)).bins
    return found


def even_sample(surface: Surface, most: int = SAMPLE) -> np.ndarray:
    """At most ``most`` values that stand for the whole: every value of a small surface, else spread order statistics.

    Large surfaces are first thinned to about 400,000 cells at positions drawn with a fixed seed.
    """
    flat = surface.values.ravel()
    if flat.size > 1_000_000:
        places = np.random.default_rng(20).integers(0, flat.size, 400_000)
        drawn = flat[places]
        drawn = drawn[~np.isnan(drawn)]
        valid = drawn if drawn.size >= most else flat[~np.isnan(flat)]
    else:
        valid = flat[~np.isnan(flat)]
    if valid.size > most:
        valid = np.sort(valid)[np.linspace(0, valid.size - 1, most).round().astype(np.int64)]
    return np.asarray(valid, np.float32)

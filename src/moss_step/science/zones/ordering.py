"""Values put in order in pieces that report, and what is read off ordered values: quantiles, plain and
weighed, and counts of distinct ones.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from moss_step.model.progress import Progress

_PIECE = 1 << 19
"""Values that are put in order at once."""
_SAMPLE = 20_000


def in_order(progress: Progress, values: np.ndarray, *others: np.ndarray) -> list[np.ndarray]:
    """Put n values in order, lowest first, and others of n with them: a sample sort (Frazer & McKellar 1970),
    with a report for each part.

    Values without NaN.

    Parameters
    ----------
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.
    values
        Values as an array; NaN is no value.
    others
        Further shapes, or arrays that go along, as the type says.

    Returns
    -------
    list[np.ndarray]
        The arrays in order.

    Raises
    ------
    StoppedError
        When stopped.

    Source
    ------
    Frazer & McKellar 1970, Journal of the ACM 17.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.zones.ordering import in_order
    >>> [part.tolist() for part in in_order(silent(), np.array([3.0, 1.0]), np.array([30.0, 10.0]))]
    [[1.0, 3.0], [10.0, 30.0]]
    """
    arrays = (values, *others)
    if len(values) <= _PIECE:
        return _sorted(arrays)
    sample = np.sort(values[:: max(1, len(values) // _SAMPLE)])
    bounds = np.unique(sample[np.linspace(0, len(sample) - 1, len(values) // _PIECE + 2).astype(int)[1:-1]])
    parts: list[list[list[np.ndarray]]] = [[] for _ in range(len(bounds) + 1)]
    for start, end in progress.part(0.0, 0.5).blocks(len(values), _PIECE, "Ordering values"):
        some = _sorted([a[start:end] for a in arrays])
        cuts = [0, *np.searchsorted(some[0], bounds), len(some[0])]
        for part, first, last in zip(parts, cuts[:-1], cuts[1:], strict=True):
            part.append([a[first:last] for a in some])
    out, at = [np.empty_like(a) for a in arrays], 0
    for k, part in enumerate(parts):
        progress.at(0.5 + 0.5 * k / len(parts), "Ordering values")
        some = _sorted([np.concatenate(pieces) for pieces in zip(*part, strict=True)])
        part.clear()
        for whole, piece in zip(out, some, strict=True):
            whole[at : at + len(piece)] = piece
        at += len(some[0])
    return out


def _sorted(arrays: Sequence[np.ndarray]) -> list[np.ndarray]:
    if len(arrays) == 1:
        return [np.sort(arrays[0])]
    order = np.argsort(arrays[0], kind="stable")
    return [a[order] for a in arrays]


def weighed_quantiles(values: np.ndarray, weights: np.ndarray, shares: list[float]) -> list[float]:
    """Quantiles of ordered values with weights, NaN without values; as plain ones between the two nearest
    values where all weigh alike.

    The k-th of n values stands at (k - 1) w_k + (n - 1) (w_1 + ... + w_(k-1)) on a scale that ends at n - 1
    times all weight: exactextract's definition, save that values which repeat stand for themselves there as
    one, and here as often as they occur.

    Parameters
    ----------
    values
        Values as an array; NaN is no value.
    weights
        Weights, 0 or above.
    shares
        Shares, 0 to 1.

    Returns
    -------
    list[float]
        A value for each share.

    Source
    ------
    The definition of exactextract, see above.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.zones.ordering import weighed_quantiles
    >>> [float(v) for v in weighed_quantiles(np.array([1.0, 2.0, 3.0]), np.ones(3), [0.5])]
    [2.0]
    """
    n = len(values)
    if n == 0:
        return [float("nan")] * len(shares)
    before = np.cumsum(weights, dtype=np.float64)
    whole = float(before[-1])
    before -= weights
    before *= n - 1
    before += np.arange(n) * weights
    return [_between(before, values, q * (n - 1) * whole) for q in shares]


def _between(places: np.ndarray, values: np.ndarray, at: float) -> float:
    """Value at a place between two, without a copy of all of them."""
    k = min(max(int(np.searchsorted(places, at, side="right")) - 1, 0), len(values) - 1)
    m = min(k + 1, len(values) - 1)
    share = (at - places[k]) / (places[m] - places[k]) if places[m] > places[k] else 0.0
    return float(values[k]) + share * (float(values[m]) - float(values[k]))


def distinct(values: np.ndarray, weights: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Give the distinct ones of ordered values, and how often each occurs or what it weighs.

    Parameters
    ----------
    values
        Values as an array; NaN is no value.
    weights
        Weights, 0 or above.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Values ascending, and how often or how heavy.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.zones.ordering import distinct
    >>> values, weights = distinct(np.array([1.0, 1.0, 2.0]))
    >>> values.tolist(), weights.tolist()
    ([1.0, 2.0], [2, 1])
    """
    first = (
        np.flatnonzero(np.concatenate([[True], values[1:] != values[:-1]]))
        if len(values)
        else np.empty(0, np.int64)
    )
    if weights is None:
        return values[first], np.diff(np.append(first, len(values)))
    return values[first], np.add.reduceat(weights, first, dtype=np.float64) if len(first) else np.empty(0)

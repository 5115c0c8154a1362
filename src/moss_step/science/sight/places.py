"""Best places: of candidates, those that together see most.

Greedy choice is at least 1 - 1/e of the best: Nemhauser, Wolsey & Fisher 1978, Mathematical Programming 14.
Lazy evaluation, which looks again only at candidates whose last gain could still be the best: Minoux 1978.
Small cases are solved exactly.
"""

from __future__ import annotations

import heapq
import itertools
from dataclasses import dataclass
from math import comb

import numpy as np

from moss_step.model.progress import Progress, silent

MOST_EXACT = 20_000
"""Up to this many sets of candidates are all tried."""


@dataclass(frozen=True)
class Choice:
    """Candidates in the order chosen, the weight that each adds, how many gains were worked out, and whether
    it is the best.
    """

    chosen: tuple[int, ...]
    gains: tuple[float, ...]
    evaluations: int
    exact: bool


def best_places(
    views: np.ndarray,
    weights: np.ndarray,
    count: int,
    exact: bool | None = None,
    progress: Progress | None = None,
) -> Choice:
    """Choose ``count`` candidates whose views (rows of booleans over places) cover the most weight together.

    ``exact`` None tries all sets where there are few, else the lazy greedy choice is taken.

    Parameters
    ----------
    views
        What each candidate sees: booleans of shape (candidates, places).
    weights
        Weights, 0 or above.
    count
        How many are asked for, or there are.
    exact
        Whether all sets are tried; as few there are when None.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Choice
        The candidates in their order, with what each adds.

    Source
    ------
    Church & ReVelle 1974, Papers of the Regional Science Association 32.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.places import best_places
    >>> views = np.array([[1, 1, 0, 0], [0, 1, 1, 0], [0, 0, 1, 1]], bool)  # (places, targets)
    >>> best_places(views, np.ones(4), 2).chosen
    (0, 2)
    """
    count = min(count, len(views))
    if exact or (exact is None and comb(len(views), count) <= MOST_EXACT):
        return _all_sets(views, weights, count, progress or silent())
    return lazy_greedy(views, weights, count, progress)


def _all_sets(views: np.ndarray, weights: np.ndarray, count: int, progress: Progress) -> Choice:
    best, result, tried = -1.0, tuple(range(count)), 0
    for chosen in itertools.combinations(range(len(views)), count):
        progress.at(tried / comb(len(views), count), "Trying sets")
        tried += 1
        total = _weight(weights, np.asarray(views[list(chosen)].any(axis=0)))
        if total > best + 1e-9:
            best, result = total, chosen
    # The places are told in the order in which each adds most.
    inner = lazy_greedy(views[list(result)], weights, count)
    return Choice(tuple(result[k] for k in inner.chosen), inner.gains, tried, True)


def _weight(weights: np.ndarray, places: np.ndarray) -> float:
    """Weight of the places that are true, without a copy of theirs."""
    return float(np.sum(weights, where=places))


def lazy_greedy(
    views: np.ndarray, weights: np.ndarray, count: int, progress: Progress | None = None
) -> Choice:
    """Take the candidate that adds most, again and again; stale gains are only bounds and looked at again
    when they lead.

    Parameters
    ----------
    views
        What each candidate sees: booleans of shape (candidates, places).
    weights
        Weights, 0 or above.
    count
        How many are asked for, or there are.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Choice
        The candidates in their order, with what each adds.

    Source
    ------
    Minoux 1978, Accelerated greedy algorithms, Optimization Techniques.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.places import lazy_greedy
    >>> views = np.array([[1, 1, 0, 0], [0, 1, 1, 0], [0, 0, 1, 1]], bool)  # (places, targets)
    >>> lazy_greedy(views, np.ones(4), 2).gains
    (2.0, 2.0)
    """
    covered = np.zeros(views.shape[1], bool)
    progress, heap = progress or silent(), []
    for k, view in enumerate(views):
        progress.at(0.5 * k / len(views), "Choosing")
        heap.append((-_weight(weights, view), k, 0))
    heapq.heapify(heap)
    evaluations = len(views)
    chosen: list[int] = []
    gains: list[float] = []
    while heap and len(chosen) < count:
        gain, k, turn = heapq.heappop(heap)
        if turn == len(chosen):
            chosen.append(k)
            gains.append(-gain)
            covered |= views[k]
            continue
        evaluations += 1
        progress.at(0.5 + 0.5 * len(chosen) / count, "Choosing")
        heapq.heappush(heap, (-_weight(weights, views[k] & ~covered), k, len(chosen)))
    return Choice(tuple(chosen), tuple(gains), evaluations, False)

"""Criteria: a threshold on a surface, and several yes/no or class maps laid over one another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import same_frame
from moss_step.model.surface import Surface
from moss_step.science.classes.presets import colors_between

Rule = Literal["sum", "all", "any", "worst", "which", "weighted"]
YES, NO = "#CF7340", "#E9E8D8"
_MOST_MAPS = 7


def threshold(surface: Surface, low: float | None, low_in: bool, high: float | None, high_in: bool, name: str,
              keep_no: bool = True) -> ClassMap:  # fmt: skip
    """Yes (1) where a value lies beyond ``low`` and below ``high``, no (0) elsewhere, or no class without
    ``keep_no``.

    A bound of None is open; ``low_in`` and ``high_in`` say whether a bound itself counts. Compared in the
    precision of the values.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    low
        Lower bound; None is open.
    low_in
        Whether the lower bound itself counts.
    high
        Upper bound; None is open.
    high_in
        Whether the upper bound itself counts.
    name
        Name of the class yes.
    keep_no
        Whether cells that do not pass are a class of their own.

    Returns
    -------
    ClassMap
        Codes 1 and 0, uint8.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.sample import tilted
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> high.codes[0].tolist(), [c.name for c in high.classes]
    ([0, 0, 1, 1, 1], ['not high', 'high'])
    """
    values, holds, bound = surface.values, np.ones(surface.frame.shape, bool), surface.values.dtype.type
    with np.errstate(invalid="ignore"):
        if low is not None:
            holds &= values >= bound(low) if low_in else values > bound(low)
        if high is not None:
            holds &= values <= bound(high) if high_in else values < bound(high)
    codes = np.where(holds, np.uint8(1), np.uint8(0 if keep_no else NO_CLASS))
    codes[np.isnan(values)] = NO_CLASS
    entries = [ClassEntry(1, name, YES, name)]
    if keep_no:
        entries.insert(0, ClassEntry(0, f"not {name}", NO))
    return ClassMap(codes, surface.frame, tuple(entries))


def answered(answer: Surface, asked: str) -> ClassMap:
    """A map of yes (1) and no (0) from a surface of them.

    Parameters
    ----------
    answer
        Values 1 and 0 of shape (rows, cols); NaN is no-data.
    asked
        What was asked: it stands beside the classes.

    Returns
    -------
    ClassMap
        Codes 1 and 0, uint8; 255 where there is no data.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import answered
    >>> from moss_step.science.algebra.formula import evaluate
    >>> from moss_step.science.sample import tilted
    >>> asked = "dem > 3"
    >>> answered(evaluate(asked, {"dem": tilted()}), asked).codes[0].tolist()
    [0, 0, 1, 1, 1]
    """
    codes = np.where(np.isnan(answer.values), NO_CLASS, np.nan_to_num(answer.values)).astype(np.uint8)
    return ClassMap(codes, answer.frame, (ClassEntry(0, "no", NO), ClassEntry(1, "yes", YES, asked)))


def among(classes: ClassMap, names: Sequence[str], missing_is_no: bool = True) -> ClassMap:
    """Yes (1) where the class is one of ``names`` (any case, or a class number), no (0) elsewhere.

    Cells without a class are no, or stay without one.

    Parameters
    ----------
    classes
        Codes of shape (rows, cols), uint8; 255 is no class.
    names
        Names, in the order of what they are of.
    missing_is_no
        Whether cells without a class are no.

    Returns
    -------
    ClassMap
        Codes 1 and 0, uint8.

    Raises
    ------
    AskedWronglyError
        For a name that no class has.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import among, threshold
    >>> from moss_step.science.sample import tilted
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> among(high, ["high"]).codes[0].tolist()
    [0, 0, 1, 1, 1]
    """
    wanted = []
    for name in names:
        result = [c.code for c in classes.classes if c.name.lower() == name.lower() or str(c.code) == name]
        if not result:
            raise AskedWronglyError(
                f"No class is called '{name}'.", f"There are: {', '.join(c.name for c in classes.classes)}."
            )
        wanted += result
    codes = np.isin(classes.codes, np.array(wanted, np.uint8)).astype(np.uint8)
    if not missing_is_no:
        codes[classes.codes == NO_CLASS] = NO_CLASS
    text = " or ".join(names)
    return ClassMap(codes, classes.frame, (ClassEntry(0, f"not {text}", NO), ClassEntry(1, text, YES, text)))


def combine(maps: Mapping[str, ClassMap], rule: Rule) -> ClassMap:
    """Lay class maps over one another; a cell without class in any of them has none.

    ``sum`` counts in how many a cell is yes (1), ``all`` and ``any`` give yes or no, ``worst`` takes the
    highest class, ``which`` names each combination of yes ("steep and high").

    Parameters
    ----------
    maps
        Class maps in one frame, by name.
    rule
        How they are laid over one another.

    Returns
    -------
    ClassMap
        The map that the rule gives.

    Raises
    ------
    MossError
        When the maps do not lie cell on cell.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import combine, threshold
    >>> from moss_step.science.sample import tilted
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> higher = threshold(tilted(), 6.0, True, None, False, "higher")
    >>> combine({"high": high, "higher": higher}, "sum").codes[0].tolist()
    [0, 0, 1, 2, 2]
    """
    _check(maps)
    names, stack = list(maps), [m.codes for m in maps.values()]
    frame = next(iter(maps.values())).frame
    missing = np.any([c == NO_CLASS for c in stack], axis=0)
    if rule == "worst":
        codes = np.maximum.reduce(stack)
        entries = _worst_entries(list(maps.values()))
    else:
        for name, m in maps.items():
            beyond = [c.code for c in m.classes if c.code > 1]
            if beyond:
                raise MossError(
                    f"'{name}' has class {beyond[0]}, and yes is 1, no is 0.",
                    "Use `threshold` first, or the worst of them.",
                    "Use threshold first, or rule=worst.",
                )
        yes = [(c == 1).astype(np.uint8) for c in stack]
        codes, entries = _joined(yes, names, rule)
    codes = np.where(missing, np.uint8(NO_CLASS), codes).astype(np.uint8)
    return ClassMap(codes, frame, entries)


def _joined(yes: list[np.ndarray], names: list[str], rule: Rule) -> tuple[np.ndarray, tuple[ClassEntry, ...]]:
    n = len(names)
    if rule == "sum":
        colors = colors_between(n + 1)
        words = ["none holds", *(f"{k} of {n} hold{'s' if k == 1 else ''}" for k in range(1, n + 1))]
        return np.sum(yes, axis=0), tuple(ClassEntry(k, words[k], colors[k]) for k in range(n + 1))
    if rule in ("all", "any"):
        joined = np.logical_and.reduce(yes) if rule == "all" else np.logical_or.reduce(yes)
        word = (" and " if rule == "all" else " or ").join(names)
        return joined.astype(np.uint8), (ClassEntry(0, f"not ({word})", NO), ClassEntry(1, word, YES))
    codes = np.sum([y << k for k, y in enumerate(yes)], axis=0)
    colors = colors_between(2**n)
    entries = []
    for code in range(2**n):
        held = [names[k] for k in range(n) if code >> k & 1]
        entries.append(ClassEntry(code, " and ".join(held) or "none of them", colors[code]))
    return codes, tuple(entries)


def _worst_entries(maps: Sequence[ClassMap]) -> tuple[ClassEntry, ...]:
    result: dict[int, ClassEntry] = {}
    for m in maps:
        for entry in m.classes:
            result.setdefault(entry.code, entry)
    return tuple(result[c] for c in sorted(result))


def _check(maps: Mapping[str, ClassMap]) -> None:
    if not 2 <= len(maps) <= _MOST_MAPS:
        raise AskedWronglyError(
            f"{len(maps)} maps cannot be combined.",
            f"Choose 2 to {_MOST_MAPS}.",
            f"Give 2 to {_MOST_MAPS}, such as steep=a.tif high=b.tif.",
        )
    first, frame = next((n, m.frame) for n, m in maps.items())
    for name, m in maps.items():
        if not same_frame(m.frame, frame):
            raise MossError(
                f"'{name}' and '{first}' do not lie cell on cell.", "Resample one to the frame of the other."
            )


RANDOM_INDEX = {1: 0.0, 2: 0.0, 3: 0.58, 4: 0.90, 5: 1.12, 6: 1.24, 7: 1.32, 8: 1.41, 9: 1.45, 10: 1.49}
"""Random consistency index of Saaty 1980, The Analytic Hierarchy Process; the tests draw random tables for
it.
"""


def pairwise_weights(matrix: np.ndarray) -> tuple[np.ndarray, float]:
    """Weights from a reciprocal matrix of pairwise comparisons, and its consistency ratio (Saaty 1980).

    The weights are the principal eigenvector, summing to 1.

    Parameters
    ----------
    matrix
        Reciprocal comparisons, (n, n).

    Returns
    -------
    tuple[np.ndarray, float]
        Weights (n) that sum to 1, and the consistency ratio.

    Raises
    ------
    AskedWronglyError
        For a matrix that is not reciprocal.

    Source
    ------
    Saaty 1980, The Analytic Hierarchy Process, McGraw-Hill.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.criteria import pairwise_weights
    >>> weights, ratio = pairwise_weights(np.array([[1.0, 3.0], [1.0 / 3.0, 1.0]]))
    >>> weights.round(2).tolist()
    [0.75, 0.25]
    """
    n = len(matrix)
    if (
        matrix.shape != (n, n)
        or n < 2
        or n > 10
        or (matrix <= 0).any()
        or not np.allclose(matrix * matrix.T, 1.0, rtol=1e-3)
    ):
        raise AskedWronglyError(
            "The comparisons must be a reciprocal table of 2 to 10 criteria.",
            "a over b = 3 means b over a = 1/3.",
        )
    values, vectors = np.linalg.eig(matrix)
    k = int(np.argmax(values.real))
    weights = np.abs(vectors[:, k].real)
    index = (values[k].real - n) / (n - 1)
    ratio = index / RANDOM_INDEX[n] if RANDOM_INDEX[n] else 0.0
    return weights / weights.sum(), max(float(ratio), 0.0)


def normalised(weights: Sequence[float] | np.ndarray, count: int) -> np.ndarray:
    """Bring weights to a sum of 1.

    Parameters
    ----------
    weights
        Weights, 0 or above.
    count
        How many are asked for, or there are.

    Returns
    -------
    np.ndarray
        Weights (n) that sum to 1.

    Raises
    ------
    AskedWronglyError
        When their number is not ``count``, one is below 0 or all are 0.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import normalised
    >>> normalised([1.0, 3.0], 2).tolist()
    [0.25, 0.75]
    """
    share = np.asarray(weights, np.float64)
    if len(share) != count or (share < 0).any() or not 0 < share.sum() < np.inf:
        raise AskedWronglyError(
            f"{len(share)} weights do not fit {count} criteria.", "Give one for each, none below 0."
        )
    shares: np.ndarray = share / share.sum()
    return shares


def weighted_sum(surfaces: Mapping[str, np.ndarray], weights: Sequence[float]) -> np.ndarray:
    """Sum of values times weights that are normalised to 1; no-data where any value is missing (in the
    precision of the values).

    Parameters
    ----------
    surfaces
        Surfaces by the names that the text or the columns use.
    weights
        Weights, 0 or above.

    Returns
    -------
    np.ndarray
        Sums of shape (rows, cols).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.criteria import weighted_sum
    >>> weighted_sum({"a": np.array([0.0, 1.0]), "b": np.array([1.0, 1.0])}, [3.0, 1.0]).tolist()
    [0.25, 1.0]
    """
    kind = np.result_type(*surfaces.values())
    total = np.zeros(next(iter(surfaces.values())).shape, kind)
    for w, values in zip(normalised(weights, len(surfaces)), surfaces.values(), strict=True):
        total += kind.type(w) * values
    return total


def weighted_classes(maps: Mapping[str, ClassMap], weights: Sequence[float]) -> ClassMap:
    """The weighted mean of the class codes of maps, rounded half up to a class; none where any map has none.

    Classes of the result are scores, from the lowest to the highest class of the maps.

    Parameters
    ----------
    maps
        Class maps in one frame, by name.
    weights
        Weights, 0 or above.

    Returns
    -------
    ClassMap
        Codes of the scores, uint8.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import threshold, weighted_classes
    >>> from moss_step.science.sample import tilted
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> higher = threshold(tilted(), 6.0, True, None, False, "higher")
    >>> weighted_classes({"high": high, "higher": higher}, [1.0, 1.0]).codes[0].tolist()
    [0, 0, 1, 1, 1]
    """
    _check(maps)
    stack = [m.codes for m in maps.values()]
    missing = np.any([c == NO_CLASS for c in stack], axis=0)
    mean = np.zeros(stack[0].shape, np.float32)
    for w, codes in zip(normalised(weights, len(stack)), stack, strict=True):
        mean += np.float32(w) * codes
    codes = np.floor(mean + np.float32(0.5 + 1e-5)).astype(np.uint8)
    codes[missing] = NO_CLASS
    known = {c.code for m in maps.values() for c in m.classes}
    low, high = min(known), max(known)
    colors = colors_between(high - low + 1)
    entries = tuple(ClassEntry(c, f"score {c}", colors[c - low]) for c in range(low, high + 1))
    return ClassMap(codes, next(iter(maps.values())).frame, entries)

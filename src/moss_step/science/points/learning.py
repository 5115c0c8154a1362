"""Classes of points that are learned from examples, and found again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from moss_step.model.cloud import Cloud, PointClass
from moss_step.model.errors import MossError
from moss_step.model.point_model import PointModel
from moss_step.model.progress import Progress, silent
from moss_step.science.points.kernels.learned import vote, weigh
from moss_step.science.points.measures import band_statistics, name_at

Method = Literal["forest", "gaussian"]
_SEED, _DIGITS = 5, 4
_STRANGE = 0.1
"""Share of the measures in which a point may lie where no example does."""
_FLOOR = 1e-3
"""Least share of a measure's variance that a class has of it: classes without any would be points."""


@dataclass(frozen=True)
class ForestSet:
    """Trees of a forest, the fewest points of a leaf, the most leaves of a tree, and the most points that a
    tree is grown from.
    """

    trees: int = 60
    leaf: int = 3
    leaves: int = 200
    points: int = 20_000


def learn_forest(
    values: np.ndarray, codes: np.ndarray, how: ForestSet | None = None
) -> dict[str, np.ndarray]:
    """Grow a forest (Breiman 2001) whose classes count the same, however many points they have.

    Parameters
    ----------
    values
        Measures of points (n, measures).
    codes
        Numbers of their classes (n), from 0.
    how
        Size of the forest.

    Returns
    -------
    dict[str, np.ndarray]
        Nodes as ``PointModel`` holds them, and ``weight`` of each measure: its share of what all splits
        gained.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import ForestSet, learn_forest
    >>> values = np.arange(20.0, dtype=np.float32)[:, None]
    >>> learn_forest(values, (values[:, 0] > 9).astype(int), ForestSet(5))["roots"].size
    5
    """
    from sklearn.ensemble import RandomForestClassifier  # loaded where it is used: it takes a while

    how = how or ForestSet()
    grown = RandomForestClassifier(
        how.trees, min_samples_leaf=how.leaf, max_leaf_nodes=how.leaves, class_weight="balanced",
        max_samples=min(how.points / len(values), 1.0), random_state=_SEED, n_jobs=2,
    ).fit(np.asarray(values, np.float32), codes)  # fmt: skip
    parts: dict[str, list[np.ndarray]] = {n: [] for n in ("measure", "bound", "below", "above", "share")}
    roots, first = [], 0
    for one in grown.estimators_:
        tree = one.tree_
        leaf = tree.children_left < 0
        roots.append(first)
        parts["measure"].append(np.where(leaf, -1, tree.feature))
        parts["bound"].append(np.where(leaf, 0.0, _at_most(tree.threshold)))
        parts["below"].append(np.where(leaf, 0, tree.children_left + first))
        parts["above"].append(np.where(leaf, 0, tree.children_right + first))
        shares = tree.value[:, 0, :]
        shares = shares / np.maximum(shares.sum(axis=1, keepdims=True), 1e-300)
        parts["share"].append(np.round(shares, _DIGITS))
        first += tree.node_count
    made = {n: np.concatenate(v) for n, v in parts.items()}
    kinds = {"measure": np.int32, "below": np.int32, "above": np.int32}
    made = {n: np.ascontiguousarray(v, kinds.get(n, np.float32)) for n, v in made.items()}
    return {**made, "roots": np.array(roots, np.int32), "weight": np.asarray(grown.feature_importances_)}


def _at_most(bounds: np.ndarray) -> np.ndarray:
    """The largest numbers of single precision that are not above bounds: measures, which are of single
    precision, lie on the same side of both.
    """
    short = bounds.astype(np.float32)
    return np.where(short > bounds, np.nextafter(short, np.float32(-np.inf)), short)


def learn_gaussians(values: np.ndarray, codes: np.ndarray) -> dict[str, np.ndarray]:
    """Mean and covariance of the measures of each class (Fisher 1936; Duda, Hart & Stork 2001, 2.6).

    Parameters
    ----------
    values
        Measures of points (n, measures).
    codes
        Numbers of their classes (n), from 0.

    Returns
    -------
    dict[str, np.ndarray]
        Arrays as ``PointModel`` holds them, and ``weight`` of each measure: the variance of the classes'
        means over that within them, all together 1.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import learn_gaussians
    >>> values = np.array([[0.0], [2.0], [10.0], [12.0]])
    >>> learn_gaussians(values, np.array([0, 0, 1, 1]))["mean"].tolist()
    [[1.0], [11.0]]
    """
    x = np.asarray(values, np.float64)
    count = int(codes.max()) + 1
    whole = np.maximum(x.var(axis=0), 1e-12)
    mean = np.array([x[codes == c].mean(axis=0) for c in range(count)])
    inverse, constant = np.empty((count, x.shape[1], x.shape[1])), np.empty(count)
    for c in range(count):
        off = x[codes == c] - mean[c]
        spread = off.T @ off / len(off) + np.diag(whole * _FLOOR)
        inverse[c] = np.linalg.inv(spread)
        constant[c] = -0.5 * np.linalg.slogdet(spread)[1]
    within = np.mean([x[codes == c].var(axis=0) for c in range(count)], axis=0) + whole * _FLOOR
    told = mean.var(axis=0) / within
    return {"mean": mean, "inverse": inverse, "constant": constant, "weight": told / max(told.sum(), 1e-300)}


def shares_of(model: PointModel, values: np.ndarray) -> np.ndarray:
    """Shares of the classes at points.

    Parameters
    ----------
    model
        What was learned.
    values
        Its measures of points (float32, n by measures).

    Returns
    -------
    np.ndarray
        float32 (n, classes); each row adds up to 1.

    Raises
    ------
    MossError
        For other measures than the model's.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.point_model import REST, PointModel
    >>> from moss_step.science.points.learning import learn_gaussians, shares_of
    >>> values = np.array([[0.0], [2.0], [10.0], [12.0]], np.float32)
    >>> arrays = learn_gaussians(values, np.array([0, 0, 1, 1]))
    >>> model = PointModel("two", "gaussian", (REST, REST), ("height_above",), (1.0,), arrays)
    >>> shares_of(model, values).round(3).tolist()
    [[1.0, 0.0], [1.0, 0.0], [0.0, 1.0], [0.0, 1.0]]
    """
    if values.shape[1] != len(model.measures):
        raise MossError(
            f"{model.name} is for {len(model.measures)} measures, not {values.shape[1]}.", "Train it again."
        )
    out = np.empty((len(values), len(model.classes)), np.float32)
    held, x = model.arrays, np.ascontiguousarray(values, np.float32)
    if model.method == "forest":
        bounds = held["measure"], held["bound"]
        vote(x, *bounds, held["below"], held["above"], held["share"], held["roots"], out)
    else:
        weigh(x, held["mean"], held["inverse"], held["constant"], out)
    return out


def learned(
    values: np.ndarray, codes: np.ndarray, method: Method, how: ForestSet | None = None
) -> dict[str, np.ndarray]:
    """Learn classes by either method.

    Parameters
    ----------
    values
        Measures of points (n, measures).
    codes
        Numbers of their classes (n), from 0; each has points.
    method
        ``forest`` or ``gaussian``.
    how
        Size of a forest.

    Returns
    -------
    dict[str, np.ndarray]
        Arrays as ``PointModel`` holds them, and ``weight``.

    Raises
    ------
    MossError
        For one class alone, and for measures that are all the same.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import learned
    >>> sorted(learned(np.array([[0.0], [2.0], [9.0], [8.0]]), np.array([0, 0, 1, 1]), "gaussian"))
    ['constant', 'inverse', 'mean', 'weight']
    """
    if len(np.unique(codes)) < 2:
        raise MossError("All examples are of one class.", "Give examples of what is something else, too.")
    if not (np.ptp(values, axis=0) > 0.0).any():
        raise MossError("No measure differs from example to example.", "Take other examples, or other radii.")
    return learn_forest(values, codes, how) if method == "forest" else learn_gaussians(values, codes)


def reach_of(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Between which values the examples of a class lie, with a tenth to both sides; one in a hundred counts
    for nothing.

    Parameters
    ----------
    values
        Measures of the examples' points (n, measures).

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Lower and upper bounds (float32, measures).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import reach_of
    >>> [round(float(v[0]), 2) for v in reach_of(np.linspace(0.0, 100.0, 101)[:, None])]
    [-8.8, 108.8]
    """
    low, high = np.quantile(np.asarray(values, np.float64), [0.01, 0.99], axis=0)
    margin = 0.1 * (high - low) + 1e-6
    return (low - margin).astype(np.float32), (high + margin).astype(np.float32)


def within_reach(model: PointModel, values: np.ndarray) -> np.ndarray:
    """Points that lie where examples of the first class do in all but a tenth of the measures: elsewhere a
    forest has nothing to go by (area of applicability, after Meyer & Pebesma 2021, with ranges).

    Parameters
    ----------
    model
        What was learned.
    values
        Its measures of points (n, measures).

    Returns
    -------
    np.ndarray
        True within (n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.point_model import PointModel
    >>> from moss_step.science.points.learning import within_reach
    >>> arrays = {"low": np.zeros(1), "high": np.ones(1)}
    >>> model = PointModel("unit", "forest", (), ("height_above",), (), arrays)
    >>> within_reach(model, np.array([[0.5], [2.0]])).tolist()
    [True, False]
    """
    low, high = model.arrays["low"], model.arrays["high"]
    off = np.zeros(len(values), np.int32)
    for k in range(values.shape[1]):
        off += (values[:, k] < low[k]) | (values[:, k] > high[k])
    return np.asarray(off <= _STRANGE * values.shape[1])


def calmed(flat: Cloud, shares: np.ndarray, radius: float) -> np.ndarray:
    """Shares of classes as means over the points around each: neighbours mostly belong together.

    Parameters
    ----------
    flat
        n points in metres.
    shares
        Shares (n, classes).
    radius
        Metres.

    Returns
    -------
    np.ndarray
        float32 (n, classes).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import calmed
    >>> from moss_step.science.sample import scattered
    >>> calmed(scattered(2), np.array([[1.0], [0.0], [1.0], [0.0]]), 50.0).tolist()
    [[0.5], [0.5], [0.5], [0.5]]
    """
    bands = {str(k): shares[:, k] for k in range(shares.shape[1])}
    found = band_statistics(flat, [radius], bands)
    return np.column_stack([found[name_at(f"{k}_mean", radius)] for k in bands])


def likely_others(values: np.ndarray, codes: np.ndarray, others: np.ndarray, method: Method) -> np.ndarray:
    """Which points are the class, of those that nobody looked at and that stand in as counter-examples.

    Each half of them is judged by what the other half and the examples teach (two-step learning from positive
    and unlabelled examples, after Liu et al. 2002).

    Parameters
    ----------
    values
        Measures of points (n, measures).
    codes
        Numbers of their classes (n): 0 is the class.
    others
        True for points that nobody looked at (n).
    method
        ``forest`` or ``gaussian``.

    Returns
    -------
    np.ndarray
        True for points that are likely the class (n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import likely_others
    >>> values = np.array([[0.0], [0.1], [9.0], [9.1], [0.05], [8.8], [0.02], [9.2]], np.float32)
    >>> codes, others = np.array([0, 0, 1, 1, 1, 1, 1, 1]), np.arange(8) > 3
    >>> likely_others(values, codes, others, "gaussian").tolist()
    [False, False, False, False, True, False, True, False]
    """
    rows = np.flatnonzero(others)
    result = np.zeros(len(codes), bool)
    for half in (rows[::2], rows[1::2]):
        if not half.size:
            continue
        kept = np.setdiff1d(np.arange(len(codes)), half)
        if len(np.unique(codes[kept])) < 2:
            continue
        names = tuple(f"m{k}" for k in range(values.shape[1]))
        two = (PointClass(0, "class"), PointClass(1, "other"))
        model = PointModel("half", method, two, names, (), learned(values[kept], codes[kept], method))
        result[half] = shares_of(model, values[half])[:, 0] >= 0.5
    return result


def left_out(
    values: np.ndarray,
    codes: np.ndarray,
    examples: np.ndarray,
    make: tuple[Method, Sequence[PointClass], ForestSet | None],
    progress: Progress | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """Classes of the points of each example as the others teach them.

    Each fold leaves out one example of each class that still has another, so that nothing of an example's own
    points is among what it is judged by (grouped cross-validation, Stone 1974).

    Parameters
    ----------
    values
        Measures of points (n, measures).
    codes
        Numbers of their classes (n), from 0.
    examples
        Number of the example that each belongs to (n); an example is of one class. Points below 0 teach in
        every fold, and are not judged.
    make
        Method, classes, and size of a forest.
    progress
        Told how far it is.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Number of the class that each point was given (n), -1 where its class had no other example, and the
        share of that class (n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.point_model import REST
    >>> from moss_step.science.points.learning import left_out
    >>> values = np.array([[0.0], [1.0], [0.5], [9.0], [8.0], [8.5]], np.float32)
    >>> make = ("gaussian", (REST, REST), None)
    >>> left_out(values, np.array([0, 0, 0, 1, 1, 1]), np.arange(6), make)[0].tolist()
    [0, 0, 0, 1, 1, 1]
    """
    progress = progress or silent()
    method, classes, how = make
    given, share = np.full(len(codes), -1), np.full(len(codes), np.nan, np.float32)
    by_class = [np.unique(examples[(codes == c) & (examples >= 0)]) for c in range(int(codes.max()) + 1)]
    folds = max((len(e) for e in by_class if len(e) > 1), default=0)
    for fold in range(folds):
        progress.at(fold / folds, "Holding examples against the others")
        out = np.concatenate([e[fold : fold + 1] for e in by_class if len(e) > 1])
        test = np.isin(examples, out)
        names = tuple(f"m{k}" for k in range(values.shape[1]))
        arrays = learned(values[~test], codes[~test], method, how)
        model = PointModel("fold", method, tuple(classes), names, (), arrays)
        shares = shares_of(model, values[test])
        given[test], share[test] = shares.argmax(axis=1), shares.max(axis=1)
    return given, share


def confusion(truth: np.ndarray, given: np.ndarray, count: int) -> np.ndarray:
    """How many points of each class were given which.

    Parameters
    ----------
    truth
        Numbers of classes (n), from 0.
    given
        Numbers that were given (n); below 0 counts for nothing.
    count
        Number of classes.

    Returns
    -------
    np.ndarray
        Counts (truth, given).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import confusion
    >>> confusion(np.array([0, 1, 1]), np.array([0, 1, 0]), 2).tolist()
    [[1, 0], [1, 1]]
    """
    told = given >= 0
    pairs = truth[told].astype(np.int64) * count + given[told]
    return np.bincount(pairs, minlength=count * count).reshape(count, count)


def scores(table: np.ndarray) -> Mapping[str, np.ndarray]:
    """Precision, recall and F1 of each class, agreement, and Cohen's kappa (Cohen 1960).

    Parameters
    ----------
    table
        Counts (truth, given).

    Returns
    -------
    Mapping[str, np.ndarray]
        ``precision``, ``recall`` and ``f1`` (classes), ``agreement`` and ``kappa`` (1); NaN where nothing
        tells.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.learning import scores
    >>> found = scores(np.array([[45, 15], [25, 15]]))
    >>> found["agreement"].item(), round(found["kappa"].item(), 4)
    (0.6, 0.1304)
    """
    right, truth, given = np.diag(table).astype(float), table.sum(axis=1), table.sum(axis=0)
    total = max(float(table.sum()), 1.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        precision, recall = right / given, right / truth
        agreement = right.sum() / total
        chance = float((truth * given).sum()) / total**2
        kappa = (agreement - chance) / (1.0 - chance) if chance < 1.0 else np.nan
        f1 = 2.0 * right / (truth + given)
    return {
        "precision": precision, "recall": recall, "f1": f1,
        "agreement": np.array([agreement]), "kappa": np.array([kappa]),
    }  # fmt: skip

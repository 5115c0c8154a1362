"""Variograms: how values differ with distance, from pairs of samples, and models that are fitted to them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.science.interpolate.kernels.covariance import between_places
from moss_step.science.interpolate.kernels.pairs import all_pairs, binned

Shape = Literal["spherical", "exponential", "gaussian", "matern"]
SHAPES: tuple[Shape, ...] = ("spherical", "exponential", "gaussian", "matern")
FITTED: tuple[tuple[Shape, float], ...] = (("spherical", 1.5), ("exponential", 1.5), ("matern", 1.5))
"""Shapes, with the smoothness of Matérn ones, among which the best is chosen. Smoother ones are taken only
where they are asked for: they say that no form lies hidden between samples, and so expect next to no error.
"""
_CODES = {"spherical": 0, "exponential": 1, "gaussian": 2, "matern": 3}
_PRACTICAL = {"spherical": 1.0, "exponential": 3.0, "gaussian": 3.0**0.5, "matern": 4.7438645183905}
"""Practical range over the range of the formula: where 95 in 100 of the sill are reached. That of Matérn 1.5
solves (1 + s) exp(-s) = 0.05; the others are common practice (3, √3).
"""
_SMOOTHER, _PRACTICAL_SMOOTHER = 4, 5.918649346310187
"""Matérn with a smoothness of 2.5: (1 + s + s²/3) exp(-s) = 0.05."""
_MOST_PAIRED = 4_000
"""Samples whose pairs are all counted; of more, so many are drawn by a seed."""
_MOST_MAPPED = 1_500
"""Samples whose pairs make a map."""
_LEAST_NUGGET = 1e-3
"""Part of the sill that the nugget of a fitted Gaussian model has at the least (common practice)."""
_FEWEST_PAIRS = 5
"""Pairs that a lag needs to count for the fit."""
_RANGES, _SHARES = 48, 16
"""Ranges, and shares of a nugget that is not small, that a fit is begun from the best of."""


@dataclass(frozen=True)
class Structure:
    """One part of a variogram: its shape, its share of the sill (value units, squared) and its practical
    range in metres: where 95 in 100 of it are reached, or all for a spherical one.
    """

    shape: Shape
    sill: float
    range: float
    smoothness: float = 1.5
    """Of a Matérn one: 1.5 or 2.5."""

    def __post_init__(self) -> None:
        """Refuse what no variogram has."""
        if not self.sill >= 0 or not self.range > 0:
            raise AskedWronglyError(
                f"A sill of {self.sill:g} and a range of {self.range:g} are not possible.",
                "Sills are 0 or more, ranges above 0.",
            )

    @property
    def code(self) -> int:
        """Its number in kernels."""
        smoother = self.shape == "matern" and self.smoothness > 2.0
        return _SMOOTHER if smoother else _CODES[self.shape]

    @property
    def scale(self) -> float:
        """Range of the formula, in metres."""
        practical = _PRACTICAL_SMOOTHER if self.code == _SMOOTHER else _PRACTICAL[self.shape]
        return self.range / practical


@dataclass(frozen=True)
class Variogram:
    """A model: a nugget (value units, squared), structures, and how ranges differ by direction.

    ``direction`` is the bearing of the longest range in degrees, ``ratio`` the shortest over the longest.
    """

    nugget: float
    structures: tuple[Structure, ...]
    direction: float = 0.0
    ratio: float = 1.0

    def __post_init__(self) -> None:
        """Refuse what no variogram has."""
        if not self.nugget >= 0:
            raise AskedWronglyError(f"A nugget of {self.nugget:g} is not possible.", "It is 0 or more.")
        if not 0 < self.ratio <= 1:
            raise AskedWronglyError(f"A ratio of {self.ratio:g} is not possible.", "It is above 0, up to 1.")

    @classmethod
    def single(
        cls, shape: Shape, sill: float, reach: float, nugget: float = 0.0, smoothness: float = 1.5,
        direction: float = 0.0, ratio: float = 1.0,
    ) -> Variogram:  # fmt: skip
        """A model of one structure from its plateau, nugget included, and its practical range in metres.

        Raises AskedWronglyError for a sill that is no larger than the nugget, or no range.
        """
        if not sill > nugget:
            raise AskedWronglyError(
                f"`sill`: {sill:g} is not possible.", f"It holds the nugget, {nugget:g}, and more."
            )
        part = Structure(shape, sill - nugget, reach, smoothness)
        return cls(nugget, (part,), direction, ratio)

    @property
    def sill(self) -> float:
        """The plateau, nugget included."""
        return self.nugget + sum(s.sill for s in self.structures)

    @property
    def packed(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Shapes, sills and ranges of the formula as kernels take them."""
        kept = self.structures
        return (
            np.array([s.code for s in kept], np.int64),
            np.array([s.sill for s in kept], np.float64),
            np.array([s.scale for s in kept], np.float64),
        )

    def covariance(self, distance: np.ndarray) -> np.ndarray:
        """Covariances at distances along the longest range (metres, n), without the nugget."""
        h = np.asarray(distance, np.float64).ravel()
        out = np.empty((1, h.size))
        nothing = np.zeros(1)
        between_places(*self.packed, nothing, nothing, h, np.zeros(h.size), out)
        return out.reshape(np.shape(distance))

    def semivariance(self, distance: np.ndarray) -> np.ndarray:
        """Half of the mean squared difference at distances (metres, n): 0 at 0, the nugget just beyond."""
        h = np.asarray(distance, np.float64)
        return np.where(h > 0, self.sill - self.covariance(h), 0.0)


@dataclass(frozen=True)
class Experimental:
    """Half of the mean squared difference of pairs by their distance: m lags."""

    distance: np.ndarray
    semivariance: np.ndarray
    pairs: np.ndarray


def experimental(
    x: np.ndarray,
    y: np.ndarray,
    values: np.ndarray,
    *,
    lag: float | None = None,
    longest: float | None = None,
    bearing: float | None = None,
    tolerance: float = 22.5,
) -> Experimental:
    """Half of the mean squared difference of all pairs by their distance (Matheron 1963).

    Parameters
    ----------
    x
        Metres to the east (n).
    y
        Metres to the north (n).
    values
        What was measured (n).
    lag
        Metres from one lag to the next; left out, a fifteenth of the longest distance.
    longest
        Metres beyond which pairs do not count; left out, a third of the samples' extent across.
    bearing
        Degrees from north, for pairs along it alone; left out, pairs in any direction.
    tolerance
        Degrees to either side of the bearing.

    Returns
    -------
    Experimental
        Mean distance, half of the mean squared difference and number of pairs of each lag that has any. Of
        more than 4,000 samples, so many drawn by a seed stand for all.

    Raises
    ------
    MossError
        For fewer than two samples apart.

    Source
    ------
    Matheron 1963, Principles of geostatistics, Economic Geology 58.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.variogram import experimental
    >>> x = np.arange(10.0)
    >>> seen = experimental(x, np.zeros(10), x, lag=1.0, longest=3.5)
    >>> seen.semivariance.tolist()  # half of the squared distance
    [0.5, 2.0, 4.5]
    """
    x, y, values = (np.ascontiguousarray(v, np.float64) for v in (x, y, values))
    if x.size > _MOST_PAIRED:
        drawn = np.sort(np.random.default_rng(1).choice(x.size, _MOST_PAIRED, replace=False))
        x, y, values = x[drawn], y[drawn], values[drawn]
    far = longest if longest is not None else float(np.hypot(np.ptp(x), np.ptp(y))) / 3.0 if x.size else 0.0
    if x.size < 2 or not far > 0:
        raise MossError("A variogram needs samples in two places or more.", "Take more points.")
    step = lag if lag is not None else far / 15.0
    lags = max(int(np.ceil(far / step)), 1)
    along = np.nan if bearing is None else np.deg2rad(bearing)
    sums = np.zeros((lags, 3))
    binned(x, y, values, step, far, along, np.cos(np.deg2rad(tolerance)), sums)
    some = sums[:, 0] > 0
    count = sums[some, 0]
    return Experimental(sums[some, 1] / count, 0.5 * sums[some, 2] / count, count.astype(np.int64))


def pair_cloud(x: np.ndarray, y: np.ndarray, values: np.ndarray, most: int = 2000) -> np.ndarray:
    """Distance, bearing and half of the squared difference of each pair of some samples.

    Parameters
    ----------
    x
        Metres to the east (n).
    y
        Metres to the north (n).
    values
        What was measured (n).
    most
        Pairs that are wanted at the most; of more samples some are drawn by a seed.

    Returns
    -------
    np.ndarray
        A row for each pair (m, 5): distance in metres, bearing in degrees from 0 to below 180, half of the
        squared difference, and the numbers of the two samples.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.variogram import pair_cloud
    >>> pair_cloud(np.array([0.0, 3.0]), np.array([0.0, 4.0]), np.array([1.0, 3.0])).tolist()
    [[5.0, 36.86989764584402, 2.0, 0.0, 1.0]]
    """
    held = min(x.size, int((1.0 + np.sqrt(1.0 + 8.0 * most)) / 2.0))
    drawn = np.sort(np.random.default_rng(1).choice(x.size, held, replace=False)) if held < x.size else None
    which = np.arange(x.size) if drawn is None else drawn
    out = np.empty((held * (held - 1) // 2, 5))
    px, py, z = (np.ascontiguousarray(v[which], np.float64) for v in (x, y, values))
    all_pairs(px, py, z, which, out)
    return out


@dataclass(frozen=True, eq=False)
class VariogramMap:
    """Half of the mean squared difference by the way from one sample to the other: ``lag`` metres to the
    east, and to the north (k), values and numbers of pairs by north and east lag (k, k); NaN without pairs.
    """

    lag: np.ndarray
    semivariance: np.ndarray
    pairs: np.ndarray


def variogram_map(
    x: np.ndarray, y: np.ndarray, values: np.ndarray, *, longest: float | None = None, cells: int = 21
) -> VariogramMap:
    """The variogram by distance and bearing at once: an ellipse around its middle is an anisotropy.

    Parameters
    ----------
    x
        Metres to the east (n).
    y
        Metres to the north (n).
    values
        What was measured (n).
    longest
        Metres to the east or north beyond which pairs do not count; left out, a third of the extent across.
    cells
        Cells along a side, an odd number.

    Returns
    -------
    VariogramMap
        The same on both sides of its middle. Of many samples 1,500 drawn by a seed stand for all.

    Raises
    ------
    MossError
        For samples in one place.

    Source
    ------
    Isaaks and Srivastava 1989, An introduction to applied geostatistics, chapter 7.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.variogram import variogram_map
    >>> made = variogram_map(np.array([0.0, 2.0]), np.zeros(2), np.array([1.0, 3.0]), longest=2.5, cells=5)
    >>> made.semivariance[2].tolist(), made.lag.tolist()
    ([2.0, nan, nan, nan, 2.0], [-2.0, -1.0, 0.0, 1.0, 2.0])
    """
    rng = np.random.default_rng(1)
    some = np.arange(x.size) if x.size <= _MOST_MAPPED else rng.choice(x.size, _MOST_MAPPED, replace=False)
    i, j = np.triu_indices(some.size, 1)
    i, j = some[i], some[j]
    east, north, half = x[j] - x[i], y[j] - y[i], 0.5 * (values[j] - values[i]) ** 2
    if longest is None:
        longest = float(np.hypot(np.ptp(x), np.ptp(y))) / 3.0
    if not longest > 0.0:
        raise MossError("All samples lie in one place.", "Take others.")
    edges = np.linspace(-longest, longest, cells + 1)
    both = np.concatenate([north, -north]), np.concatenate([east, -east])
    twice = np.concatenate([half, half])
    pairs = np.histogram2d(*both, (edges, edges))[0]
    total = np.histogram2d(*both, (edges, edges), weights=twice)[0]
    mean = np.divide(total, pairs, out=np.full_like(total, np.nan), where=pairs > 0)
    return VariogramMap((edges[:-1] + edges[1:]) / 2.0, mean, pairs.astype(np.int64))


def fit(seen: Experimental, shape: Shape | None = None, given: Variogram | None = None) -> Variogram:
    """A model with the least weighted squares to what pairs show, each lag with the weight N/γ² of its own
    (Cressie 1985).

    Parameters
    ----------
    seen
        Lags with pairs.
    shape
        Shape of the model; left out, the one of ``FITTED`` that fits best.
    given
        Where direction, ratio and smoothness come from.

    Returns
    -------
    Variogram
        A nugget and one structure.

    Raises
    ------
    MossError
        For fewer than three lags, or values that are all alike.

    Source
    ------
    Cressie 1985, Fitting variogram models by weighted least squares, Mathematical Geology 17.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.variogram import Experimental, Structure, Variogram, fit
    >>> h = np.linspace(10.0, 200.0, 20)
    >>> true = Variogram(1.0, (Structure("spherical", 4.0, 120.0),))
    >>> made = fit(Experimental(h, true.semivariance(h), np.full(20, 100)), "spherical")
    >>> round(made.nugget, 3), round(made.structures[0].sill, 3), round(made.structures[0].range, 1)
    (1.0, 4.0, 120.0)
    """
    counted = seen.pairs >= min(_FEWEST_PAIRS, int(seen.pairs.max(initial=0)))
    h, gamma, pairs = seen.distance[counted], seen.semivariance[counted], seen.pairs[counted]
    if h.size < 3:
        raise MossError(
            "Too few lags have pairs to fit a variogram to.", "State sill and range, or take more points."
        )
    if not gamma.max() > 0:
        raise MossError("All values are alike: there is no variogram.", "Take another column.")
    base = given or Variogram(0.0, ())
    smooth = base.structures[0].smoothness if base.structures else 1.5
    wanted = ((shape, smooth),) if shape else FITTED
    tried = [_fitted(h, gamma, pairs, s, smoothness) for s, smoothness in wanted]
    nugget, structure, _ = min(tried, key=lambda t: t[2])
    if structure.shape == "gaussian":  # without one it foretells with no error at all
        nugget = max(nugget, _LEAST_NUGGET * structure.sill)
    return replace(base, nugget=nugget, structures=(structure,))


def _fitted(
    h: np.ndarray, gamma: np.ndarray, pairs: np.ndarray, shape: Shape, smoothness: float
) -> tuple[float, Structure, float]:
    """Nugget, structure and cost of the best fit of one shape."""
    from scipy.optimize import least_squares

    top, far = float(gamma.max()), float(h.max())
    weight = np.sqrt(pairs / pairs.sum())

    def model(p: np.ndarray) -> Variogram:
        nugget, sill, reach = np.exp(p) * [top, top, far]
        return Variogram(float(nugget), (Structure(shape, float(sill), float(reach), smoothness),))

    def off(p: np.ndarray) -> np.ndarray:
        said = model(p).semivariance(h)
        return np.asarray(weight * (gamma - said) / np.maximum(said, 1e-6 * top))

    low, high = np.log([1e-9, 1e-6, 1e-3]), np.log([2.0, 20.0, 10.0])
    begun = np.log(np.array(_near_fit(h, gamma, pairs, shape, smoothness)) / [top, top, far])
    best = least_squares(off, np.clip(begun, low + 1e-9, high - 1e-9), bounds=(low, high))
    made = model(best.x)
    tiny = 1e-6 * made.sill
    return (made.nugget if made.nugget > tiny else 0.0), made.structures[0], float(best.cost)


def _near_fit(
    h: np.ndarray, gamma: np.ndarray, pairs: np.ndarray, shape: Shape, smoothness: float
) -> tuple[float, float, float]:
    """Nugget, sill and range that fit best among many ranges and shares of the nugget. Each has the plateau
    that fits it best: weights go by the model itself, so that one over the plateau is found by a linear
    equation (separable least squares; Golub & Pereyra 1973, SIAM Journal on Numerical Analysis 10).
    """
    ranges = float(h.max()) * np.geomspace(0.02, 8.0, _RANGES)
    rises = np.array(
        [Variogram(0.0, (Structure(shape, 1.0, r, smoothness),)).semivariance(h) for r in ranges.tolist()]
    )
    shares = np.concatenate([[1e-5, 1e-4, 1e-3, 0.01], np.linspace(0.04, 0.96, _SHARES)])[:, None, None]
    ratio = gamma / np.maximum(shares + (1.0 - shares) * rises, 1e-6)
    weight = pairs / pairs.sum()
    over = (weight * ratio).sum(axis=2) / (weight * ratio**2).sum(axis=2)
    cost = (weight * (over[..., None] * ratio - 1.0) ** 2).sum(axis=2)
    n, r = np.unravel_index(int(np.argmin(cost)), cost.shape)
    part, plateau = float(shares[n, 0, 0]), 1.0 / float(over[n, r])
    return part * plateau, (1.0 - part) * plateau, float(ranges[r])

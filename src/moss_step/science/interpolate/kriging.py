"""Kriging: the linear estimate with the least expected error, from all samples at once or from those near
each place.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.science.interpolate.kernels.covariance import add_sums, between_places
from moss_step.science.interpolate.kernels.local import krige_near
from moss_step.science.interpolate.variogram import Variogram

ALL_AT_ONCE = 5_000
"""Samples up to which all of them count everywhere; of more, those near each place."""
_BLOCK = 65_536
_ERROR_BLOCK = 4_096
_NOISY = 1e-3
"""Part of the sill from which on a nugget is larger than what single precision loses."""
_PLATE = 5
"""Number of the thin plate among shapes in kernels."""
_LIFTS = (0.0, 1e-10, 1e-9, 1e-8)
"""Parts of the sill that are added to the diagonal until the equations can be solved with digits left."""
_DIGITS = 1e-5
"""Least of the largest root of a pivot that the smallest one is: ten digits of the sill."""


@dataclass(frozen=True, eq=False)
class Samples:
    """n places in metres (stretched, see ``Plane``) with a value each, and the drift there (n, p): its first
    column is 1.
    """

    x: np.ndarray
    y: np.ndarray
    values: np.ndarray
    drift: np.ndarray
    noise: np.ndarray | None = None
    """Share of the nugget that each has (n): 0 for what is known; 1 for all where it is left out."""

    def __len__(self) -> int:
        return len(self.x)

    @cached_property
    def noises(self) -> np.ndarray:
        """Share of the nugget that each has (n)."""
        return np.ones(len(self)) if self.noise is None else np.ascontiguousarray(self.noise, np.float64)

    @cached_property
    def scale(self) -> float:
        """Metres by which the coordinates of its drift are divided."""
        return scale_of(self.x, self.y)


def scale_of(x: np.ndarray, y: np.ndarray) -> float:
    """Metres by which coordinates are divided, so that the columns of a drift are about 1.

    Parameters
    ----------
    x
        Metres to the east (n).
    y
        Metres to the north (n).

    Returns
    -------
    float
        The larger extent.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.kriging import scale_of
    >>> scale_of(np.array([0.0, 30.0]), np.array([0.0, 40.0]))
    40.0
    """
    return max(float(np.ptp(x)), float(np.ptp(y)), 1e-9)


def drift_of(
    x: np.ndarray, y: np.ndarray, degree: int, scale: float, more: np.ndarray | None = None
) -> np.ndarray:
    """Columns of a drift at places: 1, the coordinates, their squares and product; and values of another
    surface.

    Parameters
    ----------
    x
        Metres to the east (n).
    y
        Metres to the north (n).
    degree
        0 for a constant, 1 for a plane, 2 for a quadratic.
    scale
        Metres by which coordinates are divided.
    more
        Values of another surface (n), for an external drift.

    Returns
    -------
    np.ndarray
        The columns (n, p), float64.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.kriging import drift_of
    >>> drift_of(np.array([2.0]), np.array([4.0]), 1, 2.0).tolist()
    [[1.0, 1.0, 2.0]]
    """
    u, v = x / scale, y / scale
    columns = [np.ones(len(u))]
    if degree >= 1:
        columns += [u, v]
    if degree >= 2:
        columns += [u * u, u * v, v * v]
    if more is not None:
        columns.append(np.asarray(more, np.float64))
    return np.column_stack(columns)


class Kriging:
    """All samples in one system of equations, solved once: estimates, their errors, and what leaving samples
    out would give.

    Parameters
    ----------
    samples
        Where and what was measured, no two in one place.
    model
        The variogram, or a thin plate (``Plate``).
    nugget_is_noise
        Whether the nugget is error of measurement, which the surface leaves out; otherwise the surface passes
        through each sample.

    Raises
    ------
    MossError
        Where the equations have no solution.

    Source
    ------
    Matheron 1971, The theory of regionalized variables (dual form); Dubrule 1983, Cross validation of kriging
    in a unique neighborhood, Mathematical Geology 15.
    """

    def __init__(self, samples: Samples, model: Model, nugget_is_noise: bool = True) -> None:
        self.samples, self.model, self.nugget_is_noise = samples, model, nugget_is_noise
        shapes, sills, ranges = model.packed
        held = np.empty((len(samples), len(samples)))
        between_places(shapes, sills, ranges, samples.x, samples.y, samples.x, samples.y, held)
        held[np.diag_indices_from(held)] += model.nugget * samples.noises
        self.covariances = held
        f, z = samples.drift, samples.values
        p = f.shape[1]
        if isinstance(model, Plate):
            self._solve_bordered(held, f, z, p)
            return
        factor = self._factor(held)
        from scipy.linalg import cho_solve

        kf, kz = cho_solve((factor, True), f), cho_solve((factor, True), z)
        self.beta = _solved(f.T @ kf, f.T @ kz)
        self.weights = kz - kf @ self.beta
        self.factor = factor
        self._drift_part = kf

    def _factor(self, held: np.ndarray) -> np.ndarray:
        """Lower triangle of Cholesky; the diagonal is lifted by as little as it takes."""
        from scipy.linalg import cholesky

        for part in _LIFTS:
            try:
                lifted = held if part == 0.0 else held + np.eye(len(held)) * part * held[0, 0]
                factor = np.asarray(cholesky(lifted, lower=True, check_finite=False))
            except np.linalg.LinAlgError:
                continue
            roots = np.diagonal(factor)
            if roots.min() > _DIGITS * roots.max():
                return factor
        raise MossError(
            "The equations of kriging have no solution: samples depend on each other.",
            "Give the variogram a nugget, or another shape than Gaussian.",
        )

    def _solve_bordered(self, held: np.ndarray, f: np.ndarray, z: np.ndarray, p: int) -> None:
        found = _solved(np.block([[held, f], [f.T, np.zeros((p, p))]]), np.concatenate([z, np.zeros(p)]))
        self.weights, self.beta = found[: len(z)], found[len(z) :]

    def estimates(self, x: np.ndarray, y: np.ndarray, drift: np.ndarray) -> np.ndarray:
        """Estimates at places (metres, stretched; n) with the drift there (n, p)."""
        out = np.ascontiguousarray(drift @ self.beta)
        add_sums(*self.model.packed, x, y, self.samples.x, self.samples.y, self.weights, out)
        if not self.nugget_is_noise and self.model.nugget > 0:
            self._pass_through(x, y, out)
        return out

    def _pass_through(self, x: np.ndarray, y: np.ndarray, out: np.ndarray) -> None:
        """At samples the estimate is what was measured."""
        from scipy.spatial import cKDTree

        away, which = cKDTree(np.column_stack([self.samples.x, self.samples.y])).query(
            np.column_stack([x, y]), distance_upper_bound=1e-9 * self.samples.scale
        )
        at = np.isfinite(away)
        out[at] = self.samples.values[which[at]]

    @cached_property
    def _half(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Inverse of the lower triangle, that times the drift, and the inverse of the drift's part."""
        from scipy.linalg.lapack import dtrtri

        inverse, _ = dtrtri(self.factor, lower=1)
        inverse = np.tril(inverse)
        g = inverse @ self.samples.drift
        return inverse, g, np.linalg.inv(g.T @ g)

    @cached_property
    def _short(self) -> np.ndarray:
        """The inverse in single precision."""
        return np.ascontiguousarray(self._half[0], np.float32)

    def variances(self, x: np.ndarray, y: np.ndarray, drift: np.ndarray) -> np.ndarray:
        """Expected squared errors of the estimates at places (n)."""
        from scipy.linalg.blas import dtrmm, strmm

        inverse, g, middle = self._half
        noise = 0.0 if self.nugget_is_noise else self.model.nugget
        # With some noise six digits of the sill are enough, and half as many bytes take a third of the time.
        short = self.model.nugget >= _NOISY * self.model.sill
        kind, multiply = (np.float32, strmm) if short else (np.float64, dtrmm)
        between = np.empty((len(x), len(self.samples)), kind)
        between_places(*self.model.packed, x, y, self.samples.x, self.samples.y, between)
        # Transposed views are in the order that the library works in: nothing is copied.
        lower = self._short if short else inverse
        v = multiply(1.0, lower.T, between.T, side=0, lower=0, trans_a=1, overwrite_b=1)
        rows = v.T  # a row for each place, in the order of memory
        held = np.einsum("ij,ij->i", rows, rows).astype(np.float64)
        left = drift.T - (rows @ g.astype(kind)).T
        result = (
            self.model.sill - self.model.nugget + noise - held + np.einsum("ij,ik,kj->j", left, middle, left)
        )
        return np.asarray(np.maximum(result, 0.0))

    def mean_variance(self, x: np.ndarray, y: np.ndarray, drift: np.ndarray) -> float:
        """Expected squared error of the mean of the estimates at places (n), whose errors go together: block
        kriging (Journel & Huijbregts 1978).
        """
        inverse, g, middle = self._half
        own = np.zeros(1)
        between = np.empty((len(x), len(self.samples)))
        between_places(*self.model.packed, x, y, self.samples.x, self.samples.y, between)
        for first in range(0, len(x), _ERROR_BLOCK):
            part = slice(first, first + _ERROR_BLOCK)
            among = np.empty((len(x[part]), len(x)))
            between_places(*self.model.packed, x[part], y[part], x, y, among)
            own += among.sum()
        v = inverse @ between.mean(axis=0)
        left = drift.mean(axis=0) - g.T @ v
        return max(float(own[0]) / len(x) ** 2 - float(v @ v) + float(left @ middle @ left), 0.0)

    @cached_property
    def _without(self) -> np.ndarray:
        """What is left of the inverse once the drift is taken out (n, n): Dubrule's matrix."""
        inverse, g, middle = self._half
        w = inverse.T @ g
        return np.asarray(inverse.T @ inverse - w @ middle @ w.T)

    def left_out(self, folds: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Errors that samples would have were they left out (measured less estimate, n), and what is
        expected of these (standard deviations, n); one by one, or all of a fold (numbers, n) together.
        """
        q = self._without
        qz = q @ self.samples.values
        if folds is None:
            d = np.diagonal(q)
            return qz / d, 1.0 / np.sqrt(d)
        errors, spread = np.empty(len(qz)), np.empty(len(qz))
        for fold in np.unique(folds):
            some = np.flatnonzero(folds == fold)
            inverse = np.linalg.inv(q[np.ix_(some, some)])
            errors[some] = inverse @ qz[some]
            spread[some] = np.sqrt(np.maximum(np.diagonal(inverse), 0.0))
        return errors, spread


@dataclass(frozen=True)
class Plate:
    """A thin plate: the surface that bends least (Duchon 1976), as kriging with r² log r (Dubrule 1984).

    ``nugget`` is how far it may leave the samples, 0 for through each.
    """

    nugget: float = 0.0
    scale: float = 1.0
    """Metres that r is divided by: the surface is the same, the equations are solved with more digits."""

    @property
    def sill(self) -> float:
        """It has none: no error is expected."""
        return self.nugget

    @property
    def packed(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Shapes, sills and ranges as kernels take them."""
        return np.array([_PLATE], np.int64), np.ones(1), np.array([self.scale])


Model = Variogram | Plate


def _solved(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    """Solve a symmetric system.

    Raises MossError where it has no solution.
    """
    from scipy.linalg import LinAlgWarning, solve

    with warnings.catch_warnings():
        warnings.simplefilter("error", LinAlgWarning)
        try:
            return np.asarray(solve(left, right, assume_a="sym"))
        except (np.linalg.LinAlgError, LinAlgWarning, ValueError) as error:
            raise MossError(
                "The samples do not tell the trend: they lie on one line, or in too few places.",
                "Take no trend, or more points.",
            ) from error


def estimates_near(
    samples: Samples,
    model: Model,
    x: np.ndarray,
    y: np.ndarray,
    drift: np.ndarray,
    count: int,
    *,
    nugget_is_noise: bool = True,
    skip_self: bool = False,
    progress: Progress | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """Estimates from the samples near each place, without seams: the farthest of them count ever less, and
    nothing where another takes their place.

    Parameters
    ----------
    samples
        Where and what was measured, no two in one place.
    model
        The variogram, or a thin plate.
    x
        Metres to the east, stretched (n).
    y
        Metres to the north, stretched (n).
    drift
        The drift at these places (n, p).
    count
        Samples near a place that count.
    nugget_is_noise
        Whether the nugget is error of measurement, which the surface leaves out.
    skip_self
        Whether the places are the samples themselves, each left out for itself.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Estimates (n), and the standard deviations of their errors (n), 0 for a thin plate.

    Source
    ------
    Rivoirard & Romary 2011, Continuity for kriging with moving neighborhood, Mathematical Geosciences 43.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.kriging import Samples, drift_of, estimates_near
    >>> from moss_step.science.interpolate.variogram import Variogram
    >>> x, y = np.array([0.0, 10.0, 0.0, 10.0]), np.array([0.0, 0.0, 10.0, 10.0])
    >>> held = Samples(x, y, x, np.ones((4, 1)))
    >>> model = Variogram.single("spherical", 1.0, 50.0)
    >>> near, _ = estimates_near(held, model, np.array([5.0]), np.array([5.0]), np.ones((1, 1)), 4)
    >>> near.round(6).tolist()
    [5.0]
    """
    from scipy.spatial import cKDTree

    progress = progress or silent()
    tree = cKDTree(np.column_stack([samples.x, samples.y]))
    asked = min(count + 1 + skip_self, len(samples))
    out, spread = np.empty(len(x)), np.empty(len(x))
    for first in range(0, len(x), _BLOCK):
        progress.at(first / max(len(x), 1), "Kriging from near samples")
        part = slice(first, first + _BLOCK)
        away, near = tree.query(np.column_stack([x[part], y[part]]), k=asked, workers=-1)
        away, near = away.reshape(-1, asked), near.reshape(-1, asked)
        if skip_self:
            away, near = away[:, 1:], near[:, 1:]
        # The first that does not count is where those that do have lost all their weight.
        last = away[:, -1] if away.shape[1] > count else np.full(len(away), np.inf)
        reach = np.ascontiguousarray(last)
        near = np.ascontiguousarray(near[:, :count])
        krige_near(
            model.packed, model.nugget, nugget_is_noise and not skip_self,
            (samples.x, samples.y, samples.values, samples.drift, samples.noises),
            (x[part], y[part], np.ascontiguousarray(drift[part])), near, reach, out[part], spread[part],
        )  # fmt: skip
    return out, spread

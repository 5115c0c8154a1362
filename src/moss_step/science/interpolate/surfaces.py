"""Surfaces between samples by one of several methods, and how well each foretells samples left out."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Literal, cast

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box
from moss_step.model.progress import Progress, silent
from moss_step.science.framing import frame_around, round_side
from moss_step.science.interpolate.kriging import (
    ALL_AT_ONCE,
    Kriging,
    Model,
    Plate,
    Samples,
    drift_of,
    estimates_near,
    scale_of,
)
from moss_step.science.interpolate.neighbours import NaturalNeighbours, NearSamples
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.variogram import Experimental, Shape, Variogram, experimental, fit

Method = Literal["kriging", "tin", "natural_neighbour", "inverse_distance", "nearest", "spline"]
Trend = Literal["none", "plane", "quadratic"]
METHODS: tuple[Method, ...] = (
    "kriging", "natural_neighbour", "tin", "inverse_distance", "spline", "nearest",
)  # fmt: skip
DEGREES: dict[str, int] = {"none": 0, "plane": 1, "quadratic": 2}
_AT_ONCE = 32_768
"""Places that are worked on between two reports."""
_ERRORS_AT_ONCE = 4_096
MEANT = 2_500
"""Places that stand for all where the error of their mean is wanted."""
_FEWEST_PAIRED = 10
"""Measured places that a variogram is fitted to; with fewer, what is known along outlines counts, too."""


_Finder = Callable[[np.ndarray, np.ndarray, np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Choice:
    """How values between samples are found.

    ``model`` is the variogram of kriging, None for one that is fitted with ``shape`` (None for the best);
    ``neighbours`` are the samples near a place that count where not all do, ``power`` is that of the inverse
    distance, ``smoothing`` how far a spline may leave the samples.
    """

    method: Method = "kriging"
    trend: Trend = "none"
    model: Variogram | None = None
    shape: Shape | None = None
    direction: float = 0.0
    ratio: float = 1.0
    neighbours: int = 24
    power: float = 2.0
    smoothing: float = 0.0
    exact: bool = False


class Interpolator:
    """A surface between samples: values at places, their errors, and what leaving samples out gives.

    Parameters
    ----------
    held
        Places with values, no two in one.
    plane
        Metres of their coordinates.
    choice
        How values between are found.
    external
        Values of another surface at the places (n), for an external drift of kriging.

    Raises
    ------
    MossError
        For too few samples, or equations without a solution.
    """

    def __init__(
        self, held: Measured, plane: Plane, choice: Choice, external: np.ndarray | None = None
    ) -> None:
        self.plane, self.choice = replace(plane, direction=choice.direction, ratio=choice.ratio), choice
        self.held, self.external = held, external
        self.x, self.y = self.plane.places(held.x, held.y)
        degree = DEGREES[choice.trend]
        drift = drift_of(self.x, self.y, degree, scale_of(self.x, self.y), external)
        _check_enough(len(held), drift.shape[1], choice)
        self.samples = Samples(self.x, self.y, held.values, drift, held.noises)
        self.seen: Experimental | None = None
        self.model: Model | None = None
        self._beta = np.zeros(drift.shape[1])
        if choice.method == "kriging":
            self.model = choice.model or self._fitted()
        elif degree or external is not None:
            self._beta = _least_squares(drift, held.values)
        self._values = held.values - drift @ self._beta
        self._whole: Kriging | None = None
        self._near: NearSamples | None = None
        self._at = self._prepared()

    def _fitted(self) -> Variogram:
        """A variogram of what is left once the trend is taken off."""
        left = self.samples.values
        if self.samples.drift.shape[1] > 1:
            left = left - self.samples.drift @ _least_squares(self.samples.drift, left)
        # What is known along an outline is no sample of the ground between.
        own = self.held.noises > 0
        own = own if own.sum() >= _FEWEST_PAIRED else np.ones(len(own), bool)
        self.seen = experimental(self.x[own], self.y[own], left[own])
        given = Variogram(0.0, (), self.choice.direction, self.choice.ratio)
        return fit(self.seen, self.choice.shape, given)

    @property
    def everywhere(self) -> bool:
        """Whether all samples count everywhere, not those near a place alone."""
        return len(self.held) <= ALL_AT_ONCE

    def _prepared(self) -> _Finder:
        """What gives values at places, stretched, with the drift there; the trend is not in them yet."""
        c = self.choice
        if c.method in ("kriging", "spline"):
            return self._krige()
        if c.method in ("natural_neighbour", "tin"):
            return self._on_cells_of_samples(c.method == "tin")
        count = 1 if c.method == "nearest" else c.neighbours
        self._near = near = NearSamples(self.x, self.y, self._values, count, c.power)
        return lambda x, y, drift: near.at(x, y)

    def _krige(self) -> _Finder:
        c, samples = self.choice, self.samples
        if c.method == "spline":  # a thin plate leans on a plane of its own
            scale = samples.scale
            plane = drift_of(self.x, self.y, 1, scale)
            samples = Samples(self.x, self.y, self._values, plane, self.held.noises)
            self.model = Plate(c.smoothing * len(samples), scale)
        model = cast(Model, self.model)
        if self.everywhere:
            self._whole = Kriging(samples, model, not c.exact)
            whole = self._whole
            return lambda x, y, drift: whole.estimates(x, y, self._own_drift(x, y, drift))
        return lambda x, y, drift: estimates_near(
            samples, model, x, y, self._own_drift(x, y, drift), c.neighbours,
            nugget_is_noise=not c.exact,
        )[0]  # fmt: skip

    def _own_drift(self, x: np.ndarray, y: np.ndarray, drift: np.ndarray) -> np.ndarray:
        return drift_of(x, y, 1, self.samples.scale) if self.choice.method == "spline" else drift

    def _on_cells_of_samples(self, flat: bool) -> _Finder:
        made = NaturalNeighbours(self.x, self.y, self._values)
        return lambda x, y, drift: made.at(x, y, flat=flat)

    def at(
        self,
        x: np.ndarray,
        y: np.ndarray,
        external: np.ndarray | None = None,
        progress: Progress | None = None,
    ) -> np.ndarray:
        """Values at places in units of the reference system (n), with the other surface's values there."""
        out = np.empty(len(x))
        doing = "Finding values between the samples"
        for part, u, v, drift in self._pieces(x, y, external, _AT_ONCE, progress, doing):
            out[part] = self._at(u, v, drift)
            if self.choice.method != "kriging":
                out[part] += drift @ self._beta
        return out

    def _pieces(
        self, x: np.ndarray, y: np.ndarray, external: np.ndarray | None, size: int,
        progress: Progress | None, doing: str,
    ) -> Iterator[tuple[slice, np.ndarray, np.ndarray, np.ndarray]]:  # fmt: skip
        """Some places at a time, with a report before each: which they are, where on the plane, and the drift
        there.
        """
        progress = progress or silent()
        u, v = self.plane.places(x, y)
        for first in range(0, len(x), size):
            progress.at(first / len(x), doing)
            part = slice(first, first + size)
            more = None if external is None else external[part]
            yield part, u[part], v[part], self._drift(u[part], v[part], more)

    def _drift(self, u: np.ndarray, v: np.ndarray, external: np.ndarray | None) -> np.ndarray:
        return drift_of(u, v, DEGREES[self.choice.trend], self.samples.scale, external)

    def errors_at(
        self,
        x: np.ndarray,
        y: np.ndarray,
        external: np.ndarray | None = None,
        progress: Progress | None = None,
    ) -> np.ndarray:
        """Standard deviations of the errors that kriging expects at places (n).

        Raises AskedWronglyError for other methods: they expect none.
        """
        if self.choice.method != "kriging" or self.model is None:
            raise AskedWronglyError("Only kriging says how far it may be off.", "Take kriging as the method.")
        out = np.empty(len(x))
        size = _ERRORS_AT_ONCE if self._whole is not None else _AT_ONCE
        doing = "Finding the error between the samples"
        for part, u, v, drift in self._pieces(x, y, external, size, progress, doing):
            if self._whole is not None:
                out[part] = np.sqrt(self._whole.variances(u, v, drift))
            else:
                out[part] = estimates_near(
                    self.samples, self.model, u, v, drift, self.choice.neighbours,
                    nugget_is_noise=not self.choice.exact,
                )[1]  # fmt: skip
        return out

    def mean_error(self, x: np.ndarray, y: np.ndarray, external: np.ndarray | None = None) -> float:
        """Standard deviation that kriging expects of the mean of all values at places (n); NaN where not all
        samples count everywhere. Of many places an even choice stands for all.
        """
        if self._whole is None or self.choice.method != "kriging":
            return float("nan")
        some = np.unique(np.linspace(0, len(x) - 1, min(len(x), MEANT)).astype(np.int64))
        u, v = self.plane.places(x[some], y[some])
        drift = self._drift(u, v, None if external is None else external[some])
        return float(np.sqrt(self._whole.mean_variance(u, v, drift)))

    def distances(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """Metres from places to the nearest sample (n), stretched as the samples are."""
        near = self._near or NearSamples(self.x, self.y, self._values, 1)
        return near.distances(*self.plane.places(x, y))

    def left_out(self, folds: int | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Errors of samples that are left out, measured less found (n), and the standard deviations that
        kriging expects of these (NaN for other methods); one by one, or in so many folds drawn by a seed.
        """
        if self.choice.method == "kriging" and self._whole is not None:
            return self._whole.left_out(None if folds is None else fold_numbers(len(self.held), folds))
        if self.choice.method == "kriging" and self.model is not None and folds is None:
            found, spread = estimates_near(
                self.samples, self.model, self.x, self.y, self.samples.drift, self.choice.neighbours,
                skip_self=True,
            )  # fmt: skip
            return self.held.values - found, spread
        return self._refitted(fold_numbers(len(self.held), folds or 10))

    def _refitted(self, folds: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Errors fold by fold, each from the others; the variogram stays."""
        errors = np.full(len(folds), np.nan)
        spread = np.full(len(folds), np.nan)
        fixed = replace(self.choice, model=self.model) if isinstance(self.model, Variogram) else self.choice
        for fold in range(int(folds.max()) + 1):
            out = folds == fold
            rest = ~out
            held = self.held.part(rest)
            more = None if self.external is None else self.external[rest]
            there = None if self.external is None else self.external[out]
            made = Interpolator(held, self.plane, fixed, more)
            errors[out] = self.held.values[out] - made.at(self.held.x[out], self.held.y[out], there)
            if self.choice.method == "kriging":
                noise = 0.0 if self.choice.exact or self.model is None else self.model.nugget
                error = made.errors_at(self.held.x[out], self.held.y[out], there)
                spread[out] = np.sqrt(error**2 + noise)
        return errors, spread


def fold_numbers(count: int, folds: int) -> np.ndarray:
    """Which fold each sample is in, drawn by a seed: as many in each as in any, within one.

    Parameters
    ----------
    count
        Samples.
    folds
        Folds; no more than samples.

    Returns
    -------
    np.ndarray
        Numbers from 0 (n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.surfaces import fold_numbers
    >>> np.bincount(fold_numbers(10, 3)).tolist()
    [4, 3, 3]
    """
    return np.random.default_rng(1).permutation(np.arange(count) % min(folds, count))


def _check_enough(count: int, terms: int, choice: Choice) -> None:
    """Raise MossError for fewer samples than a method needs."""
    least = {"kriging": terms + 1, "spline": 3, "tin": 3, "natural_neighbour": 3}.get(choice.method, terms)
    if count < max(least, terms, 1):
        raise MossError(
            f"{count} place{'s' if count != 1 else ''} with a value "
            f"{'are' if count != 1 else 'is'} too few: this needs {max(least, terms)}.",
            "Take more points, or another method.",
        )


def _least_squares(drift: np.ndarray, values: np.ndarray) -> np.ndarray:
    return np.asarray(np.linalg.lstsq(drift, values, rcond=None)[0])


def proposed_cell(held: Measured, plane: Plane) -> float:
    """A cell that samples warrant: half of the mean spacing, as a round number (Hengl 2006).

    Parameters
    ----------
    held
        Places with values.
    plane
        Metres of their coordinates.

    Returns
    -------
    float
        Side of the cell, in units of the reference system.

    Source
    ------
    Hengl 2006, Finding the right pixel size, Computers & Geosciences 32; from memory.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.places import Measured
    >>> from moss_step.science.interpolate.plane import Plane
    >>> from moss_step.science.interpolate.surfaces import proposed_cell
    >>> x, y = (v.ravel() for v in np.meshgrid(np.arange(0.0, 100.0, 10.0), np.arange(0.0, 100.0, 10.0)))
    >>> proposed_cell(Measured(x, y, x), Plane(0.0, 0.0, 1.0, 1.0))
    5.0
    """
    x, y = plane.places(held.x, held.y)
    hull = shapely.convex_hull(shapely.multipoints(np.column_stack([x, y])))
    metre = math.sqrt(plane.wide * plane.high)
    across = max(float(np.ptp(x)), float(np.ptp(y)), 1.0)
    area = max(float(shapely.area(hull)), (across / 100.0) ** 2)
    side = 0.5 * math.sqrt(area / len(held)) / metre
    return round_side(side)


def plane_around(box: Box, crs: str | None) -> Plane:
    """The plane of a box: metres of its units are those of its middle.

    Parameters
    ----------
    box
        xmin, ymin, xmax, ymax in units of the reference system.
    crs
        The reference system.

    Returns
    -------
    Plane
        Metres of coordinates.

    Examples
    --------
    >>> from moss_step.science.interpolate.surfaces import plane_around
    >>> plane_around((0.0, 0.0, 10.0, 10.0), "EPSG:32628").wide
    1.0
    """
    span = max(box[2] - box[0], box[3] - box[1])
    return Plane.of(frame_around(box, span / 9.0 if span > 0 else 1e-5, crs))

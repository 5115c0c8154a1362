"""Measures of shape: how the points around each one lie, as line, plane or ball, and how they stand."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.science.points.kernels.near import above_and_below, forms, means, moments, reaches
from moss_step.science.points.near import Near, near_of, rising

FORMS = (
    "point_density", "height_deviation", "linearity", "planarity", "scattering", "omnivariance",
    "anisotropy", "eigenentropy", "surface_variation", "verticality", "roughness",
    "normal_x", "normal_y", "normal_z", "thickness",
)  # fmt: skip
"""Measures of the points within a radius, in the order of the kernel."""
SHAPES = (*FORMS[:11], "height_range", "echo_ratio")
"""Measures that can be asked for."""
BANDS = ("intensity", "red", "green", "blue")
"""Attributes of which mean and deviation can be asked for."""
_TIE = 1e-9
"""What lies at the radius itself is within it, whatever is rounded."""


def forms_of(flat: Cloud, radius: float, order: np.ndarray | None = None) -> tuple[np.ndarray, Near]:
    """Measures of shape of the points within a radius of each, itself among them.

    With the eigenvalues l1 >= l2 >= l3 of the covariance of their places: linearity (l1 - l2) / l1,
    planarity (l2 - l3) / l1, scattering l3 / l1, anisotropy (l1 - l3) / l1 (Demantké et al. 2011; Weinmann
    et al. 2015); of their shares e: omnivariance (e1 e2 e3) ** (1 / 3), eigenentropy -sum e ln e, surface
    variation e3; verticality 1 - abs(nz) of the plane's normal; roughness is the distance of the point from
    the plane; point_density points a cubic metre of the ball.

    Parameters
    ----------
    flat
        n points in metres.
    radius
        Metres.
    order
        The points as ``rising`` gives them, where that is at hand.

    Returns
    -------
    tuple[np.ndarray, Near]
        float32 (k, 15), of columns ``FORMS``, in the order of the points laid out, and how they are; NaN
        where fewer than three points, or points in one place, have no shape.

    Raises
    ------
    MossError
        For a radius that is not above 0.

    Examples
    --------
    >>> from moss_step.science.points.measures import FORMS, forms_of
    >>> from moss_step.science.sample import scattered
    >>> found, near = forms_of(scattered(20), 2.5)
    >>> bool((found[:, FORMS.index("planarity")] > 0.3).mean() > 0.8)
    True
    """
    if not radius > 0.0:
        raise MossError(f"A radius of {radius:g} m holds no points.", "Take a larger one.")
    radius *= 1.0 + _TIE
    near = near_of(flat, radius, order)
    held = np.empty((len(near.x), 10))
    moments(near.x, near.y, near.z, near.starts, near.shape, radius, held)
    out = np.empty((len(near.x), len(FORMS)), np.float32)
    forms(held, radius, out)
    return out, near


def shape_measures(
    flat: Cloud,
    radii: Sequence[float],
    wanted: Sequence[str],
    best: bool = False,
    progress: Progress | None = None,
) -> dict[str, np.ndarray]:
    """Measures of shape at one or several radii.

    Parameters
    ----------
    flat
        n points in metres.
    radii
        Metres, one or more.
    wanted
        Some of ``SHAPES``.
    best
        Whether each point gets the measures of the radius at which its eigenentropy is least (Weinmann et al.
        2015), in place of those of each radius.
    progress
        Told how far it is.

    Returns
    -------
    dict[str, np.ndarray]
        float32 (n), by measure and radius in centimetres, as ``planarity_150cm``; of the best radius by
        measure alone, with it in metres as ``best_radius``. NaN for points that have no shape.

    Raises
    ------
    MossError
        For no radius, or one that is not above 0.

    Examples
    --------
    >>> from moss_step.science.points.measures import shape_measures
    >>> from moss_step.science.sample import scattered
    >>> list(shape_measures(scattered(4), [1.5, 3.0], ["planarity"]))
    ['planarity_150cm', 'planarity_300cm']
    """
    if not radii:
        raise MossError("No radius is given.", "Give one or more, in metres.")
    progress = progress or silent()
    result: dict[str, np.ndarray] = {}
    order = rising(flat)
    entropy = np.full(len(flat), np.inf, np.float32)
    for k, radius in enumerate(radii):
        progress.at(k / len(radii), f"Points within {radius:g} m")
        here, random = _at_radius(flat, radius, wanted, order)
        if not best:
            result |= {name_at(name, radius): values for name, values in here.items()}
            continue
        here["best_radius"] = np.full(len(flat), radius, np.float32)
        less = (np.nan_to_num(random, nan=np.inf) < entropy) | (k == 0)
        for name, values in here.items():
            result[name] = np.where(less, values, result.get(name, values))
        entropy = np.where(less, np.nan_to_num(random, nan=np.inf), entropy)
    return result


def _at_radius(
    flat: Cloud, radius: float, wanted: Sequence[str], order: np.ndarray
) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """Measures by name, and the eigenentropy."""
    found, near = forms_of(flat, radius, order)
    names = {n: found[:, FORMS.index(n)] for n in wanted if n in FORMS}
    if "echo_ratio" in wanted:
        beside = np.empty(len(near.x))
        above_and_below(near.x, near.y, near.starts, near.shape, radius * (1.0 + _TIE), beside)
        ball = found[:, 0] * np.float32(4.0 / 3.0 * np.pi * radius**3)
        names["echo_ratio"] = (ball / beside).astype(np.float32)
    if "height_range" in wanted:
        names["height_range"] = np.empty(len(near.x), np.float32)
        reaches(near.x, near.y, near.z, near.starts, near.shape, radius * (1.0 + _TIE), names["height_range"])
    placed = {n: near.back(v, len(flat)) for n, v in names.items()}
    return placed, near.back(found[:, FORMS.index("eigenentropy")], len(flat))


def band_statistics(
    flat: Cloud, radii: Sequence[float], bands: dict[str, np.ndarray]
) -> dict[str, np.ndarray]:
    """Means and standard deviations of attributes of the points within radii of each.

    Parameters
    ----------
    flat
        n points in metres.
    radii
        Metres.
    bands
        Values of the points (n) by name.

    Returns
    -------
    dict[str, np.ndarray]
        float32 (n), as ``intensity_mean_150cm`` and ``intensity_deviation_150cm``.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.measures import band_statistics
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(3)
    >>> found = band_statistics(cloud, [50.0], {"intensity": np.arange(9.0)})
    >>> float(found["intensity_mean_5000cm"][0])
    4.0
    """
    result: dict[str, np.ndarray] = {}
    order = rising(flat)
    for radius in radii:
        near = near_of(flat, radius, order)
        for name, values in bands.items():
            out = np.empty((len(near.x), 2))
            held = np.asarray(values, np.float64)[near.order]
            means(near.x, near.y, near.z, held, near.starts, near.shape, radius * (1.0 + _TIE), out)
            for k, what in enumerate(("mean", "deviation")):
                placed = near.back(out[:, k].astype(np.float32), len(flat))
                result[name_at(f"{name}_{what}", radius)] = placed
    return result


def name_at(measure: str, radius: float) -> str:
    """Name of a measure at a radius.

    Parameters
    ----------
    measure
        Its name.
    radius
        Metres.

    Returns
    -------
    str
        With the radius in centimetres.

    Examples
    --------
    >>> from moss_step.science.points.measures import name_at
    >>> name_at("planarity", 1.5)
    'planarity_150cm'
    """
    return f"{measure}_{round(radius * 100)}cm"

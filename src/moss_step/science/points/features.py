"""What points are told apart by: measures of shape at several radii, height above the ground, and what the
pulse and the picture say.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.science.points.measures import SHAPES, band_statistics, name_at, shape_measures

USUAL = (
    "linearity", "planarity", "eigenentropy", "surface_variation", "verticality", "roughness",
    "height_deviation", "height_range",
)  # fmt: skip
"""Measures of shape that classes are learned by."""
HEIGHT, ECHO = "height_above", "echo"
_AT, _BAND = re.compile(r"^([a-z_]+)_(\d{1,6})cm$"), re.compile(r"^([a-z_]+)_(mean|deviation)$")
_NO_SHAPE = -1.0
"""What stands for a measure of a point that has none."""


def names_for(radii: Sequence[float], bands: Sequence[str] = (), echoes: bool = False) -> tuple[str, ...]:
    """Columns that classes are learned by.

    Parameters
    ----------
    radii
        Metres.
    bands
        Attributes whose means and deviations count.
    echoes
        Whether the points know their returns.

    Returns
    -------
    tuple[str, ...]
        Names.

    Examples
    --------
    >>> from moss_step.science.points.features import names_for
    >>> names_for([1.0])[:2]
    ('linearity_100cm', 'planarity_100cm')
    """
    shapes = [name_at(n, r) for r in radii for n in USUAL]
    heights = [name_at(f"{HEIGHT}_{what}", r) for r in radii for what in ("mean", "deviation")]
    said = [name_at(f"{b}_{what}", radii[0]) for b in bands for what in ("mean", "deviation")]
    return (*shapes, *heights, *said, HEIGHT, *((ECHO,) if echoes else ()))


def columns_for(
    flat: Cloud,
    above: np.ndarray,
    names: Sequence[str],
    attributes: Mapping[str, np.ndarray],
    progress: Progress | None = None,
) -> np.ndarray:
    """Values of points by which classes are told apart.

    Parameters
    ----------
    flat
        n points in metres: those alone that may get a class, so that the ground below them does not count
        for their shapes.
    above
        Heights above the ground in metres (n).
    names
        Columns, as ``names_for`` gives them.
    attributes
        What the points came with (n each): returns, and bands.
    progress
        Told how far it is.

    Returns
    -------
    np.ndarray
        float32 (n, columns); -1 where a point has no shape.

    Raises
    ------
    MossError
        For columns that no points have, and for attributes that these have not.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.features import columns_for
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(3)
    >>> columns_for(cloud, np.zeros(9), ["planarity_200cm", "height_above"], {}).shape
    (9, 2)
    """
    progress = progress or silent()
    attributes = {**attributes, HEIGHT: above}
    out = np.full((len(flat), len(names)), _NO_SHAPE, np.float32)
    at = {n: k for k, n in enumerate(names)}
    by_radius: dict[float, tuple[list[str], list[str]]] = {}
    for name in names:
        if name == HEIGHT:
            out[:, at[name]] = above
        elif name == ECHO:
            out[:, at[name]] = _echoes(attributes)
        else:
            shape, band, radius = _parsed(name, attributes)
            shapes, bands = by_radius.setdefault(radius, ([], []))
            shapes.append(shape) if shape else bands.append(band)
    for k, (radius, (shapes, bands)) in enumerate(by_radius.items()):
        part = progress.part(k / len(by_radius), (k + 1) / len(by_radius))
        found = shape_measures(flat, [radius], shapes, progress=part) if shapes else {}
        found |= band_statistics(flat, [radius], {b: attributes[b] for b in bands}) if bands else {}
        for name, values in found.items():
            if name in at:
                out[:, at[name]] = np.nan_to_num(values, nan=_NO_SHAPE)
    return out


def _parsed(name: str, attributes: Mapping[str, np.ndarray]) -> tuple[str, str, float]:
    """Measure of shape or attribute of a column, and its radius in metres."""
    parts = _AT.match(name)
    if parts is None or not int(parts[2]):
        raise MossError(f"No points have '{name}'.", "Train the class again.")
    what, radius = parts[1], int(parts[2]) / 100.0
    if what in SHAPES:
        return what, "", radius
    band = _BAND.match(what)
    if band is None or band[1] not in attributes:
        said = (band[1] if band else what).replace("_", " ")
        raise MossError(f"The points have no {said}.", "Take points that have it, or train without it.")
    return "", band[1], radius


def _echoes(attributes: Mapping[str, np.ndarray]) -> np.ndarray:
    """Number of the return less 1, over the returns of the pulse: 0 for the first."""
    if not {"return_number", "number_of_returns"} <= attributes.keys():
        raise MossError(
            "The points do not know their returns.", "Take points that do, or train without them."
        )
    of = np.maximum(np.asarray(attributes["number_of_returns"], np.float32), 1.0)
    return np.asarray((np.asarray(attributes["return_number"], np.float32) - 1.0) / of + (of > 1.0))

"""What is suspicious in a table of measured places: values far from their neighbours, swapped axes."""

from __future__ import annotations

import numpy as np

from moss_step.model.frame import carried, reference_system

_NEAR = 8
_FAR = 6.0
"""Times the usual spread (1.4826 times the median deviation) from which on a value lies far from the rest."""
_TO_SPREAD = 1.4826
_NO_VALUES = (-9999.0, -99999.0, -32768.0, 9999.0, 99999.0, -999.0)
"""What tables write for no value (common practice)."""


def far_from_rest(x: np.ndarray, y: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Which values lie far from those of their nearest places.

    Parameters
    ----------
    x
        First coordinates (n).
    y
        Second coordinates (n).
    values
        What was measured (n).

    Returns
    -------
    np.ndarray
        Yes or no (n): off the median of eight near ones by six times the usual spread of that.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.table_check import far_from_rest
    >>> x = np.arange(30.0)
    >>> z = np.sin(x)
    >>> z[12] = 80.0
    >>> np.flatnonzero(far_from_rest(x, np.zeros(30), z)).tolist()
    [12]
    """
    from scipy.spatial import cKDTree

    if len(x) < _NEAR + 2:
        return np.zeros(len(x), bool)
    _, near = cKDTree(np.column_stack([x, y])).query(np.column_stack([x, y]), k=_NEAR + 1, workers=-1)
    # The place itself is among its nearest, but not always the first: several may stand in one place.
    own = near == np.arange(len(x))[:, None]
    own[~own.any(axis=1), -1] = True
    others = near[~own].reshape(len(x), _NEAR)
    off = np.abs(values - np.median(values[others], axis=1))
    spread = _TO_SPREAD * float(np.median(off))
    least = 1e-9 * max(float(np.ptp(values)), 1e-9)
    return np.asarray(off > max(_FAR * spread, least))


def stand_for_nothing(values: np.ndarray) -> np.ndarray:
    """Which values are such as tables write for no value, and lie far outside all others.

    Parameters
    ----------
    values
        What was measured (n), NaN where there is none.

    Returns
    -------
    np.ndarray
        Yes or no (n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.table_check import stand_for_nothing
    >>> stand_for_nothing(np.array([1.0, -9999.0, 2.0])).tolist()
    [False, True, False]
    """
    marks = np.isin(values, _NO_VALUES)
    rest = values[~marks & np.isfinite(values)]
    if not marks.any() or not rest.size:
        return np.zeros(len(values), bool)
    low, high = rest.min(), rest.max()
    room = 2.0 * max(float(high - low), 1.0)
    return np.asarray(marks & ((values < low - room) | (values > high + room)))


def swapped_axes(x: np.ndarray, y: np.ndarray, crs: str | None) -> bool:
    """Whether the coordinates lie where a reference system is used only with the axes the other way round.

    Parameters
    ----------
    x
        First coordinates (n): east, or longitude.
    y
        Second coordinates (n): north, or latitude.
    crs
        The reference system; None for one that is not known.

    Returns
    -------
    bool
        Whether they seem swapped: by the area that the system is made for.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.table_check import swapped_axes
    >>> swapped_axes(np.array([5870000.0]), np.array([413000.0]), "EPSG:32628")
    True
    """
    if crs is None or not len(x):
        return False
    return not _within_use(x, y, crs) and _within_use(y, x, crs)


def _within_use(x: np.ndarray, y: np.ndarray, crs: str) -> bool:
    """Whether the middle of some places lies in the area that a system is made for, or near it."""
    system = reference_system(crs)
    area = system.area_of_use
    middle = np.array([np.median(x)]), np.array([np.median(y)])
    lon, lat = middle if system.is_geographic else carried(system, "EPSG:4326", *middle)
    if not (np.isfinite(lon).all() and np.isfinite(lat).all()) or abs(lat[0]) > 90.0:
        return False
    if area is None:
        return True
    wide, high = 0.5 * (area.east - area.west) + 1.0, 0.5 * (area.north - area.south)
    return bool(
        area.west - wide <= lon[0] <= area.east + wide and area.south - high <= lat[0] <= area.north + high
    )


def metric_system(lon: np.ndarray, lat: np.ndarray) -> str:
    """The zone of the universal transverse Mercator system that holds the middle of some places.

    Parameters
    ----------
    lon
        Degrees east (n).
    lat
        Degrees north (n).

    Returns
    -------
    str
        Its EPSG code, on WGS 84; polar stereographic systems beyond 84 degrees north and 80 south.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.table_check import metric_system
    >>> metric_system(np.array([-16.3]), np.array([52.9]))
    'EPSG:32628'
    """
    east, north = float(np.median(lon)), float(np.median(lat))
    if north > 84.0:
        return "EPSG:32661"
    if north < -80.0:
        return "EPSG:32761"
    zone = int((east + 180.0) // 6.0) % 60 + 1
    return f"EPSG:{(32600 if north >= 0 else 32700) + zone}"

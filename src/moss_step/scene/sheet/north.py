"""Where north is on a plan: of the grid, of the earth's axis and of the compass.

The compass is that of the World Magnetic Model 2025 to 2030 (NOAA NCEI and BGS 2024), through a general
library that holds its coefficients; a test holds it against the model's own test values.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame, carried

_STEP = 50.0


@dataclass(frozen=True)
class Norths:
    """Degrees clockwise from up on the paper of grid north, true north and magnetic north; None for what is
    not known; and what is to be said of them.
    """

    grid: float
    true: float | None = None
    magnetic: float | None = None
    words: tuple[str, ...] = ()


def norths(
    frame: Frame | None, x: float, y: float, turned: float, year: float, with_magnetic: bool
) -> Norths:
    """The norths of a plan at its middle; the plan is turned clockwise by some degrees."""
    if frame is None or frame.system is None:
        return Norths(turned, None, None, ("Grid north. The reference system is not stated.",))
    place = _lon_lat(frame, x, y)
    if place is None:
        return Norths(turned, None, None, ("Grid north.",))
    convergence = 0.0 if frame.geographic else _convergence(frame, x, y, place)
    true = turned - convergence
    words = [f"True north {_side(-convergence)} of grid north"] if abs(convergence) >= 0.005 else []
    magnetic = None
    if with_magnetic:
        declination = declination_at(*place, year)
        magnetic = true + declination
        words.append(f"Magnetic north {_side(declination)} of true north in {year:g}")
    return Norths(turned, true, magnetic, tuple(words))


def _side(degrees: float) -> str:
    return f"{abs(degrees):.1f}° {'east' if degrees >= 0 else 'west'}"


def _lon_lat(frame: Frame, x: float, y: float) -> tuple[float, float] | None:
    if frame.system is None:
        return None
    try:
        lon, lat = carried(frame.system, "EPSG:4326", np.array([x]), np.array([y]))
    except MossError:
        return None
    return (float(lon[0]), float(lat[0])) if np.isfinite(lon[0]) and np.isfinite(lat[0]) else None


def _convergence(frame: Frame, x: float, y: float, place: tuple[float, float]) -> float:
    """Degrees by which grid north lies east of true north: the bearing of a short way up the grid, on the
    ellipsoid.
    """
    from pyproj import Geod

    up = _lon_lat(frame, x, y + _STEP / frame.metres_per_unit)
    if up is None:
        return 0.0
    return float(Geod(ellps="WGS84").inv(*place, *up)[0])


@lru_cache(maxsize=64)
def declination_at(lon: float, lat: float, year: float) -> float:
    """Degrees by which the compass points east of true north, at the ellipsoid, in a year from 2025 to
    2030.
    """
    from pygeomag import GeoMag
    from pygeomag.wmm.wmm_2025 import WMM_2025

    return float(GeoMag(coefficients_data=WMM_2025).calculate(glat=lat, glon=lon, alt=0, time=year).d)

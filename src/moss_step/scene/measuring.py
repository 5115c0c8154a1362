"""Measuring along vertices on the plan: on the ground of the frame, and over its heights if it has any."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import shapely

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.science.relief.profile import profile

_MOST_POINTS = 2_000
"""Points at which heights are read along a line: it is measured anew at every move of the pointer."""


class Measures(NamedTuple):
    """Metres, degrees and square metres; NaN for what cannot be said."""

    length: float
    """On the ellipsoid, or in the plane of the system."""
    along: float
    """Over the ground, up and down."""
    bearing: float
    """From the first vertex to the last, clockwise from grid north; from true north for degrees."""
    rise: float
    """Height of the last vertex above the first."""
    slope: float
    """Degrees of the straight way from the first vertex to the last."""
    area: float
    """Of what the vertices enclose."""


def measured_along(frame: Frame, vertices: Sequence[tuple[float, float]], ground: Surface | None) -> Measures:
    """Measure a way through at least two different vertices."""
    xy = np.asarray(vertices, np.float64)
    line = shapely.LineString(xy)
    length = float(frame.lengths(np.array([line], object))[0])
    area = float(frame.areas(np.array([shapely.Polygon(xy)], object))[0]) if len(xy) > 2 else np.nan
    along, rise = np.nan, np.nan
    if ground is not None and line.length > 0:
        table = profile({"z": ground}, line, line.length / _MOST_POINTS).columns
        z, distance = table["z"] * ground.metres_per_height, table["distance"]
        along = float(np.hypot(np.diff(distance), np.diff(z)).sum())
        rise = float(z[-1] - z[0])
    straight = float(frame.distances(xy[:1], xy[-1:])[0])
    slope = float(np.degrees(np.arctan2(rise, straight))) if straight > 0 else np.nan
    return Measures(length, along, float(frame.bearing(xy[0], xy[-1])), rise, slope, area)

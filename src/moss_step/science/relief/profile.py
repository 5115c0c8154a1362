"""The values of surfaces along a line."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import shapely
from pyproj import Geod

from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.units import METRE, NONE

MOST_POINTS = 20_000


def profile(surfaces: Mapping[str, Surface], line: shapely.LineString, step: float | None = None) -> Table:
    """Distance in metres, coordinates and the value of each surface at even steps along a line.

    Values are bilinear between cell centres (nearest for aspect). The step is half a cell of the first surface unless
    given. Raises AskedWronglyError for a line without length.
    """
    first = next(iter(surfaces.values())).frame
    if line.length <= 0:
        raise AskedWronglyError("The line has no length.", "Give two different points.")
    step = step or min(first.dx, first.dy) / 2.0
    n = min(max(int(np.ceil(line.length / step)) + 1, 2), MOST_POINTS)
    xy = shapely.get_coordinates(shapely.line_interpolate_point(line, np.linspace(0.0, line.length, n)))
    columns = {"distance": _distances(xy, first), "x": xy[:, 0], "y": xy[:, 1]}
    units = {"distance": METRE, "x": NONE, "y": NONE}
    for name, surface in surfaces.items():
        columns[name], units[name] = values_at(surface, xy[:, 0], xy[:, 1]), surface.unit
    return Table(columns, units, x="distance", y=next(iter(surfaces)))


def values_at(surface: Surface, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
    """Values at places, bilinear between cell centres; the nearest cell's beside edges, no-data and for aspect."""
    f, z = surface.frame, surface.values
    col, row = (xs - f.x0) / f.dx - 0.5, (f.y0 - ys) / f.dy - 0.5
    near_r, near_c = np.rint(row).astype(np.int64), np.rint(col).astype(np.int64)
    inside = (near_r >= 0) & (near_r < f.rows) & (near_c >= 0) & (near_c < f.cols)
    nearest = np.where(inside, z[near_r.clip(0, f.rows - 1), near_c.clip(0, f.cols - 1)], np.nan)
    if surface.cyclic or min(f.shape) < 2:
        return nearest
    r, c = np.floor(row).astype(np.int64).clip(0, f.rows - 2), np.floor(col).astype(np.int64).clip(0, f.cols - 2)
    v, u = (row - r).clip(0, 1), (col - c).clip(0, 1)
    between = (z[r, c] * (1 - u) + z[r, c + 1] * u) * (1 - v) + (z[r + 1, c] * (1 - u) + z[r + 1, c + 1] * u) * v
    return np.where(inside & ~np.isnan(between), between, nearest)


def _distances(xy: np.ndarray, frame: Frame) -> np.ndarray:
    if frame.geographic and frame.system is not None:
        geod = frame.system.get_geod() or Geod(ellps="WGS84")
        steps = geod.inv(xy[:-1, 0], xy[:-1, 1], xy[1:, 0], xy[1:, 1])[2]
    else:
        steps = np.hypot(*np.diff(xy, axis=0).T) * frame.metres_per_unit
    return np.concatenate([[0.0], np.cumsum(steps)])

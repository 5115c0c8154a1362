"""The values of surfaces along a line."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import shapely

from moss_step.model.chart import Chart
from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Frame, carried, same_system
from moss_step.model.surface import Surface
from moss_step.model.units import METRE, NONE

MOST_POINTS = 20_000


def profile(surfaces: Mapping[str, Surface], line: shapely.LineString, step: float | None = None) -> Chart:
    """Distance in metres, coordinates and the value of each surface at even steps along a line, and at its
    end.

    Values are bilinear between cell centres (nearest for bearings, counts, yes and no). The line lies in the
    system of the first surface; others are read where it runs in theirs. The step, in the units of that
    system, is half a cell of the first surface unless given, or longer where that would give more than 20,000
    points.

    Parameters
    ----------
    surfaces
        Surfaces by the names that the text or the columns use.
    line
        The line, in the system of the ground.
    step
        Distance between points in the units of the system; half a cell when left out.

    Returns
    -------
    Chart
        Distance in metres, x, y and a column for each surface.

    Raises
    ------
    AskedWronglyError
        For a line without length or a step that gives more.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.relief.profile import profile
    >>> from moss_step.science.sample import tilted
    >>> line = shapely.LineString([(1, 4), (9, 4)])
    >>> profile({"ground": tilted()}, line, step=4.0).columns["ground"].tolist()
    [0.0, 4.0, 8.0]
    """
    first = next(iter(surfaces.values())).frame
    if line.length <= 0:
        raise AskedWronglyError("The line has no length.", "Give two different points.")
    if step is None:
        step = max(min(first.dx, first.dy) / 2.0, line.length / (MOST_POINTS - 1))
    elif line.length / step > MOST_POINTS:
        raise AskedWronglyError(
            f"A step of {step:g} gives {line.length / step:,.0f} points.",
            f"Use {line.length / MOST_POINTS:.3g} or more.",
        )
    along = np.append(np.arange(0.0, line.length * (1.0 - 1e-12), step), line.length)
    xy = shapely.get_coordinates(shapely.line_interpolate_point(line, along))
    columns = {"distance": _distances(xy, first), "x": xy[:, 0], "y": xy[:, 1]}
    units = {"distance": METRE, "x": NONE, "y": NONE}
    for name, surface in surfaces.items():
        columns[name], units[name] = values_at(surface, *_in_system(xy, first, surface.frame)), surface.unit
    return Chart(columns, units, "distance", tuple(surfaces), crs=first.crs)


def _in_system(xy: np.ndarray, frame: Frame, other: Frame) -> tuple[np.ndarray, np.ndarray]:
    """Coordinates in the system of another frame; unknown systems are taken as the same."""
    if frame.system is None or other.system is None or same_system(frame.crs, other.crs):
        return xy[:, 0], xy[:, 1]
    return carried(frame.system, other.system, xy[:, 0], xy[:, 1])


def values_at(surface: Surface, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
    """Values at places, bilinear between cell centres; the nearest cell's beside edges, no-data, for
    bearings, counts, yes and no.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    xs
        Eastings (n).
    ys
        Northings (n).

    Returns
    -------
    np.ndarray
        Values (n), NaN where there is none.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.profile import values_at
    >>> from moss_step.science.sample import tilted
    >>> values_at(tilted(), np.array([4.0]), np.array([4.0])).tolist()  # between two centres
    [3.0]
    """
    f, z = surface.frame, surface.values
    on_grid = np.isfinite(xs) & np.isfinite(ys)
    in_cells = f.in_cells(np.column_stack([xs, ys]))
    col, row = (np.where(on_grid, v - 0.5, -2.0) for v in in_cells.T)
    near_r, near_c = (
        np.rint(row).clip(-2, f.rows + 1).astype(np.int64),
        np.rint(col).clip(-2, f.cols + 1).astype(np.int64),
    )
    inside = (near_r >= 0) & (near_r < f.rows) & (near_c >= 0) & (near_c < f.cols)
    nearest = np.where(inside, z[near_r.clip(0, f.rows - 1), near_c.clip(0, f.cols - 1)], np.nan)
    if surface.cyclic or surface.whole or min(f.shape) < 2:
        return nearest
    r, c = (
        np.floor(row).clip(0, f.rows - 2).astype(np.int64),
        np.floor(col).clip(0, f.cols - 2).astype(np.int64),
    )
    v, u = (row - r).clip(0, 1), (col - c).clip(0, 1)
    between = (z[r, c] * (1 - u) + z[r, c + 1] * u) * (1 - v) + (
        z[r + 1, c] * (1 - u) + z[r + 1, c + 1] * u
    ) * v
    return np.where(inside & ~np.isnan(between), between, nearest)


def between_cells(z: np.ndarray, row: np.ndarray, col: np.ndarray) -> np.ndarray:
    """Values at fractional rows and columns, bilinear between the centres of four cells; NaN where one of
    them has none, or beyond them.

    Parameters
    ----------
    z
        Heights of shape (rows, cols).
    row
        Fractional rows (n).
    col
        Fractional columns (n).

    Returns
    -------
    np.ndarray
        Values (n), NaN where there is none.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.profile import between_cells
    >>> from moss_step.science.sample import tilted
    >>> between_cells(tilted().values, np.array([1.0]), np.array([1.5])).tolist()
    [3.0]
    """
    rows, cols = z.shape
    i, j = np.floor(row).astype(np.int64), np.floor(col).astype(np.int64)
    v, u = row - i, col - j
    total = np.zeros(len(row))
    for di, dj, share in ((0, 0, (1 - v) * (1 - u)), (0, 1, (1 - v) * u), (1, 0, v * (1 - u)), (1, 1, v * u)):
        inside = (i + di >= 0) & (i + di < rows) & (j + dj >= 0) & (j + dj < cols)
        result = np.where(inside, z[(i + di).clip(0, rows - 1), (j + dj).clip(0, cols - 1)], np.nan)
        total += np.where(share > 1e-9, result * share, 0.0)
    return total


def _distances(xy: np.ndarray, frame: Frame) -> np.ndarray:
    return np.concatenate([[0.0], np.cumsum(frame.distances(xy[:-1], xy[1:]))])

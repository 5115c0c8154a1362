"""Surfaces that lie between points: on triangles, by distance, and over a canopy without pits."""

from __future__ import annotations

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Frame
from moss_step.science.interpolate.kernels.triangles import fill_triangles
from moss_step.science.interpolate.neighbours import NearSamples
from moss_step.science.interpolate.triangles import delaunay
from moss_step.science.points import cells

_NEAREST, _FEW = 8, 4
"""Points that a cell takes its height from by distance, and the least that a surface of the canopy has."""


def _on_plan(cloud: Cloud, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    """Columns and rows of the points, counted from the middle of the first cell."""
    return (np.asarray(cloud.x) - frame.x0) / frame.dx - 0.5, (
        frame.y0 - np.asarray(cloud.y)
    ) / frame.dy - 0.5


def on_triangles(cloud: Cloud, frame: Frame, values: np.ndarray, longest: float) -> np.ndarray:
    """Values on the triangles between all points (Delaunay 1934).

    Parameters
    ----------
    cloud
        n points.
    frame
        Where the cells lie.
    values
        A value of each point (n).
    longest
        Metres that no side of a triangle exceeds; 0 leaves out none.

    Returns
    -------
    np.ndarray
        Values at the middles of the cells (rows, cols), NaN outside.

    Raises
    ------
    MossError
        For fewer than three points, or points on one line.

    Examples
    --------
    >>> from moss_step.science.points.between import on_triangles
    >>> from moss_step.science.points.grids import frame_for
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(4)
    >>> on_triangles(cloud, frame_for(cloud, 2.0), cloud.x, 0.0).tolist()
    [[1.0, 3.0], [1.0, 3.0]]
    """
    cols, rows = _on_plan(cloud, frame)
    wide, high = frame.cell_metres
    triangles = delaunay(cols * wide, rows * high)
    out = np.full(frame.shape, np.nan)
    z = np.ascontiguousarray(values, np.float64)
    most = longest if longest > 0 else np.inf
    fill_triangles(cols, rows, z, triangles, wide, high, most, out)
    return out


def by_distance(cloud: Cloud, frame: Frame, reach: float) -> np.ndarray:
    """Heights of the nearest points, each weighed by one over the square of its distance (Shepard 1968).

    Parameters
    ----------
    cloud
        n points.
    frame
        Where the cells lie.
    reach
        Metres within which points count; 0 for any.

    Returns
    -------
    np.ndarray
        Heights (rows, cols), NaN where no point is near.

    Examples
    --------
    >>> from moss_step.science.points.between import by_distance
    >>> from moss_step.science.points.grids import frame_for
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(4)
    >>> by_distance(cloud, frame_for(cloud, 2.0), 1.0)[1, 0]
    np.float64(10.0)
    """
    cols, rows = _on_plan(cloud, frame)
    wide, high = frame.cell_metres
    near = NearSamples(cols * wide, rows * high, cloud.z, _NEAREST, reach=reach)
    out = np.empty(frame.shape)
    for row in range(frame.rows):
        out[row] = near.at(np.arange(frame.cols) * wide, np.full(frame.cols, row * high))
    return out


def canopy(cloud: Cloud, frame: Frame, fill: float) -> np.ndarray:
    """Heights of the canopy without pits: the highest of several surfaces on triangles, of the points above
    0, 2, 5, 10, 15 m and so on; those above the first leave out long triangles.

    Parameters
    ----------
    cloud
        n points with their heights above the ground as ``height_above``.
    frame
        Where the cells lie.
    fill
        Metres that no side of a triangle of the lowest surface exceeds; 0 leaves out none.

    Returns
    -------
    np.ndarray
        Heights above the ground (rows, cols), NaN outside.

    Raises
    ------
    AskedWronglyError
        Where the points have no heights above the ground.

    Source
    ------
    Khosravipour et al. 2014, Generating pit-free canopy height models from airborne lidar, PE&RS 80.

    Examples
    --------
    >>> from dataclasses import replace
    >>> from moss_step.science.points.between import canopy
    >>> from moss_step.science.points.grids import frame_for
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(4)
    >>> over = replace(cloud, attributes={"height_above": cloud.z - 10.0})
    >>> float(canopy(over, frame_for(cloud, 2.0), 0.0).max()) <= 4.0
    True
    """
    if "height_above" not in cloud.attributes:
        raise AskedWronglyError(
            "The points have no heights above the ground.", "Run heights above ground on them first."
        )
    metre = cloud.unit.metres
    heights = np.maximum(np.asarray(cloud.attributes["height_above"], np.float64), 0.0)
    known = np.isfinite(heights)
    cloud, heights = cloud.part(known), heights[known]
    out = on_triangles(cloud, frame, heights, fill)
    near = 3.0 * max(*frame.cell_metres, cells.density(cloud) ** -0.5)
    for level in (2.0, *np.arange(5.0, float(heights.max(initial=0.0)) * metre, 5.0)):
        above = heights * metre >= level
        if above.sum() >= _FEW:
            out = np.fmax(out, on_triangles(cloud.part(above), frame, heights[above], near))
    return out

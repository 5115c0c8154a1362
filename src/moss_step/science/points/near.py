"""Points laid out so that those near to one are found quickly: column after column of square cells, and from
low to high within one.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.science.points.cells import by_cell, cells_of

_CELLS_A_POINT = 4
"""Most cells for each point: of points far apart, cells are wider than asked for."""


@dataclass(frozen=True, eq=False)
class Near:
    """Points in columns of cells whose side is not below a radius: ``order`` are their numbers in the cloud,
    those of each column from its place in ``starts`` on.
    """

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray
    order: np.ndarray
    starts: np.ndarray
    shape: tuple[int, int]

    def back(self, values: np.ndarray, count: int) -> np.ndarray:
        """Values of the points as the cloud has them; NaN for those of no place (numbers alone)."""
        lost = len(self.order) < count
        result = np.full((count, *values.shape[1:]), np.nan, values.dtype) if lost else np.empty_like(values)
        result[self.order] = values
        return result


def plan_in_metres(cloud: Cloud) -> Cloud:
    """A cloud with places and heights in metres, counted from its lower left corner; without attributes.

    Parameters
    ----------
    cloud
        n points.

    Returns
    -------
    Cloud
        The same points, of no reference system.

    Examples
    --------
    >>> from dataclasses import replace
    >>> from moss_step.model.units import UNITS
    >>> from moss_step.science.points.near import plan_in_metres
    >>> from moss_step.science.sample import scattered
    >>> feet = replace(scattered(2), unit=UNITS["foot"])
    >>> round(float(plan_in_metres(feet).z.max() / feet.z.max()), 4)
    0.3048
    """
    east, north = cloud.plan_metres
    west, south = (0.0, 0.0) if cloud.bounds is None else cloud.bounds[0][:2]
    x, y = (cloud.x - west) * east, (cloud.y - south) * north
    return replace(cloud, x=x, y=y, z=cloud.z * cloud.unit.metres, attributes={}, crs=None, head=None)


def rising(flat: Cloud) -> np.ndarray:
    """Numbers of the points from the lowest to the highest; of those that have a height and a place.

    Parameters
    ----------
    flat
        n points.

    Returns
    -------
    np.ndarray
        Numbers (int64).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.cloud import Cloud
    >>> from moss_step.science.points.near import rising
    >>> rising(Cloud(np.zeros(3), np.zeros(3), np.array([2.0, np.nan, 1.0]))).tolist()
    [2, 0]
    """
    known = np.isfinite(flat.x) & np.isfinite(flat.y) & np.isfinite(flat.z)
    order = np.argsort(flat.z, kind="stable")
    return order if known.all() else order[known[order]]


def near_of(flat: Cloud, side: float, order: np.ndarray | None = None) -> Near:
    """Lay points out in columns.

    Parameters
    ----------
    flat
        n points in metres; those without a height or a place are left out.
    side
        Least side of the cells, in metres.
    order
        The points as ``rising`` gives them, where that is at hand.

    Returns
    -------
    Near
        The points by column.

    Examples
    --------
    >>> from moss_step.science.points.near import near_of
    >>> from moss_step.science.sample import scattered
    >>> near = near_of(scattered(4), 2.0)
    >>> near.shape, near.starts.tolist()
    ((2, 2), [0, 4, 8, 12, 16])
    """
    places = rising(flat) if order is None else order
    low_first = Cloud(flat.x[places], flat.y[places], flat.z[places])
    frame = _frame(low_first, side)
    starts, order = by_cell(cells_of(low_first, frame), frame)
    x, y, z = (v[order] for v in (low_first.x, low_first.y, low_first.z))
    return Near(x, y, z, places[order], starts, frame.shape)


def _frame(cloud: Cloud, side: float) -> Frame:
    """Cells over points, wider than asked for where these would be far more than the points."""
    most = _CELLS_A_POINT * len(cloud) + 16
    while len(cloud):
        frame = frame_about(cloud, side)
        if frame.rows * frame.cols <= most:
            return frame
        side *= max((frame.rows * frame.cols / most) ** 0.5, 1.05)
    return Frame(1, 1, 0.0, side, side, side)


def frame_about(flat: Cloud, side: float) -> Frame:
    """Square cells over points, as far beyond them on each side: a mirrored cloud has the mirrored cells.

    Parameters
    ----------
    flat
        n points in metres, one or more.
    side
        Side of the cells, in metres.

    Returns
    -------
    Frame
        Where the cells lie.

    Examples
    --------
    >>> from moss_step.science.points.near import frame_about
    >>> from moss_step.science.sample import scattered
    >>> frame_about(scattered(4), 2.0).box
    (0.0, 0.0, 4.0, 4.0)
    """
    west, east = float(flat.x.min()), float(flat.x.max())
    south, north = float(flat.y.min()), float(flat.y.max())
    # A little more than a whole number of cells takes one more: no point lies on the rim.
    cols, rows = (int(extent / side + 1e-6) + 1 for extent in (east - west, north - south))
    left, top = (west + east - cols * side) / 2.0, (south + north + rows * side) / 2.0
    return Frame(rows, cols, left, top, side, side)

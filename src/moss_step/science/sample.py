"""Small grounds and shapes that the examples of this package share."""

from __future__ import annotations

import numpy as np
import shapely

from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.tin import Tin
from moss_step.model.units import METRE

SYSTEM = "EPSG:32628"


def ground(heights: np.ndarray | list[list[float]]) -> Surface:
    """A ground of cells of 2 m, with its lower left corner at (0, 0).

    Parameters
    ----------
    heights
        Metres, of shape (rows, cols).

    Returns
    -------
    Surface
        Heights in metres, float32 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> ground([[1, 2], [3, 4]]).frame.box
    (0.0, 0.0, 4.0, 4.0)
    """
    z = np.array(heights, np.float32)
    rows, cols = z.shape
    return Surface(z, Frame(rows, cols, 0.0, rows * 2.0, 2.0, 2.0, SYSTEM), METRE)


def tilted(rows: int = 4, cols: int = 5) -> Surface:
    """A ground that rises by 2 m with each cell of 2 m to the east, from 0.

    Parameters
    ----------
    rows
        Number of rows.
    cols
        Number of columns.

    Returns
    -------
    Surface
        Heights in metres of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> tilted().values[0].tolist()
    [0.0, 2.0, 4.0, 6.0, 8.0]
    """
    return ground(np.tile(np.arange(cols) * 2.0, (rows, 1)))


def bowl() -> Surface:
    """A pit of 1 m in a floor of 3 m, in a rim of 5 m with a gap of 4 m to the east.

    Returns
    -------
    Surface
        Heights in metres of shape (5, 5).

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> bowl().values[2].tolist()
    [5.0, 3.0, 1.0, 3.0, 4.0]
    """
    away = np.abs(np.arange(5) - 2)
    z = np.maximum(away[:, None], away) * 2.0 + 1.0
    z[2, 4] = 4.0
    return ground(z)


def box(left: float, bottom: float, right: float, top: float) -> Shapes:
    """One area of four corners, in the system of the grounds.

    Parameters
    ----------
    left
        Its west side, in metres.
    bottom
        Its south side.
    right
        Its east side.
    top
        Its north side.

    Returns
    -------
    Shapes
        One area named Box.

    Examples
    --------
    >>> from moss_step.science.sample import box
    >>> box(0, 0, 4, 2).geometry[0].area
    8.0
    """
    return Shapes(
        np.array([shapely.box(left, bottom, right, top)]), {"name": np.array(["Box"], object)}, SYSTEM
    )


def scattered(side: int = 6) -> Cloud:
    """A cloud of a point each metre on level ground at 10 m, with one post of 4 m in its middle.

    Parameters
    ----------
    side
        Points on a side.

    Returns
    -------
    Cloud
        Points in metres, with classes: 2 for ground and 1 for the post.

    Examples
    --------
    >>> from moss_step.science.sample import scattered
    >>> len(scattered())
    36
    """
    y, x = (v.reshape(-1) + 0.5 for v in np.mgrid[0:side, 0:side].astype(float))
    post = (x == side // 2 + 0.5) & (y == side // 2 + 0.5)
    codes = np.where(post, 1, 2).astype(np.uint8)
    return Cloud(x, y, np.where(post, 14.0, 10.0), {"classification": codes}, SYSTEM, METRE)


def roof() -> Tin:
    """A ridge of 2 m over a floor of 4 by 4 m, whose eaves are at 0.

    Returns
    -------
    Tin
        Four triangles, heights in metres.

    Examples
    --------
    >>> from moss_step.science.sample import roof
    >>> len(roof())
    4
    """
    x, y = np.array([0.0, 4.0, 4.0, 0.0, 2.0, 2.0]), np.array([0.0, 0.0, 4.0, 4.0, 0.0, 4.0])
    z = np.array([0.0, 0.0, 0.0, 0.0, 2.0, 2.0])
    faces = np.array([[0, 5, 4], [0, 3, 5], [4, 5, 2], [4, 2, 1]])
    return Tin(x, y, z, faces, np.array([[4, 5]]), SYSTEM, METRE)

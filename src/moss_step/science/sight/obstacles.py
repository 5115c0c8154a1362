"""What blocks the view: a second surface, and shapes that stand so high above the ground."""

from __future__ import annotations

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import check_same_frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.laying import laid


def with_shapes(dem: Surface, obstacles: Surface | None, shapes: Shapes, heights: np.ndarray) -> Surface:
    """The surface that blocks: ``obstacles`` or the ground, with shapes standing ``heights`` metres above the
    ground.

    ``shapes`` lie in the reference system of ``dem``. Areas cover the cells whose centres they hold, lines
    and points every cell they touch; where shapes overlap the highest counts.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    obstacles
        Heights of the highest surface above the datum, cell on cell with the ground; None for bare
        ground.
    shapes
        Points, lines or areas with their columns.
    heights
        Metres above the ground, one a shape.

    Returns
    -------
    Surface
        Heights above the datum in the unit of the ground.

    Raises
    ------
    MossError
        For heights that are no numbers or below 0, and for obstacles that do not lie cell on cell.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.sight.obstacles import with_shapes
    >>> with_shapes(tilted(), None, box(0, 0, 4, 8), np.array([3.0])).values[0].tolist()
    [3.0, 5.0, 4.0, 6.0, 8.0]
    """
    if obstacles is not None:
        check_same_frame(obstacles.frame, dem.frame, "The obstacles and the ground")
    if not np.isfinite(heights).all() or (heights < 0).any():
        raise MossError(
            "An obstacle has no height, or one below 0.", "Give each a height in metres above the ground."
        )
    order = np.argsort(heights, kind="stable")  # a later shape covers an earlier one
    flat = [g.geom_type.endswith("Polygon") for g in shapes.geometry]
    raised = np.zeros(dem.values.shape, np.float32)
    for areas in (True, False):
        some = [k for k in order if flat[k] is areas]
        burnt = laid(shapes.geometry[some], heights[some], dem.frame, dtype="float32", touched=not areas)
        np.maximum(raised, burnt, out=raised)
    top = dem.values + raised / np.float32(dem.metres_per_height)
    if obstacles is not None:
        top = np.fmax(top, obstacles.values * np.float32(obstacles.metres_per_height / dem.metres_per_height))
    return Surface(top, dem.frame, dem.unit, "elevation")

"""Single trees on a grid of heights above the ground: their tops, and the crowns that belong to them."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.points.kernels.trees import find_tops, grow_crowns
from moss_step.science.zones.tracing import areas_of


@dataclass(frozen=True)
class TreeSet:
    """How trees are looked for, in metres: the lowest, the window's diameter ``base + growth * h * h`` at a
    height ``h``, the share of a tree's height down to which its crown reaches, and whether heights are
    averaged over 3 x 3 cells before they are compared.
    """

    least: float = 2.0
    base: float = 2.51503
    growth: float = 0.00901
    crown: float = 0.35
    calm: bool = True


USUAL = TreeSet()
"""Window for mixed woods after Popescu & Wynne 2004, the numbers from memory."""


def single_trees(
    heights: Surface, how: TreeSet = USUAL, progress: Progress | None = None
) -> tuple[Shapes, Shapes]:
    """Trees as points at their tops and as crowns, the highest first.

    A top is the highest cell within a window that grows with its height (Popescu & Wynne 2004). Crowns grow
    from the tops down over the heights turned over (marker-controlled watershed, Meyer 1994), as far as a
    share of the tree's height.

    Parameters
    ----------
    heights
        Heights above the ground (rows, cols) in their unit; NaN is no-data.
    how
        How trees are looked for.
    progress
        Told how far it is.

    Returns
    -------
    tuple[Shapes, Shapes]
        Points and areas, with the columns tree, tree_height (in the unit of the heights), crown_m2 and
        crown_m (diameter of a circle of that area); points have x and y, too.

    Raises
    ------
    MossError
        Where no cell is as high as the lowest tree.

    Source
    ------
    Popescu & Wynne 2004, Seeing the trees in the forest, Photogrammetric Engineering & Remote Sensing 70.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.trees import single_trees
    >>> from moss_step.science.sample import ground
    >>> rows, cols = np.mgrid[0:12, 0:12]
    >>> cone = np.maximum(9.0 - 2.0 * np.hypot(rows - 5, cols - 6), 0.0)
    >>> points, crowns = single_trees(ground(cone))
    >>> points.columns["tree_height"].tolist(), len(crowns)
    ([9.0], 1)
    """
    progress = progress or silent()
    metres = heights.metres_per_height
    height = np.ascontiguousarray(heights.values, np.float64) * metres
    progress.at(0.1, "Looking for tops")
    tops = np.zeros(height.shape, bool)
    wide, high = heights.frame.cell_metres
    sought = _calmed(height) if how.calm else height
    find_tops(height, sought, wide, high, how.least, how.base, how.growth, tops)
    found = np.flatnonzero(tops)
    if not found.size:
        raise MossError(
            f"Nothing is {how.least:g} m high.", "Give heights above the ground, or ask for lower trees."
        )
    top = _highest_around(height, found)
    found = found[np.argsort(-top, kind="stable")]
    top = np.sort(top)[::-1]
    number = np.zeros(height.shape, np.int32)
    number.reshape(-1)[found] = np.arange(1, found.size + 1)
    bound = np.concatenate([[np.inf], np.maximum(how.crown * top, min(how.least, top.min()))])
    progress.at(0.4, "Growing crowns")
    grow_crowns(np.nan_to_num(height, nan=-np.inf), number, bound)
    return _as_shapes(heights, number, found, top / metres, progress.part(0.6, 1.0))


def _calmed(height: np.ndarray) -> np.ndarray:
    """Means of 3 x 3 cells, of those with a value; NaN stays."""
    from scipy.ndimage import uniform_filter  # loaded where it is used: it takes a while

    known = np.isfinite(height)
    share = uniform_filter(known.astype(np.float64), 3, mode="nearest")
    total = uniform_filter(np.where(known, height, 0.0), 3, mode="nearest")
    return np.where(known, total / np.maximum(share, 1e-9), np.nan)


def _highest_around(height: np.ndarray, cells: np.ndarray) -> np.ndarray:
    """Highest value of the 3 x 3 cells around each."""
    rows, cols = np.divmod(cells, height.shape[1])
    best = np.full(cells.size, -np.inf)
    for i in (-1, 0, 1):
        for j in (-1, 0, 1):
            r = np.clip(rows + i, 0, height.shape[0] - 1)
            c = np.clip(cols + j, 0, height.shape[1] - 1)
            best = np.fmax(best, height[r, c])
    return best


def _as_shapes(
    heights: Surface, number: np.ndarray, found: np.ndarray, top: np.ndarray, progress: Progress
) -> tuple[Shapes, Shapes]:
    frame = heights.frame
    rows, cols = np.divmod(found, frame.cols)
    x, y = frame.x0 + (cols + 0.5) * frame.dx, frame.y0 - (rows + 0.5) * frame.dy
    weights = np.broadcast_to(frame.row_areas[:, None], frame.shape)
    area = np.bincount(number.reshape(-1), weights.reshape(-1), found.size + 1)[1:]
    columns = {
        "tree": np.arange(1, found.size + 1, dtype=np.int32), "tree_height": top, "crown_m2": area,
        "crown_m": 2.0 * np.sqrt(area / math.pi),
    }  # fmt: skip
    symbols = {"tree_height": heights.unit.symbol}
    crowns = Shapes(areas_of(number, frame, found.size, progress), columns, frame.crs, symbols)
    places = {**columns, "x": x, "y": y}
    return replace(crowns, geometry=np.asarray(shapely.points(x, y)), columns=places), crowns

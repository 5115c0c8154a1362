"""Catchments of points, lines and areas, with figures of each."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.laying import laid
from moss_step.science.water.basin_figures import figures, steepness, with_outlines
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.kernels.neighbours import NONE
from moss_step.science.water.kernels.trace import mark_upstream, order_within
from moss_step.science.water.trace import cell_at, snapped
from moss_step.science.zones.tracing import areas_of

MOST_OUTLETS = 2000


def seeds_of(drainage: Drainage, geometry: Any, snap: float = 0.0) -> np.ndarray:
    """Cells of a point (moved to the largest stream within ``snap`` metres), a line or an area.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    geometry
        Geometries, in the system of the ground.
    snap
        Metres within which a point moves to the largest stream.

    Returns
    -------
    np.ndarray
        Numbers of cells, int64.

    Raises
    ------
    MossError
        When none of them has data.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.catchments import seeds_of
    >>> from moss_step.science.water.drainage import prepare
    >>> seeds_of(prepare(tilted()), shapely.Point(1.0, 1.0)).tolist()
    [15]
    """
    frame = drainage.frame
    if geometry.geom_type == "Point":
        cell = cell_at(drainage.dem, geometry.x, geometry.y)
        return np.array([snapped(drainage, cell, snap) if snap > 0 else cell])
    cells = cells_under(frame, geometry)
    return checked_seeds(cells[drainage.ways.reshape(-1)[cells] != NONE])


def checked_seeds(cells: np.ndarray) -> np.ndarray:
    """Cells of a line or an area, as far as they have data.

    Parameters
    ----------
    cells
        Numbers of the cells that have.

    Returns
    -------
    np.ndarray
        The same.

    Raises
    ------
    MossError
        Where there is none.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.catchments import checked_seeds
    >>> checked_seeds(np.array([3, 4])).tolist()
    [3, 4]
    """
    if cells.size == 0:
        raise MossError("The shape lies outside the ground or on no-data.", "Draw it on the ground.")
    return cells


def cells_under(frame: Frame, geometry: Any) -> np.ndarray:
    """Cells that a line touches, or whose centres lie in an area.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.
    geometry
        A line or an area, of one part or several, in the system of the grid.

    Returns
    -------
    np.ndarray
        Numbers of cells in ascending order, int64.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.catchments import cells_under
    >>> cells_under(tilted().frame, shapely.LineString([(1.0, 1.0), (5.0, 1.0)])).tolist()
    [15, 16, 17]
    """
    xmin, ymin, xmax, ymax = geometry.bounds
    try:
        rows, cols = frame.window((xmin - frame.dx, ymin - frame.dy, xmax + frame.dx, ymax + frame.dy))
    except MossError:  # it lies beside the grid
        return np.empty(0, np.int64)
    part = frame.part(rows, cols)
    touched = geometry.geom_type.endswith("LineString")
    r, c = np.nonzero(laid([geometry], 1, part, touched=touched))
    return np.asarray((rows.start + r) * frame.cols + cols.start + c, np.int64)


def check_outlets(count: int) -> None:
    """Refuse more outlets than catchments are made of at a time.

    Parameters
    ----------
    count
        How many there are.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    MossError
        For more than 2,000.

    Examples
    --------
    >>> from moss_step.science.water.catchments import check_outlets
    >>> check_outlets(12)  # not too many: nothing is raised
    """
    if count > MOST_OUTLETS:
        raise MossError(
            f"There are {count:,} outlets.",
            f"Give up to {MOST_OUTLETS:,} at a time, or divide the whole ground with basins.",
        )


def catchments(
    drainage: Drainage,
    seeds: list[np.ndarray],
    nested: bool = False,
    names: list[str] | None = None,
    progress: Progress | None = None,
) -> Shapes:
    """The ground that drains to each set of cells, as areas with figures; ``nested`` takes away those further
    upstream.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    seeds
        Cells of each catchment.
    nested
        Whether ground of those further upstream is taken away.
    names
        Names, in the order of what they are of.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their figures.

    Raises
    ------
    MossError
        For more than 2,000 of them, or two nested ones in one cell.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.catchments import catchments, seeds_of
    >>> from moss_step.science.water.drainage import prepare
    >>> drainage = prepare(tilted())
    >>> areas = catchments(drainage, [seeds_of(drainage, shapely.Point(1.0, 1.0))])
    >>> areas.geometry[0].area
    20.0
    """
    frame = drainage.frame
    check_outlets(len(seeds))
    lows = np.array([cells[np.argmin(drainage.z.reshape(-1)[cells])] for cells in seeds])
    progress, steep = progress or silent(), steepness(drainage)
    if nested:
        numbered = _nested(drainage, seeds, progress.part(0.0, 0.3))
        columns = figures(drainage, numbered, lows, steep, None, progress.part(0.3, 0.7))
        geometry = areas_of(numbered, frame, len(seeds), progress.part(0.7, 1.0))
    else:
        parts = [
            _one_catchment(
                drainage, cells, lows[k : k + 1], steep, progress.part(k / len(seeds), (k + 1) / len(seeds))
            )
            for k, cells in enumerate(seeds)
        ]
        columns = {n: np.concatenate([result[n] for result, _ in parts]) for n in parts[0][0]}
        geometry = np.array([area for _, area in parts], object)
    return catchment_shapes(geometry, columns, names, drainage.dem, frame)


def catchment_shapes(
    geometry: np.ndarray,
    columns: dict[str, np.ndarray],
    names: list[str] | None,
    dem: Surface,
    frame: Frame,
) -> Shapes:
    """Catchments from their outlines and figures.

    Parameters
    ----------
    geometry
        Outlines.
    columns
        Figures of each, by ``figure_columns``.
    names
        Names, in the order of what they are of.
    dem
        The ground, or a surface like it: its unit counts.
    frame
        Rows, columns, cell size and reference system of the ground.

    Returns
    -------
    Shapes
        Areas with their figures.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.catchments import catchment_shapes
    >>> columns = {"area_m2": np.array([4.0]), "longest_path_m": np.array([2.0])}
    >>> dem = tilted()
    >>> found = catchment_shapes(np.array([shapely.box(0, 0, 2, 2)]), columns, None, dem, dem.frame)
    >>> found.columns["name"].tolist(), found.columns["form_factor"].tolist()
    (['Catchment 1'], [1.0])
    """
    n = len(geometry)
    columns["basin"] = np.arange(1, n + 1)
    columns["name"] = np.array(names or [f"Catchment {k + 1}" for k in range(n)], object)
    return with_outlines(geometry, columns, None, dem, frame)


def _nested(drainage: Drainage, seeds: list[np.ndarray], progress: Progress) -> np.ndarray:
    """Number what drains to each set of cells, without what drains to those further upstream (int32).

    Raises MossError for two in one cell.
    """
    numbered = np.zeros(drainage.frame.shape, np.int32)
    sizes = [int(drainage.cells.reshape(-1)[s].max()) for s in seeds]
    # the smallest first, so that larger ones leave them out
    for done, k in enumerate(np.argsort(sizes, kind="stable")):
        progress.at(done / len(seeds), "Walking upstream")
        count, *_ = mark_upstream(drainage.ways, seeds[k], k + 1, numbered)
        if count == 0:
            raise MossError("Two outlets lie in one cell.", "Move one of them.")
    return numbered


def _one_catchment(
    drainage: Drainage, seeds: np.ndarray, low: np.ndarray, steep: np.ndarray, progress: Progress
) -> tuple[dict[str, np.ndarray], shapely.Geometry]:
    """Figures and outline of what drains to some cells, worked out on the part of the ground that holds
    it.
    """
    progress.at(0.0, "Walking upstream")
    frame = drainage.frame
    numbered = np.zeros(frame.shape, np.int32)
    count, r0, r1, c0, c1 = mark_upstream(drainage.ways, seeds, 1, numbered)
    order = order_within(drainage.ways, np.unique(seeds), numbered, 1, count)
    rows, cols = slice(r0, r1 + 1), slice(c0, c1 + 1)
    result = figures(drainage, numbered, low, steep, order, progress.part(0.2, 0.7))
    area = areas_of(
        np.ascontiguousarray(numbered[rows, cols]), frame.part(rows, cols), 1, progress.part(0.7, 1.0)
    )[0]
    return result, area

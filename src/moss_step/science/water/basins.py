"""Basins: the ground divided by where its water ends, with figures of each."""

from __future__ import annotations

import numpy as np

from moss_step.model.arrays import falling
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.science.water.basin_figures import figures, steepness, with_outlines
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.kernels.basins import add_depths, add_steps, count_nodes, relabel
from moss_step.science.water.kernels.pools import label_ends, number_ends
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.tracing import areas_of

MOST_BASINS = 100_000


def divided(
    drainage: Drainage, least_depth: float | None, least_area: float = 0.0
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Number each basin from 1, largest first (int32 grid, 0 for no-data); give the cells that their water
    ends in, and their nodes.

    ``least_depth`` is in the unit of the heights: pools that are shallower spill on, deeper ones end a basin
    of their own; None lets all spill, so that there is a basin for each cell that water leaves the ground at.
    Basins of less than ``least_area`` square metres become 0.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    least_depth
        Least depth in the unit of the heights.
    least_area
        Least area in square metres.

    Returns
    -------
    tuple[np.ndarray, np.ndarray, np.ndarray]
        Numbers (rows, cols), cells (n) and nodes (n).

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.basins import divided
    >>> from moss_step.science.water.drainage import prepare
    >>> numbered, ends, areas = divided(prepare(bowl()), None)
    >>> len(ends)
    1
    """
    pools = drainage.pools
    if least_depth is None:
        labels = np.zeros(drainage.ways.shape, np.int32)
        cell = number_ends(drainage.ways, labels)
        label_ends(drainage.ways, labels)
        root = np.arange(len(cell), dtype=np.int32)
    else:
        labels, root, cell = pools.labels, pools.roots(least_depth), pools.cell
    counts, areas = np.zeros(len(root), np.int64), np.zeros(len(root))
    count_nodes(labels, root, drainage.frame.row_areas, counts, areas)
    order = 1 + of_size(np.where(counts > 0, areas, -1.0)[1:], least_area)
    number = np.zeros(len(root), np.int32)
    number[order] = np.arange(1, len(order) + 1)
    out = np.empty(labels.shape, np.int32)
    relabel(labels, number[root], out)
    if least_depth is None:
        ends = cell[order]
        return out, ends, pools.roots(np.inf)[pools.labels.reshape(-1)[ends]]
    return (
        out,
        np.where((pools.across[order] == 0) & (pools.over[order] >= 0), pools.over[order], cell[order]),
        order,
    )


def basin_shapes(
    drainage: Drainage,
    least_depth: float | None,
    least_area: float = 0.0,
    stream: np.ndarray | None = None,
    progress: Progress | None = None,
) -> Shapes:
    """Basins as areas, largest first, with their figures; heights and depths in the unit of the ground.

    With the cells of a ``stream`` its length in each basin is told as a density. A pool that is shallower
    than ``least_depth`` holds nothing back, and counts as none.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    least_depth
        Least depth in the unit of the heights.
    least_area
        Least area in square metres.
    stream
        Cells of streams, uint8 of shape (rows, cols).
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their figures.

    Raises
    ------
    MossError
        When there are more than 100,000, or none of ``least_area`` square metres.

    Examples
    --------
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.basins import basin_shapes
    >>> from moss_step.science.water.drainage import prepare
    >>> basin_shapes(prepare(bowl()), None).geometry[0].area
    100.0
    """
    progress = progress or silent()
    progress.at(0.0, "Dividing the ground")
    frame, pools = drainage.frame, drainage.pools
    numbered, ends, nodes = divided(drainage, least_depth, least_area)
    check_basins(len(nodes), least_area)
    columns = figures(drainage, numbered, ends, steepness(drainage), None, progress.part(0.1, 0.6))
    if least_depth is None:
        depth, level = depths_at(drainage, ends), drainage.at(ends).water
    else:
        depth = pools.depth[nodes].astype(float)
        level = drainage.z.reshape(-1)[pools.cell[nodes]] + pools.depth[nodes]
        depth[depth < least_depth] = 0.0
    columns["pool_depth"] = depth
    columns["pool_m3"] = _pool_volumes(drainage, numbered, level, depth)
    geometry = areas_of(numbered, frame, len(nodes), progress.part(0.6, 1.0))
    metres = None if stream is None else stream_lengths(drainage, stream, numbered, len(nodes))
    return with_outlines(geometry, columns, metres, drainage.dem, frame)


def of_size(areas: np.ndarray, least_area: float) -> np.ndarray:
    """The basins that are large enough, the largest first.

    Parameters
    ----------
    areas
        Square metres of each; below 0 for none.
    least_area
        Least area in square metres.

    Returns
    -------
    np.ndarray
        Their places.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.basins import of_size
    >>> of_size(np.array([4.0, 20.0, 36.0, -1.0]), 5.0).tolist()
    [2, 1]
    """
    kept = np.flatnonzero((areas >= least_area * (1.0 - 1e-9)) & (areas >= 0.0))
    order: np.ndarray = kept[falling(areas[kept])]
    return order


def check_basins(count: int, least_area: float) -> None:
    """Refuse none, and more than are made at a time.

    Parameters
    ----------
    count
        How many there are.
    least_area
        Least area in square metres that was asked for.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    MossError
        When there are more than 100,000, or none.

    Examples
    --------
    >>> from moss_step.science.water.basins import check_basins
    >>> check_basins(12, 0.0)  # neither: nothing is raised
    """
    if count > MOST_BASINS:
        raise MossError(f"There would be {count:,} basins.", "Ask for deeper pools or larger basins.")
    if count == 0:
        raise MossError(f"No basin has {least_area:g} m².", "Ask for smaller ones.")


def depths_at(drainage: Drainage, ends: np.ndarray) -> np.ndarray:
    """How deep the water stands that leaves the ground over each of some cells: from its height down to the
    lowest ground under all water that hangs together as high; 0 where water leaves without a pool.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    ends
        Cells that water leaves the ground at.

    Returns
    -------
    np.ndarray
        Depths in the unit of the heights, float64 (n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.basins import depths_at, divided
    >>> from moss_step.science.water.drainage import prepare
    >>> drainage = prepare(bowl())
    >>> depths_at(drainage, divided(drainage, None)[1]).tolist()
    [3.0]
    """
    z, pools, filled = drainage.z, drainage.pools, drainage.filled()
    level = filled.reshape(-1)[ends]
    labels, _ = label_components(number_levels(filled, np.unique(level)), 8, 0)
    low = np.full(int(labels.max()) + 1, np.inf, np.float32)
    wet = labels > 0
    np.minimum.at(low, labels[wet], z[wet])
    at_once = pools.cell[pools.labels.reshape(-1)[ends]] == ends
    deep = np.where(at_once, np.float32(0.0), level - low[labels.reshape(-1)[ends]])
    return deep.astype(np.float64)


def number_levels(filled: np.ndarray, level: np.ndarray) -> np.ndarray:
    """Number cells by the height of their water: the place from 1 among some heights, 0 for any other.

    Parameters
    ----------
    filled
        The filled ground, float32 of shape (rows, cols).
    level
        Heights in ascending order.

    Returns
    -------
    np.ndarray
        Numbers, int32 of shape (rows, cols).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.basins import number_levels
    >>> number_levels(np.array([[1.0, 2.0, 3.0]], np.float32), np.array([2.0, 3.0], np.float32)).tolist()
    [[0, 1, 2]]
    """
    place = np.minimum(np.searchsorted(level, filled), len(level) - 1)
    return np.where(level[place] == filled, place + 1, 0).astype(np.int32)


def stream_lengths(drainage: Drainage, stream: np.ndarray, numbered: np.ndarray, count: int) -> np.ndarray:
    """Metres of stream in each numbered basin: the step from each stream cell to its receiver counts where it
    begins.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    stream
        Cells of streams, uint8 of shape (rows, cols).
    numbered
        Number of the area of each cell, int32; 0 for none.
    count
        How many are asked for, or there are.

    Returns
    -------
    np.ndarray
        Metres, ``count + 1`` values.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.basins import stream_lengths
    >>> from moss_step.science.water.drainage import prepare
    >>> drainage = prepare(tilted())
    >>> stream = np.zeros((4, 5), np.uint8)
    >>> stream[1] = 1
    >>> stream_lengths(drainage, stream, np.ones((4, 5), np.int32), 1).tolist()
    [8.0]
    """
    total = np.zeros(count + 1)
    add_steps(drainage.ways, drainage.metres, stream, numbered, total)
    return total[1:]


def _pool_volumes(
    drainage: Drainage, numbered: np.ndarray, level: np.ndarray, pool_depth: np.ndarray
) -> np.ndarray:
    """Volume that stands in the pool a basin ends in when it is full, to a height: 0 where water leaves the
    ground without one.
    """
    full = np.append(np.float32(0), level)
    full[1:][pool_depth == 0] = -np.inf
    volume = np.zeros(len(level) + 1)
    add_depths(numbered, drainage.z, full, drainage.frame.row_areas, volume)
    cubic: np.ndarray = volume[1:] * drainage.dem.metres_per_height
    return cubic

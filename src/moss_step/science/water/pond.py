"""Water held behind a bund: its extent, depth and volume at a crest height, and the curve of volume by
stage.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.science.laying import laid
from moss_step.science.water.drainage import prepare, work_out
from moss_step.science.zones.labelling import label_components


def bund_cells(dem: Surface, line: shapely.Geometry) -> np.ndarray:
    """Cells that a bund stands on, wide enough that water cannot slip through between corners (boolean).

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    line
        The line, in the system of the ground.

    Returns
    -------
    np.ndarray
        Booleans of shape (rows, cols).

    Raises
    ------
    MossError
        For a bund that does not stand on the ground.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.pond import bund_cells
    >>> bund_cells(bowl(), shapely.LineString([(9, 1), (9, 9)]))[2].tolist()
    [False, False, False, False, True]
    """
    frame = dem.frame
    burnt = laid([line], 1, frame, touched=True).astype(bool)
    if not (burnt & ~np.isnan(dem.values)).any():
        raise MossError("The bund does not stand on the ground.", "Draw its line on the ground.")
    return np.asarray(burnt & ~np.isnan(dem.values))


def ponded(
    dem: Surface, line: shapely.Geometry, crest: float, progress: Progress | None = None
) -> tuple[Surface, Surface]:
    """Depth of the water that stands behind a bund with its crest at a height (in the ground's unit), and the
    bed it is held above.

    Only water that touches the bund and would not stand there without it counts; where the bund can be passed
    lower than its crest, the water stands at that height. The bed is the ground with the water that stood
    there before.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    line
        The line, in the system of the ground.
    crest
        Height of the top of the bund, in the unit of the ground.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[Surface, Surface]
        Depth in the unit of the ground, NaN where there is no water; and the bed.

    Raises
    ------
    MossError
        For a crest below the ground, or a bund that holds nothing.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.pond import ponded
    >>> depth, bed = ponded(bowl(), shapely.LineString([(9, 1), (9, 9)]), crest=5.0)
    >>> float(np.nanmax(depth.values))
    4.0
    """
    wall = bund_cells(dem, line)
    lowest = float(np.nanmin(dem.values[wall]))
    if crest <= lowest:
        raise MossError(
            f"A crest of {crest:g} {dem.unit.symbol} lies below the ground, whose lowest point under the "
            f"bund is {lowest:.2f}.",
            "Raise the crest.",
        )
    progress = progress or silent()
    natural = prepare(dem, progress.part(0.0, 0.45))
    z, top = natural.z, np.float32(crest - natural.base)
    raised = np.where(wall, np.maximum(z, top), z).astype(np.float32)
    raised.flags.writeable = False
    filled = work_out(replace(dem, values=raised), progress.part(0.45, 0.9)).filled()
    progress.at(0.9, "Finding what is held")
    before = natural.filled()
    depth = filled - raised
    held = (depth > 0) & (filled > before)
    numbered, owner = label_components(np.where(held, np.uint8(1), np.uint8(255)), 8, 255)
    progress.at(0.95, "Measuring the water")
    near = np.zeros(len(owner), bool)
    near[np.unique(numbered[_grown(wall)])] = True
    near[0] = False
    wet = near[numbered]
    if not wet.any():
        raise MossError("The bund holds no water.", "Draw it across a valley, from slope to slope.")
    bed = np.maximum(before, raised).astype(dem.values.dtype) + natural.base
    return Surface(np.where(wet, depth, np.float32(np.nan)), dem.frame, dem.unit, "depth"), replace(
        dem, values=bed.astype(dem.values.dtype)
    )


def standing_before(dem: Surface, bed: Surface, depth: Surface) -> float:
    """Cubic metres of water that stood where a pond stands before there was a bund.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    bed
        Ground with the water that stood there before.
    depth
        Depth of the pond, in the unit of the ground.

    Returns
    -------
    float
        Cubic metres.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.pond import ponded, standing_before
    >>> depth, bed = ponded(bowl(), shapely.LineString([(9, 1), (9, 9)]), crest=5.0)
    >>> standing_before(bowl(), bed, depth)
    44.0
    """
    wet = ~np.isnan(depth.values)
    deep = np.maximum(bed.values - dem.values, 0.0)[wet].astype(np.float64)
    areas = np.broadcast_to(dem.frame.row_areas[:, None], wet.shape)[wet]
    return float((deep * areas).sum() * dem.metres_per_height)


def storage_curve(
    dem: Surface, bed: Surface, depth: Surface, steps: int = 50
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Stages from the deepest bed to the full level, with the area (m²) and volume (m³) that a pond adds at
    each.

    Water that stood there before is part of the bed.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    bed
        Ground with the water that stood there before.
    depth
        Depth of the pond, in the unit of the ground.
    steps
        Number of steps.

    Returns
    -------
    tuple[np.ndarray, np.ndarray, np.ndarray]
        Stages in the unit of the ground, square metres, cubic metres.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.pond import ponded, storage_curve
    >>> depth, bed = ponded(bowl(), shapely.LineString([(9, 1), (9, 9)]), crest=5.0)
    >>> level, area, volume = storage_curve(bowl(), bed, depth, steps=2)
    >>> level.tolist(), area.tolist(), volume.tolist()
    ([4.0, 4.5, 5.0], [0.0, 36.0, 36.0], [0.0, 18.0, 36.0])
    """
    wet = ~np.isnan(depth.values)
    floor = bed.values[wet].astype(np.float64)
    areas = np.broadcast_to(dem.frame.row_areas[:, None], wet.shape)[wet]
    full = float((dem.values[wet].astype(np.float64) + depth.values[wet]).max())
    order = np.argsort(floor)
    floor, areas = floor[order], areas[order]
    stages = np.linspace(floor[0], full, steps + 1)
    place = np.searchsorted(floor, stages, side="left")
    base = floor[0]  # heights are taken from the deepest bed first, so that small depths keep their digits
    area = np.concatenate([[0.0], np.cumsum(areas)])[place]
    moment = np.concatenate([[0.0], np.cumsum(areas * (floor - base))])[place]
    return stages, area, ((stages - base) * area - moment) * dem.metres_per_height


def _grown(cells: np.ndarray) -> np.ndarray:
    """Cells and their eight neighbours."""
    padded = np.pad(cells, 1)
    rows, cols = cells.shape
    grown = np.zeros_like(cells)
    for i in range(3):
        for j in range(3):
            grown |= padded[i : i + rows, j : j + cols]
    return grown

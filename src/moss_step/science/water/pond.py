"""Water held behind a bund: its extent, depth and volume at a crest height, and the curve of volume by stage."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely
from rasterio.features import rasterize

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.science.regrid import affine
from moss_step.science.water.drainage import Drainage, prepare
from moss_step.science.zones.labelling import label_components


def bund_cells(dem: Surface, line: shapely.Geometry) -> np.ndarray:
    """Cells that a bund stands on, wide enough that water cannot slip through between corners (boolean)."""
    frame = dem.frame
    burnt = rasterize([(line, 1)], frame.shape, fill=0, transform=affine(frame), all_touched=True).astype(bool)
    if not (burnt & ~np.isnan(dem.values)).any():
        raise MossError("The bund does not stand on the ground.", "Draw its line on the ground.")
    return np.asarray(burnt & ~np.isnan(dem.values))


def ponded(dem: Surface, line: shapely.Geometry, crest: float, progress: Progress | None = None) -> tuple[Surface, Drainage]:
    """Depth of the water that stands behind a bund with its crest at a height (in the ground's unit), and the dammed ground.

    Only water that touches the bund and would not stand there without it counts; where the bund can be passed lower than its
    crest, the water stands at that height. Raises MossError for a crest below the ground, or a bund that holds nothing.
    """
    wall = bund_cells(dem, line)
    lowest = float(np.nanmin(dem.values[wall]))
    if crest <= lowest:
        raise MossError(f"A crest of {crest:g} {dem.unit.symbol} lies below the ground, whose lowest point under the bund is {lowest:.2f}.",
                        "Raise the crest.")  # fmt: skip
    raised = np.where(wall, np.maximum(dem.values, np.float32(crest)), dem.values).astype(np.float32)
    raised.flags.writeable = False
    dammed = prepare(replace(dem, values=raised), progress)
    natural = prepare(dem, progress)
    filled = dammed.filled()
    depth = filled - raised
    held = (depth > 0) & (filled > natural.filled())
    numbered, owner = label_components(np.where(held, np.uint8(1), np.uint8(255)), 8, 255)
    near = np.zeros(len(owner), bool)
    grown = _grown(wall)
    near[np.unique(numbered[grown])] = True
    near[0] = False
    wet = near[numbered]
    if not wet.any():
        raise MossError("The bund holds no water.", "Draw it across a valley, from slope to slope.")
    return Surface(np.where(wet, depth, np.float32(np.nan)), dem.frame, dem.unit, "depth"), dammed


def storage_curve(dem: Surface, depth: Surface, steps: int = 50) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Stages from the deepest bed to the full level, with area (m²) and volume (m³) at each, of a pond's depths."""
    wet = ~np.isnan(depth.values)
    bed = dem.values[wet].astype(np.float64)
    areas = np.broadcast_to(dem.frame.row_areas[:, None], wet.shape)[wet]
    full = float((bed + depth.values[wet]).max())
    order = np.argsort(bed)
    bed, areas = bed[order], areas[order]
    stages = np.linspace(bed[0], full, steps + 1)
    place = np.searchsorted(bed, stages, side="left")
    area = np.concatenate([[0.0], np.cumsum(areas)])[place]
    moment = np.concatenate([[0.0], np.cumsum(areas * bed)])[place]
    return stages, area, (stages * area - moment) * dem.metres_per_height


def _grown(cells: np.ndarray) -> np.ndarray:
    """Cells and their eight neighbours."""
    padded = np.pad(cells, 1)
    rows, cols = cells.shape
    grown = np.zeros_like(cells)
    for i in range(3):
        for j in range(3):
            grown |= padded[i : i + rows, j : j + cols]
    return grown

"""Two surfaces against each other, other units, exaggeration, small voids, and several grids as one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame, same_frame
from moss_step.model.memory import check_memory
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import NONE, PERCENT, UNKNOWN, Unit, convert

Measure = Literal["difference", "ratio", "change"]


def difference(first: Surface, second: Surface, measure: Measure = "difference") -> tuple[Surface, list[str]]:
    """``first - second``, ``first / second``, or the change from second to first in percent, with remarks.

    Another unit of the same kind is converted and that is said. Raises MossError when units or frames do not go together.
    """
    if not same_frame(first.frame, second.frame):
        raise MossError("The two surfaces do not lie cell on cell.", "Resample one to the frame of the other, or crop both alike.")
    remarks, values = [], second.values
    if first.unit != second.unit and UNKNOWN not in (first.unit, second.unit):
        values = convert(second.values.astype(np.float64), second.unit, first.unit).astype(np.float32)
        remarks.append(f"The second surface was converted from {second.unit.key} to {first.unit.key}.")
    with np.errstate(divide="ignore", invalid="ignore"):
        if measure == "difference":
            out, unit = first.values - values, first.unit
        elif measure == "ratio":
            out, unit = first.values / values, NONE
        else:
            out, unit = (first.values - values) / np.abs(values) * np.float32(100), PERCENT
    out[np.isinf(out)] = np.nan
    return Surface(out, first.frame, unit, measure), remarks


def converted(surface: Surface, unit: Unit) -> Surface:
    """The same values in another unit of the same kind."""
    values = convert(surface.values.astype(np.float64), surface.unit, unit).astype(np.float32)
    return Surface(values, surface.frame, unit, surface.quantity)


def exaggerated(surface: Surface, factor: float) -> Surface:
    """Heights times a factor, as a surface of its own."""
    _ = surface.metres_per_height
    return Surface(surface.values * np.float32(factor), surface.frame, surface.unit, surface.quantity)


def fill_voids(surface: Surface, most_cells: int) -> tuple[Surface, int, int]:
    """Fill voids of at most ``most_cells`` cells from their rims; gives the surface, voids filled and cells filled.

    Inverse-distance interpolation from the void's rim (GDAL's fill). Voids that reach the edge of the grid stay.
    """
    from rasterio.fill import fillnodata
    from scipy import ndimage

    hole = np.isnan(surface.values)
    labels, n = ndimage.label(hole)
    sizes = np.bincount(labels.ravel(), minlength=n + 1)
    at_edge = np.unique(np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]]))
    wanted = sizes <= most_cells
    wanted[at_edge] = False
    wanted[0] = False
    small = wanted[labels]
    if not small.any():
        return surface, 0, 0
    reach = float(np.ceil(np.sqrt(most_cells)) + 2)
    base = np.where(hole, np.float32(0), surface.values)
    filled = fillnodata(base.copy(), mask=(~hole).astype(np.uint8), max_search_distance=reach, smoothing_iterations=0)
    values = np.where(small, filled, surface.values).astype(np.float32)
    return Surface(values, surface.frame, surface.unit, surface.quantity), int(wanted.sum()), int(small.sum())


def merge(grids: Mapping[str, Surface], progress: Progress | None = None) -> tuple[Surface, list[str]]:
    """Several grids of one system and cell size as one; where they overlap the first one with a value counts.

    Raises MossError when systems, units or cells differ, or the cells are shifted against one another.
    """
    names, surfaces = list(grids), list(grids.values())
    base = surfaces[0]
    for name, s in grids.items():
        f, b = s.frame, base.frame
        if f.system != b.system or abs(f.dx - b.dx) > 1e-6 * b.dx or abs(f.dy - b.dy) > 1e-6 * b.dy:
            raise MossError(f"'{name}' has another reference system or cell size than '{names[0]}'.", "Reproject or resample it first.")
        off = [((f.x0 - b.x0) / b.dx) % 1.0, ((f.y0 - b.y0) / b.dy) % 1.0]
        if any(1e-3 < o < 1.0 - 1e-3 for o in off):
            raise MossError(f"The cells of '{name}' are shifted against those of '{names[0]}'.", "Resample it to the same frame.")
        if s.unit != base.unit:
            raise MossError(f"'{name}' is in {s.unit.key} and '{names[0]}' in {base.unit.key}.", "Convert one first.")
    boxes = np.array([s.frame.box for s in surfaces])
    x0, y0 = boxes[:, 0].min(), boxes[:, 3].max()
    cols, rows = round((boxes[:, 2].max() - x0) / base.frame.dx), round((y0 - boxes[:, 1].min()) / base.frame.dy)
    check_memory(rows * cols, "The merged grid", "Merge fewer or crop them first.")
    frame = Frame(rows, cols, x0, y0, base.frame.dx, base.frame.dy, base.frame.crs)
    out, overlap = np.full((rows, cols), np.nan, np.float32), 0
    for k, s in enumerate(surfaces):
        (progress or silent()).at(k / len(surfaces), "Merging")
        r, c = round((y0 - s.frame.y0) / frame.dy), round((s.frame.x0 - x0) / frame.dx)
        part = out[r : r + s.frame.rows, c : c + s.frame.cols]
        empty = np.isnan(part)
        overlap += int(np.count_nonzero(~empty & ~np.isnan(s.values)))
        part[empty] = s.values[empty]
    remarks = [f"{overlap:,} cells overlap; the first grid counts there."] if overlap else []
    return Surface(out, frame, base.unit, base.quantity), remarks

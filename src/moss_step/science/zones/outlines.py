"""Between grids and areas: shapes to grid, classes to areas, connected patches, and masks."""

from __future__ import annotations

from typing import Literal

import numpy as np
import shapely

from moss_step.model.arrays import falling
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, check_same_frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.algebra.bearings import bearing_of, vectors
from moss_step.science.algebra.criteria import NO, YES
from moss_step.science.classes.classify import count_codes
from moss_step.science.classes.presets import colors_between
from moss_step.science.laying import cells_inside, laid
from moss_step.science.zones.kernels.labelling import count_labels
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.smoothing import fixed_corners, smoothed
from moss_step.science.zones.tracing import Parts, areas_of, collected, parts_of

MOST_PATCHES = 500_000


def shapes_to_grid(shapes: Shapes, frame: Frame, column: str) -> ClassMap:
    """A class map of shapes by the values of a column, with a class for each value; later shapes lie over
    earlier ones.

    Cells whose centres lie in an area, or that a line or point touches, take its class.

    Parameters
    ----------
    shapes
        Points, lines or areas with their columns.
    frame
        Rows, columns, cell size and reference system of the grid.
    column
        Name of the column.

    Returns
    -------
    ClassMap
        Codes, uint8; 255 where there is no shape.

    Raises
    ------
    AskedWronglyError
        For a column that is not there.
    MossError
        For more than 254 values.

    Examples
    --------
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.outlines import shapes_to_grid
    >>> shapes_to_grid(box(0, 0, 4, 8), tilted().frame, "name").codes[0].tolist()  # 255: none
    [1, 1, 255, 255, 255]
    """
    if column not in shapes.columns:
        raise AskedWronglyError(
            f"The shapes have no column '{column}'.", f"They have: {', '.join(shapes.columns) or 'none'}."
        )
    values = [str(v) for v in shapes.columns[column]]
    distinct = sorted(set(values), key=_by_number)
    if len(distinct) > NO_CLASS - 1:
        raise MossError(
            f"Column '{column}' has {len(distinct):,} values, and a class map holds 254.",
            "Choose another column.",
        )
    numbers = {v: i + 1 for i, v in enumerate(distinct)}
    codes = laid(shapes.geometry, [numbers[v] for v in values], frame, NO_CLASS)
    colors = colors_between(len(distinct))
    return ClassMap(codes, frame, tuple(ClassEntry(numbers[v], v, colors[i]) for i, v in enumerate(distinct)))


def inside_or_not(shapes: Shapes, frame: Frame) -> ClassMap:
    """Cells of a frame whose centre any of some shapes holds, or that a line or point meets, against all
    others.

    Parameters
    ----------
    shapes
        Shapes in the system of the frame.
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    ClassMap
        Codes 1 inside and 0 outside, uint8 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.outlines import inside_or_not
    >>> inside_or_not(box(0, 0, 4, 8), tilted().frame).codes[0].tolist()
    [1, 1, 0, 0, 0]
    """
    codes = laid(shapes.geometry, 1, frame, touched=shapes.kind == "lines")
    return ClassMap(codes, frame, (ClassEntry(0, "outside", NO), ClassEntry(1, "inside", YES)))


def classes_to_areas(classes: ClassMap, smoothing: int = 0, progress: Progress | None = None) -> Shapes:
    """One area for each class, along the exact outlines of its cells, with columns class, name and area_m2.

    ``smoothing`` rounds of corner cutting round the outlines for the eye; neighbours stay seamless, and
    area_m2 is always that of the cells.

    Parameters
    ----------
    classes
        Codes of shape (rows, cols), uint8; 255 is no class.
    smoothing
        Rounds of corner cutting.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their columns.

    Raises
    ------
    MossError
        When no cell has a class.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.zones.outlines import classes_to_areas
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> [float(area) for area in shapely.area(classes_to_areas(high).geometry)]
    [32.0, 48.0]
    """
    progress = progress or silent()
    result = parts_of(classes.codes, NO_CLASS, classes.frame, progress.part(0.0, 0.5 if smoothing else 1.0))
    if not len(result.number):
        raise MossError("No cell has a class.", "Choose another class map.")
    order = np.argsort(result.number, kind="stable")
    geometry, number = result.geometry[order], result.number[order]
    if smoothing:
        pins = fixed_corners(classes.codes)
        for k, area in enumerate(geometry):
            part = progress.part(0.5 + 0.5 * k / len(geometry), 0.5 + 0.5 * (k + 1) / len(geometry))
            geometry[k] = smoothed(area, pins, classes.frame, smoothing, part)
    return class_shapes(Parts(geometry, number), count_codes(classes.codes, classes.frame)[1], classes)


def class_shapes(parts: Parts, areas: np.ndarray, classes: ClassMap) -> Shapes:
    """One area for each class, from its parts.

    Parameters
    ----------
    parts
        Outlines with the code of each, in ascending order of codes.
    areas
        Square metres of each code.
    classes
        The class map, or one like it: its names count.

    Returns
    -------
    Shapes
        Areas with their columns.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.zones.outlines import class_shapes
    >>> from moss_step.science.zones.tracing import Parts
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> parts = Parts(np.array([shapely.box(0, 0, 1, 1)]), np.array([1]))
    >>> class_shapes(parts, np.array([0.0, 1.0]), high).columns["name"].tolist()
    ['high']
    """
    codes, place = np.unique(parts.number, return_inverse=True)
    names = [(e.name if (e := classes.entry(c)) else f"Class {c}") for c in codes]
    return Shapes(
        collected(parts.geometry, place, len(codes)),
        {"class": codes.astype(np.int32), "name": np.array(names, object), "area_m2": areas[codes]},
        classes.frame.crs,
    )


def patches(
    classes: ClassMap,
    neighbours: Literal[4, 8],
    least_cells: int = 1,
    surface: Surface | None = None,
    progress: Progress | None = None,
) -> Shapes:
    """Connected patches of one class each, as areas with patch, class, name, cells and area_m2, largest
    first.

    Cells touch along edges (4 neighbours) or also at corners (8). With a surface: its lowest, highest and
    mean per patch, the mean weighed by ground area; of bearings the mean direction.

    Parameters
    ----------
    classes
        Codes of shape (rows, cols), uint8; 255 is no class.
    neighbours
        4 along edges, 8 at corners too.
    least_cells
        Least cells of a patch.
    surface
        Values of shape (rows, cols); NaN is no-data.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their columns.

    Raises
    ------
    MossError
        When there are more than 500,000 patches.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.zones.outlines import patches
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> len(patches(high, 4))
    2
    """
    progress = progress or silent()
    progress.at(0.1, "Joining cells")
    labels, owner = label_components(classes.codes, neighbours, NO_CLASS)
    cells, areas = count_labels(labels, classes.frame.row_areas, len(owner))
    order = 1 + largest_first(cells[1:], areas[1:], least_cells)
    number = np.zeros(len(owner), np.int32)
    number[order] = np.arange(1, order.size + 1)
    numbered = number[labels]
    geometry = areas_of(numbered, classes.frame, order.size, progress.part(0.4, 1.0))
    columns = patch_columns(owner[order], cells[order], areas[order], classes)
    if surface is not None:
        columns |= _per_patch(numbered, order.size, surface, classes.frame)
    return Shapes(geometry, columns, classes.frame.crs)


def largest_first(cells: np.ndarray, areas: np.ndarray, least_cells: int) -> np.ndarray:
    """The patches that are large enough, the largest first.

    Parameters
    ----------
    cells
        Cells of each patch.
    areas
        Square metres of each.
    least_cells
        Least cells of a patch.

    Returns
    -------
    np.ndarray
        Their places.

    Raises
    ------
    MossError
        When there are none, or more than 500,000.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.zones.outlines import largest_first
    >>> largest_first(np.array([1, 5, 9]), np.array([4.0, 20.0, 36.0]), 2).tolist()
    [2, 1]
    """
    kept = np.flatnonzero(cells >= least_cells)
    if kept.size == 0:
        raise MossError(f"No patch has {least_cells:,} cells.", "Ask for smaller ones.")
    if kept.size > MOST_PATCHES:
        raise MossError(f"There are {kept.size:,} patches.", "Leave out small ones with `least_cells`.")
    order: np.ndarray = kept[falling(areas[kept])]
    return order


def patch_columns(
    codes: np.ndarray, cells: np.ndarray, areas: np.ndarray, classes: ClassMap
) -> dict[str, np.ndarray]:
    """Columns of patches in order: number, class and name, cells and area.

    Parameters
    ----------
    codes
        The code of each patch.
    cells
        Cells of each.
    areas
        Square metres of each.
    classes
        The class map, or one like it: its names count.

    Returns
    -------
    dict[str, np.ndarray]
        Columns of n values.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.zones.outlines import patch_columns
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> patch_columns(np.array([1]), np.array([8]), np.array([32.0]), high)["name"].tolist()
    ['high']
    """
    names = {c.code: c.name for c in classes.classes}
    return {
        "patch": np.arange(1, len(codes) + 1, dtype=np.int32), "class": codes.astype(np.int32),
        "name": np.array([names.get(int(c), f"Class {c}") for c in codes], object),
        "cells": cells.astype(np.int64), "area_m2": areas,
    }  # fmt: skip


def number_areas(areas: Shapes, frame: Frame) -> np.ndarray:
    """Number of the area that holds each cell's centre, from 1 (int32, 0 for none); of areas that overlap the
    smallest counts.

    Parameters
    ----------
    areas
        Areas in the reference system of the grid.
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    np.ndarray
        Numbers, int32 of shape (rows, cols).

    Raises
    ------
    MossError
        For shapes that are no areas.

    Examples
    --------
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.outlines import number_areas
    >>> number_areas(box(0, 0, 4, 8), tilted().frame)[0].tolist()
    [1, 1, 0, 0, 0]
    """
    if areas.kind != "areas":
        raise MossError(f"These shapes are {areas.kind}, and areas are wanted.", "Choose areas.")
    order = np.argsort(-shapely.area(areas.geometry), kind="stable")
    return laid(areas.geometry[order], order + 1, frame, dtype="int32")


def mask_surface(surface: Surface, areas: Shapes, keep: Literal["inside", "outside"]) -> Surface:
    """Make cells whose centres lie outside (or inside) areas no-data; the frame stays.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    areas
        Areas in the reference system of the grid.
    keep
        Which side stays, or areas that tiles must meet, as the type says.

    Returns
    -------
    Surface
        Values of the same frame.

    Raises
    ------
    MossError
        For shapes that are no areas, or when nothing would be left.

    Examples
    --------
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.outlines import mask_surface
    >>> mask_surface(tilted(), box(0, 0, 4, 8), "inside").values[0].tolist()
    [0.0, 2.0, nan, nan, nan]
    """
    outside = ~cells_inside(surface.frame, areas)
    gone = outside if keep == "inside" else ~outside
    if not surface.is_part and (gone | np.isnan(surface.values)).all():
        raise MossError("Nothing would be left.", "Choose other areas, or the other side.")
    return Surface(
        np.where(gone, np.float32(np.nan), surface.values), surface.frame, surface.unit, surface.quantity
    )


def _per_patch(numbered: np.ndarray, n: int, surface: Surface, frame: Frame) -> dict[str, np.ndarray]:
    check_same_frame(surface.frame, frame, "The surface and the classes")
    valid = ~np.isnan(surface.values) & (numbered > 0)
    which = numbered[valid]
    values = surface.values[valid].astype(np.float64)
    share = np.broadcast_to(frame.row_areas[:, None], numbered.shape)[valid]
    if surface.cyclic:
        east, north = (np.bincount(which, part * share, minlength=n + 1)[1:] for part in vectors(values))
        mass = np.bincount(which, share * (values >= 0), minlength=n + 1)[1:]
        with np.errstate(invalid="ignore", divide="ignore"):
            around = bearing_of(east / mass, north / mass).astype(np.float64)
        return {"mean": np.where(around < 0, np.nan, around)}
    low, high = np.full(n + 1, np.inf), np.full(n + 1, -np.inf)
    np.minimum.at(low, which, values)
    np.maximum.at(high, which, values)
    mass = np.bincount(which, share, minlength=n + 1)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.bincount(which, values * share, minlength=n + 1) / mass
    none = mass == 0
    low[none], high[none] = np.nan, np.nan
    return {"lowest": low[1:], "highest": high[1:], "mean": mean[1:]}


def _by_number(text: str) -> tuple[float, str]:
    try:
        return float(text), text
    except ValueError:
        return float("inf"), text

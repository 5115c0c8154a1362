"""Cutting a grid to a box or an area, and carrying it over to another frame."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from rasterio.enums import Resampling
from rasterio.errors import RasterioError
from rasterio.transform import Affine, from_origin
from rasterio.warp import calculate_default_transform, reproject

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box, Frame, carried, reference_system
from moss_step.model.mapped import blocks_of, check_room, compact, let_go, new_grid, row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.algebra.bearings import bearing_of, vectors
from moss_step.science.laying import cells_inside

ResamplingName = Literal["nearest", "bilinear", "cubic", "average"]


@dataclass(frozen=True)
class Placed:
    """A surface and the remarks on how it was placed."""

    surface: Surface
    remarks: tuple[str, ...] = ()


def affine(frame: Frame) -> Affine:
    """Transform from columns and rows to coordinates.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    Affine
        The transform.

    Examples
    --------
    >>> from moss_step.science.regrid import affine
    >>> from moss_step.science.sample import tilted
    >>> tuple(affine(tilted().frame))[:6]
    (2.0, 0.0, 0.0, 0.0, -2.0, 8.0)
    """
    return from_origin(frame.x0, frame.y0, frame.dx, frame.dy)


def crop_to_box(surface: Surface, box: Box) -> Surface:
    """Keep the cells whose centres lie in a box.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    box
        xmin, ymin, xmax, ymax in the units of the system.

    Returns
    -------
    Surface
        The part of the surface.

    Raises
    ------
    AskedWronglyError
        For a box without extent.
    MossError
        When it holds no cell.

    Examples
    --------
    >>> from moss_step.science.regrid import crop_to_box
    >>> from moss_step.science.sample import tilted
    >>> crop_to_box(tilted(), (0.0, 0.0, 4.0, 4.0)).values.tolist()
    [[0.0, 2.0], [0.0, 2.0]]
    """
    xmin, ymin, xmax, ymax = box
    if not (xmin < xmax and ymin < ymax):
        raise AskedWronglyError(
            f"The box {box} has no extent.",
            "Its first corner lies south-west of the second.",
            "Give xmin,ymin,xmax,ymax with xmin < xmax and ymin < ymax.",
        )
    rows, cols = surface.frame.window(box)
    values = compact(surface.values[rows, cols])
    return Surface(values, surface.frame.part(rows, cols), surface.unit, surface.quantity)


def crop_to_area(surface: Surface, areas: Shapes) -> Surface:
    """Keep the extent of areas; cells whose centres lie outside them become no-data.

    The areas must be in the surface's reference system.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    areas
        Areas in the reference system of the grid.

    Returns
    -------
    Surface
        The part of the surface.

    Raises
    ------
    MossError
        When they are no areas or hold no cell.

    Examples
    --------
    >>> from moss_step.science.regrid import crop_to_area
    >>> from moss_step.science.sample import box, tilted
    >>> crop_to_area(tilted(), box(0, 0, 4, 4)).values.tolist()
    [[0.0, 2.0], [0.0, 2.0]]
    """
    if areas.kind != "areas":
        raise MossError(f"These shapes are {areas.kind}, and a grid is cut by areas.", "Choose areas.")
    box = areas.box
    if box is None:
        raise MossError("The areas are empty.", "Choose other areas.")
    part = crop_to_box(surface, box)
    inside = cells_inside(part.frame, areas)
    if not inside.any():
        raise MossError("No cell centre lies inside the areas.", "Choose larger areas or a finer grid.")
    values = row_by_row(
        lambda v, within: np.where(within, v, np.float32(np.nan)), part.values.dtype, part.values, inside
    )
    return Surface(values, part.frame, part.unit, part.quantity)


def carry_over(
    surface: Surface,
    crs: str,
    cell: float | None,
    resampling: ResamplingName,
    progress: Progress | None = None,
    like: Frame | None = None,
) -> Surface:
    """Resample a surface to another reference system and cell size (in the target's units; chosen when None),
    or to the cells of a frame.

    Bearings are averaged as vectors.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    crs
        Reference system as EPSG code or WKT.
    cell
        Side of a cell in the units of the target, or the number of a cell, as the type says.
    resampling
        How values between cells are taken.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.
    like
        A frame whose cells the result has, ``crs`` and ``cell`` being its own then; one that states no system
        is taken to lie in ``crs``.

    Returns
    -------
    Surface
        The surface in its new frame.

    Raises
    ------
    MossError
        When the surface has no reference system or does not reach the target's area of use.

    Examples
    --------
    >>> from moss_step.science.regrid import carry_over
    >>> from moss_step.science.sample import tilted
    >>> carry_over(tilted(), "EPSG:32628", 4.0, "average").values.tolist()
    [[1.0, 5.0], [1.0, 5.0]]
    """
    progress = progress or silent()
    frame = surface.frame
    reference_system(crs)
    if frame.crs is None:
        raise MossError(
            "The surface has no reference system to come from.",
            "State it in Gather first.",
            "Open the file with open_grid crs=EPSG:… first.",
        )
    try:
        target = like or _target_frame(frame, crs, cell)
        target = target if target.crs is not None else target.with_crs(crs)
        check_room(target.rows * target.cols, "The result", "Use a larger cell size.")
        if surface.cyclic and resampling != "nearest":
            east, north = (
                _resampled(row_by_row(along, np.float64, surface.values), frame, target, resampling, progress)
                for along in (lambda v: vectors(v)[0], lambda v: vectors(v)[1])
            )
            out = row_by_row(bearing_of, np.float32, east, north)
        else:
            out = _resampled(surface.values, frame, target, resampling, progress)
    except RasterioError as error:
        text = str(error).splitlines()[0]
        raise MossError(
            f"The grid cannot be carried over to that system: {text}.", "Choose another."
        ) from error
    if all(np.isnan(out[rows]).all() for rows in blocks_of(out)):
        raise MossError(
            "Nothing of the grid falls in that system.", "Choose one made for this part of the world."
        )
    return Surface(out, target, surface.unit, surface.quantity)


def _resampled(
    values: np.ndarray, frame: Frame, target: Frame, resampling: ResamplingName, progress: Progress
) -> np.ndarray:
    out = new_grid(target.shape, values.dtype, np.nan)
    for first, last in progress.blocks(target.rows, 256, "Resampling"):
        part = target.part(slice(first, last), slice(0, target.cols))
        reproject(
            values,
            out[first:last],
            src_transform=affine(frame),
            src_crs=frame.crs,
            dst_transform=affine(part),
            dst_crs=target.crs,
            src_nodata=np.nan,
            dst_nodata=np.nan,
            resampling=Resampling[resampling],
            num_threads=2,
        )
        let_go(out, values)
    return out


def metric_system(frame: Frame) -> str | None:
    """A metric system for a geographic frame: the UTM zone of its middle (EPSG code), or None near the poles.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    str | None
        An EPSG code, or None.

    Examples
    --------
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.regrid import metric_system
    >>> metric_system(Frame(2, 2, -15.0, 50.0, 0.001, 0.001, "EPSG:4326"))
    'EPSG:32628'
    """
    if not frame.geographic:
        return None
    xmin, ymin, xmax, ymax = frame.box
    middle = np.array([(xmin + xmax) / 2.0]), np.array([(ymin + ymax) / 2.0])
    lon, lat = (float(v[0]) for v in carried(frame.crs or "", "EPSG:4326", *middle))
    if not -80.0 <= lat <= 84.0:
        return None
    zone = int((lon + 180.0) // 6.0) % 60 + 1
    return f"EPSG:{(32600 if lat >= 0 else 32700) + zone}"


def _target_frame(frame: Frame, crs: str, cell: float | None) -> Frame:
    same = reference_system(crs) == frame.system
    if same and cell is not None:
        rows, cols = round(frame.rows * frame.dy / cell), round(frame.cols * frame.dx / cell)
        return Frame(max(rows, 1), max(cols, 1), frame.x0, frame.y0, cell, cell, crs)
    size = {} if cell is None else {"resolution": cell}
    transform, cols, rows = calculate_default_transform(
        frame.crs, crs, frame.cols, frame.rows, *frame.box, **size
    )
    if not cols or not rows:
        raise MossError("The grid would have no cells.", "Use a smaller cell size.")
    return Frame(rows, cols, transform.c, transform.f, transform.a, -transform.e, crs)


def area_of(shapes: Shapes) -> float:
    """Plane area of all shapes together in square units of their system, overlaps counted once.

    Parameters
    ----------
    shapes
        Points, lines or areas with their columns.

    Returns
    -------
    float
        Square units of the system.

    Examples
    --------
    >>> from moss_step.science.regrid import area_of
    >>> from moss_step.science.sample import box
    >>> area_of(box(0, 0, 4, 4))
    16.0
    """
    return float(shapely.union_all(shapes.geometry).area)

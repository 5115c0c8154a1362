"""The frame of a grid: reference system, origin, cell size and extent, and true ground sizes."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
import shapely
from pyproj import CRS, Geod, Transformer
from pyproj.exceptions import CRSError, ProjError

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.typed import as_kind

Box = tuple[float, float, float, float]
"""xmin, ymin, xmax, ymax in the units of the reference system."""


@lru_cache(maxsize=64)
def reference_system(text: str) -> CRS:
    """Give the reference system for an EPSG code, a WKT text or any other form that PROJ reads.

    Raises AskedWronglyError when the text names none.
    """
    try:
        return CRS.from_user_input(text)
    except CRSError:
        raise AskedWronglyError(
            f"'{text[:60]}' is not a reference system.", "Give one like EPSG:32628, or a WKT text."
        ) from None


@lru_cache(maxsize=256)
def same_system(one: str | None, other: str | None) -> bool:
    """Whether two texts name one reference system, as `EPSG:32628` and the WKT that a file holds may; one
    that is not known is taken as the other.

    Raises AskedWronglyError when a text names none.
    """
    if one is None or other is None or one == other:
        return True
    return reference_system(one).equals(reference_system(other), ignore_axis_order=True)


def carried(
    source: CRS | str, target: CRS | str, x: np.ndarray, y: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Coordinates in another reference system, east or longitude first; infinite where the other system does
    not reach.

    Raises MossError where there is no way from one system to the other, as with local and damaged ones.
    """
    try:
        turned = Transformer.from_crs(source, target, always_xy=True).transform(x, y)
    except ProjError as error:
        raise MossError(
            "There is no way from one of these reference systems to the other.",
            "State the right ones in Gather.",
            "State the right ones with open_grid crs=EPSG:….",
        ) from error
    return np.asarray(turned[0]), np.asarray(turned[1])


@dataclass(frozen=True)
class Frame:
    """Where a north-up grid lies: ``x0, y0`` is its upper-left corner, ``dx, dy`` the cell size (both
    positive).

    Coordinates are in the units of ``crs`` (a WKT or EPSG text; None when it is not known).
    """

    rows: int
    cols: int
    x0: float
    y0: float
    dx: float
    dy: float
    crs: str | None = None

    def __post_init__(self) -> None:
        """Refuse frames without cells, or whose cells or extent are no positive numbers."""
        if self.rows < 1 or self.cols < 1:
            raise MossError(f"A grid of {self.rows} rows and {self.cols} columns has no cells.")
        message = (self.dx, self.dy, self.x0, self.y0, *self.box, self.dx * self.dy * self.rows * self.cols)
        if not all(map(math.isfinite, message)) or self.dx <= 0 or self.dy <= 0 or not self._has_extent:
            raise MossError(
                f"A cell size of {self.dx} by {self.dy} is not possible.", "Check the file's header."
            )

    @property
    def _has_extent(self) -> bool:
        """Whether the coordinates of the edges are told apart."""
        xmin, ymin, xmax, ymax = self.box
        return self.dx * self.dy > 0 and xmin < xmax and ymin < ymax

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        return self.rows, self.cols

    @property
    def box(self) -> Box:
        """The outer edges: xmin, ymin, xmax, ymax."""
        return self.x0, self.y0 - self.rows * self.dy, self.x0 + self.cols * self.dx, self.y0

    @cached_property
    def system(self) -> CRS | None:
        """The reference system, or None when it is not known."""
        return None if self.crs is None else reference_system(self.crs)

    @property
    def geographic(self) -> bool:
        """Whether coordinates are longitude and latitude in degrees."""
        return self.system is not None and self.system.is_geographic

    @property
    def metres_per_unit(self) -> float:
        """Metres in one unit of a projected system (1 when no system is known)."""
        if self.system is None or self.geographic or not self.system.axis_info:
            return 1.0
        return float(self.system.axis_info[0].unit_conversion_factor)

    @property
    def degrees_per_unit(self) -> float:
        """Degrees in one unit of a geographic system: 1 for degrees, 0.9 for grads."""
        axes = as_kind(self.system, CRS).axis_info  # only asked of geographic frames
        return math.degrees(float(axes[0].unit_conversion_factor)) if axes else 1.0

    @property
    def system_name(self) -> str:
        """The reference system's name with its EPSG code when it has one."""
        return "none" if self.crs is None else _system_name(self.crs)

    def with_crs(self, crs: str) -> Frame:
        """Give the same grid of numbers with another reference system written beside it."""
        reference_system(crs)
        return replace(self, crs=crs)

    def x_of(self, col: float) -> float:
        """Easting (or longitude) of a column's centre."""
        x0, _, _, before = self._corner
        return x0 + (before + col + 0.5) * self.dx

    def y_of(self, row: float) -> float:
        """Northing (or latitude) of a row's centre."""
        _, y0, above, _ = self._corner
        return y0 - (above + row + 0.5) * self.dy

    def middles(self, wanted: np.ndarray, first: int = 0) -> tuple[np.ndarray, np.ndarray]:
        """Coordinates of the middles of the cells that are wanted (rows, cols): as many of each. They may be
        some rows, from the ``first`` on.
        """
        rows, cols = np.nonzero(wanted)
        return self._middles_of(rows + first, cols)

    def _middles_of(self, rows: np.ndarray, cols: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        x0, y0, above, before = self._corner
        return x0 + (before + cols + 0.5) * self.dx, y0 - (above + rows + 0.5) * self.dy

    def cell_at(self, x: float, y: float) -> tuple[int, int] | None:
        """Row and column of the cell that holds a point, or None outside the grid."""
        x0, y0, above, before = self._corner
        col = math.floor((x - x0) / self.dx) - before
        row = math.floor((y0 - y) / self.dy) - above
        return (row, col) if 0 <= row < self.rows and 0 <= col < self.cols else None

    def window(self, box: Box) -> tuple[slice, slice]:
        """Rows and columns of the cells whose centres lie in a box.

        Raises MossError when there are none.
        """
        xmin, ymin, xmax, ymax = box
        (x0, y0, above, before), tiny = self._corner, 1e-9
        c0 = max(0, math.ceil((xmin - x0) / self.dx - 0.5 - tiny) - before)
        c1 = min(self.cols, math.floor((xmax - x0) / self.dx - 0.5 + tiny) + 1 - before)
        r0 = max(0, math.ceil((y0 - ymax) / self.dy - 0.5 - tiny) - above)
        r1 = min(self.rows, math.floor((y0 - ymin) / self.dy - 0.5 + tiny) + 1 - above)
        if c0 >= c1 or r0 >= r1:
            raise MossError("The box holds no cell of the grid.", f"The grid spans {describe_box(self.box)}.")
        return slice(r0, r1), slice(c0, c1)

    def part(self, rows: slice, cols: slice) -> Frame:
        """Frame of the cells in a window of this one: to the last digit where it lies here, and as large on
        the ground; a part of a part, too.
        """
        x0, y0, row, col = self._corner
        row, col = row + rows.start, col + cols.start
        result = replace(
            self,
            rows=rows.stop - rows.start,
            cols=cols.stop - cols.start,
            x0=x0 + col * self.dx,
            y0=y0 - row * self.dy,
        )
        result.__dict__.update(_cut_from=(x0, y0, row, col))
        if self.geographic:  # worked out from its own corner, a row's latitude would be rounded otherwise
            result.__dict__.update(
                row_widths=self.row_widths[rows],
                row_heights=self.row_heights[rows],
                row_areas=self.row_areas[rows],
                finest=self.finest,
            )
        return result

    def in_cells(self, places: np.ndarray) -> np.ndarray:
        """Columns and rows of places (n, 2), in cells from the upper left corner: in a part of a frame they
        are those of the whole to the last digit, without the cells before it.
        """
        x0, y0, row, col = self._corner
        return np.stack([(places[:, 0] - x0) / self.dx - col, (y0 - places[:, 1]) / self.dy - row], axis=1)

    def places(self, in_cells: np.ndarray) -> np.ndarray:
        """Coordinates of columns and rows (n, 2) that ``in_cells`` gives."""
        x0, y0, row, col = self._corner
        cols, rows = np.asarray(in_cells).T
        return np.stack([x0 + (col + cols) * self.dx, y0 - (row + rows) * self.dy], axis=1)

    @property
    def _corner(self) -> tuple[float, float, int, int]:
        """Upper left corner of the frame that it was cut from, and the rows and columns before it there: what
        is worked out from its own corner would be rounded otherwise.
        """
        found: tuple[float, float, int, int] = self.__dict__.get("_cut_from", (self.x0, self.y0, 0, 0))
        return found

    def centres(self, cells: np.ndarray) -> np.ndarray:
        """Coordinates of the centres of cells, by their numbers row by row: (n, 2)."""
        return np.stack(self._middles_of(*np.divmod(cells, self.cols)), axis=1)

    @cached_property
    def row_widths(self) -> np.ndarray:
        """Ground width of a cell in metres, one value a row; on the ellipsoid for degrees."""
        if not self.geographic:
            return np.full(self.rows, self.dx * self.metres_per_unit)
        geod, lats = self._geod, self._row_latitudes
        sin2 = np.sin(np.radians(lats)) ** 2
        normal = geod.a / np.sqrt(1.0 - geod.es * sin2)
        return np.asarray(normal * np.cos(np.radians(lats)) * math.radians(self.dx * self.degrees_per_unit))

    @cached_property
    def finest(self) -> float:
        """The shortest side of a cell in metres; in a part of a frame it is that of the whole."""
        return min(float(self.row_widths.min()), float(self.row_heights.min()))

    @cached_property
    def row_heights(self) -> np.ndarray:
        """Ground height of a cell in metres, one value a row; on the ellipsoid for degrees."""
        if not self.geographic:
            return np.full(self.rows, self.dy * self.metres_per_unit)
        geod, lats = self._geod, self._row_latitudes
        sin2 = np.sin(np.radians(lats)) ** 2
        meridional = geod.a * (1.0 - geod.es) / (1.0 - geod.es * sin2) ** 1.5
        return np.asarray(meridional * math.radians(self.dy * self.degrees_per_unit))

    @cached_property
    def row_areas(self) -> np.ndarray:
        """Ground area of a cell in square metres, one value a row.

        For degrees: the ellipsoidal zone between two parallels, in closed form (Snyder 1987, USGS
        Professional Paper 1395, authalic latitude).
        """
        if not self.geographic:
            return np.full(self.rows, self.dx * self.dy * self.metres_per_unit**2)
        geod = self._geod
        e = math.sqrt(geod.es)
        edges = np.clip((self.y0 - np.arange(self.rows + 1) * self.dy) * self.degrees_per_unit, -90.0, 90.0)
        s = np.sin(np.radians(edges))
        zone = s / (1.0 - geod.es * s * s) + (np.arctanh(e * s) / e if e > 0 else s)
        areas: np.ndarray = geod.b**2 / 2.0 * math.radians(self.dx * self.degrees_per_unit) * -np.diff(zone)
        return areas

    @property
    def cell_metres(self) -> tuple[float, float]:
        """Width and height of the middle row's cell on the ground, in metres."""
        middle = self.rows // 2
        return float(self.row_widths[middle]), float(self.row_heights[middle])

    @property
    def decimals(self) -> int:
        """Decimals of a coordinate that tell a thousandth of a cell apart."""
        return max(0, math.ceil(3.0 - math.log10(min(self.dx, self.dy))))

    def rounded(self, *coordinates: float) -> tuple[float, ...]:
        """Coordinates without digits that mean less than a thousandth of a cell."""
        return tuple(round(v, self.decimals) for v in coordinates)

    @property
    def area(self) -> float:
        """Ground area of the whole extent in square metres."""
        return float(self.row_areas.sum() * self.cols)

    def lengths(self, geometry: np.ndarray) -> np.ndarray:
        """Ground length in metres of each line, or of each area's outlines (n values); on the ellipsoid for
        degrees.
        """
        if not self.geographic:
            return np.asarray(shapely.length(geometry) * self.metres_per_unit)
        areas = shapely.get_dimensions(geometry) == 2
        parts, owner = shapely.get_parts(
            np.where(areas, shapely.boundary(geometry), geometry), return_index=True
        )
        xy, which = shapely.get_coordinates(parts, return_index=True)
        one_line = which[1:] == which[:-1]
        steps = np.where(one_line, self.distances(xy[:-1], xy[1:]), 0.0)
        result: np.ndarray = np.bincount(owner[which[1:]], steps, minlength=len(geometry))
        return result

    def areas(self, geometry: np.ndarray) -> np.ndarray:
        """Ground area in square metres of each area (n values), holes left out; for degrees bounded by
        geodesics (Karney 2013, J. Geodesy 87).
        """
        if not self.geographic:
            return np.asarray(shapely.area(geometry) * self.metres_per_unit**2)
        scaled = shapely.transform(geometry, lambda xy: xy * self.degrees_per_unit)
        turned = [shapely.orient_polygons(g) for g in scaled]
        return np.array([abs(self._geod.geometry_area_perimeter(g)[0]) for g in turned])

    def distances(self, start: np.ndarray, end: np.ndarray) -> np.ndarray:
        """Ground metres from places to places, arrays of shape (n, 2); along geodesics for degrees."""
        if not self.geographic:
            return np.asarray(np.hypot(*(np.asarray(end) - start).T) * self.metres_per_unit)
        a, b = np.asarray(start) * self.degrees_per_unit, np.asarray(end) * self.degrees_per_unit
        a, b = np.broadcast_arrays(a, b)
        return np.asarray(self._geod.inv(a[:, 0], a[:, 1], b[:, 0], b[:, 1])[2])

    def bearing(self, start: np.ndarray, end: np.ndarray) -> float:
        """Degrees from a place to another, 0 to below 360, clockwise from grid north; for degrees that of the
        geodesic, from true north.
        """
        (x, y), (u, v) = start, end
        if self.geographic:
            scale = self.degrees_per_unit
            return float(self._geod.inv(x * scale, y * scale, u * scale, v * scale)[0]) % 360.0
        return math.degrees(math.atan2(u - x, v - y)) % 360.0

    @cached_property
    def _geod(self) -> Geod:
        return as_kind(self.system, CRS).get_geod() or Geod(ellps="WGS84")

    @property
    def _row_latitudes(self) -> np.ndarray:
        latitudes: np.ndarray = np.clip(
            (self.y0 - (np.arange(self.rows) + 0.5) * self.dy) * self.degrees_per_unit, -90.0, 90.0
        )
        return latitudes


@lru_cache(maxsize=64)
def _system_name(crs: str) -> str:
    system = reference_system(crs)
    code = system.to_epsg()
    return f"{system.name} (EPSG:{code})" if code else system.name


def describe_box(box: Box) -> str:
    """Say a box as text: west, south, east, north."""
    xmin, ymin, xmax, ymax = (f"{v:,.6g}" if abs(v) <= 360 else f"{v:.1f}" for v in box)
    return f"{xmin} to {xmax} across and {ymin} to {ymax} up"


def same_frame(a: Frame, b: Frame) -> bool:
    """Whether two grids lie cell on cell, to a thousandth of a cell."""
    if a.shape != b.shape or not same_system(a.crs, b.crs):
        return False
    near = 1e-3 * min(a.dx, a.dy)
    return all(abs(p - q) <= near for p, q in zip(a.box, b.box, strict=True))


def check_same_frame(
    a: Frame, b: Frame, both: str, do: str = "Resample one to the frame of the other."
) -> None:
    """Raise MossError where two grids, such as "The weights and the ground", do not lie cell on cell."""
    if not same_frame(a, b):
        raise MossError(f"{both} do not lie cell on cell.", do)


def overlap(a: Box, b: Box) -> bool:
    """Whether two boxes share ground."""
    return a[0] <= b[2] and b[0] <= a[2] and a[1] <= b[3] and b[1] <= a[3]

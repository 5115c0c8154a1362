"""Clouds on the plan: the highest point of each cell from afar, and each point as a disk near by; along a
ramp, in the colours of its class, or in its own.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.cloud import Cloud
from moss_step.model.frame import Box, Frame
from moss_step.model.rules import RuleSet
from moss_step.model.surface import Surface
from moss_step.model.telling import USUAL, Telling
from moss_step.model.units import NONE
from moss_step.scene.camera import Camera
from moss_step.scene.colors import NO_SEGMENT, OCHRE, point_color
from moss_step.scene.kernels.paint import gather, paint_pixels, splat
from moss_step.scene.kinds.classes import ClassesPicture
from moss_step.scene.kinds.point_colors import OWN, PointColors, colored, is_wide, pixels_of
from moss_step.scene.kinds.segment_colors import SegmentsPicture, colors_of, entries
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.picture import Legend, Picture
from moss_step.science.points.cells import by_cell, cells_of, extremes, taken
from moss_step.science.points.segments import SEGMENT
from moss_step.study.graph import KeyRow

HEIGHT, DENSITY = "z", "density"
CODES = "classification"
_NEAR, _LEAST, _MOST = 4.0, 1.2, 7.0
"""Pixels of a cell from which on points are drawn one by one, and the smallest and largest disk's radius."""
_FLAGS = ("synthetic", "key_point", "withheld", "overlap", "scan_direction_flag", "edge_of_flight_line")
_SAID, _ANGLE_STEP = 5, 0.006
"""What the plan says of a point, the section all; degrees of a step of scan angles (ASPRS LAS 1.4 R15)."""
_PIECE, _MOST_PIECES = 24.0, 500
"""Cells of a piece of a path, and the most pieces of one of its parts."""
_FIRST = (CODES, "height_above", SEGMENT)
YES_NO = ("doubtful", "changed")
"""Attributes that answer a question, 1 for yes."""
_ANSWERS = (ClassEntry(0, "No", NO_SEGMENT), ClassEntry(1, "Yes", OCHRE))
_QUIET = (*_FLAGS, "scanner_channel", "user_data")
"""What a point says of itself only where it is set."""


@dataclass(frozen=True, eq=False)
class CloudPicture(Picture):
    """A cloud as the frame that it is drawn in sees it: ``top`` names the highest point of each cell, and
    ``order`` all points cell after cell, those of each from its place in ``starts`` on.
    """

    kind = "cloud"
    value: Cloud
    top: np.ndarray
    heights: SurfacePicture
    starts: np.ndarray
    order: np.ndarray

    @classmethod
    def from_value(cls, value: Cloud) -> Self:
        """Find the highest point of each cell."""
        frame = value.frame or Frame(1, 1, float(value.x[0]), float(value.y[0]), 1.0, 1.0, value.crs)
        numbers = cells_of(value, frame)
        top = _closed(extremes(numbers, value.z, frame, highest=True), value.z)
        surface = Surface(taken(value.z, top).astype(np.float32), frame, value.unit, "elevation")
        made = cls(value, top, SurfacePicture.from_value(surface), *by_cell(numbers, frame))
        made._rehearse()
        for column in _FIRST:  # what steps have it drawn by at first is there when it is drawn
            if column in value.attributes:
                made.drawn_by(column)
        return made

    def _rehearse(self) -> None:
        """Have the kernels that draw points compiled here, and not in the window's thread."""
        one, none = np.zeros(1), np.zeros((1, 1), np.uint32)
        top = np.zeros((1, 1), np.float32)
        gather(self.starts, self.order, 0, 0, 0, 0, 1, np.empty(0, np.int64))
        for kind in (np.float32, np.uint8, np.uint32):
            splat(one, one, one.astype(np.float32), np.zeros(1, kind), 1.0, np.zeros((1, 1), kind), top)
        none.flags.writeable = False
        nowhere = np.full(1, -1, np.int32)
        paint_pixels(none, nowhere, nowhere, np.uint32(0), np.zeros((1, 1), np.uint32))

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own."""
        own = (self.top, self.starts, self.order)
        return sum(a.nbytes for a in own) + self.heights.value.nbytes + self.heights.nbytes

    @property
    def frame(self) -> Frame:
        """The frame that it is drawn in."""
        return self.heights.frame

    @property
    def surface(self) -> SurfacePicture:
        """Its highest points can be shaded, and read along a line."""
        return self.heights

    @property
    def columns(self) -> list[str]:
        """What it can be drawn by: height, class, colour, density and the other attributes of numbers."""
        held = [n for n, v in self.value.attributes.items() if v.dtype.kind in "biuf"]
        first = [CODES] if CODES in held else []
        own = [OWN] if colored(self.value) else []
        return [HEIGHT, *first, *own, DENSITY, *(n for n in held if n != CODES)]

    def drawn_by(self, column: str) -> SurfacePicture | ClassesPicture | PointColors:
        """The picture of one attribute, kept once made."""
        if column in ("", HEIGHT) or (column not in self.columns):
            return self.heights
        made = self._made
        if column not in made:
            made[column] = self._picture_by(column)
        return made[column]

    @cached_property
    def _wide(self) -> bool:
        return is_wide(self.value)

    @cached_property
    def _segment_colors(self) -> np.ndarray:
        numbers = self.value.attributes[SEGMENT]
        grid = np.nan_to_num(taken(numbers, self.top)).astype(np.int64)
        return colors_of(grid, int(np.max(numbers, initial=0)))

    @cached_property
    def _made(self) -> dict[str, SurfacePicture | ClassesPicture | PointColors]:
        return {}

    def _picture_by(self, column: str) -> SurfacePicture | ClassesPicture | PointColors:
        frame = self.frame
        if column == DENSITY:
            count = np.diff(self.starts).reshape(frame.shape)
            values = np.where(count > 0, count / frame.row_areas[:, None], np.nan)
            return SurfacePicture.from_value(Surface(values.astype(np.float32), frame, NONE, "density"))
        if column == OWN:
            return PointColors.of_grid(pixels_of(self.value, self.top, self._wide), frame)
        if column == SEGMENT:
            grid = self._attribute(column, self.top)
            segments = int(np.max(self.value.attributes[SEGMENT], initial=0))
            return SegmentsPicture.from_codes(ClassMap(grid, frame, entries()), segments)
        held = self._attribute(column, self.top)
        if column in YES_NO:
            return ClassesPicture.from_value(ClassMap(held, frame, _ANSWERS))
        if column == CODES:
            return ClassesPicture.from_value(ClassMap(held, frame, class_entries(held, self.value)))
        return SurfacePicture.from_value(Surface(held, frame, NONE, column))

    def _attribute(self, column: str, points: np.ndarray, base: float = 0.0) -> np.ndarray:
        """An attribute of points (-1 for none): codes (uint8), or numbers less a base (float32)."""
        held = taken(self.value.z if column in ("", HEIGHT) else self.value.attributes[column], points)
        if column == SEGMENT:
            colors = self._segment_colors[np.nan_to_num(held).astype(np.int64)]
            return np.where(np.isnan(held), np.uint8(NO_CLASS), colors)
        if column == CODES or column in YES_NO:
            return np.where(np.isnan(held), NO_CLASS, np.nan_to_num(held)).astype(np.uint8)
        return (held - base).astype(np.float32)

    def placed(self, frame: Frame | None) -> tuple[Picture, str]:
        """A cloud is drawn in its own reference system alone."""
        _, reason = self.heights.placed(frame)
        return self, reason

    def paint(
        self, row: KeyRow, ranges: RuleSet | None, camera: Camera, ratio: float, pixels: np.ndarray
    ) -> None:
        """By the attribute that the Key names: cells from afar, points near by."""
        column = row.column if row.column in self.columns else HEIGHT
        near = None if column == DENSITY else self._near(column, camera, ratio, pixels.shape)
        if near is None:
            self.drawn_by(column).paint(row, None, camera, ratio, pixels)
            return
        rows, cols = (np.arange(n, dtype=np.int32) for n in near.shape)
        self._blend(column, near, rows, cols, row, pixels)

    def _blend(
        self,
        column: str,
        values: np.ndarray,
        rows: np.ndarray,
        cols: np.ndarray,
        row: KeyRow,
        pixels: np.ndarray,
    ) -> None:
        """Values of points in the colours of an attribute."""
        values.flags.writeable = False  # as the levels of grids are: one compiled kernel serves both
        self.drawn_by(column).blend(values, rows, cols, row, None, pixels)

    def _values(self, column: str, points: np.ndarray) -> np.ndarray:
        """What points are drawn by: pixels, codes, or numbers as the picture of the attribute holds them."""
        picture = self.drawn_by(column)
        if isinstance(picture, PointColors):
            return pixels_of(self.value, points, self._wide)
        return self._attribute(column, points, picture.base)

    def _near(self, column: str, camera: Camera, ratio: float, shape: tuple[int, ...]) -> np.ndarray | None:
        """What each pixel shows, or stands for nothing; None from afar."""
        frame = self.frame
        across, up = camera.scale * ratio * frame.dx, camera.scale * camera.stretch * ratio * frame.dy
        if min(across, up) < _NEAR:
            return None
        radius = min(max(0.65 * min(across, up), _LEAST), _MOST)
        some = self.in_box(camera.box)
        values = self._values(column, some)
        nothing = {"u": NO_CLASS if values.dtype == np.uint8 else 0, "f": np.nan}[values.dtype.kind]
        out = np.full(shape, nothing, values.dtype)
        if some.size:
            px = (self.value.x[some] - camera.left) * camera.scale * ratio - 0.5
            py = (camera.top - self.value.y[some]) * camera.scale * camera.stretch * ratio - 0.5
            heights = self.value.z[some].astype(np.float32)
            splat(px, py, heights, values, radius, out, np.full(shape, -np.inf, np.float32))
        return out

    def in_box(self, box: Box) -> np.ndarray:
        """Numbers of the points in the cells that a box meets, and one beside."""
        frame = self.frame
        xmin, ymin, xmax, ymax = box
        first_col = min(max(int((xmin - frame.x0) / frame.dx) - 1, 0), frame.cols)
        last_col = min(max(int((xmax - frame.x0) / frame.dx) + 2, first_col), frame.cols)
        first_row = min(max(int((frame.y0 - ymax) / frame.dy) - 1, 0), frame.rows)
        last_row = min(max(int((frame.y0 - ymin) / frame.dy) + 2, first_row), frame.rows)
        if first_col == last_col or first_row == last_row:
            return np.empty(0, np.int64)
        ends = np.arange(first_row, last_row) * frame.cols
        held = int((self.starts[ends + last_col] - self.starts[ends + first_col]).sum())
        out = np.empty(held, np.int64)
        gather(self.starts, self.order, first_row, last_row, first_col, last_col, frame.cols, out)
        return out

    def colors_of(self, points: np.ndarray, row: KeyRow) -> np.ndarray:
        """Pixels of points (uint32) as the plan draws them; 0 for what it does not draw."""
        column = row.column if row.column in self.columns and row.column != DENSITY else HEIGHT
        pixels = np.zeros((1, len(points)), np.uint32)
        if len(points):
            cols, at = np.arange(len(points), dtype=np.int32), np.zeros(1, np.int32)
            values = self._values(column, points).reshape(1, -1)
            self._blend(column, values, at, cols, row.model_copy(update={"opacity": 1.0}), pixels)
        return np.asarray(pixels[0])

    def along(self, path: np.ndarray, half: float) -> np.ndarray:
        """Numbers of the points in the cells near a path of coordinates, ascending; ``half`` metres to both
        sides are among them. It is gone along piece by piece: a box around all may hold the whole cloud.
        """
        frame = self.frame
        wide, high = (half * d / m for d, m in zip((frame.dx, frame.dy), frame.cell_metres, strict=True))
        found = [np.empty(0, np.int64)]
        for a, b in itertools.pairwise(path):
            cells = float(np.hypot((b[0] - a[0]) / frame.dx, (b[1] - a[1]) / frame.dy))
            pieces = min(max(int(cells / _PIECE), 1), _MOST_PIECES)
            for k in range(pieces):
                ends = np.array([a + (b - a) * t for t in (k / pieces, (k + 1) / pieces)])
                low, top = ends.min(axis=0), ends.max(axis=0)
                found.append(self.in_box((low[0] - wide, low[1] - high, top[0] + wide, top[1] + high)))
        return np.unique(np.concatenate(found))

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """Explain the attribute that is drawn."""
        return self.drawn_by(row.column).legend(row, None, color, telling)

    def nearest(self, x: float, y: float) -> int:
        """Number of the point nearest to a place, of those in its cell and beside; -1 for none."""
        frame = self.frame
        col, row = int((x - frame.x0) // frame.dx), int((frame.y0 - y) // frame.dy)
        cols = range(max(col - 1, 0), min(col + 2, frame.cols))
        rows = range(max(row - 1, 0), min(row + 2, frame.rows))
        held = [
            self.order[self.starts[r * frame.cols + cols[0]] : self.starts[r * frame.cols + cols[-1] + 1]]
            for r in rows
            if len(cols)
        ]
        points = np.concatenate(held) if held else np.empty(0, np.int64)
        if not points.size:
            return -1
        wide, high = frame.cell_metres
        east = (self.value.x[points] - x) / frame.dx * wide
        north = (self.value.y[points] - y) / frame.dy * high
        return int(points[int(np.argmin(east * east + north * north))])

    def text_at(self, x: float, y: float, ranges: RuleSet | None = None, telling: Telling = USUAL) -> str:
        """Height, class, return, intensity and colour of the nearest point."""
        point = self.nearest(x, y)
        if point < 0:
            return "outside" if self.frame.cell_at(x, y) is None else "no point"
        return " · ".join(said_of(self.value, point, telling)[:_SAID])


def said_of(cloud: Cloud, point: int, telling: Telling) -> list[str]:
    """What a point says of itself, the height first; what nobody sets only where it is set."""
    held = {n: v[point] for n, v in cloud.attributes.items()}
    said = [telling.value(float(cloud.z[point]), cloud.unit, "elevation")]
    if "height_above" in held:
        said.append(f"{telling.value(float(held.pop('height_above')), cloud.unit)} above ground")
    if number := int(held.pop(SEGMENT, 0)):
        said.append(f"segment {number}")
    if CODES in held:
        said.append(cloud.class_name(int(held.pop(CODES))))
    if "return_number" in held and "number_of_returns" in held:
        said.append(f"return {int(held.pop('return_number'))} of {int(held.pop('number_of_returns'))}")
    if colored(cloud):
        red, green, blue = (int(held.pop(n)) for n in ("red", "green", "blue"))
        said.append(f"colour {red} {green} {blue}")
    if "intensity" in held:
        said.insert(3 if len(said) > 3 else len(said), f"intensity {int(held.pop('intensity'))}")
    if "scan_angle" in held:
        said.append(f"scan angle {int(held.pop('scan_angle')) * _ANGLE_STEP:.1f}°")
    for name, value in held.items():
        if name in _QUIET and not value:
            continue
        said.append(name.replace("_", " ") if name in _FLAGS else f"{name.replace('_', ' ')} {value:.10g}")
    return said


def _closed(top: np.ndarray, heights: np.ndarray) -> np.ndarray:
    """Cells without a point take the highest of those beside them: at rest, points close the gaps
    between them.
    """
    rows, cols = top.shape
    padded = np.pad(top, 1, constant_values=-1)
    best = np.full(top.shape, -1, top.dtype)
    known = np.append(heights, -np.inf)
    for r in range(3):
        for c in range(3):
            beside = padded[r : r + rows, c : c + cols]
            higher = known[beside] > known[best]
            best[higher] = beside[higher]
    return np.where(top >= 0, top, best)


def class_entries(codes: np.ndarray, cloud: Cloud) -> tuple[ClassEntry, ...]:
    """Names and colours of the classes of points that a grid of codes holds."""
    present = [int(c) for c in np.unique(codes) if c != NO_CLASS]
    own = {c.code: c.color for c in cloud.own if c.color}
    return tuple(ClassEntry(c, cloud.class_name(c), own.get(c) or point_color(c)) for c in present)

"""What is to be built: pads, roads and bunds as lines with a template of bed and side slopes."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import shapely

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.science.earthwork.kernels.works import heights_at
from moss_step.science.earthwork.outline import Outline, rings_of
from moss_step.science.relief.profile import values_at

_MOST_ALONG = 2000
"""Places along a line at which the ground is asked for, at the most."""


@dataclass(frozen=True)
class Template:
    """What is built beside a line: half of the width in metres; the rise of the bed outward, left and right,
    as a share; and metres outward for each metre of height of the side slopes, left and right.

    With ``only_fill`` nothing is cut; with ``square`` nothing is built beyond the ends of a line.
    """

    half: float = 0.0
    falls: tuple[float, float] = (0.0, 0.0)
    cut: tuple[float, float] = (1.5, 1.5)
    fill: tuple[float, float] = (2.0, 2.0)
    only_fill: bool = False
    square: bool = False

    @property
    def numbers(self) -> np.ndarray:
        """As kernels take it (7)."""
        return np.array([self.half, *self.falls, *self.cut, *self.fill], np.float64)


@dataclass(frozen=True, eq=False)
class Path:
    """A line that is built along: coordinates (n, 2) in the reference system, heights in metres (n), and
    whether it is closed.
    """

    xy: np.ndarray
    z: np.ndarray
    closed: bool = False

    def raised(self, by: float) -> Path:
        """The same line, some metres higher."""
        return replace(self, z=self.z + by)


@dataclass(frozen=True)
class Ground:
    """A part of a grid in metres around its middle column: widths of the cells of each row, the height of a
    row, and the north of the upper edge.
    """

    wides: np.ndarray
    top: float
    high: float
    middle: float
    frame: Frame

    @classmethod
    def of(cls, frame: Frame) -> Ground:
        """The plane of a frame."""
        high = float(frame.row_heights.mean())
        wides = np.ascontiguousarray(frame.row_widths, np.float64)
        return cls(wides, high * frame.rows / 2.0, high, frame.cols / 2.0, frame)

    def places(self, xy: np.ndarray) -> np.ndarray:
        """Metres east and north (n, 2) of coordinates (n, 2)."""
        col = (xy[:, 0] - self.frame.x0) / self.frame.dx
        row = (self.frame.y0 - xy[:, 1]) / self.frame.dy
        wide = np.interp(row - 0.5, np.arange(len(self.wides)), self.wides)
        return np.column_stack([(col - self.middle) * wide, self.top - row * self.high])

    def heights(self, surface: Surface, places: np.ndarray) -> np.ndarray:
        """Heights in metres (n) of a surface of this frame at metres east and north (n, 2)."""
        out, places = np.empty(len(places)), np.ascontiguousarray(places)
        plane = self.top, self.high, self.middle
        heights_at(surface.values, self.wides, plane, places, surface.metres_per_height, out)
        return out

    def coordinates(self, places: np.ndarray) -> np.ndarray:
        """Coordinates (n, 2) of metres east and north (n, 2)."""
        row = (self.top - places[:, 1]) / self.high
        wide = np.interp(row - 0.5, np.arange(len(self.wides)), self.wides)
        col = places[:, 0] / wide + self.middle
        return np.column_stack([self.frame.x0 + col * self.frame.dx, self.frame.y0 - row * self.frame.dy])

    def lines(self, paths: Sequence[Path]) -> np.ndarray:
        """Pieces of lines as kernels take them (m, 7)."""
        made = []
        for path in paths:
            places = self.places(path.xy)
            ends = np.zeros(len(places) - 1)
            if not path.closed:
                ends[0] += 1
                ends[-1] += 2
            made.append(np.column_stack([places[:-1], places[1:], path.z[:-1], path.z[1:], ends]))
        return np.ascontiguousarray(np.concatenate(made))


@dataclass(frozen=True, eq=False)
class Design:
    """What is to be built: lines with a template, and for a pad its outline with heights in metres at places
    (x and y, n each). ``level`` is how high it lies, in metres: of the middle of a pad, of the first place of
    a line.
    """

    paths: tuple[Path, ...]
    template: Template
    level: float
    bed: shapely.Geometry | None = None
    bed_at: Callable[[np.ndarray, np.ndarray], np.ndarray] | None = None

    @classmethod
    def along(cls, paths: Sequence[Path], template: Template) -> Design:
        """What is built along lines."""
        return cls(tuple(paths), template, float(paths[0].z[0]))

    def raised(self, by: float) -> Design:
        """The same design, some metres higher."""
        at = self.bed_at
        return replace(
            self,
            paths=tuple(p.raised(by) for p in self.paths),
            level=self.level + by,
            bed_at=None if at is None else lambda x, y: at(x, y) + by,
        )


def pad(
    frame: Frame, area: shapely.Geometry, level: float, template: Template, fall: float = 0.0,
    toward: float = 0.0,
) -> Design:  # fmt: skip
    """A pad with side slopes beyond its rim.

    Parameters
    ----------
    frame
        Where the ground lies.
    area
        A polygon, or several as one; holes are left out, with slopes of their own.
    level
        Metres in the middle of the area's box.
    template
        Its side slopes; the width is not used.
    fall
        Fall of the bed as a share, for drainage.
    toward
        Bearing in degrees that it falls to.

    Returns
    -------
    Design
        The rims, and heights of the bed.

    Raises
    ------
    AskedWronglyError
        For what is no area, crosses itself, or lies outside.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.design import Template, pad
    >>> frame = Frame(10, 10, 0.0, 10.0, 1.0, 1.0, None)
    >>> made = pad(frame, shapely.box(2, 2, 8, 8), 5.0, Template(), fall=0.1, toward=90.0)
    >>> sorted(set(made.paths[0].z.round(3).tolist()))
    [4.7, 5.3]
    """
    area = shapely.orient_polygons(area)
    Outline(frame, area)  # refuses what is no clean area on this ground
    xmin, ymin, xmax, ymax = shapely.bounds(area)
    ground = Ground.of(part_around(frame, (xmin, ymin, xmax, ymax), 0.0))
    middle = ground.places(np.array([[(xmin + xmax) / 2.0, (ymin + ymax) / 2.0]]))
    east, north = math.sin(math.radians(toward)), math.cos(math.radians(toward))

    def at(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        off = ground.places(np.column_stack([x, y])) - middle
        return np.asarray(level - fall * (off[:, 0] * east + off[:, 1] * north))

    corners = [shapely.get_coordinates(ring) for ring in rings_of(area)]
    paths = tuple(Path(xy, at(xy[:, 0], xy[:, 1]), closed=True) for xy in corners)
    return Design(paths, replace(template, half=0.0, falls=(0.0, 0.0)), level, area, at)


def ways_up(surface: Surface, design: Design) -> np.ndarray:
    """Metres from a design up to the ground, along its lines.

    Parameters
    ----------
    surface
        Heights (rows, cols); NaN is no-data.
    design
        What is to be built.

    Returns
    -------
    np.ndarray
        Metres (n); where the ground is known nowhere along the lines, those from its level to all ground
        around it. Empty where none is known.

    Raises
    ------
    MossError
        For a surface that holds no heights.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.design import Design, Path, Template, ways_up
    >>> from moss_step.science.sample import tilted
    >>> line = Path(np.array([[1.0, 4.0], [9.0, 4.0]]), np.array([0.0, 0.0]))
    >>> ways_up(tilted(), Design.along([line], Template())).round(2).tolist()
    [0.0, 1.6, 3.2, 4.8, 6.4, 8.0]
    """
    metres, ways = surface.metres_per_height, []
    step = min(surface.frame.dx, surface.frame.dy)
    for path in design.paths:
        apart = np.hypot(*np.diff(path.xy, axis=0).T)
        along = np.concatenate([[0.0], np.cumsum(apart)])
        at = np.linspace(0.0, along[-1], int(min(along[-1] / step, _MOST_ALONG)) + 2)
        x, y, z = (np.interp(at, along, v) for v in (*path.xy.T, path.z))
        ways.append(values_at(surface, x, y).astype(np.float64) * metres - z)
    known = np.concatenate(ways)
    known = known[np.isfinite(known)]
    if known.size:
        return np.asarray(known)
    xy = np.concatenate([p.xy for p in design.paths])
    part = place_of(surface.frame, part_around(surface.frame, (*xy.min(axis=0), *xy.max(axis=0)), 0.0))
    around = surface.values[part].astype(np.float64) * metres - design.level
    return np.asarray(around[np.isfinite(around)])


def part_around(frame: Frame, box: tuple[float, ...], reach: float) -> Frame:
    """The part of a grid within some metres of a box, a cell at the least.

    Parameters
    ----------
    frame
        Frame of the grid.
    box
        Left, bottom, right and top, in units of the frame.
    reach
        Metres beyond the box on each side, from 0.

    Returns
    -------
    Frame
        Whole cells of the grid, cut off at its rims.

    Examples
    --------
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.design import part_around
    >>> part_around(Frame(100, 100, 0.0, 200.0, 2.0, 2.0), (50.0, 50.0, 60.0, 60.0), reach=4.0).shape
    (11, 11)
    """
    wide, high = frame.cell_metres
    wide = min(wide, float(frame.row_widths.min()))
    left = math.floor((box[0] - frame.x0) / frame.dx - reach / wide) - 1
    right = math.ceil((box[2] - frame.x0) / frame.dx + reach / wide) + 1
    top = math.floor((frame.y0 - box[3]) / frame.dy - reach / high) - 1
    bottom = math.ceil((frame.y0 - box[1]) / frame.dy + reach / high) + 1
    c0, c1 = min(max(left, 0), frame.cols - 1), max(min(right, frame.cols), 1)
    r0, r1 = min(max(top, 0), frame.rows - 1), max(min(bottom, frame.rows), 1)
    return frame.part(slice(r0, max(r1, r0 + 1)), slice(c0, max(c1, c0 + 1)))


def place_of(frame: Frame, part: Frame) -> tuple[slice, slice]:
    """Rows and columns at which a part lies in its grid.

    Parameters
    ----------
    frame
        Frame of the grid.
    part
        Frame of the part, cut from the grid with `part_around`.

    Returns
    -------
    tuple of slice
        Its rows and its columns.

    Examples
    --------
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.design import part_around, place_of
    >>> whole = Frame(100, 100, 0.0, 200.0, 2.0, 2.0)
    >>> place_of(whole, part_around(whole, (50.0, 50.0, 60.0, 60.0), reach=4.0))
    (slice(67, 78, None), slice(22, 33, None))
    """
    top, left = round((frame.y0 - part.y0) / frame.dy), round((part.x0 - frame.x0) / frame.dx)
    return slice(top, top + part.rows), slice(left, left + part.cols)

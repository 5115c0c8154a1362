"""What the plan needs of a result to draw it fast: coarser copies, the histogram, shapes as paths."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import shapely

from moss_step.model.class_map import ClassMap
from moss_step.model.frame import Frame
from moss_step.model.outcome import Value
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.scene.detail import Detail
from moss_step.scene.paint import half_mean, rehearse
from moss_step.science.classes.histogram import Histogram, histogram

_SMALLEST = 300
_BY_POWERS = ("accumulation", "index")
LEAST = 1e-3
"""Lowest value that is told apart where colours follow powers of ten."""


@dataclass(frozen=True, eq=False)
class GridPicture:
    """A grid with coarser copies, each half as fine as the one before."""

    value: Surface | ClassMap
    levels: tuple[np.ndarray, ...]
    bins: Histogram | None
    base: float = 0.0
    """What the levels hold less than the values: single precision draws small relief on a large base that way."""

    @property
    def frame(self) -> Frame:
        """Frame of the finest level."""
        return self.value.frame

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own."""
        own = self.value.values if isinstance(self.value, Surface) else self.value.codes
        return sum(level.nbytes for level in self.levels if level is not own)

    @property
    def logarithmic(self) -> bool:
        """Whether the levels hold logarithms to the base of ten: of what grows by powers downstream."""
        return isinstance(self.value, Surface) and self.value.quantity in _BY_POWERS

    def level_for(self, cells_per_pixel: float) -> int:
        """The coarsest level that still has a cell for each pixel."""
        level = int(np.floor(np.log2(max(cells_per_pixel, 1.0))))
        return min(level, len(self.levels) - 1)


@dataclass(frozen=True, eq=False)
class ShapesPicture:
    """Shapes as one path each, in the coordinates of their reference system."""

    value: Shapes

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own, about: lines at all levels of detail are a third more than the finest."""
        return self.value.nbytes * 4 // 3 if "detail" in self.__dict__ else 0

    @cached_property
    def detail(self) -> Detail:
        """Lines and rims at several levels of detail."""
        return Detail(self.value.geometry)

    @cached_property
    def points(self) -> np.ndarray:
        """A point of each of n shapes to mark it at: (n, 2)."""
        inside = shapely.point_on_surface(self.value.geometry)
        return np.column_stack([shapely.get_x(inside), shapely.get_y(inside)])

    @cached_property
    def tree(self) -> shapely.STRtree:
        """Index of the shapes for finding what lies under the pointer."""
        return shapely.STRtree(self.value.geometry)


@dataclass(frozen=True, eq=False)
class TablePicture:
    """A table; it has no place on the plan."""

    value: Table
    nbytes = 0


Picture = GridPicture | ShapesPicture | TablePicture


def prepared_picture(value: Value) -> Picture:
    """Make a value's picture, or give the one that is kept with it. Not for the window's own thread."""
    return value.derived.make(_picture_type(value), lambda: picture_of(value))


def ready_picture(value: Value) -> Picture | None:
    """Give a value's picture if it was made."""
    return value.derived.ready(_picture_type(value))


def _picture_type(value: Value) -> type[Picture]:
    return ShapesPicture if isinstance(value, Shapes) else TablePicture if isinstance(value, Table) else GridPicture


def picture_of(value: Value) -> Picture:
    """Make the picture of a value."""
    if isinstance(value, Shapes):
        picture = ShapesPicture(value)
        if value.kind != "points":
            _ = picture.detail  # made here, outside the window's thread
        return picture
    if isinstance(value, Table):
        return TablePicture(value)
    if isinstance(value, ClassMap):
        return GridPicture(value, _halved(value.codes, smooth=False), None)
    level, base = value.levelled
    finest = level.values
    if value.quantity in _BY_POWERS:
        finest = np.log10(np.maximum(finest, np.float32(LEAST)))
        finest.flags.writeable = False
    return GridPicture(value, _halved(finest, smooth=not value.cyclic and not value.whole), histogram(value), base)


def _halved(finest: np.ndarray, smooth: bool) -> tuple[np.ndarray, ...]:
    levels = [finest]
    while min(levels[-1].shape) > _SMALLEST:
        last = levels[-1]
        coarser = half_mean(last) if smooth else np.ascontiguousarray(last[::2, ::2])
        coarser.flags.writeable = False  # as the finest is: one compiled kernel then serves all levels
        levels.append(coarser)
    for level in (levels[0], levels[-1]):
        rehearse(level)
    return tuple(levels)

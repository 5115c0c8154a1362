"""Shapes on the plan: points, lines and areas that are drawn with a pen, in one colour or by a column."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.frame import Frame
from moss_step.model.rules import RuleSet
from moss_step.model.shapes import Shapes
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.detail import Detail
from moss_step.scene.grading import grading_of, rehearse_breaks
from moss_step.scene.picture import Legend, Picture
from moss_step.study.graph import KeyRow


@dataclass(frozen=True, eq=False)
class ShapesPicture(Picture):
    """Shapes with their outlines, in the coordinates of their reference system."""

    kind = "shapes"
    value: Shapes

    @classmethod
    def from_value(cls, value: Shapes) -> Self:
        """Outlines at several levels of detail."""
        picture = cls(value)
        rehearse_breaks()
        if value.kind != "points":
            _ = picture.detail  # made here, outside the window's thread
        return picture

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own, about: lines at all levels of detail are a third more than the
        finest.
        """
        return self.value.nbytes * 4 // 3 if "detail" in self.__dict__ else 0

    @property
    def on_top(self) -> bool:
        """Points and their names would be hidden below lines and areas."""
        return self.value.kind == "points"

    @property
    def shapes(self) -> ShapesPicture:
        """It is drawn with a pen."""
        return self

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

    def placed(self, frame: Frame | None) -> tuple[Picture, str]:
        """Shapes are carried over to the plan's reference system."""
        return (self if frame is None else _carried_over(self, frame.crs)), ""

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """The classes of the column that they are coloured by, or how many there are."""
        grading = grading_of(self.value, row)
        if grading is not None:
            return Legend(grading.classes, title=f"by {row.column.replace('_', ' ')}")
        return Legend(((self.value.count_text, color),), as_lines=self.value.kind != "points")

    def text_at(self, x: float, y: float, ranges: RuleSet | None = None, telling: Telling = USUAL) -> str:
        """Names of the areas that hold a place."""
        if self.value.kind != "areas":
            return ""
        hits = self.tree.query(shapely.Point(x, y), predicate="intersects")
        names = self.value.names()
        return ", ".join(names[i] or f"area {i + 1}" for i in hits[:2])


@dataclass(frozen=True, eq=False)
class _CarriedOver:
    """Shapes in the reference system of the plan, kept with those that they were made from."""

    picture: ShapesPicture
    crs: str | None

    @property
    def nbytes(self) -> int:
        return self.picture.nbytes + self.picture.value.nbytes


def _carried_over(picture: ShapesPicture, crs: str | None) -> ShapesPicture:
    kept = picture.value.derived.ready(_CarriedOver)
    if kept is not None and kept.crs == crs:
        return kept.picture
    moved = in_system(picture.value, crs)
    if moved is picture.value:
        return picture
    result = _CarriedOver(ShapesPicture(moved), crs)
    picture.value.derived.put(result)
    return result.picture

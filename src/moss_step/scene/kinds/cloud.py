"""Clouds on the plan: the highest point of each cell, along a ramp or in the colours of its class."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.cloud import Cloud, class_name
from moss_step.model.frame import Frame
from moss_step.model.rules import RuleSet
from moss_step.model.surface import Surface
from moss_step.model.telling import USUAL, Telling
from moss_step.model.units import NONE
from moss_step.scene.camera import Camera
from moss_step.scene.colors import point_color
from moss_step.scene.kinds.classes import ClassesPicture
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.picture import Legend, Picture
from moss_step.science.points.cells import cells_of, counts, extremes, taken
from moss_step.study.graph import KeyRow

HEIGHT, DENSITY = "z", "density"
CODES = "classification"


@dataclass(frozen=True, eq=False)
class CloudPicture(Picture):
    """A cloud as the frame that it is drawn in sees it: ``top`` names the highest point of each cell."""

    kind = "cloud"
    value: Cloud
    top: np.ndarray
    heights: SurfacePicture
    count: np.ndarray

    @classmethod
    def from_value(cls, value: Cloud) -> Self:
        """Find the highest point of each cell."""
        frame = value.frame or Frame(1, 1, float(value.x[0]), float(value.y[0]), 1.0, 1.0, value.crs)
        numbers = cells_of(value, frame)
        top = _closed(extremes(numbers, value.z, frame, highest=True), value.z)
        surface = Surface(taken(value.z, top).astype(np.float32), frame, value.unit, "elevation")
        return cls(value, top, SurfacePicture.from_value(surface), counts(numbers, frame))

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own."""
        return self.top.nbytes + self.count.nbytes + self.heights.value.nbytes + self.heights.nbytes

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
        """What it can be drawn by: height, class, density and the other attributes of numbers."""
        held = [n for n, v in self.value.attributes.items() if v.dtype.kind in "biuf"]
        first = [CODES] if CODES in held else []
        return [HEIGHT, *first, DENSITY, *(n for n in held if n != CODES)]

    def drawn_by(self, column: str) -> SurfacePicture | ClassesPicture:
        """The picture of one attribute, kept once made."""
        if column in ("", HEIGHT) or (column not in self.columns):
            return self.heights
        made = self._made
        if column not in made:
            made[column] = self._picture_by(column)
        return made[column]

    @cached_property
    def _made(self) -> dict[str, SurfacePicture | ClassesPicture]:
        return {}

    def _picture_by(self, column: str) -> SurfacePicture | ClassesPicture:
        frame = self.frame
        if column == DENSITY:
            values = np.where(self.count > 0, self.count / frame.row_areas[:, None], np.nan)
            return SurfacePicture.from_value(Surface(values.astype(np.float32), frame, NONE, "density"))
        held = taken(self.value.attributes[column], self.top)
        if column == CODES:
            codes = np.where(np.isnan(held), NO_CLASS, np.nan_to_num(held)).astype(np.uint8)
            return ClassesPicture.from_value(ClassMap(codes, frame, class_entries(codes)))
        return SurfacePicture.from_value(Surface(held.astype(np.float32), frame, NONE, column))

    def placed(self, frame: Frame | None) -> tuple[Picture, str]:
        """A cloud is drawn in its own reference system alone."""
        _, reason = self.heights.placed(frame)
        return self, reason

    def paint(
        self, row: KeyRow, ranges: RuleSet | None, camera: Camera, ratio: float, pixels: np.ndarray
    ) -> None:
        """By the attribute that the Key names."""
        self.drawn_by(row.column).paint(row, None, camera, ratio, pixels)

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """Explain the attribute that is drawn."""
        return self.drawn_by(row.column).legend(row, None, color, telling)

    def text_at(self, x: float, y: float, ranges: RuleSet | None = None, telling: Telling = USUAL) -> str:
        """Height, class, return and intensity of the highest point of the cell."""
        cell = self.frame.cell_at(x, y)
        if cell is None or (point := int(self.top[cell])) < 0:
            return "no point" if cell is not None else "outside"
        held = {n: v[point] for n, v in self.value.attributes.items()}
        said = [telling.value(float(self.value.z[point]), self.value.unit, "elevation")]
        if CODES in held:
            said.append(class_name(int(held[CODES])))
        if "return_number" in held and "number_of_returns" in held:
            said.append(f"return {int(held['return_number'])} of {int(held['number_of_returns'])}")
        if "intensity" in held:
            said.append(f"intensity {int(held['intensity'])}")
        return " · ".join(said)


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


def class_entries(codes: np.ndarray) -> tuple[ClassEntry, ...]:
    """Names and colours of the classes of points that a grid of codes holds."""
    present = [int(c) for c in np.unique(codes) if c != NO_CLASS]
    return tuple(ClassEntry(c, class_name(c), point_color(c)) for c in present)

"""What is kept of a value to draw it fast, to list it in the Key and to read it: the same questions to every
kind.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.rules import RuleSet
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.camera import Camera
from moss_step.science.classes.histogram import Histogram
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.scene.kinds.shapes import ShapesPicture
    from moss_step.scene.kinds.surface import SurfacePicture


@dataclass(frozen=True)
class Ramp:
    """Colours from low to high (uint8, 256 x 3), round numbers with their places along them from 0 to 1, and
    the values at the ends.
    """

    colors: np.ndarray
    marks: tuple[tuple[float, str], ...]
    ends: tuple[str, str]


@dataclass(frozen=True)
class Legend:
    """How a result is explained: names with colours, or a ramp."""

    classes: tuple[tuple[str, str], ...] = ()
    as_lines: bool = False
    title: str = ""
    ramp: Ramp | None = None


def round_values(low: float, high: float, most: int = 4) -> list[float]:
    """Up to ``most`` multiples of 1, 2, 2.5 or 5 times a power of ten from low to high; at least two where
    there are any.
    """
    if not high > low:
        return [low]
    power = 10.0 ** math.floor(math.log10((high - low) / most))
    for factor in (1.0, 2.0, 2.5, 5.0, 10.0, 20.0):
        step = factor * power
        first, last = math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9)
        if last - first + 1 <= most:
            return [k * step for k in range(first, last + 1)]
    return [low, high]


class Picture:
    """Base of the pictures, one class a kind of value; what a kind does not do, it leaves as it is here."""

    kind: ClassVar[str] = ""
    """Name of the kind in ``kinds/``; empty for a class that several share."""
    value: Any
    on_plan: ClassVar[bool] = True
    """Whether it lies on the ground."""
    bins: Histogram | None = None
    """How often values occur."""

    @classmethod
    def from_value(cls, value: Any) -> Self:
        """Make the picture of a value. Not for the window's own thread."""
        raise NotImplementedError

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own."""
        return 0

    @property
    def frame(self) -> Frame | None:
        """Frame of the grid that it paints; None for what is drawn with a pen, or not at all."""
        return None

    @property
    def on_top(self) -> bool:
        """Whether it is drawn above all others."""
        return False

    @property
    def is_shade(self) -> bool:
        """Whether it shows the relief by itself."""
        return False

    def placed(self, frame: Frame | None) -> tuple[Picture, str]:
        """Give the picture in the reference system of the plan, and why it cannot be drawn there."""
        return self, ""

    def paint(
        self, row: KeyRow, ranges: RuleSet | None, camera: Camera, ratio: float, pixels: np.ndarray
    ) -> None:
        """Blend into ``pixels`` (uint32 0xAARRGGBB); what is drawn with a pen is not painted here."""

    def hides(self, row: KeyRow, ranges: RuleSet | None) -> bool:
        """Whether nothing shows through it."""
        return False

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """Explain it; ``color`` is that of shapes without one of their own."""
        return Legend()

    def text_at(self, x: float, y: float, ranges: RuleSet | None = None, telling: Telling = USUAL) -> str:
        """What it says at a place; empty for nothing."""
        return ""

    @property
    def surface(self) -> SurfacePicture | None:
        """What can be shaded, read along a line and stood on."""
        return None

    @property
    def shapes(self) -> ShapesPicture | None:
        """What is drawn with a pen."""
        return None


@dataclass(frozen=True, eq=False)
class OffPlanPicture(Picture):
    """A value that has no place on the plan, as it is."""

    on_plan = False
    value: Any

    @classmethod
    def from_value(cls, value: Any) -> Self:
        """Nothing is to be prepared."""
        return cls(value)


def class_legend(ranges: RuleSet) -> Legend:
    """The classes of ranges, each once."""
    return Legend(tuple({r.code: (r.name, r.color) for r in reversed(ranges.rules)}.values())[::-1])

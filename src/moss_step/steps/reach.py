"""How far a step looks from a cell: what a part of a result needs of the ground."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from moss_step.formats.vector import box_of
from moss_step.model.frame import Box, Frame
from moss_step.model.outcome import Value
from moss_step.model.shapes import Shapes
from moss_step.model.typed import as_kind


@dataclass(frozen=True)
class Reach:
    """``cell``: that cell alone; ``around``: cells or metres around it; ``rays``: along rays from places;
    ``whole``: all of the ground.

    A local one may hold for some ``settings`` only: with others the step looks at the whole ground.
    """

    kind: Literal["cell", "around", "rays", "whole"]
    cells: Callable[[Any], int] = lambda _: 0
    metres: Callable[[Any], float] | None = None
    settings: Callable[[Any], bool] = lambda _: True

    def margin(self, settings: Any, frame: Frame) -> tuple[int, int] | None:
        """Rows and columns that a part needs around itself; None when it needs all of the ground."""
        if self.kind in ("rays", "whole") or not self.settings(settings):
            return None
        if self.metres is None:
            cells = self.cells(settings)
            return min(cells, frame.rows), min(cells, frame.cols)
        far = self.metres(settings)
        rows, cols = far / float(frame.row_heights.min()), far / float(frame.row_widths.min())
        return (min(math.ceil(rows), frame.rows) + 1, min(math.ceil(cols), frame.cols) + 1)


WHOLE, RAYS, CELL, NEIGHBOURS = (
    Reach("whole"),
    Reach("rays"),
    Reach("cell"),
    Reach("around", cells=lambda _: 1),
)


def within(metres: Callable[[Any], float]) -> Reach:
    """As far as a setting says, in metres on the ground."""
    return Reach("around", metres=metres)


def near_shapes(name: str) -> Callable[[Any, Mapping[str, Value], str | None], Box | None]:
    """The box of the shapes of an input, in the system of a grid; None without them."""

    def near(_: Any, inputs: Mapping[str, Value], crs: str | None) -> Box | None:
        return box_of(as_kind(inputs[name], Shapes), crs) if name in inputs else None

    return near


def cell_when(settings: Callable[[Any], bool]) -> Reach:
    """That cell alone, with some settings."""
    return Reach("cell", settings=settings)

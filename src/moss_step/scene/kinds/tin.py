"""TINs on the plan: their heights along a ramp, shaded, with their edges near by."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np

from moss_step.model.frame import Box, Frame
from moss_step.model.rules import RuleSet
from moss_step.model.telling import USUAL, Telling
from moss_step.model.tin import Tin
from moss_step.scene.camera import Camera
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.picture import Legend, Picture
from moss_step.science.interpolate.tin import on_grid
from moss_step.study.graph import KeyRow

_MOST_CELLS = 1_500_000
_CELLS_A_TRIANGLE = 12
_LEAST_CELLS = 200_000


@dataclass(frozen=True, eq=False)
class TinPicture(Picture):
    """A TIN as the fine grid that it is drawn as."""

    kind = "tin"
    value: Tin
    heights: SurfacePicture

    @classmethod
    def from_value(cls, value: Tin) -> Self:
        """Lay its heights on a grid fine enough for its triangles, and have its edges ready."""
        made = cls(value, SurfacePicture.from_value(on_grid(value, _frame(value))))
        _ = made._bounds  # made here, outside the window's thread
        return made

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own."""
        return self.heights.value.nbytes + self.heights.nbytes + 2 * self.spans.nbytes

    @property
    def frame(self) -> Frame:
        """The frame that it is drawn in."""
        return self.heights.frame

    @property
    def surface(self) -> SurfacePicture:
        """It can be shaded, read along a line and stood on."""
        return self.heights

    @cached_property
    def spans(self) -> np.ndarray:
        """Edges by their ends: x, y, x, y (e, 4); break lines come last."""
        t = self.value
        ends = t.edges
        key = np.sort(t.lines.astype(np.int64), axis=1) @ np.array([len(t.x), 1])
        hard = np.isin(ends @ np.array([len(t.x), 1]), key)
        ends = np.concatenate([ends[~hard], ends[hard]])
        return np.column_stack([t.x[ends[:, 0]], t.y[ends[:, 0]], t.x[ends[:, 1]], t.y[ends[:, 1]]])

    @cached_property
    def _bounds(self) -> tuple[np.ndarray, ...]:
        """West, east, south and north end of each edge (e each): the plan asks for them at each turn."""
        s = self.spans
        across, up = s[:, [0, 2]], s[:, [1, 3]]
        return across.min(axis=1), across.max(axis=1), up.min(axis=1), up.max(axis=1)

    def edges_in(self, box: Box, most: int) -> np.ndarray | None:
        """Edges that may meet a box (k, 4), or None where there are more than some."""
        west, east, south, north = self._bounds
        xmin, ymin, xmax, ymax = box
        some = (east >= xmin) & (west <= xmax) & (north >= ymin) & (south <= ymax)
        return self.spans[some] if np.count_nonzero(some) <= most else None

    def placed(self, frame: Frame | None) -> tuple[Picture, str]:
        """A TIN is drawn in its own reference system alone."""
        _, reason = self.heights.placed(frame)
        return self, reason

    def paint(
        self, row: KeyRow, ranges: RuleSet | None, camera: Camera, ratio: float, pixels: np.ndarray
    ) -> None:
        """Its heights, as those of a surface."""
        self.heights.paint(row, ranges, camera, ratio, pixels)

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """The ramp of its heights."""
        return self.heights.legend(row, ranges, color, telling)

    def text_at(self, x: float, y: float, ranges: RuleSet | None = None, telling: Telling = USUAL) -> str:
        """The height there."""
        return self.heights.text_at(x, y, ranges, telling)


def _frame(value: Tin) -> Frame:
    """Square cells around it: some for each triangle."""
    xmin, ymin, xmax, ymax = value.box or (0.0, 0.0, 1.0, 1.0)
    wide, high = max(xmax - xmin, 1e-9), max(ymax - ymin, 1e-9)
    cells = min(max(len(value) * _CELLS_A_TRIANGLE, _LEAST_CELLS), _MOST_CELLS)
    side = (wide * high / cells) ** 0.5
    cols, rows = max(int(wide / side) + 1, 1), max(int(high / side) + 1, 1)
    return Frame(rows, cols, xmin, ymin + rows * side, side, side, value.crs)

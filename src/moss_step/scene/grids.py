"""What pictures of grids share: coarser copies, each half as fine as the one before, and where pixels lie in
them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from moss_step.model.frame import Frame, same_system
from moss_step.model.mapped import let_go, map_of, room_for, too_large
from moss_step.model.rules import RuleSet
from moss_step.scene.camera import Camera
from moss_step.scene.kernels.paint import half_mean
from moss_step.scene.paint import rehearse
from moss_step.scene.picture import Picture
from moss_step.science.classes.histogram import Histogram
from moss_step.study.graph import KeyRow

SMALLEST, _ROWS = 300, 1024
"""Least side of the coarsest copy, and rows that are halved at a time where a grid is mapped."""
_HELD = 64_000_000
"""Bytes of a copy of a mapped grid that are held in memory at the most."""


@dataclass(frozen=True, eq=False)
class GridPicture(Picture):
    """A grid with coarser copies."""

    value: Any
    levels: tuple[np.ndarray, ...]
    bins: Histogram | None = None
    base: float = 0.0
    """What the levels hold less than the values: single precision draws small relief on a large base that
    way.
    """

    @property
    def frame(self) -> Frame:
        """Frame of the finest level."""
        frame: Frame = self.value.frame
        return frame

    def placed(self, frame: Frame | None) -> tuple[Picture, str]:
        """A grid is drawn in its own reference system alone."""
        same = frame is None or same_system(self.frame.crs, frame.crs)
        return self, "" if same else "in another reference system; reproject it to draw it here"

    def paint(
        self, row: KeyRow, ranges: RuleSet | None, camera: Camera, ratio: float, pixels: np.ndarray
    ) -> None:
        """The cells of the level that the camera needs."""
        rows, cols, level = self.cells(camera, ratio)
        self.blend(self.levels[level], rows, cols, row, ranges, pixels)

    def blend(
        self,
        values: np.ndarray,
        rows: np.ndarray,
        cols: np.ndarray,
        row: KeyRow,
        ranges: RuleSet | None,
        pixels: np.ndarray,
    ) -> None:
        """Blend values, as the levels hold them; ``rows`` and ``cols`` give each pixel's cell."""
        raise NotImplementedError

    def level_for(self, cells_per_pixel: float) -> int:
        """The coarsest level that still has a cell for each pixel."""
        level = int(np.floor(np.log2(max(cells_per_pixel, 1.0))))
        return min(level, len(self.levels) - 1)

    def cells(self, camera: Camera, ratio: float) -> tuple[np.ndarray, np.ndarray, int]:
        """Row and column of each row and column of pixels (-1 outside), in the level that they are of."""
        level = self.level_for(1.0 / (camera.scale * ratio * self.frame.dx))
        return *camera.cells(self.frame, level, ratio), level


def by_rows(values: np.ndarray, work: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """What some work on each cell gives, read only: some rows at a time, and mapped, where the values are."""
    if map_of(values) is None:
        out = work(values)
    else:
        out = room_for(values.size, values.dtype, True).reshape(values.shape)
        for first in range(0, len(values), _ROWS):
            out[first : first + _ROWS] = work(values[first : first + _ROWS])
            let_go(values, out)
    out.flags.writeable = False
    return out


def halved(finest: np.ndarray, smooth: bool) -> tuple[np.ndarray, ...]:
    """A grid and its coarser copies."""
    levels = [finest]
    while min(levels[-1].shape) > SMALLEST:
        last = levels[-1]
        coarser = _half(last, smooth)
        let_go(last)
        coarser.flags.writeable = False  # as the finest is: one compiled kernel then serves all levels
        levels.append(coarser)
    for level in (levels[0], levels[-1]):
        rehearse(level)
    return tuple(levels)


def _half(last: np.ndarray, smooth: bool) -> np.ndarray:
    """A grid half as fine: mapped where it is as large as one that is left on the disk, or of such a one."""
    whole = map_of(last) is not None and last.nbytes // 4 > _HELD
    if not (whole or too_large(last.nbytes // 4)):
        return half_mean(last) if smooth else np.ascontiguousarray(last[::2, ::2])
    rows, cols = -(-last.shape[0] // 2), -(-last.shape[1] // 2)
    out = room_for(rows * cols, last.dtype, True).reshape(rows, cols)
    for first in range(0, rows, _ROWS):
        some = last[2 * first : 2 * (first + _ROWS)]
        out[first : first + _ROWS] = half_mean(some) if smooth else some[::2, ::2]
        let_go(last, out)
    return out


def class_colors(colors: dict[int, str]) -> tuple[np.ndarray, np.ndarray]:
    """Pixels of the 256 codes of classes, and which of them are drawn."""
    table, drawn = np.zeros(256, np.uint32), np.zeros(256, np.bool_)
    for code, color in colors.items():
        table[code], drawn[code] = pixel_of(color), True
    return table, drawn


def packed(colors: np.ndarray) -> np.ndarray:
    """Pixels of an array of red, green and blue bytes."""
    red, green, blue = (colors[:, i].astype(np.uint32) for i in range(3))
    return np.uint32(0xFF000000) | red << np.uint32(16) | green << np.uint32(8) | blue


def pixel_of(color: str) -> int:
    """Pixel of a colour."""
    return 0xFF000000 | int(color[1:], 16)

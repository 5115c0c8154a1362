"""Points in the colours that they came with."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple, Self

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.rules import RuleSet
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.grids import SMALLEST, GridPicture
from moss_step.scene.kernels.paint import paint_pixels
from moss_step.scene.picture import Legend
from moss_step.study.graph import KeyRow

OWN = "color"
"""What points are drawn by that have colours of their own."""
_BANDS = ("red", "green", "blue")
_WIDE = 255
"""Bands with larger numbers are of 16 bits, as the specification says; others were written with 8."""


def colored(cloud: Cloud) -> bool:
    """Whether points have colours of their own."""
    return all(name in cloud.attributes for name in _BANDS)


def pixels_of(cloud: Cloud, points: np.ndarray, wide: bool) -> np.ndarray:
    """Colours of points by their numbers (uint32 0xAARRGGBB), 0 for -1; ``wide`` bands are of 16 bits."""
    held = points >= 0
    result = np.zeros(points.shape, np.uint32)
    some = points[held]
    solid = np.full(some.shape, 0xFF000000, np.uint32)
    shift = 8 if wide else 0
    for name, place in zip(_BANDS, (16, 8, 0), strict=True):
        band = np.asarray(cloud.attributes[name])[some].astype(np.uint32) >> np.uint32(shift)
        solid |= np.minimum(band, np.uint32(255)) << np.uint32(place)
    result[held] = solid
    return result


def is_wide(cloud: Cloud) -> bool:
    """Whether the bands are of 16 bits; without bands they are not."""
    return colored(cloud) and any(int(np.max(cloud.attributes[name], initial=0)) > _WIDE for name in _BANDS)


class Pixels(NamedTuple):
    """Colours (uint32 0xAARRGGBB, 0 for none) and where their cells lie."""

    values: np.ndarray
    frame: Frame


@dataclass(frozen=True, eq=False)
class PointColors(GridPicture):
    """A grid of pixels, each a point's own colour."""

    value: Pixels

    @classmethod
    def of_grid(cls, pixels: np.ndarray, frame: Frame) -> Self:
        """Every second pixel, again and again."""
        levels = [pixels]
        while min(levels[-1].shape) > SMALLEST:
            levels.append(np.ascontiguousarray(levels[-1][::2, ::2]))
        for level in levels:
            level.flags.writeable = False  # as pixels of points near by are: one compiled kernel serves both
        return cls(Pixels(pixels, frame), tuple(levels))

    def blend(
        self,
        values: np.ndarray,
        rows: np.ndarray,
        cols: np.ndarray,
        row: KeyRow,
        ranges: RuleSet | None,
        pixels: np.ndarray,
    ) -> None:
        """Pixels as they are."""
        paint_pixels(values, rows, cols, np.uint32(round(row.opacity * 256)), pixels)

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """There is no ramp to explain."""
        return Legend(title="Colours of the points")

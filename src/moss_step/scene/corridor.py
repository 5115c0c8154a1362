"""The points of a cloud beside a line, as the section draws them, and all around, as the block does."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.model.cloud import POINTS_A_CELL, Cloud
from moss_step.model.frame import Frame
from moss_step.model.units import Unit
from moss_step.scene.kinds.cloud import CloudPicture
from moss_step.scene.layers import Layer, Scene
from moss_step.science.points.edits import corridor

MOST = 40_000
"""Points of a corridor that are drawn; of more an even choice is."""
_DIM, _DARK = 4.0, 0.45
"""Metres below the top within which points in space grow darker, and the light that the deepest keep."""


@dataclass(frozen=True, eq=False)
class Beside:
    """Points beside a line: numbers in the cloud, metres along the line, heights in some unit, and pixels of
    their colours (uint32 0xAARRGGBB); of ``count`` that there are.
    """

    step: str
    name: str
    cloud: Cloud
    rows: np.ndarray
    along: np.ndarray
    heights: np.ndarray
    colors: np.ndarray
    count: int

    def nearest(self, along: float, height: float, wide: float, high: float) -> int:
        """Place among the points of the one nearest to a place of the section, measured in steps of ``wide``
        metres and ``high`` units of height; -1 where none lies within one step.
        """
        if not len(self.rows):
            return -1
        away = ((self.along - along) / wide) ** 2 + ((self.heights - height) / high) ** 2
        place = int(np.argmin(away))
        return place if away[place] <= 1.0 else -1

    def lowest(self, distance: np.ndarray) -> np.ndarray:
        """Lowest height near each of some distances along the line; NaN where no point is near."""
        if len(distance) < 2:
            return np.full(len(distance), np.nan)
        step = float(distance[-1]) / (len(distance) - 1)
        low = np.full(len(distance), np.inf)
        place = np.clip(np.round(self.along / step).astype(np.int64), 0, len(distance) - 1)
        np.minimum.at(low, place, self.heights)
        known = np.isfinite(low)
        if not known.any():
            return np.full(len(distance), np.nan)
        return np.asarray(np.interp(np.arange(len(low)), np.flatnonzero(known), low[known]))


class Drawn(NamedTuple):
    """A cloud that is drawn: its layer, and its picture."""

    layer: Layer
    picture: CloudPicture


def clouds_of(scene: Scene) -> list[Drawn]:
    """The clouds of a scene, from the top; of those with the same points the first."""
    held: dict[int, Drawn] = {}
    for layer in scene.layers:
        if isinstance(layer.picture, CloudPicture):
            held.setdefault(id(layer.picture.value.x), Drawn(layer, layer.picture))
    return list(held.values())


def beside(drawn: Drawn, path: np.ndarray, width: float, unit: Unit) -> Beside:
    """The points of a cloud within half a width (metres) of a path, heights in a unit."""
    layer, picture = drawn
    held = picture.along(path, width / 2.0)
    near = corridor(picture.value.part(held), path, width)
    count = len(near.rows)
    chosen = slice(None) if count <= MOST else np.linspace(0, count - 1, MOST).astype(np.int64)
    rows = held[near.rows[chosen]]
    factor = picture.value.unit.metres / unit.metres
    heights = np.asarray(picture.value.z[rows], np.float64) * factor
    colors = picture.colors_of(rows, layer.row)
    return Beside(layer.step, layer.name, picture.value, rows, near.along[chosen], heights, colors, count)


@dataclass(frozen=True, eq=False)
class InSpace:
    """Points in space: coordinates of the plan, heights in metres, colours (n, 3 bytes), and about the metres
    between them.
    """

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray
    colors: np.ndarray
    spacing: float


def in_space(drawn: Drawn, frame: Frame, most: int) -> InSpace:
    """An even choice of at most so many points of a cloud over a frame; those that the Key hides are left
    out.
    """
    layer, picture = drawn
    held = picture.in_box(frame.box)
    cell = float(np.sqrt(np.prod(picture.frame.cell_metres)))
    spacing = cell / POINTS_A_CELL**0.5
    if len(held) > most:
        spacing *= (len(held) / most) ** 0.5
        held = held[np.linspace(0, len(held) - 1, most).astype(np.int64)]
    pixels = picture.colors_of(held, layer.row)
    held, pixels = held[pixels != 0], pixels[pixels != 0]
    cloud = picture.value
    light = np.exp(-_below_top(picture, held) / _DIM) * (1.0 - _DARK) + _DARK
    bands = [
        (((pixels >> np.uint32(shift)) & np.uint32(255)) * light).astype(np.uint8) for shift in (16, 8, 0)
    ]
    return InSpace(
        np.asarray(cloud.x[held]),
        np.asarray(cloud.y[held]),
        np.asarray(cloud.z[held], np.float64) * cloud.unit.metres,
        np.column_stack(bands),
        spacing,
    )


def _below_top(picture: CloudPicture, points: np.ndarray) -> np.ndarray:
    """Metres that points lie below the highest of their cell and those beside it."""
    cloud, frame = picture.value, picture.frame
    rows = np.clip(((frame.y0 - cloud.y[points]) / frame.dy).astype(np.int64), 0, frame.rows - 1)
    cols = np.clip(((cloud.x[points] - frame.x0) / frame.dx).astype(np.int64), 0, frame.cols - 1)
    top = cloud.z[picture.top[rows, cols]]
    return np.asarray(np.maximum(top - cloud.z[points], 0.0) * cloud.unit.metres)

"""Where the block is looked at from, and the place of the ground under a pixel."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from moss_step.desk.block.kernels.eye import height_cells, meets
from moss_step.model.frame import Frame

VIEW_ANGLE = 30.0
"""Degrees that the picture spans from top to bottom."""
Extent = tuple[float, float, float, float]
"""West, south, east and north edge in metres from the middle of a ground."""


@dataclass(frozen=True)
class Eye:
    """Bearing that one looks in, angle down from the level, distance, and the place looked at, in metres from
    the middle.
    """

    bearing: float = 0.0
    down: float = 35.0
    distance: float = 1000.0
    x: float = 0.0
    y: float = 0.0
    z: float = 0.0

    @property
    def position(self) -> np.ndarray:
        """Where the eye is: x, y, z."""
        return np.array([self.x, self.y, self.z]) - self.ahead * self.distance

    @property
    def ahead(self) -> np.ndarray:
        """Unit vector that one looks along."""
        a, d = math.radians(self.bearing), math.radians(self.down)
        return np.array([math.sin(a) * math.cos(d), math.cos(a) * math.cos(d), -math.sin(d)])

    @property
    def upward(self) -> np.ndarray:
        """Unit vector that is up in the picture."""
        a, d = math.radians(self.bearing), math.radians(self.down)
        return np.array([math.sin(a) * math.sin(d), math.cos(a) * math.sin(d), math.cos(d)])

    def turned(self, across: float, down: float) -> Eye:
        """Orbit around the place looked at, in degrees."""
        return replace(
            self, bearing=(self.bearing + across) % 360.0, down=min(max(self.down + down, 3.0), 90.0)
        )

    def moved(self, right: float, up: float, height: int) -> Eye:
        """Pan by pixels of a picture of a height."""
        per_pixel = self.metres_per_pixel(self.distance, height)
        a = math.radians(self.bearing)
        east = -right * math.cos(a) + up * math.sin(a)
        north = right * math.sin(a) + up * math.cos(a)
        return replace(self, x=self.x + east * per_pixel, y=self.y + north * per_pixel)

    def nearer(self, factor: float, place: np.ndarray | None) -> Eye:
        """Zoom, toward a place when there is one."""
        distance = self.distance / factor
        if place is None:
            return replace(self, distance=distance)
        share = 1.0 - 1.0 / factor
        return replace(
            self,
            distance=distance,
            x=self.x + (place[0] - self.x) * share,
            y=self.y + (place[1] - self.y) * share,
        )

    def ray(self, px: float, py: float, width: int, height: int) -> np.ndarray:
        """Unit vector through a pixel."""
        half = math.tan(math.radians(VIEW_ANGLE / 2))
        right = np.cross(self.ahead, self.upward)
        u, v = (2.0 * px / width - 1.0) * half * width / height, (1.0 - 2.0 * py / height) * half
        along = self.ahead + right * u + self.upward * v
        return np.asarray(along / np.linalg.norm(along))

    def pixels(self, places: np.ndarray, width: int, height: int) -> np.ndarray:
        """Pixels of places (n, 3) in a picture of a size, with their distance ahead: (n, 3); behind the eye
        it is not above 0.
        """
        half = math.tan(math.radians(VIEW_ANGLE / 2))
        right, off = (
            np.cross(self.ahead, self.upward),
            np.asarray(places, float).reshape(-1, 3) - self.position,
        )
        depth = off @ self.ahead
        with np.errstate(divide="ignore", invalid="ignore"):
            u, v = off @ right / depth / half * height / width, off @ self.upward / depth / half
        return np.stack([(u + 1.0) * width / 2.0, (1.0 - v) * height / 2.0, depth], axis=1)

    def metres_per_pixel(self, distance: float, height: int) -> float:
        """Size of a pixel of a picture of a height, at a distance."""
        return 2.0 * distance * math.tan(math.radians(VIEW_ANGLE / 2)) / max(height, 1)


def close_by(
    eye: Eye, size: tuple[int, int], heights: np.ndarray, extent: tuple[float, float], coarse: float
) -> tuple[Extent, float] | None:
    """The part of a ground whose pixels are smaller than ``coarse`` metres, and the size of the smallest;
    None without one.
    """
    finest, result = coarse, []
    for py in np.linspace(0, size[1], 9):
        for px in np.linspace(0, size[0], 9):
            place = under_pixel(eye, (px, py), size, heights, extent)
            if place is None:
                continue
            pixel = eye.metres_per_pixel(float((place - eye.position) @ eye.ahead), size[1])
            if pixel < coarse:
                result.append(place[:2])
                finest = min(finest, pixel)
    if len(result) < 3:
        return None
    low, high = np.min(result, axis=0), np.max(result, axis=0)
    pad = 0.08 * (high - low) + finest
    low, high = np.maximum(low - pad, np.array(extent) / -2.0), np.minimum(high + pad, np.array(extent) / 2.0)
    return (float(low[0]), float(low[1]), float(high[0]), float(high[1])), finest


def under_pixel(
    eye: Eye,
    pixel: tuple[float, float],
    size: tuple[int, int],
    heights: np.ndarray,
    extent: tuple[float, float],
) -> np.ndarray | None:
    """Where the ray through a pixel meets a ground of heights over an extent in metres, middle at 0: x, y, z,
    or None.
    """
    start, along = eye.position, eye.ray(*pixel, *size)
    far = eye.distance + 2.0 * math.hypot(*extent)
    t = meets(heights, start, along, (float(extent[0]), float(extent[1])), far)
    return None if t < 0 else np.asarray(start + along * t)


def height_at(points: np.ndarray, heights: np.ndarray, extent: tuple[float, float]) -> np.ndarray:
    """Height of the cell that each of some places (n, 2 or more) lies in; NaN outside and on no-data."""
    return np.array([height_cells(heights, (float(extent[0]), float(extent[1])), p[0], p[1]) for p in points])


def extent_metres(frame: Frame) -> tuple[float, float]:
    """Width and height of a frame in metres, at its middle."""
    wide, high = frame.cell_metres
    return wide * frame.cols, high * frame.rows

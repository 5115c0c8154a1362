"""Where the block is looked at from, and the place of the ground under a pixel."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.frame import Frame

VIEW_ANGLE = 30.0
"""Degrees that the picture spans from top to bottom."""
_STEPS = 600


@dataclass(frozen=True)
class Eye:
    """Bearing that one looks in, angle down from the level, distance, and the place looked at, in metres from the middle."""

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
        return replace(self, bearing=(self.bearing + across) % 360.0, down=min(max(self.down + down, 3.0), 90.0))

    def moved(self, right: float, up: float, height: int) -> Eye:
        """Pan by pixels of a picture of a height."""
        per_pixel = 2.0 * self.distance * math.tan(math.radians(VIEW_ANGLE / 2)) / max(height, 1)
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
        return replace(self, distance=distance, x=self.x + (place[0] - self.x) * share, y=self.y + (place[1] - self.y) * share)

    def ray(self, px: float, py: float, width: int, height: int) -> np.ndarray:
        """Unit vector through a pixel."""
        half = math.tan(math.radians(VIEW_ANGLE / 2))
        right = np.cross(self.ahead, self.upward)
        u, v = (2.0 * px / width - 1.0) * half * width / height, (1.0 - 2.0 * py / height) * half
        along = self.ahead + right * u + self.upward * v
        return np.asarray(along / np.linalg.norm(along))


def under_pixel(eye: Eye, pixel: tuple[float, float], size: tuple[int, int], heights: np.ndarray, extent: tuple[float, float]) -> np.ndarray | None:
    """Where the ray through a pixel meets a ground of heights over an extent in metres, middle at 0: x, y, z, or None."""
    start, along = eye.position, eye.ray(*pixel, *size)
    far = eye.distance + 2.0 * math.hypot(*extent)
    t = np.linspace(0.0, far, _STEPS)
    for _ in range(2):  # coarse, then finely around the first place below the ground
        points = start + along * t[:, None]
        below = points[:, 2] <= _height_at(points, heights, extent)
        if not below.any():
            return None
        k = int(np.argmax(below))
        t = np.linspace(t[max(k - 1, 0)], t[k], _STEPS)
    return np.asarray(points[k])


def _height_at(points: np.ndarray, heights: np.ndarray, extent: tuple[float, float]) -> np.ndarray:
    rows, cols = heights.shape
    c = np.rint((points[:, 0] / extent[0] + 0.5) * (cols - 1))
    r = np.rint((0.5 - points[:, 1] / extent[1]) * (rows - 1))
    inside = (c >= 0) & (c < cols) & (r >= 0) & (r < rows)
    found = np.full(len(points), -np.inf)
    found[inside] = heights[r[inside].astype(np.int64), c[inside].astype(np.int64)]
    return np.where(np.isnan(found), -np.inf, found)


def extent_metres(frame: Frame) -> tuple[float, float]:
    """Width and height of a frame in metres, at its middle."""
    wide, high = frame.cell_metres
    return wide * frame.cols, high * frame.rows

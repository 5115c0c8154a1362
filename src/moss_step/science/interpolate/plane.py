"""Places in metres on a plane, stretched so that distances in every direction count alike."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from moss_step.model.frame import Frame


@dataclass(frozen=True)
class Plane:
    """Metres east and north of an origin, from coordinates of a reference system.

    ``wide`` and ``high`` are metres in a unit of x and of y; those of degrees are of the middle of the
    ground. Along ``direction`` (bearing in degrees) lengths stay; across it they are divided by ``ratio``.
    """

    x0: float
    y0: float
    wide: float
    high: float
    direction: float = 0.0
    ratio: float = 1.0

    @classmethod
    def of(cls, frame: Frame, direction: float = 0.0, ratio: float = 1.0) -> Plane:
        """The plane of a frame, with its origin in the middle of it."""
        wide, high = frame.cell_metres
        xmin, ymin, xmax, ymax = frame.box
        middle = (xmin + xmax) / 2.0, (ymin + ymax) / 2.0
        return cls(*middle, wide / frame.dx, high / frame.dy, direction, ratio)

    def places(self, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Metres east and north (float64, as many as there are), stretched across the direction."""
        east = (np.asarray(x, np.float64) - self.x0) * self.wide
        north = (np.asarray(y, np.float64) - self.y0) * self.high
        if self.ratio == 1.0:
            return east, north
        s, c = math.sin(math.radians(self.direction)), math.cos(math.radians(self.direction))
        along, across = east * s + north * c, (east * c - north * s) / self.ratio
        return along * s + across * c, along * c - across * s

    def coordinates(self, east: np.ndarray, north: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Coordinates of metres east and north, on a plane that is not stretched."""
        return self.x0 + np.asarray(east) / self.wide, self.y0 + np.asarray(north) / self.high

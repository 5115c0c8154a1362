"""Which part of the world the plan shows, and the way between coordinates and pixels."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.frame import Box, Frame


@dataclass(frozen=True)
class Camera:
    """The point in the middle, pixels for one unit of x, and how many times more a unit of y gets (degrees:
    not 1).
    """

    x: float = 0.0
    y: float = 0.0
    scale: float = 1.0
    stretch: float = 1.0
    width: int = 100
    height: int = 100

    @property
    def left(self) -> float:
        """x at the left edge."""
        return self.x - self.width / 2.0 / self.scale

    @property
    def top(self) -> float:
        """y at the top edge."""
        return self.y + self.height / 2.0 / (self.scale * self.stretch)

    @property
    def box(self) -> Box:
        """What is in view: xmin, ymin, xmax, ymax."""
        return (*self.world(0, self.height), *self.world(self.width, 0))

    def world(self, px: float, py: float) -> tuple[float, float]:
        """Coordinates of a pixel."""
        return self.left + px / self.scale, self.top - py / (self.scale * self.stretch)

    def pixel(self, x: float, y: float) -> tuple[float, float]:
        """Pixel of coordinates."""
        return (x - self.left) * self.scale, (self.top - y) * self.scale * self.stretch

    def pixels(self, xy: np.ndarray) -> np.ndarray:
        """Pixels of many coordinates: (n, 2)."""
        return np.column_stack(
            [(xy[:, 0] - self.left) * self.scale, (self.top - xy[:, 1]) * self.scale * self.stretch]
        )

    def sized(self, width: int, height: int) -> Camera:
        """The same view in another window."""
        return replace(self, width=max(width, 1), height=max(height, 1))

    def moved(self, dx: float, dy: float) -> Camera:
        """The view moved by pixels."""
        return replace(self, x=self.x - dx / self.scale, y=self.y + dy / (self.scale * self.stretch))

    def zoomed(self, factor: float, px: float, py: float) -> Camera:
        """The view zoomed so that the place under a pixel stays there."""
        scale = min(max(self.scale * factor, 1e-7), 1e9)
        x, y = self.world(px, py)
        turned = replace(self, scale=scale)
        nx, ny = turned.world(px, py)
        return replace(turned, x=turned.x + x - nx, y=turned.y + y - ny)

    def fitted(self, box: Box, margin: float = 0.03) -> Camera:
        """The view that shows a box."""
        xmin, ymin, xmax, ymax = box
        w, h = max(xmax - xmin, 1e-12), max(ymax - ymin, 1e-12)
        room = 1.0 - 2.0 * margin
        scale = min(self.width * room / w, self.height * room / (h * self.stretch))
        return replace(self, x=(xmin + xmax) / 2.0, y=(ymin + ymax) / 2.0, scale=scale)

    def cells(self, frame: Frame, level: int, ratio: float) -> tuple[np.ndarray, np.ndarray]:
        """Row of each pixel row and column of each pixel column (int32, -1 outside) in a grid halved
        ``level`` times.

        ``ratio`` is device pixels for each logical one.
        """
        size = 2**level
        nx, ny = round(self.width * ratio), round(self.height * ratio)
        xs = self.left + (np.arange(nx) + 0.5) / (self.scale * ratio)
        ys = self.top - (np.arange(ny) + 0.5) / (self.scale * self.stretch * ratio)
        cols = np.floor((xs - frame.x0) / (frame.dx * size))
        rows = np.floor((frame.y0 - ys) / (frame.dy * size))
        inside_x = (xs >= frame.x0) & (xs < frame.box[2])
        inside_y = (ys <= frame.y0) & (ys > frame.box[1])
        return np.where(inside_y, rows, -1).astype(np.int32), np.where(inside_x, cols, -1).astype(np.int32)


def stretch_of(frame: Frame) -> float:
    """How many times more pixels a unit of y needs than a unit of x so that the ground keeps its
    proportions.
    """
    width, height = frame.cell_metres
    return (height / frame.dy) / (width / frame.dx) if width > 0 else 1.0


def metres_per_unit(frame: Frame) -> float:
    """Ground metres in one unit of x in the middle of a frame."""
    return frame.cell_metres[0] / frame.dx

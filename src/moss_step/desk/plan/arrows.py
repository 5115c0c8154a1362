"""Slope arrows: the way down, at a density that fits the zoom."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen

from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD, DEEP
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.science.relief.gradient import gradient_weights

_APART = 46
_LEAST = math.tan(math.radians(0.5))
"""Ground flatter than this has no arrow."""


def arrows_of(ground: SurfacePicture, camera: Camera) -> list[tuple[QPointF, float, float]]:
    """Places in pixels, bearing of the way down in degrees from north, and slope, every 46 pixels of the
    plan.
    """
    surface = ground.value
    level = ground.level_for(_APART / 4 / (camera.scale * ground.frame.dx))
    z, step = ground.levels[level], 2**level
    ax, ay = gradient_weights(surface)
    result = []
    # A lattice that is fixed to the ground, so that arrows do not dance while the plan moves.
    spacing = 2.0 ** round(math.log2(_APART / camera.scale))
    for y in np.arange(math.floor(camera.box[1] / spacing), math.ceil(camera.box[3] / spacing) + 1) * spacing:
        for x in (
            np.arange(math.floor(camera.box[0] / spacing), math.ceil(camera.box[2] / spacing) + 1) * spacing
        ):
            cell = ground.frame.cell_at(float(x), float(y))
            if cell is None:
                continue
            r, c = cell[0] // step, cell[1] // step
            if not (0 < r < z.shape[0] - 1 and 0 < c < z.shape[1] - 1):
                continue
            east = float(z[r, c + 1] - z[r, c - 1]) * ax[cell[0]] / (2 * step)
            north = float(z[r - 1, c] - z[r + 1, c]) * ay[cell[0]] / (2 * step)
            slope = math.hypot(east, north)
            if slope > _LEAST:
                result.append(
                    (
                        QPointF(*camera.pixel(float(x), float(y))),
                        math.degrees(math.atan2(-east, -north)) % 360.0,
                        slope,
                    )
                )
    return result


def draw_arrows(painter: QPainter, ground: SurfacePicture, camera: Camera) -> None:
    """Draw the arrows; steeper ground has longer ones."""
    path = QPainterPath()
    for at, bearing, slope in arrows_of(ground, camera):
        length = 9.0 + 14.0 * min(slope, 1.0)
        dx, dy = math.sin(math.radians(bearing)), -math.cos(math.radians(bearing))
        tail, head = at - QPointF(dx, dy) * (length / 2), at + QPointF(dx, dy) * (length / 2)
        path.moveTo(tail)
        path.lineTo(head)
        for side in (-1, 1):
            path.moveTo(head)
            path.lineTo(head - QPointF(dx, dy) * 5 + QPointF(-dy, dx) * (3.4 * side))
    painter.save()
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for color, width in ((CARD, 3.2), (DEEP, 1.3)):
        painter.setPen(QPen(QColor(color), width))
        painter.drawPath(path)
    painter.restore()

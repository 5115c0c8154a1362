"""Small pictures of results for the trail's cards."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from moss_step.desk.plan.drawing import draw_shapes, shape_color
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.scene.camera import Camera, stretch_of
from moss_step.scene.colors import CARD, GROUND, MOSS
from moss_step.scene.layers import Layer, Scene, draw_grids
from moss_step.scene.pictures import GridPicture, Picture, ShapesPicture, TablePicture
from moss_step.study.graph import KeyRow, Shading

RATIO = 2.0


def thumbnail(picture: Picture, row: KeyRow, shading: Shading, ground: GridPicture | None, width: int, height: int) -> QImage:
    """Draw a result small, filling the width: grids with relief shading, shapes on plain ground."""
    if isinstance(picture, TablePicture):
        return _curve(picture.value, width, height)
    layer = Layer(row.step, "", picture, row.model_copy(update={"opacity": 1.0}))
    if isinstance(picture, ShapesPicture):
        return _shapes(layer, picture, width, height)
    camera = _filling(picture, width, height)
    shaded = ground if ground is not None and ground.frame.crs == picture.frame.crs else None
    is_shade = isinstance(picture.value, Surface) and picture.value.quantity == "shade"
    strength = shading.model_copy(update={"on": not is_shade, "strength": shading.strength * 0.8})
    pixels = draw_grids(Scene((layer,), shaded, strength), camera, RATIO)
    image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], QImage.Format.Format_RGB32).copy()
    image.setDevicePixelRatio(RATIO)
    return image


def _curve(table: Table, width: int, height: int) -> QImage:
    image = QImage(round(width * RATIO), round(height * RATIO), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(RATIO)
    image.fill(QColor(CARD))
    if not table.x or not table.y or len(table) < 2:
        return image
    xs, ys = (np.asarray(table.columns[c], np.float64) for c in (table.x, table.y))
    low, high = np.nanmin(ys), np.nanmax(ys)
    px = 4 + (xs - xs.min()) / (np.ptp(xs) or 1.0) * (width - 8)
    py = height - 4 - (ys - low) / ((high - low) or 1.0) * (height - 8)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(MOSS), 1.8))
    painter.drawPolyline([QPointF(x, y) for x, y in zip(px, py, strict=True) if y == y])
    painter.end()
    return image


def _filling(picture: GridPicture, width: int, height: int) -> Camera:
    frame = picture.frame
    camera = Camera(stretch=stretch_of(frame)).sized(width, height)
    xmin, ymin, xmax, ymax = frame.box
    scale = max(width / (xmax - xmin), height / ((ymax - ymin) * camera.stretch))
    return Camera((xmin + xmax) / 2, (ymin + ymax) / 2, scale, camera.stretch, width, height)


def _shapes(layer: Layer, picture: ShapesPicture, width: int, height: int) -> QImage:
    """Shapes as on a larger plan that is shown smaller, so that lines are fine."""
    camera = Camera().sized(round(width * RATIO), round(height * RATIO))
    image = QImage(camera.width, camera.height, QImage.Format.Format_RGB32)
    image.fill(QColor(GROUND))
    box = picture.value.box
    if box is not None:
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        camera = camera.fitted(box, 0.08)
        if picture.value.kind == "points":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(shape_color(0)))
            for x, y in camera.pixels(picture.points[:2000]).tolist():
                painter.drawEllipse(QPointF(x, y), 2.5 * RATIO, 2.5 * RATIO)
        else:
            draw_shapes(painter, layer, camera, shape_color(0), [])
        painter.end()
    image.setDevicePixelRatio(RATIO)
    return image

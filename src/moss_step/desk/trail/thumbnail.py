"""Small pictures of results for the trail's cards."""

from __future__ import annotations

from PySide6.QtGui import QImage

from moss_step.desk.looks.look import RATIO
from moss_step.desk.looks.registry import look_of
from moss_step.desk.tones import shade
from moss_step.model.frame import Frame, same_system
from moss_step.scene.camera import Camera, stretch_of
from moss_step.scene.colors import GROUND
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.layers import Layer, Scene, draw_grids
from moss_step.scene.picture import Picture
from moss_step.study.graph import KeyRow, Shading


def thumbnail(
    picture: Picture, row: KeyRow, shading: Shading, ground: SurfacePicture | None, width: int, height: int
) -> QImage:
    """Draw a result small, filling the width: as its look says, or as on the plan with relief shading."""
    own = look_of(picture).thumbnail(picture, row, width, height)
    if own is not None:
        return own
    image = QImage(round(width * RATIO), round(height * RATIO), QImage.Format.Format_RGB32)
    image.fill(shade(GROUND))
    frame = picture.frame
    if frame is not None:
        layer = Layer(row.step, "", picture, row.model_copy(update={"opacity": 1.0}))
        shaded = ground if ground is not None and same_system(ground.frame.crs, frame.crs) else None
        strength = shading.model_copy(update={"on": not picture.is_shade, "strength": shading.strength * 0.8})
        pixels = draw_grids(Scene((layer,), shaded, strength), _filling(frame, width, height), RATIO)
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], QImage.Format.Format_RGB32).copy()
    image.setDevicePixelRatio(RATIO)
    return image


def _filling(frame: Frame, width: int, height: int) -> Camera:
    camera = Camera(stretch=stretch_of(frame)).sized(width, height)
    xmin, ymin, xmax, ymax = frame.box
    scale = max(width / (xmax - xmin), height / ((ymax - ymin) * camera.stretch))
    return Camera((xmin + xmax) / 2, (ymin + ymax) / 2, scale, camera.stretch, width, height)

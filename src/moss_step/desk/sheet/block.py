"""The block on a page: what a part wants drawn, and drawing it off screen."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from moss_step.desk.block.eye import Eye, extent_metres
from moss_step.desk.block.stage import Ground, Stage, Wish
from moss_step.desk.plan.drawing import shape_color
from moss_step.desk.plan.over import draw_all_shapes
from moss_step.desk.sheet.ink import Ink
from moss_step.scene.camera import Camera
from moss_step.scene.layers import Scene, draw_grids
from moss_step.scene.sheet.ground import scene_for
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import BlockPart

_TEXTURE, _FINEST, _BOLD = 1600, 1200, 2.0
_MOST = 4096.0
"""Pixels of the longer side of a block at the most: graphics cards and their stand-ins draw no larger
picture.
"""
_AWAY = 2.1
"""How many times the ground's longer side the eye is away."""


def draw_block(ink: Ink, sheet: Sheet, part: BlockPart) -> None:
    """Draw the ground in three dimensions as a picture."""
    box = QRectF(0, 0, part.width, part.height)
    scene = scene_for(sheet, part.results)
    if scene.standing is None:
        ink.remark("The block of the page has no ground that stands up.")
        ink.note("Choose a ground for the block", box)
        return
    ink.hit(0, 0, part.width, part.height, scene.layers[0].step if scene.layers else "")
    wide, high = size_of(part, ink.fine)
    image = ink.block(sheet, part, wide, high) if ink.block is not None else None
    if image is None:
        ink.note("The block is being drawn", box)
        return
    ink.painter.drawImage(box, image)


def size_of(part: BlockPart, fine: float) -> tuple[int, int]:
    """Pixels that a block is drawn at, where a millimetre would have so many."""
    fine = min(fine, _MOST / max(part.width, part.height))
    return max(round(part.width * fine), 2), max(round(part.height * fine), 2)


def wish_of(sheet: Sheet, part: BlockPart, width: int, height: int) -> Wish | None:
    """What is to be drawn for a block; None where nothing stands up."""
    scene = scene_for(sheet, part.results)
    grid = scene.standing
    if grid is None:
        return None
    surface = grid.value
    extent = extent_metres(grid.frame)
    level = next((lv for lv in grid.levels if max(lv.shape) <= _FINEST), grid.levels[-1])
    heights = np.asarray(level, np.float32) * np.float32(surface.metres_per_height * part.times)
    middle = np.float32((np.nanmin(heights) + np.nanmax(heights)) / 2.0)
    colors = {ref: shape_color(place) for ref, place in sheet.now.shape_order.items()}
    picture = _texture(scene, colors, grid.frame.box, extent)
    eye = Eye(part.bearing % 360.0, part.down, _AWAY * max(extent) * max(1.0, height / width))
    return Wish(Ground(heights - middle, extent, picture), eye, width, height, moving=False)


def key_of(sheet: Sheet, part: BlockPart, width: int, height: int) -> tuple[object, ...]:
    """All that the picture of a block depends on."""
    scene = scene_for(sheet, part.results)
    return ("block", scene.looks, part.bearing, part.down, part.times, width, height)


@contextmanager
def staged() -> Iterator[Stage]:
    """A stage that blocks are drawn on, as long as it is needed."""
    stage = Stage()
    try:
        yield stage
    finally:
        stage.let_go()


def draw_now(stage: Stage, sheet: Sheet, part: BlockPart, width: int, height: int) -> QImage | None:
    """Draw a block in this thread."""
    wish = wish_of(sheet, part, width, height)
    return None if wish is None else stage.draw(wish)


def _texture(
    scene: Scene, colors: dict[str, str], box: tuple[float, float, float, float], extent: tuple[float, float]
) -> np.ndarray:
    """What the plan draws over a box of an extent in metres, as red, green and blue bytes."""
    scale = _TEXTURE / max(extent) / _BOLD
    width, height = (max(round(e * scale), 2) for e in extent)
    xmin, ymin, xmax, ymax = box
    per_x, per_y = width / (xmax - xmin), height / (ymax - ymin)
    camera = Camera((xmin + xmax) / 2, (ymin + ymax) / 2, per_x, per_y / per_x, width, height)
    pixels = draw_grids(scene, camera, _BOLD)
    image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], QImage.Format.Format_RGB32).copy()
    image.setDevicePixelRatio(_BOLD)
    with QPainter(image) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_all_shapes(painter, camera, scene, colors, flat=True)
    drawn = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine() // 4, 4)
    return np.ascontiguousarray(drawn[:, : image.width(), 2::-1])

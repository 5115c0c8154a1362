"""Lines on the plan: as broad on a fine screen, and on the block, as on a plain one."""

import numpy as np
import pytest
import shapely
from PySide6.QtGui import QColor, QImage, QPainter

from moss_step.demo import DATA
from moss_step.desk.plan.drawing import shape_color
from moss_step.desk.plan.pens import screen_pen
from moss_step.formats.vector import read_shapes
from tests.desk.driving import rest


@pytest.mark.parametrize("ratio", [1.0, 2.0, 3.0])
def test_a_pen_is_as_broad_on_a_fine_screen(qapp, ratio):
    image = QImage(round(40 * ratio), round(40 * ratio), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(ratio)
    image.fill(QColor("white"))
    painter = QPainter(image)
    painter.scale(0.01, 0.01)  # coordinates of the ground
    painter.setPen(screen_pen(painter, QColor("black"), 4.0))
    painter.drawLine(0, 2000, 4000, 2000)
    painter.end()
    pixels = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1, 4)
    assert (pixels[:, pixels.shape[1] // 2, 0] < 128).sum() == 4 * ratio


def test_lines_on_the_block_are_broad_enough_to_show_without_gaps(window, settle, qapp):
    window.files.open_path(DATA / "harrow_ground.tif")
    settle(window)
    window.files.open_path(DATA / "harrow_boundary.gpkg")
    settle(window)
    window.show_drawer("block")
    rest(window, qapp)
    picture, frame = window.block.ground.picture, window.plan.view.scene.ground.frame
    high, wide = picture.shape[:2]
    line = shapely.segmentize(read_shapes(DATA / "harrow_boundary.gpkg").geometry[0].exterior, 5.0)
    x, y = shapely.get_coordinates(line).T
    col, row = (
        ((x - frame.x0) / (frame.cols * frame.dx) * wide).astype(int),
        ((frame.y0 - y) / (frame.rows * frame.dy) * high).astype(int),
    )
    ink = np.array(QColor(shape_color(0)).getRgb()[:3])
    inked = (np.abs(picture.astype(int) - ink) < 12).all(axis=2)
    # Seen whole, some three pixels of the picture lie on one of the screen: each must find ink.
    around = [inked[row + r, col + c] for r in (-1, 0, 1) for c in (-1, 0, 1)]
    assert np.mean(around) > 0.95

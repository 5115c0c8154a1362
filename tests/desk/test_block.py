"""The block: drawn off screen in its own thread, turned, read, and handed on."""

import time

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest

from moss_step.demo import DATA
from moss_step.desk.block.eye import Eye, under_pixel
from moss_step.desk.block.stage import Ground, Stage, Wish
from tests.desk.driving import LEFT, named, press, wheel
from tests.desk.jobs import by_name


@pytest.fixture
def block(window, settle, qapp):
    """The demo ground with its block beside the plan, at rest."""
    window.open_path(DATA / "harrow_ground.tif")
    settle(window)
    window.show_drawer("block")
    rest(window, qapp)
    return window


def rest(window, qapp, least: float = 0.4) -> None:
    """Wait until the block has been drawn at rest."""
    end, quiet = time.monotonic() + 60, time.monotonic() + least
    while time.monotonic() < end and (time.monotonic() < quiet or window.block.stage.busy or window.block.image is None):
        qapp.processEvents()
        time.sleep(0.01)
    qapp.processEvents()  # the last picture is handed over at the next turn
    assert window.block.image is not None


def picture(window) -> np.ndarray:
    image = window.block.image.convertToFormat(QImage.Format.Format_RGB888)
    return np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1).copy()


def test_a_pixel_meets_a_level_ground_where_geometry_says():
    """Straight down on a plane at 0: the middle is the place looked at, the edge is half the view's height away."""
    eye = Eye(0.0, 90.0, 1000.0, 50.0, -20.0, 0.0)
    heights = np.zeros((200, 200), np.float32)
    middle = under_pixel(eye, (200, 150), (400, 300), heights, (2000.0, 2000.0))
    assert middle[:2] == pytest.approx([50.0, -20.0], abs=0.5)
    top = under_pixel(eye, (200, 0), (400, 300), heights, (2000.0, 2000.0))
    assert top[1] - middle[1] == pytest.approx(1000.0 * np.tan(np.radians(15.0)), rel=1e-3)
    assert under_pixel(eye.turned(0, -88), (200, 0), (400, 300), heights, (2000.0, 2000.0)) is None, "the sky is no place"


@pytest.mark.parametrize(("bearing", "down"), [(0, 30), (90, 45), (200, 60), (315, 89)])
def test_the_eye_keeps_its_distance_and_its_axes_stay_square(bearing, down):
    eye = Eye(bearing, down, 700.0, 10.0, 20.0, 5.0)
    assert np.linalg.norm(eye.position - (10.0, 20.0, 5.0)) == pytest.approx(700.0)
    assert eye.ahead @ eye.upward == pytest.approx(0.0, abs=1e-12)
    assert np.linalg.norm(eye.nearer(2.0, None).position - (10.0, 20.0, 5.0)) == pytest.approx(350.0)
    panned = eye.moved(0, 100, 600)
    assert (panned.x - eye.x) * np.sin(np.radians(bearing)) + (panned.y - eye.y) * np.cos(np.radians(bearing)) > 0


def test_the_block_shows_what_the_key_shows_and_turns(block, settle, qapp):
    window = block
    first = picture(window)
    assert len(np.unique(first)) > 50, "there is a ground in the picture"
    window.work.add_step("slope", {"dem": by_name(window, "Harrow ground")}, {})
    settle(window)
    rest(window, qapp)
    draped = picture(window)
    assert not np.array_equal(first, draped)
    QTest.keyClick(window.block, Qt.Key.Key_T)
    rest(window, qapp)
    assert window.block.eye.down == 90.0 and not np.array_equal(draped, picture(window))
    QTest.keyClick(window.block, Qt.Key.Key_N)
    assert window.block.eye.bearing == 0.0 and window.block.eye.down == 25.0
    QTest.keyClick(window.block, Qt.Key.Key_O)
    rest(window, qapp)
    before = window.block.eye
    QTest.mousePress(window.block, LEFT, pos=QPoint(200, 300))
    QTest.mouseMove(window.block, QPoint(260, 330))
    QTest.mouseRelease(window.block, LEFT, pos=QPoint(260, 330))
    assert window.block.eye.bearing != before.bearing and window.block.eye.down > before.down
    wheel(window.block, QPoint(240, 300), 2)
    assert window.block.eye.distance < before.distance
    rest(window, qapp)


def test_pointing_at_the_block_reads_the_ground_and_marks_the_plan(block, qapp):
    window = block
    QTest.keyClick(window.block, Qt.Key.Key_T)
    rest(window, qapp)
    middle = QPointF(window.block.width() / 2, window.block.height() / 2)
    x, y = window.block.place_at(middle)
    assert x == pytest.approx(413_000, abs=25) and y == pytest.approx(5_871_000, abs=25)
    QTest.mouseMove(window.block, middle.toPoint())
    assert any(row.name == "Ground" or "round" in row.name for row in window.plan.reading.rows)
    assert len(window.plan.view.marked) == 1


def test_heights_are_exaggerated_and_it_is_stated(block, qapp):
    window = block
    low = float(np.nanmax(window.block._ground.heights) - np.nanmin(window.block._ground.heights))
    named(window.block, "Vertical exaggeration").setValue(20)
    rest(window, qapp)
    high = float(np.nanmax(window.block._ground.heights) - np.nanmin(window.block._ground.heights))
    assert high == pytest.approx(2 * low, rel=1e-3) and "x 2" in window.block._stated.text()


def test_observers_stand_as_masts_of_their_true_height(block, settle, qapp):
    window = block
    window.work.add_step("viewshed", {"dem": by_name(window, "Harrow ground")}, {"at": [[413_000.0, 5_871_000.0]], "observer_height": 60.0})
    settle(window)
    rest(window, qapp)
    masts = window.block._ground.masts
    assert masts.shape == (1, 4) and masts[0, 3] - masts[0, 2] == pytest.approx(60.0)
    assert masts[0, :2] == pytest.approx([0.0, 0.0], abs=1e-6)


def test_the_picture_is_handed_on_and_the_block_goes_away(block, tmp_path, qapp):
    window = block
    window.block.write(tmp_path / "block.png")
    assert QImage(str(tmp_path / "block.png")).size() == window.block.image.size()
    window.block.write(tmp_path / "nowhere" / "block.png")
    assert "nowhere" in window.plan.message.text
    press(window.plan, "View: Plan")
    assert not window.block.isVisible()


def test_points_with_colour_are_drawn_too(qapp):
    """What point clouds need of the view."""
    stage = Stage()
    flat = np.zeros((20, 20), np.float32)
    grey = np.full((8, 8, 3), 120, np.uint8)
    points = np.random.default_rng(0).uniform(-50, 50, (2000, 3)) * (1, 1, 0) + (0, 0, 20)
    red = np.tile(np.array([[255, 0, 0]], np.uint8), (2000, 1))
    eye = Eye(0, 60, 300.0)
    pictures = []
    for ground in (Ground(flat, (100.0, 100.0), grey), Ground(flat, (100.0, 100.0), grey, points=points, colors=red)):
        found: list[QImage] = []
        stage.drawn.connect(lambda image, wish, found=found: found.append(image))
        stage.wish(Wish(ground, eye, 200, 150, False))
        end = time.monotonic() + 30
        while not found and time.monotonic() < end:
            qapp.processEvents()
            time.sleep(0.01)
        pixels = np.frombuffer(found[0].constBits(), np.uint8).reshape(150, -1)[:, :600].reshape(150, 200, 3).astype(int)
        pictures.append(int((pixels[:, :, 0] - pixels[:, :, 2] > 100).sum()))
        stage.drawn.disconnect()
    stage.close()
    assert pictures[0] == 0 and pictures[1] > 300

"""The block: drawn off screen in its own thread, turned, read, and handed on."""

import itertools
import time
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest

from moss_step.demo import DATA
from moss_step.desk.block import stage
from moss_step.desk.block.eye import Eye, close_by, height_at, under_pixel
from moss_step.desk.block.stage import Ground, Stage, Wish
from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from tests.desk.driving import LEFT, named, press, rest, wheel
from tests.desk.jobs import by_name, fill, keep


@pytest.fixture
def block(window, settle, qapp):
    """The demo ground with its block beside the plan, at rest."""
    window.files.open_path(DATA / "harrow_ground.tif")
    settle(window)
    window.show_drawer("block")
    rest(window, qapp)
    return window


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
    assert under_pixel(eye.turned(0, -88), (200, 0), (400, 300), heights, (2000.0, 2000.0)) is None, (
        "the sky is no place"
    )


@given(st.floats(0, 359), st.floats(5, 90), st.floats(0, 400), st.floats(0, 300), st.floats(1, 5000))
def test_a_place_is_drawn_at_the_pixel_whose_ray_meets_it(bearing, down, px, py, far):
    eye = Eye(bearing, down, 1000.0, 30.0, -70.0, 12.0)
    place = eye.position + eye.ray(px, py, 400, 300) * far
    found = eye.pixels(place, 400, 300)[0]
    assert found[:2] == pytest.approx([px, py], abs=1e-4) and found[2] == pytest.approx(
        far * (eye.ray(px, py, 400, 300) @ eye.ahead)
    )
    behind = eye.pixels(eye.position - eye.ahead, 400, 300)[0]
    assert behind[2] < 0


def test_the_ray_meets_the_ground_that_a_march_in_numpy_meets():
    """Independent reference: points every 0.2 m along the ray, the first one below the nearest cell."""
    rng = np.random.default_rng(3)
    heights = (rng.normal(size=(80, 90)).cumsum(0).cumsum(1) * 0.4).astype(np.float32)
    extent = (900.0, 800.0)
    eye = Eye(40.0, 30.0, 900.0)
    hits = 0
    for px, py in itertools.product((30, 200, 370), (60, 150, 290)):
        found = under_pixel(eye, (px, py), (400, 300), heights, extent)
        points = eye.position + eye.ray(px, py, 400, 300) * np.arange(0, 4000, 0.2)[:, None]
        c, r = (
            np.floor((points[:, 0] / 900 + 0.5) * 90).astype(int),
            np.floor((0.5 - points[:, 1] / 800) * 80).astype(int),
        )
        inside = (c >= 0) & (c < 90) & (r >= 0) & (r < 80)
        z = np.where(inside, heights[r.clip(0, 79), c.clip(0, 89)], -np.inf)
        below = np.flatnonzero(points[:, 2] <= z)
        if found is None:
            # steps of a few metres may pass over a corner of a cell that steps of 0.2 m meet
            assert len(below) < 40
        else:
            hits += 1
            assert np.linalg.norm(found - points[below[0]]) < 8.0
    assert hits >= 5


def test_what_is_near_is_found_by_the_size_of_its_pixels():
    """From straight above: all of the picture is near or none of it, and the smallest pixel is the one of geometry."""
    heights, size = np.zeros((100, 100), np.float32), (400, 300)
    eye = Eye(0.0, 90.0, 500.0)
    pixel = 2 * 500.0 * np.tan(np.radians(15.0)) / 300
    assert close_by(eye, size, heights, (4000.0, 4000.0), pixel * 0.99) is None
    edges, finest = close_by(eye, size, heights, (4000.0, 4000.0), pixel * 1.01)
    assert finest == pytest.approx(pixel, rel=1e-3)
    assert -edges[0] == pytest.approx(pixel * 200 * 1.16, rel=0.02) and edges[3] == pytest.approx(
        pixel * 150 * 1.16, rel=0.02
    )
    low = Eye(0.0, 12.0, 500.0)
    (_, south, _, north), _ = close_by(low, size, heights, (40_000.0, 40_000.0), 3 * pixel)
    assert north < 3000.0, "far ground needs no more than the whole ground's picture"
    assert south < 0.0


@pytest.mark.parametrize(("bearing", "down"), [(0, 30), (90, 45), (200, 60), (315, 89)])
def test_the_eye_keeps_its_distance_and_its_axes_stay_square(bearing, down):
    eye = Eye(bearing, down, 700.0, 10.0, 20.0, 5.0)
    assert np.linalg.norm(eye.position - (10.0, 20.0, 5.0)) == pytest.approx(700.0)
    assert eye.ahead @ eye.upward == pytest.approx(0.0, abs=1e-12)
    assert np.linalg.norm(eye.nearer(2.0, None).position - (10.0, 20.0, 5.0)) == pytest.approx(350.0)
    panned = eye.moved(0, 100, 600)
    assert (panned.x - eye.x) * np.sin(np.radians(bearing)) + (panned.y - eye.y) * np.cos(
        np.radians(bearing)
    ) > 0


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
    low = float(np.nanmax(window.block.ground.heights) - np.nanmin(window.block.ground.heights))
    named(window.block, "Vertical exaggeration").setValue(20)
    rest(window, qapp)
    high = float(np.nanmax(window.block.ground.heights) - np.nanmin(window.block.ground.heights))
    assert high == pytest.approx(2 * low, rel=1e-3) and "x 2" in window.block.stated.text()


def test_observers_stand_as_masts_of_their_true_height(block, settle, qapp):
    window = block
    window.work.add_step(
        "viewshed",
        {"dem": by_name(window, "Harrow ground")},
        {"at": [[413_000.0, 5_871_000.0]], "observer_height": 60.0},
    )
    settle(window)
    rest(window, qapp)
    masts = window.block.ground.masts
    assert masts.shape == (1, 4) and masts[0, 3] - masts[0, 2] == pytest.approx(60.0)
    assert masts[0, :2] == pytest.approx([0.0, 0.0], abs=1e-6)


def test_masts_have_the_heights_of_their_own_and_those_that_are_off_do_not_stand(block, settle, qapp):
    window, ground = block, by_name(block, "Harrow ground")
    at = [[412_700.0, 5_871_000.0], [413_000.0, 5_871_000.0], [413_300.0, 5_871_000.0]]
    window.work.add_step(
        "viewshed",
        {"dem": ground},
        {"at": at, "observer_height": 30.0, "own": "1: height=80, name=Tall; 3: off"},
    )
    settle(window)
    rest(window, qapp)
    masts = window.block.ground.masts
    assert masts[:, 3] - masts[:, 2] == pytest.approx([80.0, 30.0])
    assert {"Tall", "observer 2"} <= {standing.name for standing, _ in window.block.names}
    window.block.exaggerate(2.0)
    assert np.diff(window.block.ground.masts[:, 2:], axis=1).ravel() == pytest.approx([160.0, 60.0])


def test_many_masts_stand_without_names(block, settle, qapp):
    window = block
    at = [[412_400.0 + 15.0 * k, 5_871_000.0] for k in range(70)]
    window.work.add_step(
        "viewshed",
        {"dem": by_name(window, "Harrow ground")},
        {"at": at, "observer_height": 60.0, "reach": 100.0},
    )
    settle(window)
    rest(window, qapp)
    assert len(window.block.ground.masts) == 70 and not window.block.names


def test_masts_from_shapes_and_above_the_datum(block, settle, qapp):
    window, ground = block, by_name(block, "Harrow ground")
    window.files.open_path(DATA / "harrow_places.gpkg")
    settle(window)
    places = by_name(window, "Harrow places")
    window.work.add_step(
        "viewshed", {"dem": ground, "observers": places}, {"observer_height": 900.0, "absolute": True}
    )
    settle(window)
    rest(window, qapp)
    masts = window.block.ground.masts
    assert len(masts) == 7 and masts[:, 3] + window.block.middle == pytest.approx([900.0] * 7)
    window.work.remove(window.work.study.steps[-1].id)
    settle(window)
    rest(window, qapp)
    assert not len(window.block.ground.masts), "no view, no masts"


def test_names_stand_upright_where_the_ground_is_and_not_behind_a_hill(block, settle, qapp):
    window = block
    window.files.open_path(DATA / "harrow_places.gpkg")
    settle(window)
    rest(window, qapp)
    view = window.block
    names = {s.name: at for s, at in view.names}
    assert len(names) >= 3
    for found in (s for s in view.standing if s.name in names):
        place = view.place_at(
            QPointF(names[found.name][0] * view.width(), names[found.name][1] * view.height())
        )
        if place is None:
            assert found.name == "Harrow Top", "it stands at the edge of the ground, before the sky"
        else:
            assert np.hypot(place[0] - found.at.x(), place[1] - found.at.y()) < 60.0, found.name
    x, y = next((s.at.x(), s.at.y()) for s in view.standing)
    view.eye = Eye(
        0.0, 3.0, 400.0, x - 413_000.0, y - 5_871_000.0 - 900.0, float(np.nanmin(view.ground.heights))
    )
    view.ask(False)
    rest(window, qapp)
    assert len(view.names) < len(view.standing), (
        "from down in a valley some stand behind a hill or out of view"
    )


def test_the_block_follows_the_plan_and_leads_it(block, qapp):
    window, view, plan = block, block.block, block.plan.view
    plan.show_camera(replace(plan.camera, x=413_300.0, y=5_871_200.0, scale=plan.camera.scale * 3))
    assert (view.eye.x, view.eye.y) == pytest.approx((300.0, 200.0), abs=1e-6)
    assert view.eye.metres_per_pixel(view.eye.distance, view.height()) * view.width() == pytest.approx(
        plan.width() / plan.camera.scale
    )
    before = plan.camera
    QTest.mousePress(view, Qt.MouseButton.RightButton, pos=QPoint(200, 300))
    QTest.mouseMove(view, QPoint(160, 340))
    QTest.mouseRelease(view, Qt.MouseButton.RightButton, pos=QPoint(160, 340))
    assert (plan.camera.x, plan.camera.y) == pytest.approx(
        (413_000.0 + view.eye.x, 5_871_000.0 + view.eye.y)
    ) and plan.camera.x != before.x
    assert plan.camera.scale == pytest.approx(before.scale)
    wheel(view, QPoint(240, 300), 3)
    assert plan.camera.scale == pytest.approx(before.scale * 1.2**3)
    rest(window, qapp)
    press(view, "Move the plan and the block together")
    still = plan.camera
    wheel(view, QPoint(240, 300), 2)
    eye = view.eye
    assert plan.camera == still
    plan.show_camera(before)
    assert view.eye == eye
    rest(window, qapp)


def test_what_the_plan_points_at_is_marked_in_the_block(block, qapp):
    window, view = block, block.block
    QTest.keyClick(view, Qt.Key.Key_T)
    rest(window, qapp)
    window.plan.view.pointed.emit(None)
    bare = view.grab().toImage()
    window.plan.view.pointed.emit((413_100.0, 5_871_100.0))
    foot = np.array(
        [[100.0, 100.0, height_at(np.array([[100.0, 100.0]]), view.ground.heights, view.ground.extent)[0]]]
    )
    px, py, _ = view.eye.pixels(foot, view.width(), view.height())[0]
    marked = view.grab().toImage()
    changed = [
        (x, y)
        for x in range(0, view.width())
        for y in range(0, view.height())
        if bare.pixel(x, y) != marked.pixel(x, y)
    ]
    assert (
        changed and max(abs(x - px) for x, _ in changed) <= 12 and max(abs(y - py) for _, y in changed) <= 9
    )
    window.plan.view.pointed.emit(None)
    assert view.grab().toImage() == bare


def changes(window) -> float:
    """How often the colour passes its middle along a row of the picture, the median of some rows."""
    image = window.block.image
    red = picture(window).reshape(image.height(), -1)[:, : 3 * image.width() : 3].astype(int)
    rows = red[image.height() // 2 - 60 : image.height() // 2 + 60]
    return float(np.median(np.count_nonzero(np.diff(rows > (rows.min() + rows.max()) / 2, axis=1), axis=1)))


def test_near_ground_is_drawn_with_all_its_detail_at_rest(window, settle, qapp, tmp_path):
    """A board of single cells on a ground too large for one picture: near by, at rest, every cell is seen again."""
    n = 3000
    z = np.zeros((n, n), np.float32)
    z[1400:1600, 1400:1600] = np.indices((200, 200)).sum(axis=0) % 2 * 0.5
    write_surface(
        tmp_path / "board.tif",
        Surface(z, Frame(n, n, 400_000.0, 5_900_000.0, 1.0, 1.0, "EPSG:32628"), METRE),
        "Board",
    )
    window.files.open_path(tmp_path / "board.tif")
    settle(window)
    window.show_drawer("block")
    rest(window, qapp)
    view = window.block
    view.eye = Eye(0.0, 90.0, 150.0)
    view.ask(False)
    rest(window, qapp)
    patch = view.patch[1]
    assert (
        patch is not None
        and max(patch.heights.shape) < 200
        and (patch.heights.max() - patch.heights.min()) == pytest.approx(0.5)
    )
    wide = view.eye.metres_per_pixel(150.0, view.height()) * view.width()
    assert changes(window) == pytest.approx(wide, abs=3), "one change of colour a metre"
    view.patch = ((view.ground, view.eye, view.width(), view.height()), None)
    view.ask(False)
    rest(window, qapp)
    assert changes(window) < 0.8 * wide, "the whole ground's picture lets cells run into one another"
    view.eye = Eye(0.0, 90.0, 6000.0)
    view.ask(False)
    rest(window, qapp)
    assert view.patch[1] is None, "from afar the whole ground's picture is enough"


def test_the_picture_is_handed_on_and_the_block_goes_away(block, tmp_path, qapp, settle):
    import trimesh  # takes long to load

    window = block
    window.block.write(tmp_path / "block.png")
    settle(window)
    assert QImage(str(tmp_path / "block.png")).size() == window.block.image.size()
    window.block.write(tmp_path / "block.glb")
    settle(window)
    mesh = trimesh.load(tmp_path / "block.glb", force="mesh")
    ground = window.block.grid.value
    assert len(mesh.vertices) == ground.valid_count
    inks = np.asarray(mesh.visual.vertex_colors)[:, :3]
    assert len(np.unique(inks, axis=0)) > 5  # it wears what the plan draws
    window.block.write(tmp_path / "nowhere" / "block.png")
    settle(window)
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
    for ground in (
        Ground(flat, (100.0, 100.0), grey),
        Ground(flat, (100.0, 100.0), grey, points=points, colors=red),
    ):
        found: list[QImage] = []
        stage.drawn.connect(lambda image, wish, found=found: found.append(image))
        stage.wish(Wish(ground, eye, 200, 150, False))
        end = time.monotonic() + 30
        while not found and time.monotonic() < end:
            qapp.processEvents()
            time.sleep(0.01)
        pixels = (
            np.frombuffer(found[0].constBits(), np.uint8)
            .reshape(150, -1)[:, :600]
            .reshape(150, 200, 3)
            .astype(int)
        )
        pictures.append(int((pixels[:, :, 0] - pixels[:, :, 2] > 100).sum()))
        stage.drawn.disconnect()
    stage.close()
    assert pictures[0] == 0 and pictures[1] > 300


def test_frames_of_a_turning_block_are_as_fine_as_the_machine_allows(qapp, monkeypatch):
    z = np.add.outer(np.arange(600.0), np.zeros(600)).astype(np.float32)
    ground = Ground(z, (600.0, 600.0), np.zeros((64, 64, 3), np.uint8))
    drawing = Stage()

    def turn(frames: int) -> int:
        for k in range(frames):
            drawing.draw(Wish(ground, Eye(10.0 * k, 35.0, 900.0), 120, 90, True))
        return drawing.moving_points

    try:
        monkeypatch.setattr(stage, "_TOO_LONG", 0.0)
        monkeypatch.setattr(stage, "_TOO_SHORT", 0.0)
        # A frame for which a sheet is built tells nothing, so every level takes two.
        assert [turn(2), turn(2), turn(2)] == [200, 140, 140]
        drawing.draw(Wish(ground, Eye(10.0, 35.0, 900.0), 120, 90, False))
        assert drawing.moving_points == 140, "a frame at rest is as fine as ever, however long it takes"
        monkeypatch.setattr(stage, "_TOO_LONG", 60.0)
        monkeypatch.setattr(stage, "_TOO_SHORT", 60.0)
        assert turn(5) == 280
    finally:
        drawing.close()


def test_at_rest_a_thin_line_shows_whole(qapp):
    z = np.zeros((400, 400), np.float32)
    picture = np.full((800, 800, 3), 255, np.uint8)
    picture[20::40] = picture[21::40] = 0  # twenty lines a metre broad, for which the screen has half a pixel
    drawing, lines = Stage(), {}
    try:
        for moving in (True, False):
            image = drawing.draw(
                Wish(Ground(z, (400.0, 400.0), picture), Eye(0.0, 90.0, 950.0), 300, 300, moving)
            )
            assert (image.width(), image.height()) == (300, 300)
            pixels = (
                np.frombuffer(image.constBits(), np.uint8)
                .reshape(300, image.bytesPerLine())[:, : 3 * 300]
                .reshape(300, 300, 3)
            )
            dark = pixels[:, 150, 0] < 200
            lines[moving] = int((dark[1:] & ~dark[:-1]).sum())
        assert lines[False] == 20 and lines[True] < 20
        assert Wish(Ground(z, (1.0, 1.0), picture), Eye(), 4000, 2000, False).fine == 1, (
            "very large pictures are drawn plainly"
        )
    finally:
        drawing.close()


def test_the_block_keeps_its_covering_while_a_change_is_applied(window, settle, qapp):
    """From the press of Apply until all is at rest the picture is never bare relief."""
    window.files.open_path(DATA / "harrow_ground.tif")
    settle(window)
    window.begin_step("slope")
    step = keep(window, settle)
    window.work.choose(step)
    window.show_drawer("block")
    rest(window, qapp)
    fill(window, settle, "z_factor", 2.0)
    rest(window, qapp)
    colored, seen = _colour_of(window.block.image), []
    press(window.benches["shape"], "Apply the change")
    end = time.monotonic() + 3.0
    while time.monotonic() < end:
        qapp.processEvents()
        seen.append(_colour_of(window.block.image))
        time.sleep(0.02)
    assert colored > 40 and min(seen) > 0.8 * colored


def _colour_of(image):
    """How far the middle of a picture is from grey."""
    pixels = np.frombuffer(image.convertToFormat(QImage.Format.Format_RGB32).constBits(), np.uint8)
    middle = pixels.reshape(image.height(), image.width(), 4)[
        image.height() // 3 : image.height() // 3 * 2, image.width() // 3 : image.width() // 3 * 2, :3
    ]
    return float(np.ptp(middle, axis=2).mean())

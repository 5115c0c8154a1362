"""The plan's camera: places and pixels, moving, zooming and fitting, and the cell under each pixel."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from moss_step.desk.plan.drawing import scale_length
from moss_step.model.frame import Frame, overlap
from moss_step.scene.camera import Camera, metres_per_unit, stretch_of

UTM = "EPSG:32628"
places = st.tuples(st.floats(-2000, 2000), st.floats(-2000, 2000))
pixels = st.tuples(st.floats(0, 900), st.floats(0, 600))
cameras = st.builds(
    Camera,
    st.floats(-1000, 1000),
    st.floats(-1000, 1000),
    st.floats(0.01, 50),
    st.floats(0.5, 3),
    st.integers(50, 1200),
    st.integers(50, 900),
)
boxes = st.tuples(st.floats(-500, 500), st.floats(-500, 500), st.floats(1, 900), st.floats(1, 900)).map(
    lambda b: (b[0], b[1], b[0] + b[2], b[1] + b[3])
)


@given(cameras, places)
def test_a_place_comes_back_from_its_pixel(camera, place):
    assert camera.world(*camera.pixel(*place)) == pytest.approx(place, abs=1e-6)


@given(cameras, pixels, st.floats(0.2, 5))
def test_zooming_keeps_the_place_under_the_pointer(camera, pixel, factor):
    before = camera.world(*pixel)
    zoomed = camera.zoomed(factor, *pixel)
    assert zoomed.world(*pixel) == pytest.approx(before, abs=1e-6) and zoomed.scale == pytest.approx(
        camera.scale * factor
    )


@given(cameras, pixels, st.tuples(st.floats(-300, 300), st.floats(-300, 300)))
def test_dragging_takes_the_place_along(camera, pixel, by):
    moved = camera.moved(*by)
    assert moved.pixel(*camera.world(*pixel)) == pytest.approx((pixel[0] + by[0], pixel[1] + by[1]), abs=1e-4)
    assert camera.moved(*by).moved(-by[0], -by[1]).world(*pixel) == pytest.approx(
        camera.world(*pixel), abs=1e-6
    )


@given(cameras, boxes)
def test_a_box_that_is_fitted_is_in_view_in_the_middle_and_fills_it(camera, box):
    fitted = camera.fitted(box)
    (left, bottom), (right, top) = fitted.pixel(box[0], box[1]), fitted.pixel(box[2], box[3])
    assert -1e-6 <= left <= right <= camera.width + 1e-6 and -1e-6 <= top <= bottom <= camera.height + 1e-6
    assert (left + right) / 2 == pytest.approx(camera.width / 2, abs=1e-4) and (
        top + bottom
    ) / 2 == pytest.approx(camera.height / 2, abs=1e-4)
    assert max((right - left) / camera.width, (bottom - top) / camera.height) == pytest.approx(0.94, abs=1e-6)


@given(cameras)
def test_the_box_in_view_is_that_of_the_corners(camera):
    xmin, ymin, xmax, ymax = camera.box
    assert camera.pixel(xmin, ymax) == pytest.approx((0, 0), abs=1e-4)
    assert camera.pixel(xmax, ymin) == pytest.approx((camera.width, camera.height), abs=1e-3)


@given(boxes, boxes)
def test_boxes_overlap_when_they_share_a_place(a, b):
    shared = max(a[0], b[0]) <= min(a[2], b[2]) and max(a[1], b[1]) <= min(a[3], b[3])
    assert overlap(a, b) == overlap(b, a) == shared and overlap(a, a)


@given(
    st.builds(Camera, st.floats(-30, 60), st.floats(-60, 30), st.floats(0.3, 9), st.floats(0.5, 2), st.integers(5, 60), st.integers(5, 40)),
    st.integers(1, 20), st.integers(1, 20), st.sampled_from([1.0, 2.0]),
)  # fmt: skip
def test_each_pixel_shows_the_cell_that_its_middle_lies_in(camera, rows, cols, ratio):
    frame = Frame(rows, cols, 0.0, 0.0, 2.0, 1.5, UTM)
    r, c = camera.cells(frame, 0, ratio)
    assert len(c) == round(camera.width * ratio) and len(r) == round(camera.height * ratio)
    for px in range(0, len(c), 7):
        for py in range(0, len(r), 5):
            x, y = camera.world((px + 0.5) / ratio, (py + 0.5) / ratio)
            assume(abs((x / 2.0) % 1.0) > 1e-6 and abs((y / 1.5) % 1.0) > 1e-6)
            expected = frame.cell_at(x, y)
            assert (expected or (-1, -1)) == (int(r[py]), int(c[px])) or (
                expected is None and -1 in (r[py], c[px])
            )


@given(st.floats(1e-3, 1e4))
def test_a_scale_bar_has_a_round_length_that_fits(metres_per_pixel):
    pixels_long, text = scale_length(metres_per_pixel)
    assert 150 / 2.5 - 1e-6 <= pixels_long <= 150.001
    number, unit = text.split(" ")
    metres = float(number) * {"m": 1.0, "km": 1000.0, "cm": 0.01}[unit]
    assert metres == pytest.approx(pixels_long * metres_per_pixel)
    assert f"{metres:e}".split("e")[0] in ("1.000000", "2.000000", "5.000000")


@pytest.mark.parametrize("latitude", [0.0, 45.0, 60.0, -72.0])
def test_ground_in_degrees_keeps_its_proportions(latitude):
    """A degree of latitude is drawn 1 / cos(latitude) times as long as one of longitude, to the flattening of the earth."""
    frame = Frame(100, 100, 10.0, latitude + 0.05, 0.001, 0.001, "EPSG:4326")
    assert stretch_of(frame) == pytest.approx(1.0 / np.cos(np.radians(latitude)), rel=7e-3)
    assert metres_per_unit(frame) == pytest.approx(111_320.0 * np.cos(np.radians(latitude)), rel=7e-3)
    assert stretch_of(Frame(10, 10, 0, 0, 2.0, 2.0, UTM)) == pytest.approx(1.0)

import numpy as np
import pytest
from pyproj import Geod

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, reference_system, same_system


@pytest.mark.parametrize("lat", [-60.0, 0.0, 36.7, 70.0])
def test_cells_in_degrees_have_the_ellipsoids_size_and_area(lat):
    """Against pyproj.Geod: distances along parallel and meridian, and the area of the cell's polygon (general library)."""
    d = 1.0 / 1200.0
    frame = Frame(3, 4, 10.0, lat + 1.5 * d, d, d, "EPSG:4326")
    geod = Geod(ellps="WGS84")
    _, _, width = geod.inv(10.0, lat, 10.0 + d, lat)
    _, _, height = geod.inv(10.0, lat - d / 2, 10.0, lat + d / 2)
    assert frame.row_widths[1] == pytest.approx(width, rel=1e-6)
    assert frame.row_heights[1] == pytest.approx(height, rel=1e-6)
    lons, lats = [10.0, 10.0 + d, 10.0 + d, 10.0], [lat - d / 2, lat - d / 2, lat + d / 2, lat + d / 2]
    area, _ = geod.polygon_area_perimeter(lons, lats)
    assert frame.row_areas[1] == pytest.approx(abs(area), rel=1e-6)


def test_a_whole_globe_has_the_ellipsoids_area():
    """WGS 84: 510 065 621.7 km2 (the closed form with a and e gives the same)."""
    frame = Frame(180, 360, -180.0, 90.0, 1.0, 1.0, "EPSG:4326")
    assert frame.area == pytest.approx(510_065_621.7e6, rel=1e-9)


def test_projected_feet_count_as_feet():
    frame = Frame(2, 2, 0.0, 0.0, 10.0, 10.0, "EPSG:2263")  # US survey feet
    assert frame.cell_metres[0] == pytest.approx(10 * 1200 / 3937)


def test_places_and_cells_agree():
    frame = Frame(10, 20, 100.0, 200.0, 2.0, 4.0)
    assert frame.cell_at(frame.x_of(7), frame.y_of(3)) == (3, 7)
    assert frame.cell_at(99.9, 190.0) is None
    assert frame.box == (100.0, 160.0, 140.0, 200.0)


def test_a_window_keeps_cells_whose_centres_lie_in_the_box():
    frame = Frame(10, 10, 0.0, 10.0, 1.0, 1.0)
    rows, cols = frame.window((2.5, 3.0, 5.4, 8.0))
    assert (rows.start, rows.stop, cols.start, cols.stop) == (2, 7, 2, 5)
    part = frame.part(rows, cols)
    assert part.box == (2.0, 3.0, 5.0, 8.0)
    with pytest.raises(MossError, match="no cell"):
        frame.window((20, 20, 30, 30))


def test_a_part_of_a_part_lies_where_the_same_cells_of_the_whole_lie():
    frame = Frame(400, 900, -3.0, 65.0, 1e-4, 1e-4, "EPSG:4326")
    for row, col in ((3, 7), (41, 333), (120, 610)):
        once = frame.part(slice(row + 11, row + 30), slice(col + 22, col + 90))
        twice = frame.part(slice(row, 399), slice(col, 800)).part(slice(11, 30), slice(22, 90))
        assert twice == once
        assert np.array_equal(twice.row_areas, once.row_areas)


@pytest.mark.parametrize("wrong", [{"rows": 0}, {"dx": 0.0}, {"dy": -1.0}, {"x0": float("nan")}])
def test_impossible_frames_are_refused(wrong):
    with pytest.raises(MossError):
        Frame(**{"rows": 2, "cols": 2, "x0": 0.0, "y0": 0.0, "dx": 1.0, "dy": 1.0, **wrong})


@pytest.mark.parametrize(
    "frame",
    [
        Frame(60, 80, -3.0, 65.0, 1e-4, 1e-4, "EPSG:4326"),
        Frame(60, 80, 412_000.1, 5_872_000.3, 0.1, 0.3, "EPSG:32628"),
    ],
)
def test_a_place_on_the_edge_of_a_cell_lies_in_the_same_cell_of_a_part(frame):
    """As do its middles, to the last digit."""
    rows, cols = slice(7, 55), slice(13, 77)
    part = frame.part(rows, cols)
    for k in range(64):
        edge = round(frame.x0 + (13 + k) * frame.dx, 7), round(frame.y0 - (7 + min(k, 47)) * frame.dy, 7)
        whole, cut = frame.cell_at(*edge), part.cell_at(*edge)
        inside = 7 <= whole[0] < 55 and 13 <= whole[1] < 77
        assert cut == ((whole[0] - 7, whole[1] - 13) if inside else None), edge
        assert part.x_of(k) == frame.x_of(13 + k) and part.y_of(k) == frame.y_of(7 + k)
    every, own = frame.middles(np.ones(frame.shape, bool)), part.middles(np.ones(part.shape, bool))
    for theirs, ours in zip(every, own, strict=True):
        np.testing.assert_array_equal(theirs.reshape(frame.shape)[rows, cols], ours.reshape(part.shape))
    numbers = np.arange(48 * 64)
    np.testing.assert_array_equal(part.centres(numbers), np.stack(own, axis=1))
    corners = np.array([(3.0, 2.0), (17.5, 40.0)])
    np.testing.assert_array_equal(part.places(corners), frame.places(corners + np.array([13, 7])))
    np.testing.assert_allclose(part.in_cells(part.places(corners)), corners, atol=1e-8)
    box = (frame.x_of(20), frame.y_of(50), frame.x_of(60), frame.y_of(10))
    (top, left), (above, before) = frame.window(box), part.window(box)
    assert (top.start - 7, top.stop - 7, left.start - 13, left.stop - 13) == (
        above.start,
        above.stop,
        before.start,
        before.stop,
    )


def test_an_unknown_reference_system_is_refused_by_name():
    with pytest.raises(AskedWronglyError, match="'EPSG:0815x' is not a reference system"):
        Frame(1, 1, 0, 0, 1, 1).with_crs("EPSG:0815x")
    assert np.isclose(Frame(1, 1, 0, 0, 1, 1).with_crs("EPSG:32628").metres_per_unit, 1.0)


@pytest.mark.parametrize(("dx", "dy"), [(1e308, 2.0), (2.0, 1e308), (1e154, 1e155), (5e-324, 1.0)])
def test_a_frame_whose_extent_or_cells_are_no_numbers_is_refused(dx, dy):
    """Each size is a number; forty of them, or the area of a cell, are not, or are nothing."""
    with pytest.raises(MossError, match="not possible"):
        Frame(30, 40, 412_000.0, 5_872_000.0, dx, dy, None)


def test_one_system_under_two_names_is_one():
    for code in ("EPSG:32628", "EPSG:4326", "EPSG:27700", "EPSG:2263"):
        for version in ("WKT1_GDAL", "WKT2_2019", "WKT1_ESRI"):
            text = reference_system(code).to_wkt(version)
            assert same_system(code, text) and same_system(text, code), (code, version)
    assert same_system(None, "EPSG:32628") and same_system("EPSG:32628", None)
    assert not same_system("EPSG:32628", "EPSG:32629") and not same_system("EPSG:4326", "EPSG:4258")

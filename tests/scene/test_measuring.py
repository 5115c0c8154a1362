"""Measuring without a window: lengths, bearings and areas by pyproj and shapely, ways over the ground by mathematics."""

import numpy as np
import pytest
import shapely
from pyproj import Geod

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.scene.measuring import measured_along
from tests.conftest import UTM
from tests.grounds import metric

PLANE = np.tile(np.arange(60.0) * 3.0, (50, 1))  # 3 up for each cell of 4 m to the east


@pytest.mark.parametrize(("dx", "dy"), [(4.0, 4.0), (4.0, 16.0), (16.0, 4.0)])
def test_a_way_up_a_plane_is_its_hypotenuse(dx, dy):
    dem = metric(PLANE, dx, dy)
    f = dem.frame
    way = [(f.x_of(5), f.y_of(10)), (f.x_of(45), f.y_of(10))]
    found = measured_along(f, way, dem)
    assert found.length == pytest.approx(40 * dx) and found.bearing == pytest.approx(90.0)
    assert found.rise == pytest.approx(120.0, abs=1e-3) and found.along == pytest.approx(
        np.hypot(40 * dx, 120.0), rel=1e-6
    )
    assert found.slope == pytest.approx(np.degrees(np.arctan2(120.0, 40 * dx))) and np.isnan(found.area)


def test_heights_in_feet_are_metres_along_the_way():
    dem = metric(PLANE, 4.0, 4.0)
    feet = Surface((PLANE / 0.3048).astype(np.float32), dem.frame, FOOT)
    way = [(dem.frame.x_of(5), dem.frame.y_of(10)), (dem.frame.x_of(45), dem.frame.y_of(30))]
    assert measured_along(dem.frame, way, feet) == pytest.approx(
        measured_along(dem.frame, way, dem), rel=1e-5, nan_ok=True
    )


@pytest.mark.parametrize("latitude", [5.0, 65.0])
def test_in_degrees_geodesics_count(latitude):
    frame = Frame(100, 100, 10.0, latitude + 0.05, 0.001, 0.001, "EPSG:4326")
    way = [(10.01, latitude), (10.04, latitude + 0.02), (10.03, latitude + 0.04)]
    geod, found = Geod(ellps="WGS84"), measured_along(frame, way, None)
    assert found.length == pytest.approx(geod.geometry_length(shapely.LineString(way)), rel=1e-9)
    assert found.bearing == pytest.approx(geod.inv(*way[0], *way[-1])[0] % 360.0)
    assert found.area == pytest.approx(abs(geod.geometry_area_perimeter(shapely.Polygon(way))[0]), rel=1e-9)
    assert np.isnan(found.along) and np.isnan(found.rise)


def test_bearings_run_clockwise_from_north_and_a_hole_has_no_rise():
    frame = Frame(10, 10, 0.0, 100.0, 10.0, 10.0, UTM)
    ends = {0.0: (50, 90), 90.0: (90, 50), 180.0: (50, 10), 270.0: (10, 50), 45.0: (80, 80)}
    for bearing, end in ends.items():
        assert measured_along(frame, [(50, 50), end], None).bearing == pytest.approx(bearing)
    z = np.zeros((10, 10), np.float32)
    z[:, 8:] = np.nan
    found = measured_along(frame, [(15.0, 50.0), (95.0, 50.0)], Surface(z, frame, METRE))
    assert np.isnan(found.rise) and found.length == pytest.approx(80.0)

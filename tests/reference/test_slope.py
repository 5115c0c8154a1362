"""Slope, aspect and hillshade against sources outside the project."""

import math

import numpy as np
import pytest
from matplotlib.cbook import get_sample_data
from matplotlib.colors import LightSource
from numpy.testing import assert_allclose
from pyproj import Geod
from scipy import ndimage

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.classes.classify import class_totals, classify
from moss_step.science.classes.presets import fao_slope
from moss_step.science.relief.gradient import aspect, hillshade, slope
from tests.conftest import plane, surface


def test_horn_equals_scipys_sobel_inside(hills):
    """scipy.ndimage.sobel / 8 is the third-order difference of Horn 1981, Proc. IEEE 69(1) (general library)."""
    dem = surface(hills, dx=2.0, dy=3.0)
    z = hills.astype(np.float64)
    gx, gy = ndimage.sobel(z, 1) / (8 * 2.0), -ndimage.sobel(z, 0) / (8 * 3.0)
    inside = (slice(1, -1), slice(1, -1))
    assert_allclose(
        slope(dem).values[inside], np.degrees(np.arctan(np.hypot(gx, gy)))[inside], rtol=1e-4, atol=1e-4
    )
    facing = np.degrees(np.arctan2(-gx, -gy)) % 360
    apart = (aspect(dem).values - facing + 180) % 360 - 180
    steep = np.hypot(gx, gy) > 0.05
    assert np.abs(apart[inside][steep[inside]]).max() < 0.02


def test_the_second_order_fit_equals_numpys_central_differences_inside(hills):
    """Zevenbergen & Thorne 1987, ESPL 12: G and H are central differences; numpy.gradient gives them (general library)."""
    dem = surface(hills)
    gy, gx = np.gradient(hills.astype(np.float64), 2.0)
    expected = np.hypot(gx, gy) * 100
    assert_allclose(
        slope(dem, "percent", "quadratic").values[1:-1, 1:-1], expected[1:-1, 1:-1], rtol=1e-4, atol=1e-3
    )


@pytest.mark.parametrize("azimuth", [0, 45, 135, 250, 315])
@pytest.mark.parametrize("altitude", [20, 45, 80])
def test_hillshade_equals_matplotlibs_light_source_on_planes(azimuth, altitude):
    """matplotlib.colors.LightSource.shade_normals, before its contrast stretch (general library)."""
    dem = plane(6, 6, 0.25, -0.4)
    light = LightSource(azdeg=azimuth, altdeg=altitude)
    normal = np.array([-0.25, 0.4, 1.0]) / math.sqrt(1 + 0.25**2 + 0.4**2)
    expected = 255 * max(0.0, float(normal @ light.direction))
    assert_allclose(hillshade(dem, azimuth, altitude).values, expected, atol=0.05)


def jacksboro() -> Surface:
    """The real grid in degrees that ships in matplotlib's sample data."""
    with get_sample_data("jacksboro_fault_dem.npz") as data:
        z = data["elevation"].astype(np.float32)
        dx, dy = float(data["dx"]), float(data["dy"])
        frame = Frame(*z.shape, float(data["xmin"]), float(data["ymax"]), dx, dy, "EPSG:4326")
        return Surface(z, frame, METRE)


def test_a_real_grid_in_degrees_uses_true_ground_distances():
    """Each cell's east and north distances by pyproj.Geod.inv (general library), Horn's weights by hand in NumPy."""
    dem = jacksboro()
    geod = Geod(ellps="WGS84")
    z, f = dem.values.astype(np.float64), dem.frame
    for r, c in [(1, 1), (100, 57), (170, 300), (342, 401)]:
        lon, lats = f.x_of(c), [f.y_of(r + k) for k in (-1, 0, 1)]
        widths = [geod.inv(lon - f.dx, lat, lon + f.dx, lat)[2] for lat in lats]
        height = geod.inv(lon, lats[0], lon, lats[2])[2]
        n = z[r - 1 : r + 2, c - 1 : c + 2]
        gx = sum(w * (n[k, 2] - n[k, 0]) / widths[k] for k, w in enumerate((1, 2, 1))) / 4
        gy = ((n[0] - n[2]) * [1, 2, 1]).sum() / 4 / height
        assert slope(dem).values[r, c] == pytest.approx(math.degrees(math.atan(math.hypot(gx, gy))), rel=1e-4)


def test_fao_areas_of_the_real_grid_add_up_to_its_ellipsoidal_area():
    """Area of the extent by pyproj.Geod.polygon_area_perimeter with edges along parallels (general library)."""
    dem = jacksboro()
    steep = slope(dem, "percent")
    totals = class_totals(classify(steep, fao_slope(steep)), steep.valid_count)
    xmin, ymin, xmax, ymax = dem.frame.box
    along = np.linspace(xmin, xmax, 400)
    lons, lats = np.r_[along, along[::-1]], np.r_[np.full(400, ymin), np.full(400, ymax)]
    area, _ = Geod(ellps="WGS84").polygon_area_perimeter(lons, lats)
    assert sum(c.area for c in totals.classes) == pytest.approx(abs(area), rel=1e-4)
    assert totals.outside_cells == 0


def test_fao_bounds_are_those_of_the_guidelines():
    """FAO 2006, Guidelines for soil description, 4th edition, table 7, on which the bounds rest: 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60 percent."""
    percent = slope(plane(3, 3, 0.1, 0.0), "percent")
    assert fao_slope(percent).bounds == pytest.approx([0, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60])

import numpy as np
import pytest
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.grid_check import suspicions
from moss_step.science.regrid import carry_over, crop_to_area, crop_to_box, metric_system
from tests.conftest import UTM, plane, surface


def test_crop_to_a_box_keeps_values_and_places():
    dem = plane(20, 30, 0.1, 0.0)
    part = crop_to_box(dem, (412_010.0, 5_871_970.0, 412_030.0, 5_871_990.0))
    assert part.frame.shape == (10, 10)
    assert part.values[0, 0] == dem.values[5, 5]
    assert part.frame.box == (412_010.0, 5_871_970.0, 412_030.0, 5_871_990.0)
    with pytest.raises(AskedWronglyError, match="no extent"):
        crop_to_box(dem, (5, 5, 5, 9))


def test_crop_to_an_area_equals_testing_every_centre():
    """Against shapely's own point-in-polygon test for each cell's centre (general library)."""
    dem = plane(40, 50, 0.1, 0.2)
    area = shapely.Polygon([(412_011, 5_871_931), (412_090, 5_871_950), (412_060, 5_871_993)])
    part = crop_to_area(dem, Shapes(np.array([area]), {}, UTM))
    rows, cols = np.mgrid[0 : part.frame.rows, 0 : part.frame.cols]
    xs, ys = part.frame.x0 + (cols + 0.5) * 2, part.frame.y0 - (rows + 0.5) * 2
    assert np.array_equal(~np.isnan(part.values), shapely.contains_xy(area, xs, ys))
    with pytest.raises(MossError, match="These shapes are points"):
        crop_to_area(dem, Shapes(np.array([shapely.Point(0, 0)]), {}, UTM))


def test_carrying_over_keeps_heights():
    dem = plane(200, 200, 0.05, 0.02)
    there = carry_over(dem, "EPSG:4326", None, "bilinear")
    assert there.frame.geographic
    back = carry_over(there, UTM, 2.0, "bilinear")
    row, col = back.frame.cell_at(dem.frame.x_of(100), dem.frame.y_of(100))
    assert back.values[row, col] == pytest.approx(dem.values[100, 100], abs=0.2)
    coarser = carry_over(dem, UTM, 10.0, "average")
    assert coarser.frame.shape == (40, 40)
    assert coarser.values[3, 3] == pytest.approx(dem.values[15:20, 15:20].mean(), rel=1e-5)


def test_carrying_over_without_a_system_is_refused():
    with pytest.raises(MossError, match="no reference system"):
        carry_over(surface(np.zeros((3, 3)), crs=None), UTM, None, "nearest")


def test_the_metric_system_of_a_place_in_degrees():
    assert metric_system(Frame(2, 2, -84.4, 36.7, 0.1, 0.1, "EPSG:4326")) == "EPSG:32616"
    assert metric_system(Frame(2, 2, 151.0, -33.0, 0.1, 0.1, "EPSG:4326")) == "EPSG:32756"
    assert metric_system(Frame(2, 2, 0.0, 0.0, 2, 2, UTM)) is None


def test_what_is_suspicious_is_said():
    degrees = Surface(np.ones((2, 2), np.float32), Frame(2, 2, 10, 50, 0.001, 0.001, "EPSG:4326"), METRE)
    assert any("Coordinates are degrees" in s and "71.7" in s for s in suspicions(degrees))
    said = " ".join(suspicions(surface([[-32768, 5]], crs=None), has_position=False))
    for part in ("no position", "No reference system", "-32,768 m is beyond any ground"):
        assert part in said
    assert suspicions(surface([[-9999, 5]])) == [
        "The lowest height is -9999: probably a no-data value that is not declared."
    ]
    assert suspicions(surface([[np.nan, np.nan]])) == [
        "Every cell is no-data. Check the no-data value, or choose another file."
    ]
    assert suspicions(surface([[1, 2]])) == []

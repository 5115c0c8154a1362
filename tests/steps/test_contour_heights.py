"""Contours at given heights, and lines that are calmed within a stated distance."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def rough(dx=1.0, dy=1.0, crs=UTM, scale=1.0):
    rng = np.random.default_rng(3)
    y, x = np.mgrid[0:80, 0:90]
    z = np.hypot((x - 45) * dx / scale, (y - 40) * dy / scale) / 4.0 + rng.normal(0, 0.3, (80, 90))
    return Surface(z.astype(np.float32), Frame(80, 90, 0.0, 80.0 * dy, dx, dy, crs), METRE)


def run(settings, dem):
    return run_declared(catalogue()["contours"], settings, {"dem": dem}, silent()).value


def test_lines_stand_at_the_heights_that_are_asked_for():
    made = run({"levels": "5, 0.5; 2, 400", "index_every": 2}, rough())
    assert sorted(set(made.columns["elevation"])) == [0.5, 2.0, 5.0]
    index = {e: bool(i) for e, i in zip(made.columns["elevation"], made.columns["index"], strict=True)}
    assert index == {0.5: True, 2.0: False, 5.0: True}
    same = run({"interval": 1.5, "base": 2.0}, rough())
    at_2 = [g for g, e in zip(same.geometry, same.columns["elevation"], strict=True) if e == 2.0]
    mine = [g for g, e in zip(made.geometry, made.columns["elevation"], strict=True) if e == 2.0]
    assert shapely.equals(shapely.union_all(at_2), shapely.union_all(mine))


def test_lines_may_be_drawn_however_far():
    """A distance that is larger than any number of the ground leaves them where they are drawn to."""
    for dem in (rough(2.0, 1.0), rough(1.0, 1.0, scale=20.0)):
        far, farther = (run({"levels": "1, 3, 6", "within": w}, dem) for w in (1e6, 1e9))
        assert len(far) == len(farther) > 0
        assert shapely.equals_exact(far.geometry, farther.geometry, 0.0).all()
    assert not far.columns["closed"].all(), "some end at the edge of the ground, and stay there"


@pytest.mark.parametrize(("dx", "dy"), [(1.0, 1.0), (1.0, 4.0), (4.0, 1.0)])
@pytest.mark.parametrize("within", [0.3, 2.0])
def test_calmed_lines_leave_their_places_by_no_more_than_is_stated(dx, dy, within):
    plain, calm = (run({"levels": "3, 6", "within": w}, rough(dx, dy)) for w in (0.0, within))
    assert len(plain) == len(calm)
    away = shapely.hausdorff_distance(plain.geometry, calm.geometry)
    assert 0.0 < away.max() <= within + 1e-9
    assert shapely.length(calm.geometry).sum() < shapely.length(plain.geometry).sum()
    closed = plain.columns["closed"]
    assert shapely.is_closed(calm.geometry[closed]).all()


def test_in_degrees_the_distance_is_metres():
    from pyproj import Geod

    step = 1.0 / 111_320.0
    dem = rough(step, step, "EPSG:4326", step)
    plain, calm = (run({"levels": "3", "within": w}, dem) for w in (0.0, 0.5))
    a, b = (shapely.get_coordinates(s.geometry) for s in (plain, calm))
    moved = Geod(ellps="WGS84").inv(a[:, 0], a[:, 1], b[:, 0], b[:, 1])[2]
    assert 0.1 < moved.max() <= 0.505


@pytest.mark.parametrize("levels", ["deep", "1e12", ",".join(map(str, range(1001)))])
def test_what_are_no_heights_is_refused(levels):
    with pytest.raises(MossError, match="heights such as"):
        run({"levels": levels}, rough())
    with pytest.raises(MossError, match="these heights"):
        run({"levels": "900"}, rough())

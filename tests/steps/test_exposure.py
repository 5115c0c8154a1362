"""How far the ground faces a bearing."""

import numpy as np
import pytest

from moss_step.model.progress import silent
from moss_step.steps.catalogue import step_kind
from moss_step.study.declared import run_declared
from tests.conftest import plane
from tests.grounds import metric, relief


def run(ground, **given):
    return run_declared(step_kind("exposure"), given, {"dem": ground}, silent())


@pytest.mark.parametrize(
    ("bearing", "expected"), [(0.0, 1.0), (90.0, 0.0), (180.0, -1.0), (315.0, np.sqrt(0.5)), (360.0, 1.0)]
)
def test_a_plane_that_faces_north(bearing, expected):
    """Closed form: the cosine of the angle between the two; times the sine of the slope, 1 / sqrt(5) for a fall of 1 in 2."""
    north = plane(20, 30, 0.0, -0.5)
    assert run(north, bearing=bearing).value.values[5, 5] == pytest.approx(expected, abs=1e-6)
    assert run(north, bearing=bearing, weigh="slope").value.values[5, 5] == pytest.approx(
        expected / np.sqrt(5.0), abs=1e-6
    )


def test_flat_ground_faces_nothing_and_no_data_stays():
    flat = metric(np.where(np.arange(42) == 20, np.nan, 7.0) * np.ones((36, 1)))
    made = run(flat, bearing=45.0)
    assert set(np.unique(made.value.values[:, :15])) == {0.0} and np.isnan(made.value.values[:, 20]).all()
    assert {f.name: f.value for f in made.findings}["share_towards"] == 0.0


def test_opposite_bearings_are_opposite_and_it_is_the_normal_of_the_surface():
    """numpy.gradient's normal of the same ground along the bearing (general library), away from the edges."""
    ground = metric(relief(4))
    one, other = (run(ground, bearing=b, weigh="slope").value.values for b in (70.0, 250.0))
    np.testing.assert_allclose(one, -other, atol=1e-6)
    z = ground.values.astype(float)
    south, east = np.gradient(z, 10.0)
    smooth = [
        sum(np.roll(g, k, axis) * w for k, w in ((-1, 0.25), (0, 0.5), (1, 0.25)))
        for g, axis in ((east, 0), (south, 1))
    ]
    length = np.sqrt(1.0 + smooth[0] ** 2 + smooth[1] ** 2)
    along = (-smooth[0] * np.sin(np.radians(70.0)) + smooth[1] * np.cos(np.radians(70.0))) / length
    np.testing.assert_allclose(one[2:-2, 2:-2], along[2:-2, 2:-2], atol=1e-5)

import math

import numpy as np
import pytest
from numpy.testing import assert_allclose

from moss_step.model.errors import MossError, StoppedError
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import CENTIMETRE, DEGREE, FOOT
from moss_step.science.kernels.numeric import atan2_fast, atan_positive
from moss_step.science.relief.gradient import aspect, hillshade, slope
from tests.conftest import plane, surface

DIRECTIONS = [(math.sin(math.radians(a)), math.cos(math.radians(a))) for a in range(0, 360, 15)]


@pytest.mark.parametrize("method", ["horn", "quadratic"])
@pytest.mark.parametrize(("east", "north"), DIRECTIONS)
def test_planes_tilted_every_way_are_exact_to_the_edge(method, east, north):
    """A plane has slope atan(0.3) and faces opposite to its rise (mathematics); heights are rounded to float32."""
    dem = plane(7, 9, 0.3 * east, 0.3 * north, dx=2.0, dy=3.0)
    assert_allclose(slope(dem, method=method).values, math.degrees(math.atan(0.3)), rtol=3e-4)
    assert_allclose(slope(dem, "percent", method).values, 30.0, rtol=3e-4)
    facing = math.degrees(math.atan2(-east, -north)) % 360
    found = aspect(dem, method).values
    assert_allclose((found - facing + 180) % 360 - 180, 0.0, atol=2e-2)


def test_planes_keep_their_gradient_beside_no_data():
    dem = plane(9, 9, 0.2, -0.1)
    values = dem.values.copy()
    values[3:5, 4] = np.nan
    values[8, 0] = np.nan
    found = slope(Surface(values, dem.frame, dem.unit)).values
    assert np.isnan(found[3, 4]) and np.isnan(found[8, 0])
    known = ~np.isnan(values)
    assert_allclose(found[known], math.degrees(math.atan(math.hypot(0.2, 0.1))), rtol=3e-4)


def test_cells_without_neighbours_in_a_direction_have_no_slope():
    values = np.full((5, 5), np.nan)
    values[2, 1:4] = [1, 2, 3]
    values[0, 0] = 7
    assert np.isnan(slope(surface(values)).values).all()


def test_a_quadric_is_exact_inside():
    """Central differences are exact for second-degree surfaces (mathematics)."""
    r, c = np.mgrid[0:20, 0:30] * 2.0
    dem = surface(0.01 * c**2 + 0.02 * r**2 + 0.005 * r * c)
    gx, gy = 0.02 * c + 0.005 * r, 0.04 * r + 0.005 * c
    expected = np.degrees(np.arctan(np.hypot(gx, gy)))
    for method in ("horn", "quadratic"):
        assert_allclose(
            slope(dem, method=method).values[1:-1, 1:-1], expected[1:-1, 1:-1], rtol=1e-4, atol=1e-3
        )


def test_flat_ground_has_no_aspect_and_even_light():
    dem = plane(5, 5, 0.0, 0.0)
    assert (aspect(dem).values == -1).all()
    assert_allclose(hillshade(dem, altitude=30).values, 255 * 0.5, rtol=1e-6)


def test_units_and_exaggeration_count():
    dem = plane(5, 5, 1.0, 0.0)
    in_cm = Surface(dem.values * 100, dem.frame, CENTIMETRE)
    assert_allclose(slope(in_cm).values, 45.0, rtol=1e-4)
    in_feet = Surface(dem.values / np.float32(0.3048), dem.frame, FOOT)
    assert_allclose(slope(in_feet).values, 45.0, rtol=1e-4)
    assert_allclose(slope(dem, "percent", z_factor=2.5).values, 250.0, rtol=1e-4)


@pytest.mark.parametrize("shape", [(1, 1), (1, 50), (50, 1)])
def test_too_few_cells_are_refused_in_words(shape):
    with pytest.raises(MossError, match=f"needs at least 2 x 2 cells; this grid has {shape[0]} x {shape[1]}"):
        slope(surface(np.zeros(shape)))


def test_two_by_two_cells_are_enough():
    assert_allclose(slope(plane(2, 2, 1.0, 0.0)).values, 45.0, rtol=1e-5)


def test_a_slope_is_no_ground():
    with pytest.raises(MossError, match="needs heights"):
        slope(Surface(np.zeros((4, 4), np.float32), plane(4, 4, 0, 0).frame, DEGREE, "slope"))


def test_a_run_can_be_stopped_between_blocks():
    told = []
    progress = Progress(lambda fraction, doing: (told.append(fraction), progress.stop()))
    with pytest.raises(StoppedError):
        slope(plane(2000, 4, 0.1, 0.1), progress=progress)
    assert told == [0.0]


def test_fast_arc_tangents_stay_within_their_bound():
    """Bound stated in the docstrings, against NumPy in double precision (general library)."""
    import numba

    @numba.njit(error_model="numpy")
    def both(y, x, one, two):
        for i in range(y.size):
            one[i] = atan_positive(abs(y[i]))
            two[i] = atan2_fast(y[i], x[i])

    rng = np.random.default_rng(1)
    y = np.concatenate([rng.normal(0, 1, 20000), rng.normal(0, 1000, 20000), [0, 0, 1, -1]]).astype(
        np.float32
    )
    x = np.concatenate([rng.normal(0, 1, 40000), [0, -1, 0, 0]]).astype(np.float32)
    one, two = np.empty_like(y), np.empty_like(y)
    both(y, x, one, two)
    assert np.abs(one - np.arctan(np.abs(y.astype(np.float64)))).max() < 2.5e-7
    assert np.abs(two - np.arctan2(y.astype(np.float64), x.astype(np.float64))).max() < 4e-7

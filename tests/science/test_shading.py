"""Several lights and relief tint."""

import numpy as np
import pytest
from numpy.testing import assert_allclose

from moss_step.model.class_map import NO_CLASS
from moss_step.model.errors import MossError
from moss_step.science.relief.gradient import hillshade
from moss_step.science.relief.shading import LIGHTS, relief_tint, round_interval, several_lights
from tests.conftest import plane, surface


def test_level_ground_gets_the_mean_of_the_lights():
    flat = plane(6, 7, 0, 0)
    assert_allclose(several_lights(flat, 30).values, 255 * np.sin(np.radians(30)), rtol=1e-5)


@pytest.mark.parametrize("facing", [0.0, 45.0, 110.0, 225.0, 300.0])
def test_a_plane_gets_its_lights_by_the_squared_sine(facing):
    """The weights of Mark 1992 written out on a plane, whose aspect is known exactly."""
    tilt = 0.4
    dem = plane(8, 8, -tilt * np.sin(np.radians(facing)), -tilt * np.cos(np.radians(facing)))
    weights = [np.sin(np.radians(facing - a)) ** 2 for a in LIGHTS]
    assert sum(weights) == pytest.approx(2.0)
    expected = sum(w * hillshade(dem, a, 30).values for w, a in zip(weights, LIGHTS, strict=True)) / 2
    assert_allclose(several_lights(dem, 30).values[1:-1, 1:-1], expected[1:-1, 1:-1], rtol=1e-4, atol=0.01)


def test_no_data_stays_no_data():
    z = np.arange(36.0, dtype=np.float32).reshape(6, 6)
    z[2, 2] = np.nan
    assert np.isnan(several_lights(surface(z)).values[2, 2])
    assert relief_tint(surface(z)).codes[2, 2] == NO_CLASS


def test_bands_begin_at_the_base_and_hold_their_lower_bound():
    z = np.array([[95.0, 100.0, 109.99, 110.0], [121.0, 130.0, 130.0, 94.9]], np.float32)
    made = relief_tint(surface(z), 10.0, 5.0)
    assert made.codes.tolist() == [[1, 1, 2, 2], [3, 4, 4, 0]]
    assert [c.name for c in made.classes][:2] == ["85 – 95 m", "95 – 105 m"]


def test_a_round_interval_gives_about_ten_bands():
    made = relief_tint(surface(np.linspace(0, 137, 400).reshape(20, 20).astype(np.float32)))
    assert len(made.classes) == 7 and made.classes[0].name == "0 – 20 m"
    assert [round_interval(v) for v in (0.013, 1.0, 1.2, 4.0, 6.0, 0.0)] == [0.02, 1.0, 2.0, 5.0, 10.0, 1.0]


def test_too_many_bands_are_refused():
    with pytest.raises(MossError, match="bands"):
        relief_tint(surface(np.linspace(0, 1000, 100).reshape(10, 10).astype(np.float32)), 1.0)

import math

import numpy as np
import pytest
from pyproj.database import get_units_map

from moss_step.model import units as u
from moss_step.model.errors import MossError


def test_a_slope_of_45_degrees_is_100_percent_and_30_percent_is_16_699_degrees():
    assert u.convert(45.0, u.DEGREE, u.PERCENT) == pytest.approx(100.0)
    assert u.convert(30.0, u.PERCENT, u.DEGREE) == pytest.approx(16.699, abs=5e-4)


def test_lengths_and_areas_by_their_legal_factors():
    assert u.convert(1.0, u.FOOT, u.METRE) == 0.3048
    assert u.convert(3937.0, u.US_FOOT, u.METRE) == pytest.approx(1200.0)
    assert u.convert(1.0, u.ACRE, u.SQUARE_METRE) == pytest.approx(4840 * 0.9144**2, rel=1e-12), (
        "4,840 square yards"
    )
    named = {unit.name: unit.conv_factor for unit in get_units_map(category="linear").values()}
    for name, unit in (
        ("US survey foot", u.US_FOOT),
        ("foot", u.FOOT),
        ("yard", u.YARD),
        ("fathom", u.FATHOM),
    ):
        assert unit.factor == pytest.approx(named[name], rel=1e-9), "PROJ's table of units (general library)"
    assert np.allclose(u.convert(np.array([250.0]), u.CENTIMETRE, u.METRE), [2.5])


def test_unlike_units_are_refused():
    for one, other in ((u.METRE, u.DEGREE), (u.UNKNOWN, u.METRE), (u.HECTARE, u.METRE)):
        with pytest.raises(MossError, match="cannot be converted"):
            u.convert(1.0, one, other)


@pytest.mark.parametrize(
    ("text", "unit"),
    [
        ("Metre", u.METRE),
        ("us survey foot", u.US_FOOT),
        ("FT", u.FOOT),
        ("%", u.PERCENT),
        ("yd", u.YARD),
        ("dm", u.DECIMETRE),
    ],
)
def test_units_are_known_as_files_write_them(text, unit):
    assert u.unit_named(text) == unit
    assert u.unit_named("cubits") is None
    assert math.isclose(unit.factor, u.unit_named(unit.key).factor)

"""Round numbers for bars and nets: 1, 2 and 5 times a power of ten."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moss_step.scene.rounding import round_below


@pytest.mark.parametrize(("most", "round_one"), [(1.0, 1.0), (1.99, 1.0), (2.0, 2.0), (4.9, 2.0), (5.0, 5.0), (999.0, 500.0), (0.03, 0.02), (1000.0, 1000.0), (0.001, 0.001)])  # fmt: skip
def test_it_is_the_largest_round_number_that_fits(most: float, round_one: float) -> None:
    assert round_below(most) == pytest.approx(round_one, rel=1e-12)


@given(st.floats(1e-12, 1e12))
def test_it_fits_and_fills_more_than_a_third(most: float) -> None:
    found = round_below(most)
    digit = found / 10.0 ** math.floor(math.log10(found * (1 + 1e-12)))
    assert found <= most * (1 + 2e-9) and found > most / 2.6
    assert min(abs(digit - k) for k in (1.0, 2.0, 5.0)) < 1e-9

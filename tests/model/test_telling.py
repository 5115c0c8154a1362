"""Lengths and areas in other units: factors are those of NIST Handbook 44 (see the module of units)."""

import pytest

from moss_step.model.telling import USUAL, Telling, mark
from moss_step.model.units import ACRE, DEGREE, FOOT, HECTARE, METRE, SQUARE_METRE, US_FOOT


def test_a_figure_is_told_in_the_units_wanted_and_keeps_its_other_words():
    figure = f"{mark(1524.0, METRE)} long, {mark(80_937.13, SQUARE_METRE)} wet, {mark(30.0, DEGREE)} steep"
    assert USUAL.figure(figure) == "1 524 m long, 8.09 ha wet, 30.0° steep"
    assert Telling(FOOT, ACRE).figure(figure) == "5 000 ft long, 20.0 acres wet, 30.0° steep"


def test_a_range_is_told_with_its_unit_once():
    assert USUAL.figure(mark(0.0, DEGREE, 52.6)) == "0.00 – 52.6°"
    assert Telling(FOOT).figure(mark(30.48, METRE, 60.96)) == "100.0 – 200.0 ft"


def test_small_and_negative_and_huge_values_keep_their_meaning():
    for value in (-1.5, 1e-9, 3.2e12, 0.0):
        told = USUAL.figure(mark(value, METRE)).removesuffix(" m").replace(" ", "")
        assert float(told) == pytest.approx(value, rel=0.01)


def test_areas_follow_their_size_until_a_unit_is_chosen():
    assert USUAL.area_text(9_999.0) == "9 999 m²" and USUAL.area_text(10_000.0) == "1.00 ha"
    assert (
        Telling(area=HECTARE).area_text(50.0) == "0.005 ha"
        or Telling(area=HECTARE).area_text(50.0) == "5e-3 ha"
    )


def test_a_column_of_lengths_or_areas_is_multiplied_and_others_stay():
    telling = Telling(US_FOOT, ACRE)
    factor, symbol = telling.column("m")
    assert symbol == "ft (US)" and factor == pytest.approx(3937.0 / 1200.0)
    assert telling.column("ha")[0] == pytest.approx(10_000.0 / 4046.8564224)
    assert telling.column("°") == (1.0, "°") and telling.column("") == (1.0, "")


def test_what_measures_something_else_is_never_converted():
    assert Telling(FOOT, ACRE).value(12.5, DEGREE) == "12.5°"
    assert Telling(FOOT, ACRE).factor(DEGREE) == 1.0

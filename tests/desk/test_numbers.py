"""Numbers in fields: decimal comma and point, groups, and what could be two numbers."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QLocale
from PySide6.QtTest import QTest

from moss_step.desk.numbers import listed, shown, typed_number, typed_numbers
from tests.desk.driving import named, type_in
from tests.desk.jobs import by_name


@pytest.fixture(params=["en_GB", "de_DE", "fr_FR"])
def locale(request):
    before = QLocale()
    QLocale.setDefault(QLocale(request.param))
    yield request.param
    QLocale.setDefault(before)


@pytest.fixture
def comma():
    before = QLocale()
    QLocale.setDefault(QLocale("de_DE"))
    yield
    QLocale.setDefault(before)


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("12,5", 12.5), ("12.5", 12.5), ("-0,25", -0.25), ("1 234,5", 1234.5), ("1.234,5", 1234.5), ("1,234.5", 1234.5),
        ("1.234.567", 1234567.0), ("1,234,567", 1234567.0), ("5871520", 5871520.0), ("0.125", 0.125), ("0,125", 0.125),
        ("1e3", 1000.0), ("\u22125", -5.0), ("1\u202f234", 1234.0),
    ],
)  # fmt: skip
def test_a_number_reads_the_same_in_every_locale(locale, text, value):
    assert typed_number(text) == value


def test_what_could_be_two_numbers_is_refused(locale):
    wrong = "1,234" if locale == "en_GB" else "1.234"
    with pytest.raises(ValueError, match=wrong):
        typed_number(wrong)
    assert typed_number(wrong.replace(",", "x").replace(".", ",").replace("x", ".")) == 1.234


@pytest.mark.parametrize("text", ["", "steep", "1,2,3", "1.2,3,4", "1,2.3.4", "--1", "1,23.4,5"])
def test_what_is_no_number_is_refused(locale, text):
    with pytest.raises(ValueError):
        typed_number(text)


@given(
    st.floats(-1e6, 1e6, allow_nan=False).map(lambda v: float(f"{v:.7g}")),
    st.sampled_from(["en_GB", "de_DE"]),
)
def test_what_is_shown_is_read_again(value, name):
    before = QLocale()
    QLocale.setDefault(QLocale(name))
    try:
        text = f"{value:.7g}"
        assert typed_number(shown(text)) == value
        assert typed_numbers(listed([text, "2.5"])) == [value, 2.5]
    finally:
        QLocale.setDefault(before)


@pytest.mark.parametrize("text", ["1,5; 2,5; 3", "1,5, 2,5, 3", "1.5,2.5,3", "1.5 2,5 3", "1.5; 2.5; 3"])
def test_several_numbers_in_one_field(locale, text):
    assert typed_numbers(text) == [1.5, 2.5, 3.0]


def test_bounds_of_classes_are_shown_and_typed_with_a_comma(demo, settle, comma):
    demo.work.choose("classes")
    settle(demo)
    panel = demo.benches["classes"].panel
    field = named(panel.table, "Gentle to")
    type_in(field, "12,5")
    settle(demo)
    assert 12.5 in {r.high for r in panel.rules.rules}
    demo.setFocus()
    settle(demo)
    assert named(panel.table, "Gentle to").text() == "12,5"


def test_settings_places_and_heights_take_a_comma(demo, settle, comma):
    demo.work.choose("")
    demo.begin_step("viewshed")
    settle(demo)
    panel = demo.benches["sight"].panel
    height = named(panel, "Observer above ground")
    assert height.text().startswith("1,7")
    height.setFocus()
    height.selectAll()
    QTest.keyClicks(height, "2,25")
    QTest.keyClick(height, "\r")
    settle(demo)
    assert panel.settings()["observer_height"] == 2.25
    panel.form.control("at").fill([(413330.0, 5871520.0)])
    panel.update_draft()
    settle(demo)
    own = named(panel, "Observer 1: height")
    type_in(own, "3,5")
    settle(demo)
    assert "3.5" in str(panel.settings()["own"])
    demo.begin_step("sight_line")
    settle(demo)
    line = demo.benches["sight"].panel.form.control("ends")
    line.fill([412420.5, 5871750.0, 413600.0, 5870500.0])
    settle(demo)
    place = named(line, line.rows._title.removesuffix("s") + " 1: place")
    assert place.text() == "412420,5; 5871750"
    type_in(place, "412430,25; 5871750")
    settle(demo)
    assert line.value()[0] == 412430.25


def test_breaks_and_criteria_take_a_comma(demo, settle, comma):
    slope = by_name(demo, "Slope")
    demo.work.choose(slope)
    demo.begin_step("hazard")
    settle(demo)
    panel = demo.benches["classes"].panel
    bound = named(panel, "Criterion 1: bound")
    type_in(bound, "27,5")
    settle(demo)
    assert "27.5" in str(panel.settings()["criteria"])

"""Controls of settings: what is typed, dragged and chosen comes out as a plain value, and a value set is shown."""

import math

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pydantic.fields import FieldInfo
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox, QPushButton, QSpinBox

from moss_step.desk.controls import (
    ChoiceControl,
    FormulaControl,
    NumberControl,
    SliderControl,
    SystemControl,
    TextControl,
    TickControl,
    limits,
)
from moss_step.desk.form import Form
from moss_step.desk.observer_list import ObserversControl
from moss_step.model.errors import AskedWronglyError
from moss_step.science.sight.observer import Observer
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import Settings, setting
from tests.desk.driving import type_in

KINDS = catalogue()


class Every(Settings):
    """One setting of each sort."""

    tall: float = setting(2.0, "Tall", "How tall.", unit="m", ge=0, le=100)
    many: int = setting(3, "Many", "How many.", ge=1, le=9)
    maybe: float | None = setting(None, "Maybe", "Or not.")
    on: bool = setting(True, "On", "Or off.")
    depth: float | None = setting(None, "Depth", "On a slider.", control="slider")


def counted(control) -> list[int]:
    times: list[int] = []
    control.changed.connect(lambda: times.append(1))
    return times


def test_a_form_gives_back_what_it_was_given(qtbot):
    form = Form(Every)
    qtbot.addWidget(form)
    told = counted(form)
    given_values = {"tall": 12.5, "many": 7, "maybe": 3.25, "on": False, "depth": 0.5}
    form.set_values(given_values, Every)
    shown = form.values()
    assert {n: float(v) if n != "on" else v for n, v in shown.items()} == {
        n: float(v) if n != "on" else v for n, v in given_values.items()
    }
    assert not told, "setting values tells nobody"
    form.set_values({}, Every)
    assert form.values() == {"tall": 2.0, "many": 3, "on": True}, (
        "what is left out stands at its default, or is empty"
    )


@given(tall=st.floats(0, 100).map(lambda v: round(v, 3)), many=st.integers(1, 9), on=st.booleans())
@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_numbers_within_their_limits_come_back(qtbot, tall, many, on):
    form = Form(Every)
    qtbot.addWidget(form)
    form.set_values({"tall": tall, "many": many, "on": on}, Every)
    assert (
        form.values()["tall"] == pytest.approx(tall)
        and form.values()["many"] == many
        and form.values()["on"] is on
    )


def test_a_number_keeps_to_its_limits(qtbot):
    form = Form(Every)
    qtbot.addWidget(form)
    spin = form.control("tall").findChild(QDoubleSpinBox)
    told = counted(form.control("tall"))
    spin.setValue(5000.0)
    assert form.values()["tall"] == 100.0 and len(told) == 1
    whole = form.control("many").findChild(QSpinBox)
    whole.setValue(-4)
    assert form.values()["many"] == 1


def test_a_slider_and_its_field_say_the_same(qtbot):
    slider = SliderControl("Depth", optional=True)
    qtbot.addWidget(slider)
    slider.set_range(0.0, 20.0)
    slid: list[float] = []
    slider.sliding.connect(slid.append)
    slider.slider.setValue(500)
    assert slider.value() == pytest.approx(10.0) and slid == [pytest.approx(10.0)]
    told = counted(slider)
    type_in(slider.edit, "5")
    assert slider.slider.value() == 250 and told
    type_in(slider.edit, "")
    assert slider.value() is None, "an optional one may be empty"


def test_a_slider_that_must_have_a_value_does_not_stay_empty(qtbot):
    slider = SliderControl("Stage", optional=False)
    qtbot.addWidget(slider)
    slider.set_range(2.0, 4.0)
    slider.edit.setText("deep")
    slider.edit.editingFinished.emit()
    assert slider.value() == 2.0


@pytest.mark.parametrize(("value", "text"), [((1.0, 2.5, 3.0, 4.0), "1,2.5,3,4"), (((412_620.25, 5_871_520.5),), "412620.25,5871520.5"), (None, ""), ("EPSG:32628", "EPSG:32628")])  # fmt: skip
def test_a_text_shows_places_boxes_and_words(qtbot, value, text):
    control = TextControl("Box", "hint")
    qtbot.addWidget(control)
    control.set_value(value)
    assert control.edit.text() == text
    assert control.value() == value, "the text is only a view of the value"


def test_filling_a_text_tells_and_typing_does_too(qtbot):
    control = TextControl("Box", "hint")
    qtbot.addWidget(control)
    told = counted(control)
    control.fill((1, 2, 3, 4))
    assert control.value() == (1, 2, 3, 4) and len(told) == 1
    QTest.keyClicks(control.edit, "5")
    assert len(told) == 2 and control.value() == "1,2,3,45"


@pytest.mark.parametrize("count", [2, 3, 4, 9])
def test_a_choice_of_few_is_buttons_and_of_many_a_list(qtbot, count):
    options = tuple(f"way_{k}" for k in range(count))
    control = ChoiceControl(options, "Way")
    qtbot.addWidget(control)
    control.show()
    assert (control.findChild(QComboBox) is not None) == (count > 3)
    for option in options:
        control.set_value(option)
        assert control.value() == option
    told = counted(control)
    if count <= 3:
        button = next(b for b in control.findChildren(QPushButton) if b.text() == "Way 0")
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    else:
        control.findChild(QComboBox).setCurrentIndex(0)
    assert control.value() == "way_0" and told


def test_a_tick_is_yes_or_no(qtbot):
    control = TickControl("Curved")
    qtbot.addWidget(control)
    told = counted(control)
    control.set_value(True)
    assert control.value() is True and not told
    QTest.keyClick(control.findChild(QCheckBox), Qt.Key.Key_Space)
    assert control.value() is False and told


def test_a_formula_points_at_what_is_wrong_and_renames(qtbot):
    control = FormulaControl("Formula")
    qtbot.addWidget(control)
    control.set_value("slope > 30 and\nslope_2 < 4")
    assert control.value() == "slope > 30 and slope_2 < 4"
    control.point_at(0, 5)
    assert control.pointed == "slope"
    control.point_at(3, 3)
    assert control.pointed == ""
    control.rename("slope", "steepness")
    assert control.value() == "steepness > 30 and slope_2 < 4", "a name is a whole word"


@pytest.mark.parametrize(
    ("typed", "said"), [("EPSG:32628", "UTM zone 28N"), ("nonsense", "not a reference system"), ("", "")]
)
def test_a_system_says_its_name_as_it_is_typed(qtbot, typed, said):
    control = SystemControl("System")
    qtbot.addWidget(control)
    control.edit.setText(typed)
    assert said in control.said.text()


def test_an_open_limit_itself_is_refused_in_words():
    bounds = {n: limits(f) for n, f in Every.model_fields.items()}
    assert bounds["tall"] == (0, 100) and bounds["maybe"] == (None, None)
    z_factor: FieldInfo = KINDS["slope"].settings.model_fields["z_factor"]
    assert limits(z_factor) == (0, 1000)
    control = NumberControl(z_factor, "Factor", whole=False)
    control.set_value(0.0005)
    assert control.value() == 0.0005, "however near to the limit"
    with pytest.raises(AskedWronglyError, match="greater than 0"):
        KINDS["slope"].checked({"z_factor": 0.0})


def people(count: int) -> list[Observer]:
    return [Observer(float(k), 0.0, f"observer {k + 1}") for k in range(count)]


def test_a_long_list_of_observers_shows_the_first_and_says_how_many_more(qtbot):
    control = ObserversControl("Observers")
    qtbot.addWidget(control)
    control.show()
    control.show_observers(people(1234))
    assert control.table.rowCount() == 500 and "734 more" in control.said.text()
    control.show_observers(people(2))
    assert control.table.rowCount() == 2 and control.said.text() == ""
    control.show_observers([])
    assert not control.isVisible()


def test_values_of_those_after_one_that_is_taken_away_move_up(qtbot):
    control = ObserversControl("Observers")
    qtbot.addWidget(control)
    control.show_observers(people(4))
    control.set_value("1: height=5; 2: off; 4: name=Last")
    control.forget(1)
    assert control.value() == "1: height=5; 3: name=Last"
    control.forget(0)
    assert control.value() == "2: name=Last"


@pytest.mark.parametrize(("title", "typed", "own"), [("Reach", "450", "reach=450"), ("Name", "North", "name=North"), ("From °", "315", "bearing_from=315"), ("Lowest °", "-5", "down=-5")])  # fmt: skip
def test_a_cell_becomes_an_own_value(qtbot, title, typed, own):
    control = ObserversControl("Observers")
    qtbot.addWidget(control)
    control.show_observers(people(1))
    told = counted(control)
    column = [control.table.horizontalHeaderItem(k).text() for k in range(control.table.columnCount())].index(
        title
    )
    control.table.item(0, column).setText(typed)
    assert control.value() == f"1: {own}" and len(told) == 1
    assert math.isinf(people(1)[0].reach), "without a reach of its own it looks over all of the ground"

"""What is typed, stored or clicked keeps its digits: fields show a value, and hold it whole."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QDoubleSpinBox, QLineEdit

from moss_step.desk.controls import NumberControl, SliderControl, TextControl
from moss_step.desk.form import Form
from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import Settings, setting
from moss_step.steps.observers import own_text, own_values
from tests.conftest import write_tif
from tests.desk.driving import pixel, press
from tests.desk.jobs import by_name, fill, keep
from tests.grounds import in_degrees, metric, relief


class Numbers(Settings):
    """Numbers of several sizes."""

    gradient: float = setting(0.0, "Gradient", "A small one.", ge=0, le=0.1)
    radius: float = setting(100.0, "Radius", "A length.", unit="m", gt=0)
    window: str = setting("disk", "Around", "Disk or ring.")
    inner: float = setting(0.0, "Inner", "Of a ring.", when={"window": ("ring",)})


@pytest.mark.parametrize("value", [0.0004, 1e-7, 0.012345678, 0.1])
def test_changing_one_number_leaves_the_others_as_they_were(qtbot, value):
    form = Form(Numbers)
    qtbot.addWidget(form)
    form.set_values({"gradient": value}, Numbers)
    form.control("radius", NumberControl).findChild(QDoubleSpinBox).setValue(55.0)
    assert form.values()["gradient"] == value and form.values()["radius"] == 55.0


@pytest.mark.parametrize("text", ["0.0004", "0,0004", "4e-4"])
def test_a_small_number_is_typed_as_it_is(qtbot, text):
    form = Form(Numbers)
    qtbot.addWidget(form)
    form.show()
    edit = form.control("gradient").findChild(QLineEdit)
    edit.selectAll()
    QTest.keyClicks(edit, text)
    QTest.keyClick(edit, Qt.Key.Key_Return)
    assert form.values()["gradient"] == pytest.approx(0.0004, rel=1e-12)
    assert "0.0004" in edit.text()


def test_a_number_steps_by_a_tenth_of_its_leading_digit(qtbot):
    form = Form(Numbers)
    qtbot.addWidget(form)
    spin = form.control("radius").findChild(QDoubleSpinBox)
    for start, after in ((100.0, 110.0), (0.02, 0.021), (3.0, 3.1)):
        spin.setValue(start)
        spin.stepBy(1)
        assert spin.value() == pytest.approx(after)


def test_sliders_and_texts_hold_what_they_were_given(qtbot):
    slider, text = SliderControl("Depth", optional=True), TextControl("Places", "")
    qtbot.addWidget(slider)
    qtbot.addWidget(text)
    slider.set_value(1.23456789)
    assert slider.value() == 1.23456789
    place = ((-3.123456789012, 57.000000123456),)
    text.set_value(place)
    assert text.value() == place
    assert own_values(own_text({2: {"reach": 123456.789}})) == {2: {"reach": 123456.789}}


def test_a_setting_that_counts_for_nothing_is_hidden_and_left_out(qtbot):
    form = Form(Numbers)
    qtbot.addWidget(form)
    form.show()
    form.set_values({"window": "ring", "inner": 4.0}, Numbers)
    assert form.control("inner").isVisible() and form.values()["inner"] == 4.0
    form.set_values({"window": "disk", "inner": 4.0}, Numbers)
    assert not form.control("inner").isVisible() and "inner" not in form.values()


def test_a_click_on_a_grid_in_degrees_is_where_it_was_clicked(window, settle, tmp_path):
    """To a thousandth of a cell, which is a centimetre here, and not to half a kilometre."""
    ground = in_degrees(relief(9, 60, 60), 65.0)
    write_surface(tmp_path / "north.tif", ground, "North")
    window.files.open_path(tmp_path / "north.tif")
    settle(window)
    for kind, name in (("flow_path", "start"), ("catchment", "at"), ("viewshed", "at")):
        window.begin_step(kind)
        settle(window)
        x, y = ground.frame.x_of(31), ground.frame.y_of(27)
        at = pixel(window, x, y)
        QTest.mouseClick(window.plan.view, Qt.MouseButton.LeftButton, pos=at)
        settle(window)
        clicked = window.plan.view.camera.world(QPointF(at).x(), QPointF(at).y())
        ((px, py),) = window.work.draft.step.settings[name]
        assert abs(px - clicked[0]) < 1e-7 and abs(py - clicked[1]) < 1e-7
        assert ground.frame.cell_at(px, py) == ground.frame.cell_at(*clicked)
        window.work.set_draft(None)


def test_a_box_drawn_in_degrees_keeps_its_cells(window, settle, tmp_path):
    ground = in_degrees(relief(9, 60, 60), 65.0)
    write_surface(tmp_path / "north.tif", ground, "North")
    window.files.open_path(tmp_path / "north.tif")
    settle(window)
    window.begin_step("crop")
    settle(window)
    f = ground.frame
    window.benches[window.bench].panel.use_box(
        (f.x_of(10) - 4e-5, f.y_of(40) - 4e-5, f.x_of(30) + 4e-5, f.y_of(20) + 4e-5)
    )
    settle(window)
    made = window.work.outcome(keep(window, settle)).value
    assert made.frame.shape == (21, 21)


def test_a_stored_gradient_survives_another_change(window, settle, tmp_path):
    write_surface(tmp_path / "a.tif", metric(relief(5)), "Ground")
    window.files.open_path(tmp_path / "a.tif")
    settle(window)
    step = window.work.add_step("fill_depressions", {"dem": by_name(window, "A")}, {"gradient": 0.0004})
    settle(window)
    window.work.choose(step)
    settle(window)
    fill(window, settle, "keep_depth", "3")
    press(window.benches[window.bench], "Apply the change")
    settle(window)
    assert window.work.study.step(step).settings == {"gradient": 0.0004, "keep_depth": 3.0}


def test_a_class_map_from_a_ready_set_shows_its_classes_with_areas(demo_facing, settle):
    """The demo's own facing: nine classes with their areas, no word of an empty table; an edit begins from them."""
    window, step = demo_facing
    panel = window.benches["classes"].panel
    rows = panel.table.widgets
    assert [w.row.name for w in rows] == [
        "Flat",
        "North",
        "North-east",
        "East",
        "South-east",
        "South",
        "South-west",
        "West",
        "North-west",
    ]
    found = {f.of: f.value for f in window.work.outcome(step).findings if f.name == "area_m2"}
    assert all(w.area.text() for w in rows)
    assert rows[3].area.text().replace(" ", "").startswith(f"{found['East'] / 1e4:.1f}")
    assert window.work.draft is None and window.work.study.step(step).settings["rules"] == "aspect_8"
    rows[3].name.setText("Morning side")
    rows[3].name.editingFinished.emit()
    settle(window)
    assert window.work.draft is not None and len(window.work.draft.step.settings["rules"]) == 9
    press(window.benches["classes"], "Apply the change")
    settle(window)
    assert "Morning side" in [c.name for c in window.work.outcome(step).value.classes]


@pytest.fixture
def demo_facing(window, settle):
    window.files.open_demo()
    settle(window)
    window.work.choose("sectors")
    settle(window)
    return window, "sectors"


@pytest.mark.parametrize("rules", ["natural", "equal_count", "fao_slope"])
def test_every_ready_set_fills_the_table(window, settle, tmp_path, rules):
    write_surface(tmp_path / "a.tif", metric(relief(5)), "Ground")
    window.files.open_path(tmp_path / "a.tif")
    settle(window)
    slope = window.work.add_step("slope", {"dem": by_name(window, "A")}, {})
    step = window.work.add_step("classify", {"surface": slope}, {"rules": rules})
    settle(window)
    window.work.choose(step)
    settle(window)
    panel = window.benches["classes"].panel
    classes = window.work.outcome(step).value.classes
    assert [w.row.name for w in panel.table.widgets] == [c.name for c in classes]
    assert panel.rules is not None and not panel.rules.problems()


def test_small_relief_on_a_large_base_is_drawn_and_read(window, settle, tmp_path, qtbot):
    """4,000 m and millimetres: the plan shows many colours, and the reading follows the file."""
    values = 4000.0 + relief(5, 80, 90) * 1e-4
    path = write_tif(tmp_path / "high.tif", values, unit="metre")
    window.files.open_path(path)
    settle(window)
    surface = window.work.outcome(by_name(window, "High")).value
    assert surface.values.dtype == np.float64
    picture = window.plan.view.grab().toImage()
    colors = {picture.pixel(x, y) for x in range(300, 620, 4) for y in range(200, 480, 4)}
    assert len(colors) > 60


def test_coordinates_are_rounded_to_a_thousandth_of_a_cell():
    assert Frame(1, 1, 0, 0, 2.0, 2.0).decimals == 3 and Frame(1, 1, 0, 0, 1e-4, 1e-4).decimals == 7
    assert Surface(np.zeros((1, 1), np.float32), Frame(1, 1, 0, 0, 1e-4, 1e-4), METRE).frame.rounded(
        1.23456789
    ) == (1.2345679,)
    assert catalogue()["catchment"].checked({"at": "1.2345678,2"}).at == ((1.2345678, 2.0),)

"""What a screen reader says: plan, histogram, section and cards have a value; controls have their labels."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAccessible
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QAbstractSpinBox, QComboBox, QLineEdit, QSlider


def said(part):
    """Name and value of a widget as the reader's interface gives them."""
    interface = QAccessible.queryAccessibleInterface(part)
    return interface.text(QAccessible.Text.Name), interface.text(QAccessible.Text.Description)


def test_the_plan_says_what_it_shows_and_what_stands_at_the_pointer(demo, settle):
    name, value = said(demo.plan.view)
    assert name == "Plan" and "Slope classes" in value and " m across" in value
    xmin, ymin, xmax, ymax = demo.work.frame.box
    demo.plan.read(((xmin + xmax) / 2, (ymin + ymax) / 2))
    ground = next(r for r in demo.plan.reading.rows if r.name.startswith("Ground"))
    assert f"{ground.name} {ground.text}" in said(demo.plan.view)[1]
    demo.plan.view.fit()
    settle(demo)
    demo.plan.read(None)
    assert "At the pointer" not in said(demo.plan.view)[1]


def test_an_empty_plan_says_so(window, settle):
    settle(window)
    assert said(window.plan.view)[1].startswith(("Nothing is open", "The ground from above"))


def test_the_histogram_says_its_range_and_the_bound_that_keys_move(demo, settle):
    demo.work.choose("classes")
    settle(demo)
    histogram = demo.benches["classes"].panel.histogram
    histogram.setFocus()
    histogram.repaint()
    name, value = said(histogram)
    assert name.startswith("Histogram") and "bounds: 0°, 5°, 15°, 30°, 40°" in value
    for chosen in ("5°", "15°"):
        QTest.keyClick(histogram, Qt.Key.Key_Up)
        histogram.repaint()
        assert f"chosen: {chosen}" in said(histogram)[1]
    QTest.keyClick(histogram, Qt.Key.Key_Right)
    settle(demo)
    histogram.repaint()
    assert "chosen: 15." in said(histogram)[1] and "chosen: 15°" not in said(histogram)[1]


def test_the_section_says_its_length_and_the_point_of_it(demo, settle):
    demo.show_drawer("section")
    assert said(demo.section.chart)[1].startswith("Draw a line")
    xmin, ymin, *_ = demo.work.frame.box
    demo.section.show_line((xmin + 100, ymin + 100, xmin + 1100, ymin + 100), demo.plan.view.scene)
    assert "1 000 m long" in said(demo.section.chart)[1]
    demo.section._say(700)
    assert "Ground" in said(demo.section.chart)[1] and "slope along the line" in said(demo.section.chart)[1]


def test_a_card_says_its_figure_and_state(demo, settle):
    name, _ = said(demo.trail.cards["classes"])
    assert name.startswith("Slope classes, 5 classes") and "up to date" in name


@pytest.mark.parametrize("bench", ["gather", "shape", "water", "sight", "classes", "sheet"])
def test_every_control_of_a_bench_has_a_name(demo, settle, bench):
    demo.go_to_bench(bench)
    settle(demo)
    kinds = (QAbstractButton, QComboBox, QAbstractSpinBox, QSlider, QLineEdit)
    parts = [p for kind in kinds for p in demo.benches[bench].findChildren(kind) if p.isVisible()]
    parts = [p for p in parts if not isinstance(p.parent(), QAbstractSpinBox | QComboBox)]
    nameless = [type(p).__name__ for p in parts if not said(p)[0] and p.objectName() != "qt_spinbox_lineedit"]
    assert parts and nameless == []

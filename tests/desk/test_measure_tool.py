"""Measuring on the plan as a person does."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from moss_step.desk.plan.tools.measure import MeasureTool
from moss_step.desk.plan.tools.registry import tool_types
from tests.desk.driving import LEFT, named, pixel


@pytest.fixture
def measuring(window, settle, hills_tif):
    window.files.open_path(hills_tif)
    settle(window)
    QTest.mouseClick(
        named(window.plan, "Measure: distance, bearing, rise, slope and area from click to click"), LEFT
    )
    return window


def click(window, row, col):
    frame = window.work.frame
    at = pixel(window, frame.x_of(col), frame.y_of(row))
    QTest.mouseMove(window.plan.view, at)
    QTest.mouseClick(window.plan.view, LEFT, pos=at)


def test_a_way_from_click_to_click_is_measured_as_it_is_drawn(measuring):
    view, frame = measuring.plan.view, measuring.work.frame
    assert isinstance(view.tool, MeasureTool) and MeasureTool in tool_types()
    click(measuring, 20, 20)
    click(measuring, 20, 80)
    found = view.tool.measures()
    pixel_size = measuring.plan.view.metres_per_pixel
    assert found.length == pytest.approx(
        60 * frame.dx, abs=2 * pixel_size
    ) and found.bearing == pytest.approx(90.0, abs=1.0)
    assert found.along >= found.length
    click(measuring, 60, 80)
    words = dict(view.tool.lines())
    assert {"Length", "Over the ground", "Bearing", "Rise", "Slope, straight", "Area"} <= set(words)
    expected = 0.5 * 60 * frame.dx * 40 * frame.dy
    assert view.tool.measures().area == pytest.approx(expected, rel=0.05)
    QTest.keyClick(view, Qt.Key.Key_Backspace)
    assert len(view.tool.vertices) == 2


def test_a_pull_moves_the_ground_and_escape_begins_anew_then_lays_down(measuring, settle):
    view = measuring.plan.view
    click(measuring, 20, 20)
    before = view.camera.x
    from tests.desk.driving import drag

    drag(view, pixel(measuring, measuring.work.frame.x_of(50), measuring.work.frame.y_of(50)),
         pixel(measuring, measuring.work.frame.x_of(40), measuring.work.frame.y_of(50)))  # fmt: skip
    assert view.camera.x != before and len(view.tool.vertices) == 1
    QTest.keyClick(measuring, Qt.Key.Key_Escape)
    assert isinstance(view.tool, MeasureTool) and view.tool.vertices == ()
    QTest.keyClick(measuring, Qt.Key.Key_Escape)
    assert view.tool is view.look and measuring.work.study.steps[-1].kind == "open_grid", "nothing is kept"


def test_keys_alone_measure(measuring):
    view = measuring.plan.view
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_Insert)
    QTest.keyClick(view, Qt.Key.Key_Right)
    QTest.keyClick(view, Qt.Key.Key_Insert)
    assert len(view.tool.vertices) == 2
    assert np.isfinite(view.tool.measures().length) and view.tool.measures().length > 0
    QTest.keyClick(view, Qt.Key.Key_Return)
    assert view.tool.vertices == ()

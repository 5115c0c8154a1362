"""Curves of a chart in the drawer: which are drawn, what is read, and what is handed on."""

import csv

import numpy as np
import pytest
from PySide6.QtCore import QPointF
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QCheckBox

from tests.desk.driving import named


@pytest.fixture
def curves(estate, settle, qtbot):
    """The threshold curve of the ground, in the table drawer."""
    window = estate
    window.resize(1280, 800)
    window.work.add_step("threshold_curve", {"surface": window.work.study.shading.ground}, {})
    settle(window)
    window.show_drawer("table")
    settle(window)
    qtbot.waitUntil(
        lambda: window.table.curves is not None and window.table.curves.plot.plot is not None, timeout=60_000
    )
    settle(window)
    return window


def chart(window):
    return window.work.outcome(window.work.chosen_id).value


def test_a_chart_shows_its_curves_at_once(curves):
    view = curves.table.curves
    assert view.isVisible() and view.shown == ("share",)
    x, y = view.plot._items[0].getData()
    assert np.allclose(x, chart(curves).columns["threshold"]) and np.allclose(
        y, chart(curves).columns["share"]
    )


def test_curves_are_ticked_on_and_off(curves, settle):
    view = curves.table.curves
    named(view, "Curve: Area, m²", QCheckBox).click()
    settle(curves)
    assert view.shown == ("share", "area_m2") and len(view.plot._items) == 2
    named(view, "Curve: Share", QCheckBox).click()
    settle(curves)
    assert view.shown == ("area_m2",)


def test_a_reading_follows_the_pointer(curves):
    view = curves.table.curves
    table, plot = chart(curves), view.plot
    across = float(table.columns["threshold"][40])
    scene = plot.plot.getViewBox().mapViewToScene(QPointF(across, 0.5))
    plot.plot.scene().sigMouseMoved.emit(scene)
    assert f"Threshold {across:.2f}".rstrip("0") in view.said.text()
    assert f"{table.columns['share'][40]:.4f}".rstrip("0") in view.said.text()
    plot.plot.scene().sigMouseMoved.emit(QPointF(-50, -50))
    assert view.said.text() == ""


def test_logarithmic_axes_leave_out_what_is_not_above_0(curves, settle):
    view = curves.table.curves
    view.log_up.click()
    settle(curves)
    share = chart(curves).columns["share"]
    assert len(view.plot._items[0].xData) == np.count_nonzero(share > 0)


def test_curves_are_handed_on_as_numbers_picture_and_lines(curves, settle, tmp_path):
    view = curves.table.curves
    for ending in ("csv", "png", "svg"):
        view.write(tmp_path / f"c.{ending}")
        settle(curves)
    with (tmp_path / "c.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert [float(r["share"]) for r in rows] == pytest.approx(chart(curves).columns["share"], rel=1e-6)
    picture = QImage(str(tmp_path / "c.png"))
    assert picture.width() == 2 * view.plot.width() and len({picture.pixel(x, 100) for x in range(0, picture.width(), 3)}) > 3  # fmt: skip
    assert "<path" in (tmp_path / "c.svg").read_text() or "<polyline" in (tmp_path / "c.svg").read_text()


def test_rows_of_shapes_have_no_curves(curves, settle):
    bogs = next(s.id for s in curves.work.study.steps if s.kind == "open_shapes")
    curves.work.choose(bogs)
    settle(curves)
    assert curves.table.curves.isHidden()

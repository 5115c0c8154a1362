"""A variogram and a level dragged in the real window, and the best method by one click."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from moss_step.demo import DATA
from tests.desk.driving import LEFT, until, wait
from tests.desk.person import Person

SOUNDINGS, SHORE = DATA / "harrow_soundings.csv", DATA / "harrow_tarn.gpkg"


@pytest.fixture
def person(window, settle, monkeypatch):
    window.resize(1280, 800)
    settle(window)
    made = Person(window, settle, monkeypatch)
    made.drop(SOUNDINGS, SHORE)
    return made


def panel_of(person, title):
    person.step("surface", title)
    return person.window.benches["surface"].panel


def at_chart(plot, x, y):
    """Pixels of a value of a chart."""
    scene = plot.getViewBox().mapViewToScene(QPointF(x, y))
    at = plot.mapFromScene(scene)
    return QPoint(round(at.x()), round(at.y()))


def pull(plot, start, end, steps=6, let_go=True):
    """Drag from one place of a chart to another."""
    view = plot.viewport()
    first, last = (np.array((p.x(), p.y()), float) for p in (at_chart(plot, *start), at_chart(plot, *end)))
    QTest.mouseMove(view, QPoint(*first.astype(int)))
    wait(0.05)
    QTest.mousePress(view, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(*first.astype(int)))
    for k in range(1, steps + 1):
        QTest.mouseMove(view, QPoint(*np.rint(first + (last - first) * k / steps).astype(int)))
        wait(0.06)
    if let_go:
        QTest.mouseRelease(view, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(*np.rint(last).astype(int)))
        QApplication.processEvents()


def let_go(plot, place):
    QTest.mouseRelease(plot.viewport(), LEFT, Qt.KeyboardModifier.NoModifier, at_chart(plot, *place))
    QApplication.processEvents()


def test_the_plateau_is_dragged_and_the_surface_follows(person, settle):
    window = person.window
    panel = panel_of(person, "Interpolate")
    panel.take_inputs({"area": next(s.id for s in window.work.study.steps if s.kind == "open_shapes")})
    settle(window)
    person.click("Drag the variogram")
    until(lambda: panel.trial is not None and panel.plot.plot is not None, "no variogram came")
    wait(0.2)
    plot, before = panel.plot.plot, panel.trial.model
    first = before.structures[0]
    start, end = (first.range, before.sill), (0.5 * first.range, 0.7 * before.sill)
    pull(plot, start, end, let_go=False)
    until(lambda: window.plan.view.live is not None, "the surface does not follow")
    veil = window.plan.view.live.veil
    assert len(np.unique(veil.data)) > 50, "a surface is drawn"
    let_go(plot, end)
    settle(window)
    given = panel.settings()
    assert given["range"] == pytest.approx(0.5 * first.range, rel=0.05)
    assert given["sill"] == pytest.approx(0.7 * before.sill, rel=0.05)
    assert window.plan.view.live is None
    step = person.keep()
    found = {f.name: f.value for f in window.work.outcome(step).findings}
    assert found["range"] == pytest.approx(given["range"]) and found["sill"] == pytest.approx(given["sill"])
    panel = window.benches["surface"].panel
    person.click("Drag the variogram")
    until(lambda: panel.trial is not None, "no variogram came")
    person.click("By way")
    until(lambda: panel.map.held is not None, "no picture came")
    assert panel.map.isVisible() and panel.plot.isVisible()
    person.click("Fit again")
    settle(window)
    assert panel.settings().get("range") is None


def test_the_best_method_is_taken_by_one_click(person, settle):
    window = person.window
    panel_of(person, "Compare methods")
    step = person.keep()
    table = window.work.outcome(step).value
    best = str(table.columns["method"][0])
    assert table.columns["rmse"][0] == table.columns["rmse"].min()
    person.click(f"Interpolate by {best.replace('_', ' ')}")
    made = window.work.study.steps[-1]
    assert made.kind == "interpolate" and made.settings["method"] == best
    assert made.inputs["points"] == window.work.study.step(step).inputs["points"]
    assert window.work.outcome(made.id).value.range is not None


def test_a_level_is_dragged_on_its_curve_and_plan_and_section_follow(person, settle):
    window = person.window
    panel = panel_of(person, "Interpolate")
    bed = person.keep()
    window.begin_step("storage")
    settle(window)
    panel = window.benches["surface"].panel
    person.click("Drag the level on its curve")
    until(lambda: panel.chart.handle is not None and panel.chart.plot is not None, "no curve came")
    wait(0.2)
    plot, level = panel.chart.plot, panel.chart.handle
    middle = float(np.mean(plot.viewRange()[1]))
    pull(plot, (level, middle), (level + 0.8, middle), let_go=False)
    until(
        lambda: window.plan.view.live is not None and window.plan.view.live.level > level + 0.5,
        "nothing follows",
    )
    surface = window.work.outcome(bed).value
    live = window.plan.view.live
    share = np.mean(live.veil.data[:, : surface.values.shape[1]] > 0)
    assert share == pytest.approx(np.mean(surface.values < live.level), abs=0.03)
    let_go(plot, (level + 0.8, middle))
    settle(window)
    given = panel.settings()["level"]
    assert given == pytest.approx(level + 0.8, abs=0.1)
    step = person.keep()
    assert {f.name: f.value for f in window.work.outcome(step).findings}["level"] == given
    window.views.show_view("section")
    window.benches["surface"].panel.slide(-1.0)
    until(lambda: window.views.section.chart.level == -1.0, "the section does not follow")

"""A cloud in the section and in the block, and classes that are set by a lasso and by an outline."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from moss_step.demo import DATA
from moss_step.demo.lidar import SOUTH, WEST
from moss_step.scene.corridor import beside, clouds_of, in_space
from moss_step.science.points.edits import corridor
from tests.desk.driving import named
from tests.desk.jobs import keep

LEFT = Qt.MouseButton.LeftButton
LINE = (WEST + 20.0, SOUTH + 30.0, WEST + 300.0, SOUTH + 240.0)


@pytest.fixture
def flown(window, settle):
    window.resize(1280, 800)
    window.files.open_path(DATA / "harrow_survey.laz")
    settle(window)
    return window.work.chosen_id


def cut(window, settle, line=LINE):
    window.show_drawer("section")
    settle(window)
    window.views.section.show_line(line, window.plan.view.scene)
    settle(window)
    return window.views.section


def test_the_section_draws_the_points_beside_its_line_and_reads_them(window, settle, flown):
    section = cut(window, settle)
    cloud = window.work.outcome(flown).value
    (drawn,) = section.chart.points
    near = corridor(cloud, np.array(LINE).reshape(2, 2), 4.0)
    assert drawn.count == near.rows.size and set(drawn.rows) == set(near.rows)
    assert np.abs(np.sort(drawn.along) - np.sort(near.along)).max() < 1e-6
    assert f"{drawn.count:,} points" in section.said.text()
    lowest = section.chart.table.columns["Lowest points"]
    open_ground = (section.chart.table.columns["distance"] > 140) & (
        section.chart.table.columns["distance"] < 175
    )
    assert np.abs(np.diff(lowest[open_ground])).max() < 1.0
    chart = section.chart
    place = int(np.argmax(drawn.heights))
    at = chart.plot.mapFromScene(
        chart.plot.getViewBox().mapViewToScene(_point(drawn.along[place], drawn.heights[place]))
    )
    QTest.mouseMove(chart.plot.viewport(), QPoint(at.x(), at.y()))
    settle(window)
    assert chart.near is not None
    point = int(drawn.rows[chart.near[1]])
    said = section.said.text()
    assert "return" in said and f"intensity {int(cloud.attributes['intensity'][point])}" in said, said


def _point(x, y):
    from PySide6.QtCore import QPointF

    return QPointF(float(x), float(y))


def test_a_wider_section_holds_more_points_and_a_line_without_cloud_offers_no_width(window, settle, flown):
    section = cut(window, settle)
    few = section.chart.points[0].count
    section.width_field.setValue(12.0)
    settle(window)
    assert 2.5 * few < section.chart.points[0].count < 3.5 * few
    assert section.width_field.isVisible() and section.lasso_button.isVisible()
    window.files.open_path(DATA / "harrow_ground.tif")
    window.work.remove(flown)
    settle(window)
    cut(window, settle)
    assert (
        not section.width_field.isVisible() and not section.chart.points and section.chart.names == ["Ground"]
    )


def test_points_drawn_around_in_the_section_get_another_class_as_one_step(window, settle, flown):
    section = cut(window, settle)
    section.lasso_button.click()
    view = section.chart.plot.viewport()
    corners = [QPoint(500, 20), QPoint(700, 20), QPoint(700, 70), QPoint(500, 70)]
    QTest.mousePress(view, LEFT, pos=corners[0])
    for corner in (*corners[1:], corners[0]):
        QTest.mouseMove(view, corner)
        QTest.qWait(5)
    QTest.mouseRelease(view, LEFT, pos=corners[0])
    settle(window)
    panel = window.benches["points"].panel
    assert panel.kind.kind == "edit_classes" and not section.lasso_button.isChecked()
    box = named(panel, "To class", QComboBox)
    box.setCurrentIndex(box.findData(5))
    settle(window)
    before = len(window.work.study.steps)
    kept = keep(window, settle)
    step = window.work.study.step(kept)
    assert len(window.work.study.steps) == before + 1 and step.inputs["cloud"] == flown
    assert (len(step.settings["lasso"]) >= 4 and step.settings["line"] == list(LINE)) or tuple(
        step.settings["line"]
    ) == LINE
    codes = window.work.outcome(kept).value.attributes["classification"]
    assert 5 < (codes == 5).sum() < 5_000
    window.work.undo()
    settle(window)
    assert not window.work.study.has(kept), "one undo takes it back"


def test_an_outline_on_the_plan_gives_another_class_and_runs_again_when_points_change(window, settle, flown):
    window.begin_step("edit_classes")
    settle(window)
    view = window.plan.view
    view.show_box((WEST + 40, SOUTH + 30, WEST + 130, SOUTH + 120))
    settle(window)
    for x, y in ((56, 50), (86, 50), (86, 72), (56, 72), (56, 50)):
        px, py = view.camera.pixel(WEST + x, SOUTH + y)
        QTest.mouseClick(view, LEFT, pos=QPoint(round(px), round(py)))
        QTest.qWait(5)
    settle(window)
    panel = window.benches["points"].panel
    assert "4 corners" in panel.said.text()
    box = named(panel, "To class", QComboBox)
    box.setCurrentIndex(box.findData(6))
    settle(window)
    kept = keep(window, settle)
    cloud, truth = window.work.outcome(kept).value, window.work.outcome(flown).value.attributes["truth"]
    set_ = cloud.attributes["classification"] == 6
    assert set_[truth == 6].mean() > 0.5 and set_.sum() < 8_000
    outline = window.work.study.step(kept).settings["outline"]
    study = window.work.study
    fewer = study.step(flown).model_copy(update={"settings": {**study.step(flown).settings, "every": 2}})
    window.work.do(study.changing(flown, lambda _: fewer), "Fewer points")
    settle(window)
    again = window.work.outcome(kept).value
    assert len(again) == (len(cloud) + 1) // 2 and window.work.study.step(kept).settings["outline"] == outline


def test_the_block_draws_points_with_their_colours_and_no_sheet(window, settle, flown):
    window.show_drawer("block")
    for _ in range(1200):
        QTest.qWait(25)
        if window.block.image is not None and not window.block.stage.busy:
            break
    ground = window.block.ground
    cloud = window.work.outcome(flown).value
    assert len(ground.points) == len(cloud) and not ground.solid and 0.2 < ground.spacing < 1.5
    assert np.ptp(ground.points[:, 2]) == pytest.approx(np.ptp(cloud.z), abs=0.05)
    image = window.block.image
    colors = {image.pixel(x, y) for x in range(0, image.width(), 5) for y in range(0, image.height(), 5)}
    assert len(colors) > 60, "many shades of points, no plain sheet"


def test_points_in_space_are_an_even_choice_and_dark_below_others(window, settle, flown):
    ((layer, picture),) = [(d, d.picture) for d in clouds_of(window.plan.view.scene)]
    frame = picture.frame
    whole, some = in_space(layer, frame, 10**9), in_space(layer, frame, 5_000)
    assert len(some.x) == 5_000 and some.spacing == pytest.approx(
        whole.spacing * (len(whole.x) / 5_000) ** 0.5, rel=0.01
    )
    assert len(whole.x) == len(picture.value)
    narrow = beside(layer, np.array(LINE).reshape(2, 2), 0.5, picture.value.unit)
    assert narrow.nearest(-50.0, 0.0, 1.0, 1.0) == -1

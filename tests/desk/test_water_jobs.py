"""The Water bench: what follows the pointer, what follows a slider, and what is kept."""

import numpy as np
import pytest
import shapely
from PySide6.QtCore import QEvent, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from moss_step.demo import DATA
from moss_step.science.water import trace
from moss_step.science.water.basins import divided
from moss_step.science.water.drainage import prepare
from moss_step.science.water.kernels.neighbours import OUT
from moss_step.science.water.kernels.trace import path_down
from moss_step.steps.catalogue import catalogue
from tests.desk.driving import LEFT, drag, named, pixel, press, texts, type_in
from tests.desk.jobs import by_name, fill, keep, values


@pytest.fixture
def wet(window, settle):
    """The estate's ground, prepared, with the Water bench open."""
    window.files.open_path(DATA / "harrow_ground.tif")
    settle(window)
    ground = by_name(window, "Harrow ground")
    prepare(window.work.outcome(ground).value)
    window.begin_step("flow_path")
    settle(window)
    return window


def drainage_of(window):
    return prepare(window.work.outcome(by_name(window, "Harrow ground")).value)


def point(window, x: float, y: float) -> None:
    QTest.mouseMove(window.plan.view, pixel(window, x, y))


def click(window, x: float, y: float) -> None:
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, x, y))


def test_the_bench_opens_with_the_path_of_the_pointer_and_a_click_keeps_it(wet, settle):
    window, drainage = wet, drainage_of(wet)
    assert window.benches["water"].panel.kind.kind == "flow_path"
    assert "Click on the plan" in window.benches["water"].panel.note.text
    point(window, 412_600, 5_871_500)
    settle(window)
    live = window.plan.view.live
    x, y = live.marks[0]
    cell = trace.cell_at(drainage.dem, x, y)
    path = path_down(drainage.ways, cell)
    assert np.array_equal(live.lines[0][0], trace.centres(drainage, path)), (
        "the pointer's path is the batch path"
    )
    assert (
        f"{trace.path_metres(drainage, path)[-1]:,.0f}".replace(",", " ")
        in window.benches["water"].panel.said.text()
    )
    click(window, 412_600, 5_871_500)
    settle(window)
    kept = keep(window, settle)
    shape = window.work.outcome(kept).value
    assert shapely.get_num_coordinates(shape.geometry[0]) == len(path)
    assert shape.columns["length_m"][0] == pytest.approx(trace.path_metres(drainage, path)[-1])


def test_a_kept_path_is_cut_and_the_catchment_of_its_end_asked_for(wet, settle):
    window, drainage = wet, drainage_of(wet)
    click(window, 412_600, 5_871_500)
    settle(window)
    whole = window.work.outcome("draft").value.geometry[0]
    middle = whole.interpolate(0.5, normalized=True)
    press(window.benches["water"].panel, "Cut it by a click")
    click(window, middle.x, middle.y)
    settle(window)
    cut = window.work.outcome("draft").value
    assert cut.columns["length_m"][0] == pytest.approx(whole.length / 2, rel=0.02)
    end = shapely.get_coordinates(cut.geometry[0])[-1]
    press(window.benches["water"].panel, "Catchment of end")
    settle(window)
    assert window.benches["water"].panel.kind.kind == "catchment"
    outcome = window.work.outcome("draft")
    cells = drainage.cells.reshape(-1)[trace.cell_at(drainage.dem, *end)]
    assert outcome.value.columns["cells"][0] == cells
    assert outcome.value.geometry[0].area == pytest.approx(cells * 4.0)
    assert any(s.kind == "flow_path" for s in window.work.study.steps), "the path was kept on the way"


def test_the_catchment_follows_the_pointer_and_is_the_upstream_of_an_independent_walk(wet, settle):
    window, drainage = wet, drainage_of(wet)
    window.begin_step("catchment")
    settle(window)
    outlet = int(np.argmax(drainage.cells * (drainage.ways == OUT)))
    x, y = trace.centres(drainage, np.array([outlet]))[0]
    point(window, x + 6, y)
    veil = window.plan.view.live.veil
    assert veil is not None
    click(window, x + 6, y)
    settle(window)
    made = window.work.outcome("draft").value
    numbered, *_ = divided(drainage, None)
    assert made.columns["cells"][0] <= (numbered == 1).sum()
    fill(window, settle, "snap", 30.0)
    snapped = window.work.outcome("draft")
    assert snapped.value.columns["cells"][0] == (numbered == 1).sum(), (
        "snapped to the outlet it is the whole basin"
    )
    moved = next(f.value for f in snapped.findings if f.name == "snapped_by")
    assert 0 < moved <= 30
    QTest.mouseMove(window.plan.view, pixel(window, x - 500, y))
    assert window.plan.view.live is None


def test_basins_follow_the_slider_are_named_in_the_table_and_handed_on(wet, settle, tmp_path):
    window = wet
    window.begin_step("basins")
    settle(window)
    panel = window.benches["water"].panel
    control = panel.form.control("min_depth")
    control.slider.setSliderDown(True)
    control.slider.setValue(500)
    settle(window)
    assert "basins" in panel.said.text() and window.plan.view.live.veil is not None
    control.slider.setSliderDown(False)
    control.edit.clear()
    type_in(control.edit, "")
    settle(window)
    kept = keep(window, settle)
    shapes = window.work.outcome(kept).value
    numbered, nodes, _ = divided(drainage_of(window), None)
    assert (
        len(shapes) == len(nodes)
        and shapes.columns["cells"].tolist() == np.bincount(numbered.ravel())[1:].tolist()
    )
    assert shapes.columns["area_m2"].sum() == 4_000_000.0
    for column in (
        "perimeter_m",
        "longest_path_m",
        "mean_slope_deg",
        "relief",
        "pool_depth",
        "hypsometric_integral",
        "form_factor",
        "drainage_density",
    ):
        assert np.isfinite(shapes.columns[column][0]), column
    window.show_drawer("table")
    settle(window)
    table = window.table
    index = table.model.index(1, 1)
    table.rows.setCurrentIndex(index)
    table.rows.edit(index)
    editor = table.rows.findChild(type(table.filter_edit), "", Qt.FindChildOption.FindChildrenRecursively)
    editor = next(e for e in table.rows.findChildren(type(table.filter_edit)) if e is not table.filter_edit)
    editor.setText("Long Slack")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    settle(window)
    assert window.work.study.step(kept).settings["names"] == "2=Long Slack"
    assert window.work.outcome(kept).value.columns["name"][1] == "Long Slack"
    shown = window.plan.view.grab().toImage()
    table.select(0)
    table.hide_selected()
    settle(window)
    assert window.work.study.key_row(kept).hidden == (0,) and window.plan.view.grab().toImage() != shown
    table.hide_selected()
    settle(window)
    assert window.work.study.key_row(kept).hidden == ()
    table.paint_selected("#C0392B")
    settle(window)
    assert window.work.study.key_row(kept).paint == ((0, "#C0392B"),)
    for _ in range(3):
        window.work.undo()
    settle(window)
    table.write(tmp_path / "basins.geojson")
    settle(window)
    assert "Long Slack" in (tmp_path / "basins.geojson").read_text()
    window.work.undo()
    settle(window)
    assert window.work.outcome(kept).value.columns["name"][1] == "Basin 2"


def test_a_flood_follows_its_slider_with_area_and_volume(wet, settle):
    window = wet
    above = window.work.add_step(
        "drain_height", {"dem": by_name(window, "Harrow ground")}, {"min_area": 20_000.0}
    )
    settle(window)
    window.begin_step("flood")
    settle(window)
    panel = window.benches["water"].panel
    control = panel.form.control("stage")
    control.slider.setSliderDown(True)
    control.slider.setValue(150)
    stage = control.value()
    settle(window)
    heights = values(window, above)
    said = panel.said.text()
    assert float(said.split(" ha")[0]) == pytest.approx((heights < stage).sum() * 4e-4, rel=0.03)
    control.slider.setSliderDown(False)
    panel.update_draft()
    settle(window)
    found = {f.name: f.value for f in window.work.outcome("draft").findings}
    assert found["area_m2"] == (heights < stage).sum() * 4.0
    assert found["volume_m3"] == pytest.approx(
        float(np.nansum(np.maximum(stage - heights, 0))) * 4.0, rel=1e-4
    )


def test_ridges_follow_their_sliders(wet, settle):
    window = wet
    window.begin_step("ridges_valleys")
    settle(window)
    panel = window.benches["water"].panel
    control = panel.form.control("least_length")
    control.slider.setSliderDown(True)
    control.slider.setValue(100)
    settle(window)
    control.slider.setValue(120)
    many = int(panel.said.text().split(" of ")[0])
    control.slider.setValue(600)
    few = int(panel.said.text().split(" of ")[0])
    assert 0 <= few < many and len(window.plan.view.live.lines) == few
    control.slider.setSliderDown(False)


def test_a_bund_is_drawn_on_the_plan_and_holds_water(wet, settle):
    window = wet
    window.begin_step("pond")
    settle(window)
    fill(window, settle, "crest", "440")
    press(window.benches["water"].panel, "Draw the line on the plan")
    drag(window.plan.view, pixel(window, 412_500, 5_871_300), pixel(window, 412_500, 5_871_600))
    settle(window)
    outcome = window.work.outcome("draft")
    assert outcome is not None, texts(window.benches["water"])
    depth, ground = outcome.value.values, values(window, by_name(window, "Harrow ground"))
    wet_cells = ~np.isnan(depth)
    found = {f.name: f.value for f in outcome.findings}
    assert found["area_m2"] == pytest.approx(wet_cells.sum() * 4.0)
    assert found["volume_m3"] == pytest.approx(float(np.nansum(depth)) * 4.0, rel=1e-3)
    level = (ground + depth)[wet_cells]
    assert level.max() - level.min() < 1e-2 and level.max() <= 440 + 1e-3
    assert window.plan.view.tool is window.plan.view.look


def test_slope_arrows_point_down(wet, settle):
    from moss_step.desk.plan.arrows import arrows_of

    window = wet
    plain = window.plan.view.grab().toImage()
    press(window.plan.key, "Light, exaggeration and strength")
    settle(window)
    next(
        b for b in window.plan.key.findChildren(type(named(window.plan.key, "Slope arrows"))) if b.isVisible()
    ).click()
    settle(window)
    assert window.work.study.shading.arrows and window.plan.view.grab().toImage() != plain
    ground, camera = window.plan.view.scene.ground, window.plan.view.camera
    arrows = arrows_of(ground, camera)
    heights = ground.value
    lower = 0
    for at, bearing, _ in arrows:
        x, y = camera.world(at.x(), at.y())
        here = heights.frame.cell_at(x, y)
        ahead = heights.frame.cell_at(
            x + 8 * np.sin(np.radians(bearing)), y + 8 * np.cos(np.radians(bearing))
        )
        lower += ahead is not None and heights.values[ahead] < heights.values[here] + 0.01
    assert lower > 0.9 * len(arrows) > 50
    window.plan.view.show_camera(camera.zoomed(4, 300, 300))
    assert 20 < len(arrows_of(ground, window.plan.view.camera)) < 700, "the density follows the zoom"


def test_places_off_the_ground_are_said_plainly(wet, settle):
    window = wet
    window.begin_step("flow_path")
    settle(window)
    fill(window, settle, "start", "0,0")
    assert "outside the ground" in window.benches["water"].panel.note.text
    fill(window, settle, "start", "here")
    assert "x,y" in window.benches["water"].panel.note.text
    QApplication.sendEvent(window.plan.view, QEvent(QEvent.Type.Leave))
    assert window.plan.view.live is None


def test_every_water_step_has_words_and_a_question():
    kinds = [k for k in catalogue().values() if k.bench == "water"]
    assert {k.kind for k in kinds} >= {
        "depressions", "fill_depressions", "breach", "flow_directions", "flow_accumulation", "streams", "basins", "catchment", "flow_path",
        "ridges_valleys", "wetness", "stream_power", "drain_height", "pond",
    }  # fmt: skip
    assert all(k.question.endswith("?") and len(k.words) >= 3 for k in kinds)


def test_a_ground_that_holds_no_water_back_gives_an_empty_result_that_can_be_looked_at(wet, settle, tmp_path):
    window = wet
    made = window.work.add_step("depressions", {"dem": by_name(window, "Harrow ground")}, {})
    settle(window)
    outcome = window.work.outcome(made)
    assert len(outcome.value) == 0 and "holds no water back" in outcome.warnings[0]
    assert not window.plan.view.grab().toImage().isNull()
    window.show_drawer("table")
    settle(window)
    assert window.table.model.rowCount() == 0
    press(window.table, "Chart of the column, or the curves of a chart")
    settle(window)
    assert "no water back" in window.benches["water"].panel.note.text

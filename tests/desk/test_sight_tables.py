"""The table of observers and the sight line in the section, as a person uses them."""

import numpy as np
import pytest
import shapely
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.scene.colors import LICHEN, SLATE
from moss_step.science.sight.line import sight_line
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.viewshed import seen_by
from moss_step.study.draft import DRAFT
from tests.desk.driving import LEFT, drag, pixel, press
from tests.desk.jobs import by_name, choose_input, fill, keep, values

FRAME = Frame(120, 160, 412_000.0, 5_872_000.0, 5.0, 5.0, "EPSG:32628")


@pytest.fixture
def hills(window, settle, tmp_path):
    """Three ridges from north to south, the Sight bench open."""
    c = np.arange(160)
    z = np.tile((20.0 * np.sin(c / 12.0) + 0.2 * c).astype(np.float32), (120, 1))
    write_surface(tmp_path / "ridges.tif", Surface(z, FRAME, METRE), "Ridges")
    window.files.open_path(tmp_path / "ridges.tif")
    settle(window)
    window.begin_step("viewshed")
    settle(window)
    return window


def two_observers(window, settle):
    for x, y in ((412_102.0, 5_871_702.0), (412_502.0, 5_871_502.0)):
        QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, x, y))
        settle(window)
    return window.benches["sight"].panel.form.control("own")


def cell(control, row: int, title: str):
    titles = [control.table.horizontalHeaderItem(k).text() for k in range(control.table.columnCount())]
    return control.table.item(row, titles.index(title))


def test_each_observer_has_a_row_with_the_shared_values(hills, settle):
    control = two_observers(hills, settle)
    fill(hills, settle, "observer_height", 8.0)
    assert control.table.rowCount() == 2
    assert [cell(control, k, "Name").text() for k in (0, 1)] == ["observer 1", "observer 2"]
    assert [cell(control, k, "Above ground").text() for k in (0, 1)] == ["8", "8"]
    assert cell(control, 0, "Reach").text() == "all"
    fill(hills, settle, "reach", "300")
    assert cell(control, 1, "Reach").text() == "300"


def test_a_value_typed_in_a_row_is_that_observers_own(hills, settle):
    """Own height, name and reach in the result; an emptied cell is shared again."""
    window, control = hills, two_observers(hills, settle)
    cell(control, 1, "Above ground").setText("30")
    settle(window)
    cell(control, 1, "Name").setText("Tall mast")
    settle(window)
    cell(control, 0, "Reach").setText("200")
    settle(window)
    assert (
        cell(control, 1, "Above ground").font().bold()
        or cell(control, 1, "Above ground").font().weight() > 500
    )
    seen = keep(window, settle)
    step = window.work.study.step(seen)
    sight = prepare_sight(window.work.outcome(by_name(window, "Ridges")).value)
    (ax, ay), (bx, by) = step.settings["at"]
    expected = [
        seen_by(sight, Observer(ax, ay, reach=200.0)) == 1,
        seen_by(sight, Observer(bx, by, height=30.0)) == 1,
    ]
    assert np.array_equal(values(window, seen), np.sum(expected, axis=0))
    assert {f.of for f in window.work.outcome(seen).findings} >= {"observer 1", "Tall mast"}
    control = window.benches["sight"].panel.form.control("own")
    cell(control, 0, "Reach").setText("")
    settle(window)
    assert control.value() == "2: height=30, name=Tall mast"
    assert cell(control, 0, "Reach").text() == "all"


def test_an_observer_is_switched_off_and_on_by_its_tick(hills, settle):
    window, control = hills, two_observers(hills, settle)
    cell(control, 0, "Name").setCheckState(Qt.CheckState.Unchecked)
    settle(window)
    assert control.value() == "1: off"
    outcome = window.work.outcome(DRAFT)
    assert {f.of for f in outcome.findings if f.name == "share"} == {"observer 2"}
    cell(control, 0, "Name").setCheckState(Qt.CheckState.Checked)
    settle(window)
    assert control.value() is None
    cell(control, 0, "Name").setCheckState(Qt.CheckState.Unchecked)
    cell(control, 1, "Name").setCheckState(Qt.CheckState.Unchecked)
    settle(window)
    panel = window.benches["sight"].panel
    assert "no observer" in window.work.reason(DRAFT) and not panel.keep_button.isEnabled()


def test_a_cell_that_makes_no_sense_goes_back_and_says_so(hills, settle):
    control = two_observers(hills, settle)
    cell(control, 0, "Above ground").setText("tall")
    settle(hills)
    assert cell(control, 0, "Above ground").text() == "1.7" and control.value() is None
    assert "'tall' is no above ground" in control.said.text() and control.said.isVisible()


def test_an_observer_is_taken_away_and_the_others_keep_what_is_theirs(hills, settle):
    window, control = hills, two_observers(hills, settle)
    cell(control, 1, "Above ground").setText("25")
    settle(window)
    control.table.selectRow(0)
    assert window.plan.view.live is not None and len(window.plan.view.live.marks) == 1, (
        "the plan shows whose row is chosen"
    )
    press(window, "Take observer 1 away")
    settle(window)
    assert control.table.rowCount() == 1 and len(window.plan.view.look.handles) == 1
    assert control.value() == "1: height=25" and cell(control, 0, "Above ground").text() == "25"
    press(window, "Take all observers away")
    settle(window)
    assert control.value() is None and not control.isVisible()


def test_a_dragged_observer_previews_with_its_own_height(hills, settle):
    window, control = hills, two_observers(hills, settle)
    panel = window.benches["sight"].panel
    panel.drag_handle(0, 412_150.0, 5_871_650.0, ended=False)
    low = panel.said.text()
    panel.drag_handle(0, 412_102.0, 5_871_702.0, ended=True)
    settle(window)
    cell(control, 0, "Above ground").setText("120")
    settle(window)
    panel.drag_handle(0, 412_150.0, 5_871_650.0, ended=False)
    assert (
        low.startswith("Preview:") and panel.said.text().startswith("Preview:") and panel.said.text() != low
    )
    panel.drag_handle(0, 412_150.0, 5_871_650.0, ended=True)
    settle(window)


def pull(window, settle, line) -> None:
    start, end = pixel(window, *line[:2]), pixel(window, *line[2:])
    press(window.benches[window.bench], "Draw the line on the plan")
    drag(window.plan.view, start, end)
    settle(window)


@pytest.fixture
def lined(hills, settle):
    """A sight line pulled over the ridges, with its section open."""
    hills.begin_step("sight_line")
    settle(hills)
    pull(hills, settle, LINE)
    return hills


LINE = (412_052.0, 5_871_702.0, 412_652.0, 5_871_702.0)


def test_a_sight_line_opens_the_section_with_ray_obstacles_and_stretches(lined, settle):
    window = lined
    chart = window.section.chart
    assert window.section.isVisible() and chart.sight is not None
    ends = window.benches["sight"].panel.line()
    apart = sight_line(
        prepare_sight(window.work.outcome(by_name(window, "Ridges")).value), ends[:2], ends[2:], 1.7, 0.0
    )
    assert (
        np.array_equal(chart.sight.seen, apart.seen)
        and chart.sight.obstacles == apart.obstacles
        and apart.obstacles
    )
    assert (
        f"{apart.share_seen:.0%} seen" in window.section.said.text()
        and "the earth's bend takes" in window.section.said.text()
    )
    picture = chart.grab().toImage()
    colors = {
        picture.pixelColor(x, y).name() for x in range(0, picture.width(), 2) for y in range(picture.height())
    }
    assert {QColor(LICHEN).name(), QColor(SLATE).name()} <= colors, "seen and hidden stretches are drawn"


def test_the_section_follows_while_an_end_is_dragged_and_when_the_ends_are_swapped(lined, settle):
    window = lined
    panel, chart = window.benches["sight"].panel, window.section.chart
    first = chart.sight
    panel.drag_handle(1, 412_300.0, 5_871_650.0, ended=False)
    assert chart.sight is not first and chart.sight.distance[-1] < first.distance[-1]
    panel.drag_handle(1, *LINE[2:], ended=True)
    settle(window)
    before = chart.sight
    press(window, "Swap the ends")
    settle(window)
    assert chart.sight.x[0] == pytest.approx(before.x[-1]) and chart.sight.x[-1] == pytest.approx(before.x[0])
    assert chart.sight.ground[0] == pytest.approx(before.ground[-1] + before.fall[-1], abs=1e-6)


def test_a_taller_target_changes_the_ray_in_the_section(lined, settle):
    window = lined
    before = window.section.chart.sight
    fill(window, settle, "target_height", 40.0)
    after = window.section.chart.sight
    assert after.ray[-1] == pytest.approx(before.ray[-1] + 40.0) and len(after.obstacles) <= len(
        before.obstacles
    )


def test_pointing_at_the_section_says_what_is_seen_there(lined, settle):
    window = lined
    sight = window.section.chart.sight
    for seen in (True, False):
        at = int(np.flatnonzero(sight.seen == seen)[len(np.flatnonzero(sight.seen == seen)) // 2])
        window.section.chart.pointed.emit(at)
        assert ("seen" if seen else "hidden") in window.section.said.text()
        assert "what stands there" in window.section.said.text()


def test_a_kept_line_is_shown_again_when_it_is_changed(lined, settle):
    window = lined
    kept = keep(window, settle)
    window.show_drawer("plan")
    window.work.choose("")
    settle(window)
    window.show_drawer("section")
    assert window.section.chart.sight is None
    window.work.choose(kept)
    settle(window)
    assert window.section.chart.sight is not None and len(window.plan.view.look.handles) == 2


def test_best_places_show_what_each_of_them_adds(hills, settle):
    window = hills
    window.begin_step("best_places")
    settle(window)
    fill(window, settle, "spacing", "150")
    fill(window, settle, "count", 4)
    assert window.benches["sight"].panel.chart.isVisible()
    kept = keep(window, settle)
    together = window.work.outcome(kept).value.columns["share_together"]
    places, share = window.benches["sight"].panel.chart.curve
    assert places.tolist() == list(range(len(together) + 1)) and share.tolist() == pytest.approx(
        [0.0, *(100.0 * together)]
    )
    assert (np.diff(share) >= 0).all() and (np.diff(share, 2) <= 1e-9).all(), "each further place adds less"


def test_the_horizon_is_drawn_by_bearing(hills, settle):
    window = hills
    window.begin_step("horizon")
    settle(window)
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, 412_402.0, 5_871_702.0))
    settle(window)
    bearing, angle = window.benches["sight"].panel.chart.curve
    assert len(bearing) == 360 and np.isfinite(angle).any()
    east, north = angle[90], angle[0]
    assert east != pytest.approx(north, abs=0.5), "ridges run from north to south"


def test_the_angle_above_the_horizon_is_a_step_of_its_own(hills, settle):
    window = hills
    window.begin_step("horizon_angle")
    settle(window)
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, 412_402.0, 5_871_702.0))
    settle(window)
    kept = keep(window, settle)
    made = window.work.outcome(kept).value
    assert made.unit.symbol == "°" and np.nanmin(made.values) < 0 < np.nanmax(made.values)


def test_standing_shapes_are_an_input_of_the_view(hills, settle, tmp_path):
    """A wall from a file, 30 m high by its column, hides the ground behind it."""
    wall = shapely.LineString([(412_300.0, 5_871_410.0), (412_300.0, 5_871_990.0)])
    write_shapes(
        tmp_path / "wall.gpkg", Shapes(np.array([wall], object), {"height": np.array([60.0])}, "EPSG:32628")
    )
    window = hills
    window.files.open_path(tmp_path / "wall.gpkg")
    settle(window)
    window.begin_step("viewshed")
    settle(window)
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, 412_202.0, 5_871_702.0))
    settle(window)
    bare = window.work.outcome(DRAFT).value.values
    choose_input(window, settle, "Standing shapes", by_name(window, "Wall"))
    walled = window.work.outcome(DRAFT).value.values
    wall_col = FRAME.cell_at(412_300.0, 5_871_702.0)[1]
    rows = slice(20, 100)
    assert (
        walled[rows, wall_col + 2 : wall_col + 8].sum() == 0 < bare[rows, wall_col + 2 : wall_col + 8].sum()
    )
    assert np.array_equal(walled[rows, : wall_col - 1], bare[rows, : wall_col - 1])


def list_masts(window, settle, folder, height_in_the_south):
    """Open a CSV file of two masts and take them as observers; gives their table in the form."""
    (folder / "masts.csv").write_text(
        f"name,x,y,height\nNorth,412102,5871702,20\nSouth,412502,5871502,{height_in_the_south}\n"
    )
    window.files.open_path(folder / "masts.csv")
    settle(window)
    window.begin_step("viewshed")
    settle(window)
    choose_input(window, settle, "Observers from file", by_name(window, "Masts"))
    return window.benches["sight"].panel.form.control("own")


def test_a_table_of_masts_is_opened_and_listed_as_observers(hills, settle, tmp_path):
    """Rows of a CSV file with x and y: opened like any file, each with the height of its row."""
    window = hills
    control = list_masts(window, settle, tmp_path, "")
    assert [cell(control, k, "Name").text() for k in (0, 1)] == ["North", "South"]
    assert [cell(control, k, "Above ground").text() for k in (0, 1)] == ["20", "1.7"]
    cell(control, 1, "Above ground").setText("9")
    settle(window)
    kept = keep(window, settle)
    sight = prepare_sight(window.work.outcome(by_name(window, "Ridges")).value)
    expected = [
        seen_by(sight, Observer(412_102, 5_871_702, height=20.0)) == 1,
        seen_by(sight, Observer(412_502, 5_871_502, height=9.0)) == 1,
    ]
    assert np.array_equal(values(window, kept), np.sum(expected, axis=0))


def test_an_observer_of_a_file_is_switched_off_by_the_button_that_takes_away(hills, settle, tmp_path):
    """Its row stays, as its file does; the others keep their numbers and what is theirs."""
    window = hills
    control = list_masts(window, settle, tmp_path, "5")
    press(window, "Whole table")
    settle(window)
    control.table.selectRow(0)
    press(window, "Take this one away")
    settle(window)
    assert control.value() == "1: off" and control.table.rowCount() == 2
    assert {f.of for f in window.work.outcome(DRAFT).findings if f.name == "share"} == {"South"}

"""Whole jobs over several steps in the window, each from files to figures that NumPy and shapely work out by themselves."""

import numpy as np
import pytest
import shapely
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox

from moss_step.demo import DATA
from moss_step.formats.raster import read_class_map
from moss_step.formats.vector import read_shapes
from moss_step.model.fields import column_name
from moss_step.model.telling import USUAL
from tests.desk.driving import named, press, texts, type_in
from tests.desk.jobs import by_name, choose_input, fill, keep, values


def test_hazard_from_three_criteria_cut_to_the_boundary(estate, settle, tmp_path):
    """Slope at least 30 %, ground at least 450 m, land cover a bog: classes 0 to 3 inside the estate, area of each."""
    window = estate
    ground = by_name(window, "Harrow ground")
    window.begin_step("slope")
    fill(window, settle, "unit", "percent")
    slope = keep(window, settle)
    window.begin_step("threshold")
    choose_input(window, settle, "Surface", slope)
    fill(window, settle, "at_least", "30")
    steep = keep(window, settle)
    window.begin_step("threshold")
    choose_input(window, settle, "Surface", ground)
    fill(window, settle, "at_least", "450")
    high = keep(window, settle)
    window.begin_step("formula")
    fill(window, settle, "expression", "where(harrow_ground > 0, 0, 0)")
    assert window.work.state("draft") == "done"
    window.begin_step("rasterize")
    choose_input(window, settle, "Shapes", by_name(window, "Harrow bogs"))
    bogs = keep(window, settle)
    assert window.work.outcome(bogs).value.classes[0].name == "Cotton Flat"

    window.begin_step("class_among")
    choose_input(window, settle, "Class map", bogs)
    fill(window, settle, "among", "cotton flat")
    assert "No class is called 'moor'" not in window.benches["classes"].panel.note.text
    cover = keep(window, settle)

    window.begin_step("combine")
    settle(window)
    for step in (steep, high, cover):
        name = window.work.study.name_of(step)
        box = next(b for b in window.benches["classes"].panel.findChildren(QCheckBox) if b.text() == name)
        box.setChecked(True)
    combined = keep(window, settle)
    codes = window.work.outcome(combined).value.codes
    percent, heights = values(window, slope), values(window, ground)
    r, c = np.mgrid[0:1000, 0:1000]
    shapes = read_shapes(DATA / "harrow_bogs.gpkg")
    flat = shapes.geometry[list(shapes.columns["name"]).index("Cotton Flat")]
    x, y = 412_000 + (c + 0.5) * 2, 5_872_000 - (r + 0.5) * 2
    inside, touched = shapely.contains_xy(flat, x, y), shapely.intersects_xy(flat, x, y)
    sure = inside == touched  # centres on the outline itself may go either way
    expected = (percent >= 30).astype(int) + (heights >= 450) + inside
    assert np.array_equal(codes[sure], expected[sure]) and set(np.unique(codes)) <= {0, 1, 2, 3}
    found = {f.of: f.value for f in window.work.outcome(combined).findings if f.name == "area_m2"}
    assert found["3 of 3 hold"] == pytest.approx((codes == 3).sum() * 4.0)
    assert found["2 of 3 hold"] == (codes == 2).sum() * 4.0 and sum(found.values()) == 4_000_000.0

    # cut to the boundary: the areas of the classes inside, by another step and by shapely
    window.work.add_step(
        "zone_classes", {"zones": by_name(window, "Harrow boundary"), "classes": combined}, {}
    )
    settle(window)
    cut = window.work.outcome(window.work.chosen_id).value
    boundary = read_shapes(DATA / "harrow_boundary.gpkg").geometry[0]
    within = shapely.contains_xy(boundary, x, y)
    for k, name in enumerate(("none holds", "1 of 3 holds", "2 of 3 hold", "3 of 3 hold")):
        column = next(c for c in cut.columns if c.endswith(column_name(f"{name} m2")))
        assert cut.columns[column][0] == pytest.approx(((codes == k) & within).sum() * 4.0, abs=40.0)

    window.begin_step("mask")
    choose_input(window, settle, "Surface", ground)
    choose_input(window, settle, "Areas", by_name(window, "Harrow boundary"))
    inside = keep(window, settle)
    area = read_shapes(DATA / "harrow_boundary.gpkg").geometry[0]
    assert window.work.outcome(inside).value.valid_count * 4 == pytest.approx(area.area, rel=1e-3)
    window.go_to_bench("sheet")
    sheet = window.benches["sheet"]
    sheet.choose(combined)
    sheet.write(tmp_path / "hazard.tif")
    settle(window)
    assert np.array_equal(read_class_map(tmp_path / "hazard.tif").codes, codes)


def test_east_facing_and_steep_ground_inside_the_boundary(estate, settle):
    """East-facing (22.5 to 157.5) and over 30 degrees, cut to the boundary; mean slope of the boundary by zones."""
    window = estate
    window.begin_step("slope")
    slope = keep(window, settle)
    window.begin_step("aspect")
    aspect = keep(window, settle)
    window.begin_step("formula")
    names = window.benches["classes"].panel.further.names
    a, s = (next(n for n, i in names.items() if i == step) for step in (aspect, slope))
    fill(window, settle, "expression", f"{a} > 22.5 and {a} <= 157.5 and {s} > 30")
    both = keep(window, settle)
    facing, steep = values(window, aspect), values(window, slope)
    expected = (facing > 22.5) & (facing <= 157.5) & (steep > 30)
    assert np.array_equal(window.work.outcome(both).value.codes == 1, expected)
    window.begin_step("mask")
    choose_input(window, settle, "Surface", both)
    choose_input(window, settle, "Areas", by_name(window, "Harrow boundary"))
    cut = keep(window, settle)
    area = read_shapes(DATA / "harrow_boundary.gpkg").geometry[0]
    r, c = np.mgrid[0:1000, 0:1000]
    within = shapely.contains_xy(area, 412_000 + (c + 0.5) * 2, 5_872_000 - (r + 0.5) * 2)
    assert (values(window, cut) == 1).sum() * 4.0 == (expected & within).sum() * 4.0
    window.begin_step("zone_statistics")
    choose_input(window, settle, "Zones", by_name(window, "Harrow boundary"))
    choose_input(window, settle, "Surface", slope)
    fill(window, settle, "statistics", "mean")
    zones = keep(window, settle)
    mean = window.work.outcome(zones).value.columns["mean"][0]
    assert mean == pytest.approx(steep[within].mean(dtype=float), rel=1e-5)


def test_highest_ground_per_hexagon_in_the_table(estate, settle):
    """500 m hexagons over the estate, the highest ground in each, sorted, filtered and found on the plan."""
    window = estate
    ground = by_name(window, "Harrow ground")
    window.begin_step("tessellate")
    choose_input(window, settle, "Only over", by_name(window, "Harrow boundary"))
    fill(window, settle, "spacing", 500.0)
    tiles = keep(window, settle)
    window.begin_step("zone_statistics")
    choose_input(window, settle, "Zones", tiles)
    choose_input(window, settle, "Surface", ground)
    fill(window, settle, "statistics", "max,mean")
    zones = keep(window, settle)
    shapes, heights = window.work.outcome(zones).value, values(window, ground)
    r, c = np.mgrid[0:1000, 0:1000]
    for k in (0, 7, len(shapes) - 1):
        within = shapely.contains_xy(shapes.geometry[k], 412_000 + (c + 0.5) * 2, 5_872_000 - (r + 0.5) * 2)
        assert shapes.columns["max"][k] == pytest.approx(heights[within].max())

    press(window.plan, "View: Table")
    settle(window)
    table = window.table
    table.rows.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    assert table.model.index(0, 2).data() == f"{shapes.columns['max'].max():,.4f}".rstrip("0").rstrip(".")
    type_in(table.filter_edit, "max > 550")
    assert table.model.rowCount() == int((shapes.columns["max"] > 550).sum())
    table.rows.selectAll()
    from moss_step.scene.grading import grading_of
    from moss_step.study.graph import KeyRow

    row = KeyRow(step=zones, column="max", method="natural", count=10, outline="fill")
    window.work.do(window.work.study.with_key_row(row), "Key")
    settle(window)
    assert len(grading_of(window.work.picture(zones).value, row).classes) == 10
    assert len(window.plan.view.marked) == table.model.rowCount() and "mean" in table.summary.text()
    table.rows.copy()
    assert QApplication.clipboard().text().count("\n") == table.model.rowCount() - 1
    type_in(table.filter_edit, "max > nothing")
    assert "There is no surface 'nothing'" in window.plan.message.text
    type_in(table.filter_edit, "")
    middle = shapely.centroid(shapes.geometry[3])
    table.select_at(middle.x, middle.y, 1.0)
    assert table.selected.tolist() == [3]
    table.go_to()
    at = window.plan.view.camera.pixel(middle.x, middle.y)
    assert 0 < at[0] < window.plan.key.x() and window.plan.tools.geometry().bottom() < at[1], (
        "not under the Key"
    )


def test_contours_and_the_highest_found_from_the_table(estate, settle, tmp_path):
    window = estate
    window.begin_step("contours")
    fill(window, settle, "interval", 25.0)
    lines = keep(window, settle)
    shapes = window.work.outcome(lines).value
    assert shapes.columns["elevation"].max() == 550.0
    window.show_drawer("table")
    settle(window)
    window.table.rows.sortByColumn(0, Qt.SortOrder.DescendingOrder)
    window.table.select(int(np.argmax(shapes.columns["elevation"])))
    QTest.mouseClick(named(window.table, "Show the selected rows on the plan"), Qt.MouseButton.LeftButton)
    box = window.plan.view.camera.box
    bounds = shapely.bounds(shapes.geometry[int(np.argmax(shapes.columns["elevation"]))])
    assert box[0] < bounds[0] and box[3] > bounds[3]
    window.table.write(tmp_path / "lines.geojson")
    settle(window)
    assert len(read_shapes(tmp_path / "lines.geojson")) == len(shapes)


def test_millions_of_contours_are_warned_of_then_traced_when_wanted_and_can_be_stopped(estate, settle, qtbot):
    window = estate
    window.begin_step("contours")
    fill(window, settle, "interval", 0.05)
    panel = window.benches["shape"].panel
    said = panel.note.text
    assert "million points of contours, which takes long" in said and "however many" in said
    assert not panel.keep_button.isEnabled()
    named(panel, "However many").click()
    qtbot.waitUntil(lambda: window.work.busy and window.header.stop.isVisible(), timeout=60_000)
    qtbot.waitUntil(lambda: "Tracing" in texts(window.header), timeout=60_000)
    QTest.mouseClick(window.header.stop, Qt.MouseButton.LeftButton)
    settle(window)
    assert window.work.outcome("draft") is None
    fill(window, settle, "interval", 25.0)
    assert window.work.outcome("draft").value.columns["elevation"].max() == 550.0


def test_an_empty_class_is_kept_and_steals_no_colour(window, settle, tmp_path):
    from tests.conftest import write_tif

    rows, cols = np.mgrid[0:80, 0:80].astype(np.float32)
    window.files.open_path(
        write_tif(tmp_path / "gentle.tif", 500 + cols * 2 * 0.001 * cols + rows * 0.01, unit="metre")
    )
    settle(window)
    window.begin_step("slope")
    slope = keep(window, settle)
    assert values(window, slope).max() < 20
    window.begin_step("classify")
    settle(window)
    table = window.benches["classes"].panel.table
    for k, (low, high) in enumerate([("0", "5"), ("5", "10"), ("10", "20"), ("20", "")]):
        type_in(table.widgets[k].low, low)
        type_in(table.widgets[k].high, high)
    table.remove(4)
    type_in(table.widgets[3].high, "")
    classes = keep(window, settle)
    result = window.work.outcome(classes)
    assert [c.name for c in result.value.classes] == ["Level", "Gentle", "Moderate", "Steep"]
    assert "Class 'Steep' is empty." in result.warnings
    percent = values(window, slope)
    counts = [f.value for f in result.findings if f.name == "count"]
    assert counts == [
        (percent <= 5).sum(),
        ((percent > 5) & (percent <= 10)).sum(),
        ((percent > 10) & (percent <= 20)).sum(),
        0,
    ]


def test_half_a_million_rows_sort_and_filter(qapp):
    from moss_step.desk.table.model import RowsModel

    rng = np.random.default_rng(0)
    model = RowsModel()
    model.show_columns(
        {"value": rng.normal(size=500_000), "name": np.array(["a", "b"] * 250_000, object)}, {}
    )
    model.sort(0, Qt.SortOrder.DescendingOrder)
    assert (np.diff(model.columns["value"][model.order]) <= 0).all()
    assert model.filter("value > 2") == "" and model.rowCount() == (model.columns["value"] > 2).sum()
    assert (np.diff(model.columns["value"][model.order]) <= 0).all(), "the filter keeps the order"


def test_a_section_along_a_line_drawn_on_the_plan(estate, settle, tmp_path):
    """The section equals the profile that NumPy reads at the nearest cells, to within a cell's rise."""
    from PySide6.QtCore import QPoint

    from tests.desk.driving import drag, pixel

    window = estate
    window.show_drawer("section")
    settle(window)
    drag(window.plan.view, pixel(window, 412_300, 5_871_500), pixel(window, 413_600, 5_871_100))
    settle(window)
    table = window.section.chart.table
    x, y = table.columns["x"], table.columns["y"]
    heights = values(window, by_name(window, "Harrow ground"))
    nearest = heights[((5_872_000 - y) / 2).astype(int), ((x - 412_000) / 2).astype(int)]
    assert np.abs(table.columns["Ground"] - nearest).max() < 2.5
    assert table.columns["distance"][-1] == pytest.approx(np.hypot(x[-1] - x[0], y[-1] - y[0]), rel=1e-9)
    QTest.mouseMove(window.section.chart, QPoint(400, 60))
    assert "slope along the line" in window.section.said.text() and len(window.plan.view.marked) == 1
    assert "heights drawn" in window.section.said.text()
    window.section.write(tmp_path / "section.csv")
    settle(window)
    assert (tmp_path / "section.csv").read_text().startswith("distance,x,y,Ground")
    window.section.keep()
    settle(window)
    assert USUAL.figure(window.work.outcome(window.work.chosen_id).figure).endswith("m long")


def test_shapes_are_graded_by_a_column_and_lines_labelled(estate, settle):
    from moss_step.scene.grading import grading_of
    from moss_step.study.graph import KeyRow

    window = estate
    tiles = window.work.add_step(
        "tessellate", {"extent": by_name(window, "Harrow ground")}, {"spacing": 300.0}
    )
    zones = window.work.add_step(
        "zone_statistics",
        {"zones": tiles, "surface": by_name(window, "Harrow ground")},
        {"statistics": ["max"]},
    )
    settle(window)
    picture, highest = window.work.picture(zones), window.work.outcome(zones).value.columns["max"]
    for method in ("equal_interval", "equal_count", "natural", "deviation", "unique"):
        grading = grading_of(picture.value, KeyRow(step=zones, column="max", method=method, count=5))
        order = np.argsort(highest, kind="stable")
        if method != "unique":
            known = order[grading.places[order] >= 0]
            assert (np.diff(grading.places[known]) >= 0).all(), "higher ground never has a lower class"
            assert len(grading.classes) <= 5 and len({c for _, c in grading.classes}) == len(grading.classes)
    assert window.work.study.key_row(zones).column == "max", "they begin in classes of their statistic"
    press(window.plan.key, f"How {window.work.study.name_of(zones)} is drawn")
    box = named(window.plan.key, "Coloured")
    box.setCurrentIndex(box.findData(""))
    settle(window)
    plain = window.plan.view.grab().toImage()
    box = named(window.plan.key, "Coloured")
    box.setCurrentIndex(box.findData("max"))
    settle(window)
    assert window.work.study.key_row(zones).column == "max" and window.plan.view.grab().toImage() != plain
    lines = window.work.add_step("contours", {"dem": by_name(window, "Harrow ground")}, {"interval": 25.0})
    settle(window)
    without = window.plan.view.grab().toImage()
    window.work.do(window.work.study.with_key_row(KeyRow(step=lines, labels="elevation")), "Labels")
    settle(window)
    assert window.plan.view.grab().toImage() != without

"""Suitability from ranges and sectors, criteria with their better controls, and how shapes are drawn."""

import numpy as np
import pytest
import shapely
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox

from moss_step.desk.histogram import HistogramView
from moss_step.scene.grading import grading_of
from moss_step.study.graph import KeyRow
from tests.desk.driving import drag, named, press, type_in
from tests.desk.jobs import by_name, choose_input, fill, keep, values


def tick(window, step_id: str) -> None:
    name = window.work.study.name_of(step_id)
    box = next(b for b in window.benches["classes"].panel.findChildren(QCheckBox) if b.text() == name)
    box.setChecked(True)


def test_habitat_from_slope_ranges_and_aspect_sectors_where_north_wraps(estate, settle):
    """Slope 5-15, 15-25 and over 25 degrees, facing north (315 to 45) or not, as six combinations; areas by NumPy."""
    window = estate
    window.begin_step("slope")
    slope = keep(window, settle)
    window.begin_step("aspect")
    aspect = keep(window, settle)
    made = []
    for low, high in (("5", "15"), ("15", "25"), ("25", "")):
        window.begin_step("threshold")
        choose_input(window, settle, "Surface", slope)
        fill(window, settle, "above", low)
        if high:
            fill(window, settle, "at_most", high)
        made.append(keep(window, settle))
    window.begin_step("formula")
    name = next(n for n, i in window.benches["classes"].panel.further.names.items() if i == aspect)
    fill(window, settle, "expression", f"({name} > 315 or {name} <= 45) and {name} >= 0")
    north_surface = keep(window, settle)
    window.begin_step("threshold")
    choose_input(window, settle, "Surface", north_surface)
    fill(window, settle, "at_least", "1")
    north = keep(window, settle)
    steep, facing = values(window, slope), values(window, aspect)
    is_north = ((facing > 315) | (facing <= 45)) & (facing >= 0)
    for step, (low, high) in zip(made, ((5, 15), (15, 25), (25, np.inf)), strict=True):
        window.begin_step("combine")
        settle(window)
        fill(window, settle, "rule", "all")
        tick(window, step)
        tick(window, north)
        both = keep(window, settle)
        expected = (steep > low) & (steep <= high) & is_north
        result = window.work.outcome(both)
        assert np.array_equal(result.value.codes == 1, expected)
        areas = [f.value for f in result.findings if f.name == "area_m2"]
        assert areas[1] == expected.sum() * 4.0 and sum(areas) == steep.size * 4.0


def threshold_of_slope(window, settle) -> str:
    """Begin a threshold of the slope; gives the slope."""
    window.begin_step("slope")
    slope = keep(window, settle)
    window.begin_step("threshold")
    choose_input(window, settle, "Surface", slope)
    return slope


def test_the_area_that_passes_is_charted_and_a_click_sets_the_bound(estate, settle):
    window = estate
    slope = threshold_of_slope(window, settle)
    fill(window, settle, "at_least", "20")
    panel = window.benches["classes"].panel
    bounds, hectares = panel.chart.curve
    steep = values(window, slope)
    for k in (10, 100, 200):
        assert hectares[k] == pytest.approx((steep >= bounds[k]).sum() * 4 / 1e4, abs=0.02)
    assert (np.diff(hectares) <= 0).all() and panel.chart.marks == [20.0]
    fill(window, settle, "at_least", None)
    fill(window, settle, "below", "12")
    assert (np.diff(panel.chart.curve[1]) >= 0).all() and panel.chart.marks == [12.0]
    panel.chart.picked.emit(17.5)
    settle(window)
    assert window.work.draft.step.settings == {"below": 17.5}
    QTest.mouseClick(
        panel.chart.findChild(type(panel.chart.plot)).viewport(),
        Qt.MouseButton.LeftButton,
        pos=QPoint(150, 60),
    )
    settle(window)
    assert window.work.draft.step.settings["below"] != 17.5


def test_a_fault_in_a_formula_is_underlined_and_mixed_units_are_converted_by_a_button(estate, settle):
    window = estate
    ground = by_name(window, "Harrow ground")
    cm = window.work.add_step("convert_units", {"surface": ground}, {"to": "centimetre"}, name="Low ground")
    settle(window)
    window.begin_step("formula")
    settle(window)
    panel = window.benches["classes"].panel
    control = panel.form.control("expression")
    fill(window, settle, "expression", "harrow_ground > nowhere + 2")
    assert control.pointed == "nowhere" and not panel.keep_button.isEnabled()
    fill(window, settle, "expression", "harrow_ground - low_ground")
    assert control.pointed == "harrow_ground - low_ground" and "do not mix" in panel.note.text
    press(panel, panel.offer.text())
    settle(window)
    assert control.pointed == "" and "low_ground_metre" in control.value()
    made = keep(window, settle)
    assert np.abs(values(window, made)).max() < 0.01
    assert cm in [s.inputs.get("surface") for s in window.work.study.steps if s.kind == "convert_units"]


def test_rows_that_are_selected_become_a_step_and_columns_are_charted(estate, settle):
    window = estate
    ground = by_name(window, "Harrow ground")
    tiles = window.work.add_step("tessellate", {"extent": ground}, {"spacing": 400.0})
    zones = window.work.add_step(
        "zone_statistics", {"zones": tiles, "surface": ground}, {"statistics": ["max"]}
    )
    settle(window)
    window.work.choose(zones)
    window.show_drawer("table")
    settle(window)
    table = window.table
    press(table, "Keep the selected shapes as a step of their own")
    assert "Select rows" in window.plan.message.text
    type_in(table.filter_edit, "max > 540")
    table.rows.selectAll()
    press(table, "Keep the selected shapes as a step of their own")
    settle(window)
    kept = window.work.outcome(window.work.chosen_id).value
    assert len(kept) and (kept.columns["max"] > 540).all()
    assert len(kept) == (window.work.outcome(zones).value.columns["max"] > 540).sum()
    press(table, "Chart of the column, or the curves of a chart")
    settle(window)
    assert table.chart.curve[1][::2].sum() == len(kept)
    curve = window.work.add_step("hypsometry", {"dem": ground}, {})
    settle(window)
    window.work.choose(curve)
    settle(window)
    x, y = window.work.outcome(curve).value.curve("height_share")
    assert table.curves.shown == ("height_share",) and table.curves.isVisible()
    heights = values(window, ground)
    assert x[0] == 1.0 and y[-1] == 1.0
    middle = heights.min() + 0.5 * (heights.max() - heights.min())
    assert np.interp(0.5, y, x) == pytest.approx((heights > middle).mean(), abs=0.01)


def test_breaks_of_a_column_are_typed_and_dragged_on_its_histogram(estate, settle):
    window = estate
    ground = by_name(window, "Harrow ground")
    tiles = window.work.add_step("tessellate", {"extent": ground}, {"spacing": 300.0})
    zones = window.work.add_step(
        "zone_statistics", {"zones": tiles, "surface": ground}, {"statistics": ["mean"]}
    )
    settle(window)
    window.work.do(window.work.study.with_key_row(KeyRow(step=zones, column="mean", count=4)), "x")
    settle(window)
    press(window.plan.key, f"How {window.work.study.name_of(zones)} is drawn")
    settle(window)
    edit = named(window.plan.key, "Typed breaks")
    assert edit.text().count(",") == 2
    type_in(edit, "400, 430, 460")
    settle(window)
    row = window.work.study.key_row(zones)
    assert row.method == "typed" and row.breaks == (400.0, 430.0, 460.0)
    grading, mean = (
        grading_of(window.work.picture(zones).value, row),
        window.work.outcome(zones).value.columns["mean"],
    )
    assert [n.split(" – ")[1] for n, _ in grading.classes[:3]] == ["400", "430", "460"]
    for k, (low, high) in enumerate([(0, 400), (400, 430), (430, 460), (460, 9e9)]):
        assert np.array_equal(grading.places == k, (mean > low) & (mean <= high))
    view = window.plan.key.findChild(HistogramView)
    drag(view, QPoint(round(view.x_of(430.0)), 30), QPoint(round(view.x_of(440.0)), 30))
    settle(window)
    assert window.work.study.key_row(zones).breaks[1] == pytest.approx(440.0, abs=2.0)
    type_in(named(window.plan.key, "Typed breaks"), "low, high")
    assert "cannot be read as breaks" in window.plan.message.text


def test_points_and_areas_take_marks_sizes_and_labels(estate, settle):
    window = estate
    from moss_step.demo import DATA

    window.files.open_path(DATA / "harrow_places.gpkg")
    settle(window)
    places, bogs = by_name(window, "Harrow places"), by_name(window, "Harrow bogs")
    looks = []
    for row in (
        KeyRow(step=places), KeyRow(step=places, mark="square", size=18), KeyRow(step=places, mark="triangle", size=18),
        KeyRow(step=places, column="name", method="unique"), KeyRow(step=bogs, labels="name"),
    ):  # fmt: skip
        window.work.do(window.work.study.with_key_row(row), "x")
        settle(window)
        looks.append(window.plan.view.grab().toImage())
    assert all(a != b for k, a in enumerate(looks) for b in looks[:k])


def test_areas_of_classes_per_zone_add_up(estate, settle):
    window = estate
    ground = by_name(window, "Harrow ground")
    tint = window.work.add_step("relief_tint", {"dem": ground}, {"interval": 50.0})
    zones = window.work.add_step(
        "zone_classes", {"zones": by_name(window, "Harrow bogs"), "classes": tint}, {}
    )
    settle(window)
    made, heights = window.work.outcome(zones).value, values(window, ground)
    r, c = np.mgrid[0:1000, 0:1000]
    columns = [n for n in made.columns if n.endswith("_m2") and n != "area_m2"]
    for k, bog in enumerate(made.geometry):
        x, y = 412_000 + (c + 0.5) * 2, 5_872_000 - (r + 0.5) * 2
        inside, touched = shapely.contains_xy(bog, x, y), shapely.intersects_xy(bog, x, y)
        for name in columns:  # centres that lie on the outline itself may go either way
            band = np.floor(heights / 50.0) == float(name.split("_")[1]) / 50.0
            assert (band & inside).sum() * 4.0 <= made.columns[name][k] <= (band & touched).sum() * 4.0


def test_the_curve_follows_the_pointer_on_the_histogram_and_is_kept(estate, settle):
    """What is said at the pointer is what NumPy counts; the curve that is kept is the one that was seen."""
    window = estate
    slope = threshold_of_slope(window, settle)
    panel = window.benches["classes"].panel
    steep = values(window, slope)
    histogram = panel.histogram
    QTest.mouseMove(histogram, QPoint(round(histogram.x_of(25.0)), 40))
    settle(window)
    at = histogram.value_at(round(histogram.x_of(25.0)))
    assert panel.chart.at == pytest.approx(at)
    share = float((steep >= at).mean() * 100.0)
    said = panel.said.text()
    assert said.startswith(f"{at:.1f}°: ") and said.endswith(" %")
    assert float(said.split(", ")[1].removesuffix(" %")) == pytest.approx(share, abs=0.3)
    panel.what.setCurrentIndex(panel.what.findData("share"))
    panel.what.activated.emit(panel.what.currentIndex())
    settle(window)
    assert panel.chart.across == "at least, °; % that pass" and panel.chart.curve[1][0] == pytest.approx(
        100.0
    )
    panel.what.setCurrentIndex(panel.what.findData("volume_m3"))
    panel.what.activated.emit(panel.what.currentIndex())
    settle(window)
    assert panel.chart.curve[0].size == 0, "degrees have no volume"
    press(panel, "Keep the curve as a step")
    settle(window)
    kept = next(s for s in window.work.study.steps if s.kind == "threshold_curve")
    assert kept.inputs == {"surface": slope} and window.work.draft is not None, (
        "the bound is still being made"
    )
    chart = window.work.outcome(kept.id).value
    assert chart.columns["area_m2"][0] == pytest.approx(steep.size * 4.0)


def test_a_drawn_chart_is_handed_on_as_numbers_picture_and_lines(demo, settle, tmp_path):
    demo.show_drawer("section")
    xmin, ymin, *_ = demo.work.frame.box
    demo.section.show_line((xmin + 100, ymin + 100, xmin + 1100, ymin + 100), demo.plan.view.scene)
    settle(demo)
    demo.section.chart.repaint()
    settle(demo)
    for name, head in (("a.csv", b"distance,x,y,Ground"), ("a.png", b"\x89PNG"), ("a.svg", b"<?xml")):
        demo.section.write(tmp_path / name)
        settle(demo)
        assert (tmp_path / name).read_bytes()[:40].lstrip().startswith(head), name


def test_the_histogram_is_handed_on_with_every_cell_and_its_counts_can_be_logarithmic(
    estate, settle, tmp_path
):
    """The counts that are written add up to the cells; a bar of few cells is taller on a logarithmic axis."""
    window = estate
    slope = threshold_of_slope(window, settle)
    histogram = window.benches["classes"].panel.histogram
    steep = values(window, slope)
    log, hand_on = histogram.menu().actions()
    assert log.isCheckable() and hand_on.isEnabled()
    plain = histogram.image()
    log.setChecked(True)
    assert histogram.is_log
    low, high = (_ink(histogram, image) for image in (plain, histogram.image()))
    assert high > low * 1.2, (low, high)
    curve = window.benches["classes"].panel.chart
    assert curve.menu().actions()[0].isEnabled()
    curve.write(tmp_path / "c.csv")
    settle(window)
    head, *_ = (tmp_path / "c.csv").read_text().splitlines()
    written = np.loadtxt(tmp_path / "c.csv", delimiter=",", skiprows=1)
    at, area = (written[:, head.split(",").index(n)] for n in ("threshold", "area_m2"))
    np.testing.assert_allclose(at, curve.curve[0], rtol=1e-9)
    below = [(steep >= t).sum() * 4.0 for t in at[:5]]
    np.testing.assert_allclose(area[:5], below, rtol=2e-3)
    for name, head in (("h.csv", b"from,to,count"), ("h.png", b"\x89PNG"), ("h.svg", b"<?xml")):
        histogram.write(tmp_path / name)
        settle(window)
        assert (tmp_path / name).read_bytes()[:40].lstrip().startswith(head), name
    rows = np.loadtxt(tmp_path / "h.csv", delimiter=",", skiprows=1)
    counts, _ = np.histogram(steep, bins=np.append(rows[:, 0], rows[-1, 1]))
    assert rows[:, 2].sum() == np.isfinite(steep).sum() == steep.size
    assert np.abs(rows[:, 2] - counts).sum() <= 4, "cells on an edge may fall either way"
    assert (tmp_path / "h.svg").read_text().count("<rect") > 50, "bars stay shapes"


def _ink(histogram, image) -> int:
    """Columns times rows that are not background, in the part of the bars."""
    ground = image.pixelColor(2, 2)
    return sum(
        image.pixelColor(x, y) != ground
        for x in range(20, image.width() - 20, 4)
        for y in range(30, image.height() - 44, 4)
    )

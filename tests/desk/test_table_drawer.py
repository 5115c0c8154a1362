"""The table under the plan: sorting, filtering, selecting from both sides, sums, zooming, copying and handing on; labels on the plan."""

import csv

import numpy as np
import pytest
import shapely
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QImage, QPainter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from moss_step.desk.plan.lettering import Room, write_names
from moss_step.formats.vector import read_shapes, write_shapes
from moss_step.model.shapes import Shapes
from moss_step.study.graph import KeyRow
from tests.desk.driving import LEFT, named, pixel, press, type_in
from tests.desk.jobs import by_name, keep

UTM = "EPSG:32628"


@pytest.fixture
def fields(estate, settle, tmp_path):
    """Sixteen square fields over the estate, with their table open."""
    corners = [(412_200.0 + 400 * c, 5_870_200.0 + 400 * r) for r in range(4) for c in range(4)]
    areas = np.array([shapely.box(x, y, x + 380, y + 380) for x, y in corners], object)
    columns = {
        "name": np.array([f"Field {k:02d}" for k in range(16)], object),
        "sheep": np.arange(16.0) * 3 % 17,
        "grade": np.arange(16) % 4,
    }
    write_shapes(tmp_path / "fields.gpkg", Shapes(areas, columns, UTM))
    estate.files.open_path(tmp_path / "fields.gpkg")
    settle(estate)
    estate.work.choose(by_name(estate, "Fields"))
    settle(estate)
    estate.show_drawer("table")
    settle(estate)
    return estate


def column_of(window, name: str) -> int:
    model = window.table.model
    return next(k for k in range(model.columnCount()) if model.column_name(k) == name)


def shown(window, name: str) -> list[str]:
    model, column = window.table.model, column_of(window, name)
    return [str(model.index(r, column).data()) for r in range(model.rowCount())]


def test_rows_are_sorted_up_and_down_by_a_click_on_their_head(fields, settle):
    window = fields
    header, column = window.table.rows.horizontalHeader(), column_of(window, "sheep")
    for _ in range(2):
        at = header.sectionViewportPosition(column) + 8
        QTest.mouseClick(
            header.viewport(),
            LEFT,
            pos=header.viewport().rect().topLeft() + type(header.viewport().rect().topLeft())(at, 8),
        )
        settle(window)
        found = [float(v.replace(" ", "")) for v in shown(window, "sheep")]
        assert found in (sorted(found), sorted(found, reverse=True)) and len(found) == 16


def test_a_filter_leaves_the_rows_that_meet_it_and_says_how_many(fields, settle):
    window = fields
    type_in(named(window.table, "Filter rows"), "sheep > 10")
    settle(window)
    expected = int((np.arange(16.0) * 3 % 17 > 10).sum())
    assert len(shown(window, "sheep")) == expected and f"{expected} of 16 rows" in window.table.summary.text()


def test_sum_and_mean_of_the_selection_are_in_view(fields, settle):
    window = fields
    column = column_of(window, "sheep")
    for k in (2, 5):
        mode = Qt.KeyboardModifier.NoModifier if k == 2 else Qt.KeyboardModifier.ControlModifier
        rect = window.table.rows.visualRect(window.table.model.index(k, column))
        QTest.mouseClick(window.table.rows.viewport(), LEFT, mode, rect.center())
    settle(window)
    chosen = np.arange(16.0)[window.table.selected] * 3 % 17
    assert len(chosen) == 2
    said = window.table.summary.text()
    assert "2 selected" in said and f"sum {chosen.sum():g}" in said and f"mean {chosen.mean():g}"[:7] in said


def test_a_click_on_the_plan_selects_the_row_and_a_row_marks_the_plan(fields, settle):
    window = fields
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, 412_800.0, 5_870_800.0))
    settle(window)
    assert window.table.selected.tolist() == [5] and len(window.plan.view.marked) == 1
    window.table.select(0)
    settle(window)
    assert window.plan.view.marked[0].boundingRect().left() == pytest.approx(412_200.0, abs=400)


def test_the_plan_goes_to_the_rows_that_are_selected(fields, settle):
    window = fields
    window.table.select(15)
    press(window.table, "Show the selected rows on the plan")
    settle(window)
    chosen = shapely.box(*window.plan.view.camera.box)
    field = read_shapes_of(window).geometry[int(window.table.selected[0])]
    assert chosen.contains(field) and field.area / chosen.area > 0.05, "it is in view, and large"


def read_shapes_of(window) -> Shapes:
    return window.work.outcome(by_name(window, "Fields")).value


def test_rows_are_copied_with_tabs_and_handed_on_in_three_formats(fields, settle, tmp_path):
    window = fields
    window.table.select(3)
    window.table.rows.copy()
    cells = QApplication.clipboard().text().split("\t")
    assert "Field 03" in cells and len(cells) == window.table.model.columnCount()
    for ending in ("gpkg", "geojson"):
        window.table.write(tmp_path / f"out.{ending}")
        settle(window)
        assert read_shapes(tmp_path / f"out.{ending}").columns["name"].tolist() == [
            f"Field {k:02d}" for k in range(16)
        ]
    window.table.write(tmp_path / "out.csv")
    settle(window)
    rows = list(csv.DictReader((tmp_path / "out.csv").open()))
    assert [float(r["sheep"]) for r in rows] == (np.arange(16.0) * 3 % 17).tolist()


def test_patches_are_selected_from_the_table_and_from_the_plan(estate, settle):
    """Connected ground over 480 m: a click in the largest patch selects its row, and its figures stand in it."""
    window = estate
    work = window.work
    high = work.add_step("threshold", {"surface": by_name(window, "Harrow ground")}, {"at_least": 480.0})
    settle(window)
    made = work.add_step(
        "patches", {"classes": high, "surface": by_name(window, "Harrow ground")}, {"least_cells": 200}
    )
    settle(window)
    work.choose(made)
    window.show_drawer("table")
    settle(window)
    shapes = work.outcome(made).value
    largest = int(np.argmax(shapes.columns["area_m2"]))
    inside = shapes.geometry[largest].representative_point()
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, inside.x, inside.y))
    settle(window)
    assert window.table.selected.tolist() == [largest] and shapes.columns["highest"][largest] >= 480.0


def test_nothing_selected_is_told_and_makes_no_step(fields, settle):
    window = fields
    window.table.rows.clearSelection()
    before = len(window.work.study.steps)
    window.table.keep_selected()
    settle(window)
    assert len(window.work.study.steps) == before


@pytest.mark.parametrize("interval", [5.0, 20.0])
def test_labels_of_contours_are_upright_follow_their_lines_and_never_meet(
    estate, settle, interval, monkeypatch
):
    """The places taken by labels do not cut one another; each is turned by at most a quarter; each lies on its line."""
    window = estate
    lines = window.work.add_step(
        "contours", {"dem": by_name(window, "Harrow ground")}, {"interval": interval}
    )
    settle(window)
    window.work.do(
        window.work.study.model_copy(
            update={"key": (KeyRow(step=lines, labels="elevation", column="elevation"),)}
        ),
        "Key",
    )
    settle(window)
    view = window.plan.view
    layer = next(la for la in view.scene.layers if la.step == lines)
    turned, room = [], Room(view.width(), view.height())
    plain = QPainter.rotate

    def watched(painter, angle):
        turned.append(angle)
        return plain(painter, angle)

    image = QImage(view.width(), view.height(), QImage.Format.Format_RGB32)
    painter = QPainter(image)
    monkeypatch.setattr(QPainter, "rotate", watched, raising=False)
    write_names(painter, layer, view.camera, room)
    monkeypatch.undo()
    painter.end()
    taken = room.taken
    assert len(taken) >= 5
    assert not any(a.intersects(b) for k, a in enumerate(taken) for b in taken[:k])
    assert all(-90.0 <= angle <= 90.0 for angle in turned)
    geometry = window.work.outcome(lines).value.geometry
    near = shapely.STRtree(geometry)
    for box in taken:
        middle = shapely.Point(view.camera.world(box.center().x(), box.center().y()))
        assert geometry[near.nearest(middle)].distance(middle) * view.camera.scale < 6.0
    window_box = QRectF(0, 0, view.width(), view.height())
    assert all(window_box.contains(box) for box in taken)


def test_hypsometry_of_an_area_is_that_of_the_cells_in_it(estate, settle):
    window = estate
    window.begin_step("hypsometry")
    settle(window)
    box = named(window.benches["shape"], "Areas")
    box.setCurrentIndex(box.findData(by_name(window, "Harrow boundary")))
    settle(window)
    made = keep(window, settle)
    found = {f.name: f.value for f in window.work.outcome(made).findings}
    ground = window.work.outcome(by_name(window, "Harrow ground")).value
    boundary = window.work.outcome(by_name(window, "Harrow boundary")).value.geometry[0]
    r, c = np.mgrid[0:1000, 0:1000]
    held = ground.values[
        shapely.contains_xy(boundary, 412_000 + (c + 0.5) * 2, 5_872_000 - (r + 0.5) * 2)
    ].astype(np.float64)
    assert found["integral"] == pytest.approx(
        (held.mean() - held.min()) / (held.max() - held.min()), abs=1e-3
    )


def test_zones_of_another_system_are_carried_over_and_it_is_said(estate, settle, tmp_path):
    window = estate
    boundary = window.work.outcome(by_name(window, "Harrow boundary")).value
    write_shapes(tmp_path / "degrees.geojson", boundary)
    window.files.open_path(tmp_path / "degrees.geojson")
    settle(window)
    ground = by_name(window, "Harrow ground")
    here = window.work.add_step(
        "zone_statistics",
        {"zones": by_name(window, "Harrow boundary"), "surface": ground},
        {"statistics": ["mean", "count"]},
    )
    there = window.work.add_step(
        "zone_statistics",
        {"zones": by_name(window, "Degrees"), "surface": ground},
        {"statistics": ["mean", "count"]},
    )
    settle(window)
    one, other = window.work.outcome(here), window.work.outcome(there)
    column = next(n for n in one.value.columns if "mean" in n)
    assert other.value.columns[column][0] == pytest.approx(one.value.columns[column][0], abs=0.05)
    assert any("carried over" in w for w in other.warnings) and not any(
        "carried over" in w for w in one.warnings
    )

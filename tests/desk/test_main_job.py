"""The main job in the real window: a grid in, slope classes with areas out, saved, handed on and rerun."""

import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import rasterio
from matplotlib.cbook import get_sample_data
from pyproj import Geod
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox
from rasterio.transform import from_origin

from moss_step.cli import main
from tests.desk.driving import drag, named, press, texts, type_in


def drop(window, path: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    copy, left, none = Qt.DropAction.CopyAction, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    QApplication.sendEvent(window, QDragEnterEvent(QPoint(600, 300), copy, data, left, none))
    QApplication.sendEvent(window, QDropEvent(QPointF(600, 300), copy, data, left, none))


def choose_preset(panel, text: str) -> None:
    box = named(panel, "Ready set of classes", QComboBox)
    box.setCurrentIndex(box.findText(text))
    box.activated.emit(box.currentIndex())


def areas(panel) -> dict[str, str]:
    return {w.row.name: w.area.text() for w in panel.table.widgets}


def test_from_grid_to_class_areas_and_back(window, settle, tmp_path, hills_tif, hills):
    drop(window, hills_tif)
    settle(window)
    assert "Nothing suspicious." in texts(window.benches["gather"])
    assert ("Cell", "2 × 2 m") in window.benches["gather"].panel.facts.rows
    QTest.mouseClick(window.header.benches["shape"], Qt.MouseButton.LeftButton)
    press(window.benches["shape"], "Step: Slope")
    settle(window)
    press(window.benches["shape"], "Unit: Percent")
    settle(window)
    assert window.work.draft is not None, "the plan shows it before it is kept"
    press(window.benches["shape"], "Keep this step")
    settle(window)
    slope = window.work.chosen_id
    assert window.work.study.name_of(slope) == "Slope, percent, of Hills"

    QTest.mouseClick(window.header.benches["classes"], Qt.MouseButton.LeftButton)
    press(window.benches["classes"], "Step: Classes")
    settle(window)
    panel = window.benches["classes"].panel
    choose_preset(panel, "FAO slope classes")
    settle(window)
    percent = window.work.outcome(slope).value.values
    steep = float(((percent > 30) & (percent <= 60)).sum()) * 4 / 10_000
    assert areas(panel)["Steep"] == f"{steep:.1f}"
    assert "No gaps and no overlaps." in panel.note.text
    press(window.benches["classes"], "Keep this step")
    settle(window)
    classes = window.work.chosen_id
    assert set(window.trail.cards) == {"open_grid-1", slope, classes}
    assert "3 steps · all up to date" in window.trail.summary()

    assert window.files.save_to(tmp_path / "hills.moss")
    assert not window.work.unsaved
    QTest.mouseClick(window.header.benches["sheet"], Qt.MouseButton.LeftButton)
    sheet = window.benches["sheet"]
    assert sheet.ref == classes
    for ending in (".tif", ".csv"):
        sheet.write(tmp_path / f"classes{ending}")
        settle(window)
    sheet.write_record(tmp_path / "lineage.txt")
    settle(window)
    sheet.write_picture(tmp_path / "plan.png")
    settle(window)
    assert "Written:" in window.plan.message.text
    assert (tmp_path / "plan.png").read_bytes().startswith(b"\x89PNG")
    assert "FAO" not in (tmp_path / "lineage.txt").read_text().split("Ranges")[0]

    assert main(["run", str(tmp_path / "hills.moss"), "-o", str(tmp_path / "again")]) == 0
    again = next((tmp_path / "again").glob(f"{classes}*.tif"))
    with rasterio.open(again) as one, rasterio.open(tmp_path / "classes.tif") as other:
        assert np.array_equal(one.read(1), other.read(1))


def test_the_real_grid_in_degrees(window, settle, tmp_path):
    """matplotlib's sample grid: FAO areas add up to the ellipsoidal area (pyproj.Geod) within 0.1 %."""
    with get_sample_data("jacksboro_fault_dem.npz") as data:
        z = data["elevation"]
        xmin, ymax = float(data["xmin"]), float(data["ymax"])
        dx, dy = float(data["dx"]), float(data["dy"])
    path = tmp_path / "jacksboro.tif"
    with rasterio.open(path, "w", driver="GTiff", height=z.shape[0], width=z.shape[1], count=1, dtype=z.dtype,
                       crs="EPSG:4326", transform=from_origin(xmin, ymax, dx, dy)) as file:  # fmt: skip
        file.write(z, 1)
    window.files.open_path(path)
    settle(window)
    said = window.benches["gather"].panel.note.text
    assert "Coordinates are degrees" in said and "height unit is not stated" in said
    window.benches["gather"].panel.form.control("unit").set_value("metre")
    window.benches["gather"].panel.update_draft()
    settle(window)
    press(window.benches["gather"], "Apply the change")
    settle(window)
    assert "height unit" not in window.benches["gather"].panel.note.text
    window.begin_step("slope")
    settle(window)
    press(window.benches["shape"], "Keep this step")
    settle(window)
    window.begin_step("classify")
    settle(window)
    choose_preset(window.benches["classes"].panel, "FAO slope classes")
    settle(window)
    press(window.benches["classes"], "Keep this step")
    settle(window)
    outcome = window.work.outcome(window.work.chosen_id)
    total = sum(f.value for f in outcome.findings if f.name == "area_m2")
    lons = np.linspace(xmin, xmin + dx * z.shape[1], 300)
    ring_x, ring_y = np.r_[lons, lons[::-1]], np.r_[np.full(300, ymax - dy * z.shape[0]), np.full(300, ymax)]
    area, _ = Geod(ellps="WGS84").polygon_area_perimeter(ring_x, ring_y)
    assert total == pytest.approx(abs(area), rel=1e-3)


def test_dragging_a_bound_moves_areas_and_plan(window, settle):
    window.files.open_demo()
    settle(window)
    panel = window.benches["classes"].panel
    before, picture = areas(panel), window.plan.view.grab().toImage()
    chart = panel.histogram
    start = QPoint(round(chart.x_of(15.0)), 9)
    drag(chart, start, QPoint(round(chart.x_of(22.0)), 9))
    settle(window)
    bound = panel.table.widgets[1].high.text()
    assert abs(float(bound) - 22.0) < 0.3 and panel.table.widgets[2].low.text() == bound
    after = areas(panel)
    assert float(after["Gentle"].split()[0]) > float(before["Gentle"].split()[0]) + 10
    assert after["Steep"] == before["Steep"]
    assert window.plan.view.grab().toImage() != picture
    press(window.benches["classes"], "Apply the change")
    settle(window)
    assert window.work.outcome("classes").findings[4].value == pytest.approx(
        float(after["Gentle"].split()[0]) * 1e4, abs=500
    )
    window.work.undo()
    settle(window)
    assert areas(window.benches["classes"].panel) == before


def test_gaps_overlaps_and_empty_classes_are_named_while_typing(window, settle):
    window.files.open_demo()
    settle(window)
    panel = window.benches["classes"].panel
    type_in(panel.table.widgets[1].high, "12")
    settle(window)
    assert "No class holds values between 12 and 15." in panel.note.text
    press(window.benches["classes"], "Close gaps")
    settle(window)
    assert "No gaps and no overlaps." in panel.note.text and panel.table.widgets[2].low.text() == "12"
    type_in(panel.table.widgets[2].high, "35")
    settle(window)
    assert (
        "'Moderate' and 'Steep' both hold values between 30 and 35; 'Moderate' takes them." in panel.note.text
    )
    type_in(panel.table.widgets[2].high, "30")
    type_in(panel.table.widgets[4].low, "80")
    type_in(panel.table.widgets[3].high, "80")
    settle(window)
    assert "Class 'Very steep' is empty." in panel.note.text
    type_in(panel.table.widgets[0].low, "abc")
    assert panel.table.widgets[0].low.property("wrong")


def test_rules_go_through_a_file_and_the_included_end_is_switched(window, settle, tmp_path):
    window.files.open_demo()
    settle(window)
    panel = window.benches["classes"].panel
    panel.save_file(tmp_path / "r.csv")
    choose_preset(panel, "Equal interval")
    settle(window)
    assert [w.row.name for w in panel.table.widgets][:2] == ["Class 1", "Class 2"]
    panel.load_file(tmp_path / "r.csv")
    settle(window)
    assert [w.row.name for w in panel.table.widgets] == ["Level", "Gentle", "Moderate", "Steep", "Very steep"]
    press(window.benches["classes"], "Included end: [a, b)")
    settle(window)
    assert "Lower bound belongs" in panel.end_text.text()
    found = {}
    for key, head in (
        ("m2", "m²"),
        ("km2", "km²"),
        ("acre", "acres"),
        ("share", "% of cells"),
        ("cells", "cells"),
    ):
        panel.measure.setCurrentIndex(panel.measure.findData(key))
        found[key] = float(areas(panel)["Gentle"].replace(" ", ""))
        assert panel.table._area_title.text() == head
    assert found["m2"] == pytest.approx(found["km2"] * 1e6, abs=1e3)
    assert found["acre"] == pytest.approx(found["m2"] / 4046.8564224, abs=0.06)
    assert found["cells"] == pytest.approx(found["m2"] / 4.0, abs=1)
    (tmp_path / "bad.csv").write_text("a,b\n1,2\n")
    panel.load_file(tmp_path / "bad.csv")
    assert "has no column from, to, class" in window.plan.message.text


@pytest.mark.display
def test_the_main_job_on_a_virtual_x_display(tmp_path):
    """The same window under a real X server: Xvfb."""
    reading, writing = os.pipe()
    with subprocess.Popen(["Xvfb", "-displayfd", str(writing), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
                          pass_fds=[writing], stderr=subprocess.DEVNULL) as server:  # fmt: skip
        try:
            os.close(writing)
            number = os.read(reading, 16).decode().strip()
            env = {
                **os.environ,
                "DISPLAY": f":{number}",
                "QT_QPA_PLATFORM": "xcb",
                "XDG_STATE_HOME": str(tmp_path),
            }
            test = "tests/desk/test_main_job.py::test_from_grid_to_class_areas_and_back"
            ran = subprocess.run([sys.executable, "-m", "pytest", test, "-q", "-p", "no:cacheprovider"],
                                 env=env, capture_output=True, text=True, timeout=900, check=False)  # fmt: skip
        finally:
            os.close(reading)
            server.terminate()
    assert "1 passed" in ran.stdout, ran.stdout[-2000:] + ran.stderr[-500:]


def test_the_demo_is_true_to_its_truth(window, settle):
    from moss_step.demo import DATA

    window.files.open_demo()
    settle(window)
    truth = json.loads((DATA / "harrow_truth.json").read_text())
    found = {f.name: f.value for f in window.work.outcome("ground").findings}
    assert found["lowest"] == pytest.approx(truth["lowest_m"], abs=0.005)
    assert found["highest"] == pytest.approx(truth["highest_m"], abs=0.005)
    assert found["mean"] == pytest.approx(truth["mean_m"], abs=0.001)

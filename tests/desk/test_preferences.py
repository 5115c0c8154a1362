"""Preferences: what is chosen holds, is kept, and a dark window keeps its contrasts."""

import json
import os
import re
from pathlib import Path

import pytest
import shapely
from distributed import LocalCluster
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor

from moss_step.desk import theme
from moss_step.desk.app import SCALE, scale_text
from moss_step.desk.preferences import Preferences, keep, load, preferences_file
from moss_step.desk.tones import darken, tone
from moss_step.desk.workers import CLUSTER
from moss_step.formats.whole import passing_folder
from moss_step.model import mapped
from moss_step.model.errors import MossError
from moss_step.scene import colors
from moss_step.scene.ramps import ramp
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.saving import load_study


def choose(window, name, value):
    """Choose an entry of the sheet as a person does."""
    box = window.preferences.boxes[name]
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


def card(window, step):
    return window.trail.cards[step].figure()


def test_one_choice_of_units_goes_through_the_window_and_can_be_undone(demo, settle, qtbot):
    window = demo
    area = window.work.add_step("polygonize", {"classes": "classes"}, {})
    settle(window)
    window.work.choose(area)
    window.show_drawer("table")
    settle(window)
    before = card(window, "ground"), window.table.model.headerData(1, Qt.Orientation.Horizontal)
    qtbot.keyClick(window, Qt.Key.Key_Comma, Qt.KeyboardModifier.ControlModifier)
    assert window.preferences.isVisible()
    choose(window, "length_unit", "foot")
    choose(window, "area_unit", "acre")
    settle(window)
    column = next(
        k for k in range(window.table.model.columnCount()) if window.table.model.column_name(k) == "area_m2"
    )
    head = window.table.model.headerData(column, Qt.Orientation.Horizontal)
    assert head == "Area, acres"
    square_metres = window.table.model.columns["area_m2"][window.table.model.order[0]]
    shown = float(window.table.model.data(window.table.model.index(0, column)).replace(" ", ""))
    assert shown == pytest.approx(square_metres / 4046.8564224, abs=1e-4)
    xmin, ymin, xmax, ymax = window.work.outcome("ground").value.frame.box
    window.plan.read(((xmin + xmax) / 2, (ymin + ymax) / 2))
    assert any(r.text.endswith(" ft") for r in window.plan.reading.rows)
    assert window.plan.view.scene.telling == window.work.study.telling
    window.work.undo()
    window.work.undo()
    settle(window)
    assert (card(window, "ground"), window.table.model.headerData(1, Qt.Orientation.Horizontal)) == before


def test_units_are_kept_with_the_study(demo, settle, tmp_path):
    choose(demo, "area_unit", "km2")
    demo.work.save(tmp_path / "a.moss")
    settle(demo)
    assert load_study(tmp_path / "a.moss").area_unit == "km2"


def test_what_is_preferred_holds_at_once_and_is_kept(window, settle):
    choose(window, "gigabytes", 2.0)
    choose(window, "copy_after", 30.0)
    choose(window, "class_ramp", "heath")
    settle(window)
    assert window.work.engine.store.budget == 2_000_000_000
    assert window.work.copies.timer.interval() == 30_000
    assert load() == Preferences(gigabytes=2.0, copy_after=30.0, class_ramp="heath")
    assert json.loads(preferences_file().read_text())["gigabytes"] == 2.0


@pytest.mark.parametrize(
    "text", ["", "{", '{"text": 900}', '{"gigabytes": -1}', '{"gigabytes": NaN}', "[1]", "\0"]
)
def test_preferences_that_cannot_be_used_are_told_of(tmp_path, text):
    file = tmp_path / "p.json"
    file.write_text(text)
    with pytest.raises(MossError, match="cannot be used"):
        load(file)


def test_a_place_that_cannot_be_written_is_told_of(tmp_path):
    (tmp_path / "a").write_text("a file where the folder should be")
    with pytest.raises(MossError):
        keep(Preferences(), tmp_path / "a" / "p.json")
    assert load(tmp_path / "none.json") == Preferences()


def test_text_grows_with_all_that_holds_it(monkeypatch):
    monkeypatch.delenv(SCALE, raising=False)
    scale_text(100)
    assert SCALE not in os.environ
    scale_text(150)
    assert os.environ[SCALE] == "1.5"
    scale_text(200)
    assert os.environ[SCALE] == "3", "what the machine asks for already counts too"
    monkeypatch.delenv(SCALE)


def test_a_ready_set_takes_the_ramp_that_is_preferred(demo, settle):
    window = demo
    choose(window, "class_ramp", "heath")
    window.begin_step("classify")
    settle(window)
    panel = window.benches["classes"].panel
    panel.use_preset("equal_interval")
    settle(window)
    r, g, b = ramp("heath")[0]
    assert panel.table.rows[0].color == f"#{r:02X}{g:02X}{b:02X}"


def luminance(color):
    """Relative luminance, WCAG 2.1 (W3C Recommendation 2018), from memory of its formula."""
    parts = [v / 255.0 for v in QColor(color).getRgb()[:3]]
    linear = [v / 12.92 if v <= 0.03928 else ((v + 0.055) / 1.055) ** 2.4 for v in parts]
    return sum(w * v for w, v in zip((0.2126, 0.7152, 0.0722), linear, strict=True))


def contrast(a, b):
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.fixture(params=[False, True], ids=["light", "dark"])
def by_day_and_night(request, qapp):
    darken(request.param)
    yield request.param
    darken(False)


def test_text_stands_out_from_what_it_lies_on(by_day_and_night):
    """4.5 : 1 for text (WCAG 2.1, 1.4.3), 3 : 1 for marks and edges that carry meaning (1.4.11)."""
    grounds = [tone(c) for c in (colors.PAPER, colors.CARD, colors.TRAIL, colors.WASH)]
    assert all(contrast(tone(colors.INK), g) >= 7.0 for g in grounds)
    assert all(contrast(tone(colors.MUTED), g) >= 4.5 for g in grounds)
    for color in (colors.OCHRE, colors.MOSS, colors.WATER, colors.VIOLET, colors.DEEP):
        assert contrast(tone(color), tone(colors.CARD)) >= 4.5, color
    assert contrast(tone(colors.INK), tone(colors.PICKED)) >= 4.5
    assert contrast("#FFFFFF", colors.MOSS) >= 4.5 and contrast(colors.INK, colors.LICHEN) >= 4.5


def test_the_style_of_the_window_follows_its_colours(by_day_and_night):
    style = theme._style()
    assert ("#282D25" in style) == by_day_and_night
    assert not re.search(r"\$\w", style), "every name of the style sheet was filled in"


def test_workers_are_preferred_and_say_what_they_do(window, settle, qtbot):
    sheet = window.preferences
    sheet.open()
    assert "this program works on all cores itself" in sheet.workers.text()
    assert not sheet.scheduler.isEnabled() and not sheet.look.isEnabled()
    choose(window, "workers", 2)
    assert "They start when a large step begins" in sheet.workers.text()
    choose(window, "workers", CLUSTER)
    assert sheet.scheduler.isEnabled() and sheet.workers.text() == "Give the address."
    sheet.scheduler.setText("tcp://127.0.0.1:9")
    sheet.scheduler.editingFinished.emit()
    assert window.work.preferences.scheduler == "tcp://127.0.0.1:9"
    qtbot.mouseClick(sheet.look, Qt.MouseButton.LeftButton)
    assert sheet.workers.text() == "They are being asked."
    qtbot.waitUntil(lambda: "No scheduler answers" in sheet.workers.text(), timeout=60_000)
    assert "--scheduler" not in sheet.workers.text()
    choose(window, "workers", 0)
    assert "No scheduler" not in sheet.workers.text()


def test_a_cluster_that_runs_says_who_its_workers_are(window, settle, qtbot, tmp_path):
    sheet = window.preferences
    with LocalCluster(
        n_workers=1, threads_per_worker=1, processes=False, dashboard_address=None, host="127.0.0.1",
        protocol="tcp://",
    ) as cluster:  # fmt: skip
        window.work.prefer(workers=CLUSTER, scheduler=cluster.scheduler_address, shared=str(tmp_path))
        sheet.open()
        qtbot.mouseClick(sheet.look, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: "1 worker, at most" in sheet.workers.text(), timeout=60_000)
        window.work.prefer(shared=str(tmp_path / "none"))
        qtbot.mouseClick(sheet.look, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: "does not see" in sheet.workers.text(), timeout=60_000)


def test_a_large_step_runs_with_the_workers_that_are_preferred(
    window, settle, monkeypatch, tmp_path, hills_tif
):
    """The state says so while they work, and the result is that of one piece."""
    plain = Engine()
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(hills_tif)}),
            Step(id="basins", kind="basins", inputs={"dem": "ground"}),
        )
    )
    expected = plain.run_or_raise(study, "basins").value
    monkeypatch.setattr(mapped, "LARGE", 100)
    said = []
    window.work.prefer(workers=1)
    window.work.workers.changed.connect(lambda: said.append(window.work.workers.state))
    window.work.do(study, "Take a study")
    settle(window)
    outcome = window.work.outcome("basins")
    assert outcome is not None, window.work.reason("basins")
    assert shapely.equals_exact(outcome.value.geometry, expected.geometry, 1e-9).all()
    assert "They are being started." in said and any("1 worker, at most" in s for s in said)
    assert "They start when" in window.work.workers.state


def test_what_is_typed_for_a_cluster_stays_within_what_is_kept(window, settle, qtbot, tmp_path):
    """Names that are too long cannot be typed, and a folder that is not there is told of."""
    sheet = window.preferences
    window.work.prefer(workers=CLUSTER)
    sheet.open()
    sheet.scheduler.setText("tcp://" + "a" * 5000)
    sheet.scheduler.editingFinished.emit()
    assert len(window.work.preferences.scheduler) == 300
    sheet.shared.setText("~/moss")
    sheet.shared.editingFinished.emit()
    assert window.work.workers.place() == Path.home() / "moss"
    window.work.prefer(shared=str(tmp_path / "none"))
    with pytest.raises(MossError, match="none"), passing_folder(window.work.workers.place()):
        pass

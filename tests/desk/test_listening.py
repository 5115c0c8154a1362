"""Hearing a sounder in the real window: the way and its depths while they come, gaps, the next line, stop and keep, a kill."""

import re
import subprocess
import sys
import threading
import time

import numpy as np
import pytest
import shapely
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractSpinBox, QPushButton, QScrollArea

from moss_step.demo import DATA
from moss_step.demo.sounder import Sounder
from moss_step.formats.vector import read_shapes
from moss_step.practice.sounder import serve
from moss_step.study.recordings import new_recording, recordings_folder, unkept_recordings
from tests.desk.driving import LEFT, named, until, wait
from tests.desk.person import Person

SHORE = DATA / "harrow_tarn.gpkg"


@pytest.fixture
def port():
    told = []
    threading.Thread(
        target=serve, args=(Sounder(), 0, lambda t: told.append(int(re.search(r"port (\d+)", t)[1])), 60.0), daemon=True
    ).start()  # fmt: skip
    while not told:
        time.sleep(0.01)
    return told[0]


@pytest.fixture
def person(window, settle, monkeypatch):
    window.resize(1280, 800)
    settle(window)
    return Person(window, settle, monkeypatch)


def begin(person, port):
    window = person.window
    window.show_bench("gather")
    if window.work.chosen_ref:
        person.keys(Qt.Key.Key_Escape, control=False)
    person.click("Listen to a sounder")
    field = named(window, "Port", QAbstractSpinBox)
    field.setFocus()
    field.clear()
    QTest.keyClicks(field, str(port))
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert field.value() == port
    QTest.mouseClick(named(window, "Listen", QPushButton), LEFT)
    return window.benches["gather"].panel


def rows(panel):
    return dict(panel.figures_so_far.rows)


def test_a_survey_is_heard_drawn_and_kept_as_a_table_with_times(person, port):
    person.drop(SHORE)
    window = person.window
    panel = begin(person, port)
    until(lambda: int(rows(panel).get("Soundings", "0").replace(",", "")) > 150, "no soundings came")
    live = window.plan.view.live
    shore = shapely.union_all(read_shapes(SHORE).geometry)
    assert shapely.contains_xy(shore.buffer(1.0), *live.dots[0].xy.T).all(), "depths lie on the tarn"
    assert len(live.lines) == 2 and live.veil is not None and len(live.marks) == 1
    line = shapely.linestrings(live.lines[1][0])
    assert shapely.within(line, shore.buffer(1.0)), "the next line lies on the tarn"
    told = rows(panel)
    assert told["Farthest from a sounding"].endswith(" m") and "of" in told["Wrong, and not used"]
    assert "Listening to 127.0.0.1" in panel.state.text()
    before = int(told["Soundings"])
    person.click("Stop and keep")
    work = window.work
    step = next(s for s in work.study.steps if s.kind == "open_recording")
    kept = work.outcome(step.id).value
    assert len(kept) > 0.9 * before and {"depth", "time_s"} <= set(kept.columns)
    assert (np.diff(kept.columns["time_s"]) >= 0).all()
    assert work.ear.listening is None and unkept_recordings() == []
    assert window.plan.view.live is None


def test_it_goes_on_while_other_things_are_done_and_the_empty_plan_follows(person, port):
    """With no ground the plan shows where the boat is; another bench, and back: nothing was missed."""
    window = person.window
    panel = begin(person, port)
    until(
        lambda: window.plan.view.live is not None and len(window.plan.view.live.dots) > 0, "nothing is drawn"
    )
    xmin, ymin, xmax, ymax = window.plan.view.live.box
    west, south, east, north = window.plan.view.camera.box
    assert west < xmin and south < ymin and xmax < east and ymax < north
    first = int(rows(panel)["Soundings"].replace(",", ""))
    window.show_bench("shape")
    assert window.plan.view.live is None
    wait(0.6)
    window.show_bench("gather")
    person.click("Back to the sounder")
    panel = window.benches["gather"].panel
    until(lambda: int(rows(panel).get("Soundings", "0").replace(",", "")) > first + 20, "it was not heard on")
    person.click("Stop and keep")
    assert [s.kind for s in window.work.study.steps] == ["open_recording"]


def test_what_a_killed_program_had_heard_is_offered_and_kept(person, tmp_path):
    lines = b"".join(t.encode() for made in list(Sounder().sentences())[:60] for t in made)
    code = "from moss_step.study.recordings import new_recording; print(new_recording())"
    path = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    ).stdout.strip()
    (recordings_folder() / path.rpartition("/")[2]).write_bytes(lines)
    window = person.window
    window.show_bench("gather")
    window.benches["gather"].show_start()
    person.click("Keep it")
    (step,) = window.work.study.steps
    assert len(window.work.outcome(step.id).value) > 40 and unkept_recordings() == []


def test_the_panel_fits_its_bench(person):
    person.window.begin_step("open_recording")
    person.did("begin")
    named(person.window, "More", QPushButton)
    assert person.window.benches["gather"].findChild(QScrollArea).verticalScrollBar().maximum() == 0


def test_nothing_heard_is_nothing_kept_and_a_silent_device_is_said(person):
    import socket

    with socket.socket() as link:
        link.bind(("127.0.0.1", 0))
        silent = link.getsockname()[1]
    panel = begin(person, silent)
    until(lambda: "does not answer" in panel.state.text(), "the silence is not said")
    person.click("Stop and keep")
    assert not person.window.work.study.steps and "nothing is kept" in panel.note.accessibleName()
    assert list(recordings_folder().iterdir()) == [], "silence leaves no recording behind"
    assert new_recording().parent == recordings_folder()

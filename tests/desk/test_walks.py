"""The walks through the demo, taken to their end by doing what they say."""

from datetime import UTC, datetime

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from moss_step.desk.plain import Answer
from moss_step.desk.walks import WALKS
from tests.desk.driving import LEFT, named, pixel, press, texts


@pytest.fixture
def walking(window, settle):
    window.resize(1280, 800)

    def begin(number: int):
        button = f"{WALKS[number].title}: {WALKS[number].question}"
        press(window.plan.welcome, button)
        settle(window)
        window.walk.look()
        return window

    return begin


def goes_on(window, settle, at: int) -> None:
    settle(window)
    window.walk.look()
    assert window.walk.at == at, window.walk.text.text()


def click_plan(window, x: float, y: float) -> None:
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, x, y))


def test_the_walk_of_a_watershed(walking, settle, monkeypatch):
    monkeypatch.setattr("moss_step.desk.study_files.ask", lambda *_: Answer.Discard)
    window = walking(0)
    assert "1 of 5" in window.walk.head.text() and "Water bench" in window.walk.text.text()
    mark = window.walk.mark.geometry()
    button = window.header.benches["water"]
    assert mark.contains(button.mapTo(window, button.rect().center())), "what is to be used is marked"
    QTest.mouseClick(button, LEFT)
    goes_on(window, settle, 1)
    press(window.benches["water"], "Step: Catchment")
    goes_on(window, settle, 2)
    click_plan(window, 412_900.0, 5_870_700.0)
    goes_on(window, settle, 3)
    press(window, "Keep this step")
    goes_on(window, settle, 4)
    press(window, "View: Table")
    goes_on(window, settle, 5)
    assert "done" in window.walk.head.text() and not window.walk.mark.isVisible()
    press(window.walk, "Another walk")
    settle(window)
    assert window.walk.walk is WALKS[1] and window.walk.at == 0


def test_the_walk_of_a_view(walking, settle):
    window = walking(1)
    QTest.mouseClick(window.header.benches["sight"], LEFT)
    goes_on(window, settle, 1)
    press(window.benches["sight"], "Step: Viewshed")
    goes_on(window, settle, 2)
    click_plan(window, 413_330.0, 5_871_520.0)
    goes_on(window, settle, 3)
    click_plan(window, 412_880.0, 5_870_660.0)
    goes_on(window, settle, 4)
    press(window, "Keep this step")
    goes_on(window, settle, 5)


def test_the_walk_of_a_hazard_map(walking, settle):
    window = walking(2)
    QTest.mouseClick(window.header.benches["classes"], LEFT)
    goes_on(window, settle, 1)
    press(window.benches["classes"], "Step: Hazard from criteria")
    goes_on(window, settle, 2)
    box = named(window, "And inside", QComboBox)
    box.setCurrentIndex(box.findText("Bogs"))
    goes_on(window, settle, 3)
    press(window, "Keep this step")
    goes_on(window, settle, 4)
    card = window.trail.cards[window.work.chosen_id]
    QTest.mouseClick(card, LEFT, pos=card._group_spot().center().toPoint())
    goes_on(window, settle, 5)


def test_a_walk_is_left_at_any_time_and_changes_nothing(walking, settle):
    window = walking(0)
    before = window.work.study
    press(window.walk, "Leave the walk")
    assert not window.walk.isVisible() and not window.walk.mark.isVisible() and window.work.study is before
    QTest.mouseClick(window.header.benches["water"], LEFT)
    settle(window)
    assert not window.walk.isVisible()


def test_a_saved_study_stands_on_the_start_with_its_picture_place_and_date(window, settle, tmp_path):
    window.files.open_demo()
    settle(window)
    (tmp_path / "moors").mkdir()
    window.files.save_to(tmp_path / "moors" / "harrow.moss")
    settle(window)
    window.work.new()
    settle(window)
    known = window.work.recents.listed[0]
    assert known.picture is not None and (known.picture.width(), known.picture.height()) == (240, 150)
    colors = {known.picture.pixel(x, y) for x in range(0, 240, 6) for y in range(0, 150, 6)}
    assert len(colors) > 50, "it shows the ground"
    button = named(window.plan.welcome, "harrow.moss")
    assert "harrow" in button.text() and "moors" in button.text() and known.when in button.text()
    assert str(datetime.now(UTC).year) in known.when or str(datetime.now().astimezone().year) in known.when
    QTest.mouseClick(button, LEFT)
    settle(window)
    assert window.work.path == tmp_path / "moors" / "harrow.moss"


def test_the_start_offers_the_walks_and_the_search_has_them(window, settle):
    settle(window)
    shown = texts(window.plan.welcome)
    assert all(walk.question in shown for walk in WALKS)
    assert any(hit.text == "Walk: a view" for hit in window.search.find("walk"))
    QTest.keyClick(window, Qt.Key.Key_Escape)
    assert window.childAt(QPoint(5, 5)) is not None

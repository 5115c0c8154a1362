"""A window of 640 x 400 pixels, as on a small screen with text of 200 %: all can be reached."""

from types import SimpleNamespace

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QToolButton

from moss_step.desk.section.sight import _obstacles
from moss_step.desk.window import MainWindow
from moss_step.model.telling import USUAL
from moss_step.science.sight.line import Obstacle


@pytest.fixture
def small(demo, settle):
    demo.resize(640, 400)
    settle(demo)
    return demo


def inside(window, part):
    corner = part.mapTo(window, part.rect().bottomRight())
    return part.isVisible() and window.rect().contains(corner)


def test_it_fits_and_the_plan_keeps_the_room(small):
    assert (small.width(), small.height()) == (640, 400)
    for part in (
        small.header.bench_menu,
        small.header.study,
        small.plan.tools,
        small.trail.opener,
        small.plan.key,
    ):
        assert inside(small, part), part.accessibleName() or type(part).__name__
    assert small.plan.view.height() >= 300 and not small.header.benches["water"].isVisible()


def test_the_benches_are_a_menu(small, settle):
    chosen = small.header.bench_list().actions()
    assert [a.text() for a in chosen][:2] == ["Gather", "Points"]
    next(a for a in chosen if a.text() == "Water").trigger()
    settle(small)
    assert small.bench == "water" and small.header.bench_menu.text().startswith("Water")


def test_the_cards_fold_away_and_open(small, settle):
    assert not small.trail.cards["slope"].isVisible()
    small.trail.opener.click()
    settle(small)
    assert small.trail.cards["classes"].isVisible() and small.height() == 400
    small.trail.opener.click()
    settle(small)
    assert not small.trail.cards["classes"].isVisible()


def test_views_are_a_drop_down_that_follows(small, settle):
    box = small.plan.views.findChild(type(small.preferences.boxes["text"]))
    assert box.isVisible() and box.currentText() == "Plan"
    box.setCurrentIndex(box.findData("table"))
    box.activated.emit(box.currentIndex())
    settle(small)
    assert small.table.isVisible()
    small.resize(1280, 800)
    settle(small)
    assert not box.isVisible() and small.plan.views.button("table").isChecked()
    assert small.trail.cards["classes"].isVisible() and small.header.benches["water"].isVisible()


def test_a_step_is_made_from_its_first_field_to_its_card(small, settle, qtbot):
    small.begin_step("slope")
    settle(small)
    qtbot.keyClick(small, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    settle(small)
    assert small.work.chosen_id not in ("slope", "") and small.work.state(small.work.chosen_id) == "done"


def test_sheets_and_the_welcome_are_scrolled_where_they_do_not_fit(window, settle):
    window.resize(640, 400)
    settle(window)
    room = window.plan.rect()
    assert window.plan.welcome.isVisible() and room.contains(window.plan.welcome.geometry())
    for sheet in (window.keys, window.preferences):
        sheet.open()
        assert window.rect().contains(sheet.geometry()), sheet.accessibleName()
        sheet.hide()
    window.resize(1280, 800)
    settle(window)
    window.preferences.open()
    assert window.preferences._scroll.verticalScrollBar().maximum() == 0, "with room all of it is seen"


def test_the_head_of_the_table_does_not_run_into_its_tools(small, settle):
    small.show_drawer("table")
    settle(small)
    tools = [t for t in small.table.findChildren(QToolButton) if t.isVisible()]
    edit = small.table.filter_edit.geometry()
    assert tools and not [t for t in tools if t.geometry().intersects(edit)]


def test_a_window_that_opens_small_has_its_menu_of_benches(qtbot, settle):
    """Not only one that is made smaller: the words of the benches must not hold the window open."""
    window = MainWindow()
    qtbot.addWidget(window)
    window.resize(640, 400)
    window.show()
    settle(window)
    assert window.header.bench_menu.isVisible() and window.header.width() == 640
    assert window.width() == 640
    window.work.close()


def test_no_number_of_the_reading_is_cut(small, settle):
    view = small.plan.view
    QTest.mouseMove(view, view.rect().center())
    settle(small)
    bar = small.plan.reading
    assert bar.isVisible() and len(bar.rows) >= 3 and bar.width() <= small.plan.width() - 28
    text = bar._text
    widest = max(text.fontMetrics().horizontalAdvance(f"{r.name}  {r.text}") for r in bar.rows)
    assert widest <= text.width() and text.heightForWidth(text.width()) <= text.height()


def test_comparing_and_the_block_fit(small, settle):
    small.views.begin_comparing()
    settle(small)
    for way in ("divider", "two", "difference"):
        assert inside(small, small.plan.compare.ways.button(way)), way
    small.views.end_comparing()
    small.views.show_view("block")
    settle(small)
    assert small.plan.width() > 280 and small.block.width() > 280, "one above the other"
    assert inside(small, small.plan.tools)
    small.resize(1280, 800)
    small.views.show_view("plan")
    small.views.show_view("block")
    settle(small)
    assert small.block.x() > 200, "side by side where there is room"


def test_a_compared_result_stands_in_the_key_once(demo, settle):
    demo.work.choose("sectors")
    demo.views.begin_comparing()
    settle(demo)
    settle(demo)
    heads = [w.text() for w in demo.plan.key.findChildren(QLabel) if w.isVisible()]
    name = demo.work.study.name_of("sectors")
    assert heads.count(name) == 1, heads


def test_names_of_obstacles_leave_each_other_room():
    """By the width of the plot: the fewer pixels, the fewer names."""
    distance = np.linspace(0.0, 1000.0, 101)
    peaks = [Obstacle(p, 3.0, 0.0, 0.0, p) for p in (100.0, 250.0, 400.0, 800.0)]
    seen = SimpleNamespace(distance=distance, ray=np.zeros(101), obstacles=peaks)
    library = SimpleNamespace(
        ScatterPlotItem=lambda *_, **__: "mark",
        TextItem=lambda *_, **__: SimpleNamespace(setPos=lambda *_: None),
    )
    shown = [len(_obstacles(library, seen, USUAL, width)) - 1 for width in (300.0, 1200.0)]
    assert shown == [2, 4]

"""Questions that take several steps, asked in one panel and kept as one card that opens."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit

from moss_step.study.draft import DRAFT
from tests.desk.driving import LEFT, named, press, type_in
from tests.desk.jobs import by_name, choose_input, keep


@pytest.fixture
def asked(estate, settle):
    """The hazard panel with its two first rows."""
    window = estate
    window.resize(1280, 800)
    window.begin_step("hazard")
    settle(window)
    return window


def panel(window):
    return window.benches[window.bench].panel


def test_it_begins_with_slope_and_height_of_the_ground(asked):
    rows = panel(asked).settings()["criteria"]
    assert [(r["measure"], r["side"]) for r in rows] == [("slope_percent", "above"), ("value", "above")]
    assert asked.work.outcome(DRAFT) is not None


def test_rows_are_typed_added_and_taken_away(asked, settle):
    type_in(named(panel(asked), "Criterion 1: bound", QLineEdit), "45")
    settle(asked)
    assert panel(asked).settings()["criteria"][0]["bound"] == 45.0
    press(panel(asked), "Add a criterion")
    side = named(panel(asked), "Criterion 3: side", QComboBox)
    side.setCurrentIndex(side.findData("between"))
    side.activated.emit(side.currentIndex())
    type_in(named(panel(asked), "Criterion 3: to", QLineEdit), "500")
    settle(asked)
    assert panel(asked).settings()["criteria"][2]["upper"] == 500.0
    press(panel(asked), "Take criterion 2 away")
    settle(asked)
    assert len(panel(asked).settings()["criteria"]) == 2


def test_weights_are_asked_where_they_count(asked, settle):
    assert not [w for w in panel(asked).findChildren(QLineEdit) if w.accessibleName().endswith("weight")]
    panel(asked).form.control("rule").set_value("weighted")
    panel(asked).update_draft()
    settle(asked)
    type_in(named(panel(asked), "Criterion 1: weight", QLineEdit), "3")
    settle(asked)
    weights = [f.value for f in asked.work.outcome(DRAFT).findings if f.name == "weight"]
    assert weights == pytest.approx([0.75, 0.25])


def test_what_is_kept_is_one_card_that_opens(asked, settle):
    choose_input(asked, settle, "And inside", by_name(asked, "Harrow bogs"))
    before = len(asked.work.study.steps)
    last = keep(asked, settle)
    study = asked.work.study
    assert study.step(last).kind == "combine" and len(study.groups[last]) == 5
    assert len(study.steps) == before + 5
    trail = asked.trail
    inner = [i for i in study.groups[last] if i != last]
    assert all(trail._cards.spot_of(i) is None for i in inner), "they stand behind the card"
    card = trail.cards[last]
    spot = card._group_spot().center().toPoint()
    QTest.mouseClick(card, LEFT, pos=spot)
    settle(asked)
    assert all(trail._cards.spot_of(i) is not None for i in inner)
    slope = next(i for i in inner if study.step(i).kind == "slope")
    asked.work.choose(slope)
    settle(asked)
    assert panel(asked).kind.kind == "slope", "each can be changed alone"
    asked.work.undo()
    assert len(asked.work.study.steps) == before, "one change keeps them, and one takes them back"


def test_a_step_within_a_folded_group_lays_it_out_when_chosen(asked, settle):
    last = keep(asked, settle)
    inner = next(i for i in asked.work.study.groups[last] if i != last)
    asked.work.choose(inner)
    settle(asked)
    assert asked.trail._cards.spot_of(inner) is not None


def test_a_new_card_comes_into_view_and_the_wheel_moves_sideways(asked, settle):
    for _ in range(7):
        asked.work.add_step("aspect", {"dem": asked.work.study.shading.ground}, {}, choose=False)
    settle(asked)
    last = keep(asked, settle)
    card, view = asked.trail.cards[last], asked.trail._scroll.viewport()
    left = card.mapTo(view, card.rect().topLeft()).x()
    assert left >= 0 and left + card.width() <= view.width()
    bar = asked.trail._scroll.horizontalScrollBar()
    bar.setValue(bar.maximum())
    was = bar.value()
    turn = QWheelEvent(QPointF(50, 50), QPointF(view.mapToGlobal(QPoint(50, 50))), QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton,
                       Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(view, turn)
    assert bar.value() < was


def test_a_dam_is_set_by_a_click(estate, settle):
    window = estate
    window.begin_step("dam_catchment")
    settle(window)
    view = window.plan.view
    frame = window.work.frame
    x, y = view.camera.pixel(frame.x_of(frame.cols * 0.42), frame.y_of(frame.rows * 0.42))
    QTest.mouseClick(view, LEFT, pos=QPoint(round(x), round(y)))
    settle(window)
    assert len(panel(window).settings()["dam"]) == 1
    shapes = window.work.outcome(DRAFT).value
    assert len(shapes) == 1 and shapes.geometry[0].area > 0
    last = keep(window, settle)
    assert [window.work.study.step(i).kind for i in window.work.study.groups[last]] == [
        "flow_path",
        "catchment",
    ]


def test_tiles_are_drawn_in_natural_breaks_at_once(estate, settle):
    window = estate
    window.begin_step("tile_values")
    settle(window)
    layer = window.work.now.scene.layers[0]
    assert layer.step == DRAFT and (layer.row.column, layer.row.outline) == ("max", "fill")
    last = keep(window, settle)
    row = window.work.study.key_row(last)
    assert (row.column, row.method, row.count, row.outline) == ("max", "natural", 5, "fill")
    assert np.isfinite(window.work.outcome(last).value.columns["max"]).any()

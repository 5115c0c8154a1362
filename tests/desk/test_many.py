"""A study of thousands of steps and pins: what is out of view is not made, and what comes into view is there."""

import numpy as np
import pytest

from moss_step.desk.plan.view import MOST_CARDS
from moss_step.study.graph import Step, Study
from moss_step.study.saving import save_study


@pytest.fixture
def many(hills_tif, tmp_path):
    steps = [Step(id="g", kind="open_grid", settings={"source": str(hills_tif)})]
    steps += [
        Step(id=f"s{k}", kind="threshold", inputs={"surface": "g"}, settings={"at_least": 300.0 + k * 0.01})
        for k in range(900)
    ]
    path = tmp_path / "many.moss"
    save_study(Study(steps=tuple(steps)), path)
    return path


def test_only_cards_in_view_are_made_and_the_others_when_they_are_scrolled_to(window, settle, many):
    window.files.open_path(many, waits=True)
    settle(window)
    assert len(window.work.study.steps) == 901 and window.work.now.states["s5"] == "waiting"
    assert 3 < len(window.trail.cards) < 30 and "901 steps" in window.trail.summary().replace(",", "")
    window.work.choose("s700")
    settle(window)
    card = window.trail.cards.get("s700")
    assert card is not None and card.isVisible() and not card.visibleRegion().isEmpty()
    assert len(window.trail.cards) < 60
    window.work.remove("g")
    window.work.stop()
    settle(window)
    assert len(window.trail.cards) == 0


def test_a_card_that_is_drawn_once_more_after_its_step_is_gone_does_no_harm(window, settle, hills_tif):
    """The trail follows a moment after the study: what Qt draws in between is of a step that is no more."""
    window.files.open_path(hills_tif)
    settle(window)
    card = window.trail.cards[window.work.chosen_id]
    window.work.new()
    assert not card.grab().isNull() and card.figure() == "waiting" and card.warnings() == []
    card.refresh()
    assert window.work.reason(card.step_id) == "" and window.work.missing_source(card.step_id) == ""
    settle(window)
    assert len(window.trail.cards) == 0


def test_a_large_study_that_is_damaged_is_told_and_the_present_one_stays(window, settle, many, hills_tif):
    window.files.open_path(hills_tif)
    settle(window)
    many.write_text(many.read_text()[:-40])
    window.files.may_leave = lambda: True
    said: list[str] = []
    window.work.message.connect(lambda text, bad: said.append(text))
    window.files.open_path(many)
    settle(window)
    assert len(window.work.study.steps) == 1 and "damaged" in said[0]


def test_many_pins_are_marks_and_few_in_view_show_their_readings(window, settle, hills_tif):
    window.files.open_path(hills_tif)
    settle(window)
    xmin, ymin, xmax, ymax = window.work.frame.box
    rng = np.random.default_rng(0)
    pins = tuple(
        zip(rng.uniform(xmin, xmax, 5000).tolist(), rng.uniform(ymin, ymax, 5000).tolist(), strict=True)
    )
    window.work.do(window.work.study.model_copy(update={"pins": pins}), "Pin")
    settle(window)
    view = window.plan.view
    view.grab()
    assert view._pin_cards == {}
    from PySide6.QtCore import QPointF

    x, y = view.camera.pixel(*pins[17])
    assert view._pin_near(QPointF(x, y)) is not None
    camera = view.camera
    while not view._pin_cards:
        camera = camera.zoomed(2.0, *camera.pixel(*pins[17]))
        view.show_camera(camera)
        view.grab()
    assert 0 < len(view._pin_cards) <= MOST_CARDS and 17 in view._pin_cards

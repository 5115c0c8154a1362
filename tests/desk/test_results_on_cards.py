"""A card of a step that gives several results: tabs by mouse, key and menu; plan, table, Key and search follow them."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from moss_step.model.shapes import Shapes
from tests.desk.jobs import by_name


@pytest.fixture
def with_steps(window, settle, hills_tif):
    window.files.open_path(hills_tif)
    settle(window)
    ground = by_name(window, "Hills")
    f = window.work.frame
    line = (f.x_of(7), f.y_of(6), f.x_of(100), f.y_of(70))
    sight = window.work.add_step("sight_line", {"dem": ground}, {"ends": list(line)})
    fill = window.work.add_step("fill_depressions", {"dem": ground}, {})
    settle(window)
    return window, sight, fill


def click_tab(card, number):
    spot = card._tab_spots()[number].center()
    QTest.mouseClick(card, Qt.MouseButton.LeftButton, pos=QPointF(spot).toPoint())


def test_a_tab_shows_another_result_everywhere(with_steps, settle):
    window, sight, _ = with_steps
    work, card = window.work, window.trail.cards[sight]
    click_tab(card, 1)
    settle(window)
    assert work.chosen_ref == f"{sight}.stretches" and work.chosen_id == sight
    assert card.accessibleName().startswith(work.study.name_of(f"{sight}.stretches"))
    window.show_drawer("table")
    settle(window)
    assert {"stretch", "state"} <= set(window.table.model.columns)
    click_tab(card, 0)
    settle(window)
    assert "distance" in window.table.model.columns and work.chosen_ref == sight


def test_what_has_a_place_is_drawn_and_kept_in_the_key_from_the_start(with_steps, settle):
    """A sight line is a chart; its stretches lie on the plan, while it is made and after."""
    window, sight, _ = with_steps
    assert (
        window.work.study.key_row(f"{sight}.stretches") is not None
        and window.work.study.key_row(sight) is None
    )
    shown = [la for la in window.plan.view.scene.layers if la.step == f"{sight}.stretches"]
    assert len(shown) == 1 and isinstance(shown[0].picture.value, Shapes) and shown[0].row.column == "state"


def test_a_result_that_is_seldom_wanted_runs_when_its_tab_is_shown(with_steps, settle):
    window, _, fill = with_steps
    work, card = window.work, window.trail.cards[fill]
    assert work.said(f"{fill}.change") is None
    card.setFocus()
    QTest.keyClick(card, Qt.Key.Key_T)
    settle(window)
    change = work.outcome(f"{fill}.change")
    assert change is not None and np.nanmin(change.value.values) >= 0
    top = window.plan.view.scene.layers[0]
    assert top.step == f"{fill}.change"
    QTest.keyClick(card, Qt.Key.Key_K)
    settle(window)
    assert work.study.key[0].step == f"{fill}.change"
    QTest.keyClick(card, Qt.Key.Key_T)
    assert work.chosen_ref == fill


def test_a_named_result_is_offered_as_an_input_and_found_by_search(with_steps, settle):
    window, sight, fill = with_steps
    window.begin_step("formula")
    settle(window)
    window.begin_step("classify")
    settle(window)
    panel = window.benches["classes"].panel
    assert f"{fill}.change" in [ref for ref, _ in panel.fitting(panel.kind.inputs[0])]
    hits = [h.text for h in window.search.find("stretches")]
    assert window.work.study.name_of(f"{sight}.stretches") in hits


def test_a_given_name_is_that_of_the_tab(with_steps, settle):
    window, sight, _ = with_steps
    window.work.rename(f"{sight}.stretches", "What the shepherd sees")
    settle(window)
    assert window.work.study.name_of(f"{sight}.stretches") == "What the shepherd sees"
    assert window.work.study.name_of(sight) != "What the shepherd sees"
    window.work.undo()
    assert window.work.study.name_of(f"{sight}.stretches").endswith(", stretches")


def test_the_menu_of_a_card_names_its_results(with_steps):
    window, sight, _ = with_steps
    texts = [a.text() for a in window.trail.cards[sight].menu().actions()]
    assert "Show section\tT" in texts and "Show stretches\tT" in texts
    ground = window.work.study.steps[0].id
    assert not any(
        t.startswith("Show") for t in (a.text() for a in window.trail.cards[ground].menu().actions())
    )


def test_the_sheet_hands_a_named_result_on(with_steps, settle, tmp_path):
    window, sight, _ = with_steps
    window.work.choose(f"{sight}.stretches")
    settle(window)
    window.go_to_bench("sheet")
    settle(window)
    sheet = window.benches["sheet"]
    assert sheet.ref == f"{sight}.stretches"
    sheet.write(tmp_path / "s.gpkg")
    settle(window)
    from moss_step.formats.vector import read_shapes

    assert set(read_shapes(tmp_path / "s.gpkg").columns["state"]) <= {"seen", "hidden"}

"""The trail laid out in rows, searched, and saying which branch a card is on; long names; one folder for files."""

import ast
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint
from PySide6.QtGui import QFontMetrics
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

import moss_step.desk
from moss_step.desk.names import fitted
from moss_step.desk.theme import font
from moss_step.desk.trail.cards import DOWN
from tests.desk.driving import LEFT, named, press, type_in


@pytest.fixture
def long(estate, settle):
    """The estate with more cards than fit side by side, two branches among them."""
    work, ground = estate.work, estate.work.study.shading.ground
    for _ in range(3):
        slope = work.add_step("slope", {"dem": ground}, {})
        work.add_step("classify", {"surface": slope}, {"preset": "fao_slope"})
        work.add_step("aspect", {"dem": ground}, {})
    settle(estate)
    return estate


def test_cards_are_laid_out_in_rows_on_a_taller_trail_and_back(long, settle):
    trail, before = long.trail, long.trail.height()
    press(long, "Lay the cards out in rows, or in one")
    settle(long)
    assert trail.height() == before + 2 * DOWN
    cards = list(trail.cards.values())
    tops = sorted({c.y() for c in cards})
    assert len(tops) >= 2 and all(c.x() + c.width() <= trail.width() for c in cards)
    places = [(trail.cards[s.id].y(), trail.cards[s.id].x()) for s in long.work.study.steps]
    assert places == sorted(places), "in the order of the study, row by row"
    last = long.work.study.steps[-1].id
    QTest.mouseClick(trail.cards[last], LEFT, pos=QPoint(60, 70))
    settle(long)
    assert long.work.chosen_id == last
    press(long, "Lay the cards out in rows, or in one")
    settle(long)
    assert trail.height() == before and len({c.y() for c in trail.cards.values()}) == 1


def test_a_card_is_found_by_words_of_its_name_and_chosen_by_return(long, settle):
    field = named(long.trail, "Find a card")
    long.work.choose("")
    field.setFocus()
    QTest.keyClicks(field, "aspect")
    settle(long)
    shown = [c for c in long.trail.cards.values() if c.isVisible()]
    kinds = {long.work.study.step(c.step_id).kind for c in shown}
    assert kinds == {"aspect"}
    type_in(field, "fao classes")
    settle(long)
    assert not long.work.chosen_id or "lasses" in long.work.study.name_of(long.work.chosen_id)
    type_in(field, "aspect")
    settle(long)
    assert long.work.study.step(long.work.chosen_id).kind == "aspect"
    assert field.text() == "" and len(long.trail.cards) > 6


def test_a_card_says_which_branch_it_is_on_where_not_all_fit(long, settle):
    work, trail = long.work, long.trail
    aspect = next(s.id for s in work.study.steps if s.kind == "aspect")
    work.choose(aspect)
    settle(long)
    card = trail.cards[aspect]
    assert card.branch == work.study.name_of(work.study.shading.ground)
    assert f"from {card.branch}" in card.toolTip()
    classes = next(s.id for s in work.study.steps if s.kind == "classify")
    assert trail.cards[classes].branch == "", "it goes on from the card to its left"


def test_what_is_cut_of_a_name_tells_least(qapp):
    metrics = QFontMetrics(font(13))
    name = "Slope, degrees, of Upper valley, depressions filled"
    assert fitted(name, metrics, 2000) == name
    signs = "Slope °, of Upper valley, depressions filled"
    for room in range(40, 400, 7):
        shown = fitted(name, metrics, room)
        assert (metrics.horizontalAdvance(shown) <= room and "degrees" not in shown) or shown == name
    assert fitted(
        name, metrics, metrics.horizontalAdvance("Slope ° · Upper valley, depressions filled")
    ).startswith("Slope ° · Upper") or fitted(name, metrics, metrics.horizontalAdvance(signs)).startswith(
        "Slope °"
    )
    cut = fitted(name, metrics, 150)
    assert cut.startswith("Slope") and cut.endswith("filled") and "…" in cut


def test_every_file_dialog_begins_where_the_last_one_ended(estate, settle, monkeypatch, tmp_path):
    starts = []

    def answer(_parent, _title, start, *_):
        starts.append(Path(start))
        return str(tmp_path / "deep" / "a.csv"), ""

    monkeypatch.setattr(QFileDialog, "getSaveFileName", staticmethod(answer))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", staticmethod(answer))
    folder = estate.work.folder
    folder.ask_save(estate, "One", "a", "", ".csv")
    folder.ask_open(estate, "Two")
    folder.ask_save(estate, "Three", "b.png", "", ".png")
    assert starts[1] == tmp_path / "deep" and starts[2] == tmp_path / "deep" / "b.png"


def test_no_other_module_asks_for_files_by_itself():
    home = Path(moss_step.desk.__file__).parent
    asking = [
        p.name
        for p in home.rglob("*.py")
        for node in ast.walk(ast.parse(p.read_text()))
        if isinstance(node, ast.ImportFrom) and any(a.name == "QFileDialog" for a in node.names)
    ]
    assert asking == ["folder.py"]

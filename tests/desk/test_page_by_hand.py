"""Pages made by hand in the real window, and the whole jobs that end with one."""

from __future__ import annotations

from pathlib import Path

import pypdf
import pypdfium2
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QFileDialog

from moss_step.demo import DATA
from moss_step.scene.sheet.sheet import sheets_of
from tests.desk.driving import LEFT, drag, named, press, texts, until
from tests.desk.person import Person, listed

SHIFT, NONE, CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier  # fmt: skip


@pytest.fixture
def paged(demo, settle):
    """The estate with a page of its slope classes."""
    demo.work.choose("classes")
    settle(demo)
    QTest.mouseClick(demo.header.benches["sheet"], LEFT)
    settle(demo)
    press(demo.benches["sheet"], "Plan with key")
    settle(demo)
    return demo


def pages(window):
    return window.benches["sheet"].pages


def page(window):
    return window.work.study.pages[0]


def at(window, part_id: str, across: float = 0.5, down: float = 0.5) -> QPoint:
    """The pixel of a place of a part, in shares of its size."""
    box = pages(window).view.box_of(pages(window).page.part(part_id))
    return QPointF(box.x() + across * box.width(), box.y() + down * box.height()).toPoint()


def click(window, settle, part_id: str, modifiers=NONE, across: float = 0.5, down: float = 0.5) -> None:
    QTest.mouseClick(pages(window).view, LEFT, modifiers, at(window, part_id, across, down))
    settle(window)


def drawn(window) -> object:
    """The page as it is shown."""
    return pages(window).view.grab().toImage()


def test_a_page_begins_finished_lies_over_the_plan_and_leaves_it_again(paged, settle) -> None:
    view = pages(paged).view
    assert view.isVisible() and paged.plan.laid is view and page(paged).name == "Slope classes"
    kinds = {p.kind for p in page(paged).parts}
    assert {"plan", "key", "scale", "north", "title", "overview", "text"} <= kinds
    assert (
        "Slope classes" in texts(paged.benches["sheet"])
        or pages(paged).pages.currentText() == "Slope classes"
    )
    assert "print alike in grey" in pages(paged).about.text
    paged.go_to_bench("water")
    settle(paged)
    assert not view.isVisible() and paged.plan.laid is None
    paged.go_to_bench("sheet")
    settle(paged)
    assert view.isVisible()
    paged.work.undo()
    settle(paged)
    assert not paged.work.study.pages and not view.isVisible()
    named(paged.benches["sheet"], "Two compared")


def test_parts_are_moved_with_guides_resized_ordered_locked_and_taken_away(paged, settle) -> None:
    view, first = pages(paged).view, page(paged)
    click(paged, settle, "scale")
    plan = page(paged).part("plan")
    start = at(paged, "scale")
    goal = QPoint(
        round(view.pixel(plan.right, 0).x() - view.pixel(page(paged).part("scale").x, 0).x()) + 1, 0
    )
    drag(view, start, start + goal)
    settle(paged)
    assert page(paged).part("scale").x == pytest.approx(plan.right, abs=0.01)  # met the plan's right edge
    click(paged, settle, "key")
    assert view.picked == ["key"] and "Letters" in {
        e.accessibleName() for e in pages(paged).form.editors.values()
    }
    start = at(paged, "key")
    drag(view, start, start + QPoint(-40, 30))
    settle(paged)
    moved = page(paged).part("key")
    assert (
        moved.x == pytest.approx(first.part("key").x - 40 / view.scale, abs=2.6)
        and moved.y > first.part("key").y
    )
    paged.work.undo()
    paged.work.undo()
    settle(paged)
    assert page(paged) == first
    click(paged, settle, "overview")
    corner = view.box_of(page(paged).part("overview")).bottomRight().toPoint()
    drag(view, corner, corner + QPoint(33, 21))
    settle(paged)
    grown = page(paged).part("overview")
    assert grown.width > first.part("overview").width + 8 and grown.height > first.part("overview").height + 4
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_BracketLeft)
    settle(paged)
    assert [p.id for p in page(paged).parts].index("overview") == [p.id for p in first.parts].index(
        "overview"
    ) - 1
    QTest.keyClick(view, Qt.Key.Key_Right, SHIFT)
    QTest.keyClick(view, Qt.Key.Key_Up)
    settle(paged)
    assert page(paged).part("overview").x == pytest.approx(grown.x + 10) and page(paged).part("overview").y == pytest.approx(grown.y - 1)  # fmt: skip
    QTest.keyClick(view, Qt.Key.Key_L)
    settle(paged)
    QTest.keyClick(view, Qt.Key.Key_Delete)
    settle(paged)
    assert page(paged).part("overview").locked
    QTest.keyClick(view, Qt.Key.Key_L)
    QTest.keyClick(view, Qt.Key.Key_D)
    settle(paged)
    assert len(page(paged).parts) == len(first.parts) + 1
    QTest.keyClick(view, Qt.Key.Key_Delete)
    settle(paged)
    assert [p.id for p in page(paged).parts] != [] and len(page(paged).parts) == len(first.parts)
    view.pick([])
    QTest.keyClick(view, Qt.Key.Key_Tab)
    assert view.picked == [page(paged).parts[0].id]


def test_several_parts_are_chosen_and_aligned(paged, settle) -> None:
    click(paged, settle, "key")
    click(paged, settle, "scale", SHIFT)
    assert pages(paged).view.picked == ["key", "scale"] and pages(paged).title.text() == "2 parts"
    pages(paged).align("right")
    settle(paged)
    assert page(paged).part("key").right == pytest.approx(page(paged).part("scale").right)
    view = pages(paged).view
    start = at(paged, "key", down=0.1)
    before = [page(paged).part(i).x for i in ("key", "scale")]
    drag(view, start, start + QPoint(-60, 0))
    settle(paged)
    after = [page(paged).part(i).x for i in ("key", "scale")]
    assert before[0] - after[0] == pytest.approx(before[1] - after[1], abs=0.02) and after[0] < before[0]


def test_the_ground_of_a_plan_is_moved_and_scaled_and_its_scale_is_told(paged, settle) -> None:
    view = pages(paged).view
    click(paged, settle, "plan")
    box = named(pages(paged), "Scale", QComboBox)
    box.setCurrentIndex(box.findText("1:5,000"))
    box.activated.emit(box.currentIndex())
    settle(paged)
    assert page(paged).part("plan").scale == 5000
    start = at(paged, "plan")
    QTest.mousePress(view, LEFT, CONTROL, start)
    for k in (10, 40, 80):
        QTest.mouseMove(view, start + QPoint(k, 0))
    QTest.mouseRelease(view, LEFT, CONTROL, start + QPoint(80, 0))
    settle(paged)
    x, y = page(paged).part("plan").centre
    assert x == pytest.approx(413_000 - 80 / view.scale / 1000 * 5000, abs=15) and y == pytest.approx(
        5_871_000, abs=15
    )
    assert page(paged).part("plan").x == 10.0
    before = drawn(paged)
    paged.work.undo()
    settle(paged)
    assert drawn(paged) != before and page(paged).part("plan").centre is None


def test_figures_stay_linked_and_are_followed_back(paged, settle) -> None:
    pages(paged).add("text")
    settle(paged)
    words = named(pages(paged), "Words")
    words.setPlainText("Steep ground: {figure classes share of Steep} of all")
    words.left.emit()
    settle(paged)
    text = page(paged).parts[-1]
    share = next(
        f for f in paged.work.said("classes").findings if f.name == "share" and f.of == "Steep"
    ).value
    shown = drawn(paged)
    click(paged, settle, text.id, across=0.1, down=0.2)
    said = pages(paged).trail.text
    assert "Slope classes" in said and "harrow_ground.tif (BLAKE3" in said and "15 to 30" in said
    assert paged.work.chosen_id == "classes"
    rules = [dict(r) for r in paged.work.study.step("classes").settings["rules"]]
    rules[3]["low"] = rules[2]["high"] = 20.0
    paged.work.do(
        paged.work.study.changing("classes", lambda s: s.model_copy(update={"settings": {"rules": rules}})),
        "Bound",
    )
    settle(paged)
    after = next(
        f for f in paged.work.said("classes").findings if f.name == "share" and f.of == "Steep"
    ).value
    assert after != share and drawn(paged) != shown
    paged.work.remove("classes")
    settle(paged)
    assert "figure of the page is removed" in pages(paged).about.text


def test_the_page_is_written_beside_the_window_and_what_is_refused_is_said(
    paged, settle, tmp_path, monkeypatch
) -> None:
    target = tmp_path / "slope.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(target), "")))
    press(pages(paged), "Write the page")
    settle(paged)
    assert target.exists() and paged.plan.message.text.startswith("Written: ")
    text = pypdf.PdfReader(target).pages[0].extract_text()
    assert "Very steep" in text and "1:12,500" in text
    pages(paged).writer.write(tmp_path / "page.doc")
    settle(paged)
    assert "cannot be written" in paged.plan.message.text
    pages(paged).writer.write(tmp_path / "gone" / "page.pdf")
    settle(paged)
    assert "does not exist" in paged.plan.message.text and not (tmp_path / "gone").exists()


def test_what_a_page_cannot_be_told_is_refused_in_words(paged, settle) -> None:
    before = page(paged)
    pages(paged)._set("key", "size", 900.0)
    settle(paged)
    assert page(paged) == before and "not possible" in paged.plan.message.text
    pages(paged).begin("compared")
    settle(paged)
    pages(paged)._set_page(pages(paged).page, "name", "Slope classes")
    settle(paged)
    assert "already" in paged.plan.message.text and len({p.name for p in paged.work.study.pages}) == 2


def test_pages_survive_saving_and_the_autosave(paged, settle, tmp_path) -> None:
    held = paged.work.study.pages
    paged.work.save(tmp_path / "study.moss")
    settle(paged)
    paged.work.new()
    settle(paged)
    paged.work.open(tmp_path / "study.moss")
    settle(paged)
    assert paged.work.study.pages == held


@pytest.fixture
def person(window, settle, monkeypatch):
    window.resize(1280, 800)
    return Person(window, settle, monkeypatch)


def test_an_atlas_of_the_basins(person, tmp_path: Path) -> None:
    """Basins of the estate to an atlas of A4 pages with area, mean slope and longest path at 1:5,000."""
    window = person.window
    person.drop(DATA / "harrow_ground.tif")
    person.step("water", "Basins")
    person.spin("Least area", 20_000)
    basins = person.keep()
    person.actions.clear()
    person.click_bench("sheet")
    person.click("Plan with key")
    person.choose("Atlas of", window.work.study.name_of(basins))
    click(window, person.settle, "plan", across=0.8, down=0.8)
    person.did("click the plan")
    person.choose("Scale", "1:5,000")
    target = tmp_path / "atlas.pdf"
    person.patch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(target), "")))
    person.click("Write the page")
    person.did("type atlas.pdf")
    until(target.exists, "no atlas")
    assert person.count <= 10, listed(person.actions)
    value = window.work.outcome(basins).value
    read = pypdf.PdfReader(target)
    assert len(read.pages) == len(value) > 5
    for k, drawn_page in enumerate(read.pages):
        text = drawn_page.extract_text()
        assert (
            value.names()[k] in text and "1:5,000" in text and "Longest path" in text and "Mean slope" in text
        )
        box = [float(v) for v in drawn_page.mediabox]
        assert (box[2] - box[0]) * 25.4 / 72 == pytest.approx(297, abs=0.01)
    area = f"{value.columns['area_m2'][0]:,.0f}".replace(",", " ")
    assert area[:3] in read.pages[0].extract_text()
    image = pypdfium2.PdfDocument(target)[2].render(scale=1).to_numpy()
    assert image[:, :, :3].std() > 10


def test_a_map_of_slope_hazard_with_its_table_and_lineage(person, tmp_path: Path) -> None:
    """Slope hazard to a map with class table and lineage, as PDF."""
    window = person.window
    person.drop(DATA / "harrow_ground.tif", DATA / "harrow_bogs.gpkg")
    person.step("classes", "Hazard from criteria")
    person.fill("Criterion 2: bound", "450")
    last = person.keep()
    person.actions.clear()
    person.click_bench("sheet")
    person.click("Plan with table")
    target = tmp_path / "hazard.pdf"
    person.patch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(target), "")))
    person.click("Write the page")
    person.did("type hazard.pdf")
    until(target.exists, "no map")
    assert person.count <= 6, listed(person.actions)
    text = pypdf.PdfReader(target).pages[0].extract_text()
    names = [f.of for f in window.work.said(last).findings if f.of]
    assert names and all(name in text for name in names)
    assert "Lineage" in text and "harrow_ground.tif (BLAKE3" in text and "1:" in text
    assert sheets_of(window.work.now, page(window))[0].page.name in text

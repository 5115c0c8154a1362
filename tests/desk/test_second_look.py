"""What a practitioner would not forgive twice: narrow windows, heads of tables, open drafts, lost places."""

import itertools
import time

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from moss_step.desk.search import Search
from moss_step.desk.work import Work
from moss_step.scene.tables import cell_text, column_words
from moss_step.study.draft import DRAFT
from tests.desk.driving import LEFT, drag, press
from tests.desk.jobs import fill


@pytest.mark.parametrize("size", [(960, 540), (1024, 640), (1280, 800), (1920, 1080)])
def test_the_header_fits_every_window(estate, settle, size):
    estate.resize(*size)
    settle(estate)
    assert (estate.width(), estate.height()) == size
    parts = [*estate.header.benches.values(), estate.search_box]
    for part in parts:
        corner = part.mapTo(estate, part.rect().topRight())
        assert corner.x() < size[0], part.accessibleName() or part.text()
    for one, other in itertools.pairwise(parts):
        assert one.mapTo(estate, one.rect().topRight()).x() < other.mapTo(estate, other.rect().topLeft()).x()
    for button in estate.header.benches.values():
        room = button.width() - button.fontMetrics().horizontalAdvance(button.text())
        assert room >= 0, f"'{button.text()}' is cut"


@pytest.mark.parametrize(("name", "symbol", "words"), [("area_m2", "m²", "Area, m²"), ("longest_path_m", "m", "Longest path, m"), ("share", "", "Share"),
                                                       ("name", "", "Name"), ("Bog percent", "%", "Bog percent, %"), ("max", "m", "Max, m")])  # fmt: skip
def test_heads_of_columns_are_words_with_the_unit_once(name, symbol, words):
    assert column_words(name, symbol) == words


@pytest.mark.parametrize(("value", "symbol", "text"), [(700.6703, "m", "700.67"), (12.0, "m", "12"), (2_000_000.0, "m²", "2 000 000"), (123.456, "m²", "123.5"),
                                                       (41.0987, "°", "41.1"), (0.12345678, "", "0.1235"), (np.nan, "m", ""), (12_345, "", "12 345")])  # fmt: skip
def test_cells_have_the_digits_that_their_unit_warrants(value, symbol, text):
    assert cell_text(value, symbol) == text


def test_of_a_question_the_no_is_not_drawn(estate, settle):
    window = estate
    window.begin_step("formula")
    name = next(iter(window.benches["classes"].panel.further.names))
    fill(window, settle, "expression", f"{name} > 450")
    row = window.work.now.scene.layers[0]
    assert row.step == DRAFT and row.row.hidden == (0,)
    words = [text.split(" ·")[0] for text, _ in row.picture.legend(row.row, None, "").classes]
    assert words == ["no", "yes"]
    fill(window, settle, "expression", f"{name} - 450")
    assert not window.work.now.scene.layers[0].row.hidden


def test_a_card_that_is_chosen_already_shows_its_step_again_over_a_draft(estate, settle):
    window = estate
    step = window.work.add_step("aspect", {"dem": window.work.study.shading.ground}, {})
    settle(window)
    window.begin_step("hillshade")
    settle(window)
    assert window.work.draft is not None and window.work.chosen_id == step
    QTest.mouseClick(window.trail.cards[step], LEFT, pos=QPoint(60, 70))
    settle(window)
    assert window.work.draft is None and window.benches["shape"].panel.step_id == step


def test_the_key_stays_where_it_was_scrolled_to(estate, settle):
    window = estate
    window.resize(1280, 640)
    for _ in range(8):
        window.work.add_step("aspect", {"dem": window.work.study.shading.ground}, {}, choose=False)
    window.work.choose("")
    settle(window)
    key = window.plan.key
    bar = key._scroll.verticalScrollBar()
    assert bar.maximum() > 100
    bar.setValue(60)
    key.set(window.work.study.key[0], "Opacity", opacity=0.5)
    settle(window)
    assert bar.value() == 60


def test_what_is_measured_is_kept_as_shapes(estate, settle):
    window, view = estate, estate.plan.view
    press(window.plan.tools, next(n.accessibleName() for n in window.plan.tools.findChildren(object) if getattr(n, "accessibleName", str)().startswith("Measure")))  # fmt: skip
    for x, y in ((420, 300), (520, 300), (520, 380)):
        QTest.mouseClick(view, LEFT, pos=QPoint(x, y))
    QTest.keyClick(view, Qt.Key.Key_K)
    settle(window)
    line = window.work.outcome(window.work.study.steps[-1].id).value
    assert line.kind == "lines" and len(line.geometry[0].coords) == 3
    for x, y in ((420, 300), (520, 300), (520, 380), (421, 301)):
        QTest.mouseClick(view, LEFT, pos=QPoint(x, y))
    QTest.keyClick(view, Qt.Key.Key_K)
    settle(window)
    area = window.work.outcome(window.work.study.steps[-1].id).value
    assert area.kind == "areas"
    pixel = window.plan.view.metres_per_pixel
    assert area.geometry[0].area == pytest.approx(0.5 * 100 * 80 * pixel**2, rel=0.02)


def test_after_the_search_the_first_field_has_the_keyboard(estate, settle):
    window = estate
    window.activateWindow()
    window.search_box.begin()
    QTest.keyClicks(window.search_box, "contours")
    QTest.keyClick(window.search_box, Qt.Key.Key_Return)
    settle(window)
    panel = window.benches["shape"].panel
    focused = QApplication.focusWidget()
    assert focused is not None and panel.form.control("interval").isAncestorOf(focused)


def test_what_goes_with_a_removed_step_is_told(estate, settle):
    window = estate
    slope = window.work.add_step("slope", {"dem": window.work.study.shading.ground}, {})
    window.work.add_step("classify", {"surface": slope}, {}, choose=False)
    settle(window)
    window.work.remove(slope)
    assert "1 step that needed it" in window.plan.message.text and "Ctrl+Z" in window.plan.message.text
    window.work.undo()
    assert window.work.study.has(slope)


@pytest.mark.parametrize(("typed", "first"), [("sun", "Hillshade"), ("line of sight", "Sight line"), ("flood", "Flood stage"), ("maximum in areas", "Zone statistics"),
                                              ("slope", "Slope"), ("dam", "Dam and catchment"), ("hexagons", "Values per tile")])  # fmt: skip
def test_the_search_offers_what_is_meant_first(qapp, typed, first):
    work = Work()
    assert Search(work, {}).find(typed)[0].text == first
    work.close()


def test_inputs_offer_only_shapes_of_their_kind(estate, settle):
    window = estate
    window.begin_step("zone_statistics")
    settle(window)
    box = window.benches["classes"].panel._inputs["zones"]
    kinds = {window.work.outcome(box.itemData(i)).value.kind for i in range(box.count())}
    assert kinds == {"areas"}


def test_the_box_of_a_crop_is_what_is_in_view(estate, settle):
    window, view = estate, estate.plan.view
    view.show_camera(view.camera.zoomed(4.0, 480, 300))
    window.begin_step("crop")
    settle(window)
    press(window.benches["gather"], "The part in view")
    settle(window)
    cropped = window.work.outcome(DRAFT).value.frame
    west, south, east, north = view.camera.box
    cell = cropped.dx
    assert cropped.box == pytest.approx((west, south, east, north), abs=2 * cell)


def test_a_changed_unit_says_which_bounds_were_meant_in_the_other(estate, settle):
    window = estate
    work = window.work
    slope = work.add_step("slope", {"dem": work.study.shading.ground}, {})
    work.add_step("threshold", {"surface": slope}, {"above": 20.0}, name="Steep", choose=False)
    settle(window)
    press(window.benches["shape"], "Unit: Percent")
    settle(window)
    press(window.benches["shape"], "Apply the change")
    assert "bounds of Steep stay as they were typed" in window.plan.message.text


def test_a_ground_in_another_system_is_shown_when_it_is_chosen(estate, settle):
    window = estate
    work = window.work
    ground = work.study.shading.ground
    other = work.add_step("reproject", {"surface": ground}, {"crs": "EPSG:4326"})
    settle(window)
    assert work.frame.geographic and window.plan.view.scene.layers[0].step == other
    box = work.outcome(other).value.frame.box
    west, _, east, _ = window.plan.view.camera.box
    assert west < box[0] < box[2] < east
    work.choose(ground)
    settle(window)
    assert not work.frame.geographic


def test_the_look_of_one_result_is_given_to_another(estate, settle):
    window = estate
    work = window.work
    first = work.add_step("slope", {"dem": work.study.shading.ground}, {}, choose=False)
    second = work.add_step("slope", {"dem": work.study.shading.ground}, {"unit": "percent"}, choose=False)
    key = window.plan.key
    key.set(work.study.key_row(first), "Look", ramp="water", reverse=True, opacity=0.6)
    settle(window)
    press(key, f"How {work.study.name_of(first)} is drawn")
    press(key, "Copy this look")
    press(key, f"How {work.study.name_of(second)} is drawn")
    press(key, f"Draw it as {work.study.name_of(first)}")
    row = work.study.key_row(second)
    assert (row.ramp, row.reverse, row.opacity) == ("water", True, 0.6)
    work.undo()
    assert work.study.key_row(second).ramp != "water"


def test_a_bound_that_no_ground_has_is_marked_and_not_taken(estate, settle):
    from moss_step.desk.benches.class_table import Row, RowWidget

    widget = RowWidget(Row(0.0, 10.0, 1, "low", "#CAD39B"))
    taken = []
    widget.edited.connect(taken.append)
    QTest.keyClicks(widget.high, "1e400")
    assert widget.high.property("wrong") and all(r.high is None or abs(r.high) <= 1e15 for r in taken)


def test_preparing_a_ground_tells_its_share_and_can_be_stopped(estate, settle, qtbot, monkeypatch):
    from moss_step.desk.benches import water

    def slow(dem, progress):
        for k in range(200):
            progress.at(k / 200, "Finding passes")
            time.sleep(0.02)
        raise AssertionError("it was not stopped")

    window = estate
    monkeypatch.setattr(water, "prepare", slow)
    monkeypatch.setattr(water, "prepared", lambda dem: None)
    window.begin_step("catchment")
    window.plan.view.pointed.emit((412_900.0, 5_870_700.0))
    qtbot.waitUntil(lambda: "Finding passes" in window.header.state.text(), timeout=60_000)
    assert "%" in window.header.state.text() and window.header.stop.isVisible()
    QTest.mouseClick(window.header.stop, LEFT)
    settle(window)
    assert "Stopped" in window.benches["water"].panel.said.text()
    assert not window.header.stop.isVisible() and window.header.state.text() == ""


def test_colours_of_shapes_stay_whatever_is_done_to_the_key(estate, settle):
    window = estate
    work = window.work
    before = dict(work.now.shape_order)
    shown = [k.step for k in work.study.key if k.step in before]
    assert len(shown) > 1
    tiles = work.add_step("tessellate", {"extent": work.study.shading.ground}, {"spacing": 300.0})
    work.rename(shown[0], "Another name")
    work.do(work.study.model_copy(update={"key": tuple(reversed(work.study.key[:-1]))}), "Key")
    settle(window)
    after = work.now.shape_order
    assert all(after[step] == place for step, place in before.items()) and after[tiles] not in before.values()


@pytest.mark.parametrize("kind", ["sight_line", "pond"])
def test_a_step_that_asks_for_a_line_has_it_drawn_by_a_drag_at_once(estate, settle, kind):
    window, view = estate, estate.plan.view
    camera = view.camera
    window.begin_step(kind)
    settle(window)
    drag(view, QPoint(300, 250), QPoint(420, 330))
    settle(window)
    panel = window.benches[window.bench].panel
    assert len(panel.settings()[panel.line_setting]) == 4 and view.shows_as(camera)
    if not window.views.is_open("section"):  # there each drag draws
        drag(view, QPoint(560, 150), QPoint(580, 170))
        assert not view.shows_as(camera), "then a drag moves the ground again"


def test_relatives_are_one_list_away(estate, settle):
    window = estate
    window.begin_step("slope")
    settle(window)
    box = next(b for b in window.benches["shape"].findChildren(QComboBox) if b.accessibleName() == "Step")
    assert [box.itemText(i) for i in range(box.count())] == ["Slope", "Aspect", "Exposure"]

"""Two results against each other, as a person compares them."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLabel

from moss_step.model.class_map import ClassMap
from moss_step.scene.layers import draw_grids
from moss_step.study.draft import DRAFT
from tests.desk.driving import LEFT, drag, named, press, texts
from tests.desk.jobs import by_name


@pytest.fixture
def two(estate, settle):
    """The estate with two class maps of its slope, compared."""
    window = estate
    work = window.work
    slope = work.add_step("slope", {"dem": work.study.shading.ground}, {}, choose=False)
    for name, count in (("Three", 3), ("Five", 5)):
        work.add_step("classify", {"surface": slope}, {"count": count}, name=name, choose=False)
    work.do(work.study.model_copy(update={"key": ()}), "Key")
    work.choose("")
    settle(window)
    QTest.keyClick(window, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    if not window.views.comparing:
        window.views.begin_comparing()
    choose(window, "Left result", "Three")
    choose(window, "Right result", "Five")
    settle(window)
    return window


def choose(window, box: str, name: str) -> None:
    part = named(window.plan.compare, box, QComboBox)
    part.setCurrentIndex(part.findText(name))


def colors(window, x: int, y: int) -> int:
    return window.plan.view.grab().toImage().pixel(x, y) & 0xFFFFFF


def test_each_side_of_the_divider_shows_its_result(two):
    view = two.plan.view
    sides = two.work.now.sides
    left, right = (draw_grids(side, view.camera, 1.0) & 0xFFFFFF for side in sides)
    at = int(view.divider.pixel)
    rows = range(200, view.height() - 160, 23)
    assert all(colors(two, at - 60, y) == left[y, at - 60] for y in list(rows)[:4])
    assert all(colors(two, at + 110, y) == right[y, at + 110] for y in list(rows)[:4])
    assert (left != right).mean() > 0.05


def test_the_divider_is_dragged_and_moved_by_keys(two):
    view = two.plan.view
    at, y = int(view.divider.pixel), view.height() - 90
    camera = view.camera
    drag(view, QPoint(at, y), QPoint(at - 150, y))
    assert view.divider.pixel == pytest.approx(at - 150, abs=2) and view.camera == camera
    QTest.keyClick(view, Qt.Key.Key_BracketRight)
    assert view.divider.pixel == pytest.approx(at - 150 + 0.02 * view.width(), abs=2)
    drag(view, QPoint(int(view.divider.pixel), y), QPoint(-500, y))
    assert 0 < view.divider.pixel < 40, "it cannot be lost beyond the edge"


def test_one_reading_for_both(two):
    QTest.mouseMove(two.plan.view, QPoint(430, 300))
    rows = {r.name: r.text for r in two.plan.reading.rows}
    x, y = two.plan.view.camera.world(430, 300)
    for name in ("Three", "Five"):
        assert rows[name] == two.work.picture(by_name(two, name)).text_at(x, y)


def test_two_plans_move_together(two, settle):
    press(two.plan.compare, "Compare by: Two plans")
    settle(two)
    twin, view = two.views.twin, two.plan.view
    assert twin.isVisible() and twin.scene.layers[0].name == "Five" and view.scene.layers[0].name == "Three"
    drag(view, QPoint(200, 400), QPoint(150, 380))
    assert twin.shows_as(view.camera)
    twin.show_camera(twin.camera.zoomed(2.0, 100, 100))
    assert view.shows_as(twin.camera)
    QTest.mouseMove(twin, QPoint(100, 200))
    assert {"Three", "Five"} <= {r.name for r in two.plan.reading.rows}
    assert len(view.marked) == 1, "the place is marked in the other plan"


def test_what_is_in_view_is_what_the_leading_plan_shows(two, settle):
    assert two.work.in_view == two.plan.view.camera.box
    press(two.plan.compare, "Compare by: Two plans")
    settle(two)
    two.views.end_comparing()
    settle(two)
    two.plan.view.show_camera(two.plan.view.camera.zoomed(2.0, 100, 100))
    two.work.rename(two.work.study.steps[0].id, "Another name")
    settle(two)
    assert two.work.in_view == two.plan.view.camera.box


def test_escape_and_a_new_step_end_comparing(two, settle):
    two._escape()
    assert not two.views.comparing and two.work.now.compared == () and two.plan.view.beyond is None
    two.views.begin_comparing()
    settle(two)
    two.begin_step("aspect")
    settle(two)
    assert not two.views.comparing and two.plan.view.scene.layers[0].step == DRAFT


def test_a_result_that_is_removed_ends_comparing(two, settle):
    two.work.remove(by_name(two, "Five"))
    settle(two)
    assert not two.views.comparing and not two.views.twin.isVisible()


def test_class_maps_give_a_change_table_whose_cells_show_where(two, settle):
    press(two.plan.compare, "Compare by: Difference")
    settle(two)
    panel = two.benches["classes"].panel
    assert panel.kind.kind == "class_change" and panel.table.isVisible()
    outcome = two.work.outcome(DRAFT)
    before, after = (two.work.outcome(by_name(two, n)).value for n in ("Three", "Five"))
    assert isinstance(outcome.value, ClassMap)
    total = 0.0
    for r in range(panel.table.rowCount()):
        for c in range(panel.table.columnCount()):
            item = panel.table.item(r, c)
            if item is None:
                continue
            names = panel.table.verticalHeaderItem(r).text(), panel.table.horizontalHeaderItem(c).text()
            codes = [next(e.code for e in m.classes if e.name == n) for m, n in zip((before, after), names, strict=True)]  # fmt: skip
            there = (before.codes == codes[0]) & (after.codes == codes[1])
            area = there.sum() * 4.0 / 1e4
            assert float(item.text().split(" ha")[0].replace(" ", "")) == pytest.approx(area, abs=0.006)
            total += area
            panel.table.setCurrentCell(r, c)
            veil = two.plan.view.live.veil
            assert (veil.data != 0).any() == there.any()
    assert total == pytest.approx(np.count_nonzero(before.codes != 255) * 4.0 / 1e4)
    press(panel.foot, "Keep this step")
    settle(two)
    assert two.work.study.step(two.work.chosen_id).inputs == {
        "before": by_name(two, "Three"),
        "after": by_name(two, "Five"),
    }


def test_surfaces_give_their_difference(two, settle):
    choose(two, "Left result", "Slope, degrees, of Ground")
    box = named(two.plan.compare, "Left result", QComboBox)
    slope = next(s.id for s in two.work.study.steps if s.kind == "slope")
    box.setCurrentIndex(box.findData(slope))
    other = named(two.plan.compare, "Right result", QComboBox)
    other.setCurrentIndex(other.findData(two.work.study.shading.ground))
    settle(two)
    two.plan.compare.pick("difference")
    settle(two)
    panel = two.benches["surface"].panel
    assert panel.kind.kind == "difference"
    assert panel._inputs["first"].currentData() == slope


def test_a_surface_and_a_class_map_have_no_difference(two, settle):
    box = named(two.plan.compare, "Left result", QComboBox)
    box.setCurrentIndex(box.findData(two.work.study.shading.ground))
    settle(two)
    press(two.plan.compare, "Compare by: Difference")
    assert "have no difference" in texts(two.plan.compare) and two.views.comparing


def test_grids_of_two_frames_are_offered_resampled(two, settle):
    work = two.work
    ground = work.study.shading.ground
    coarse = work.add_step("resample", {"surface": ground}, {"cell": 10.0}, choose=False)
    settle(two)
    for title, ref in (("Left result", ground), ("Right result", coarse)):
        box = named(two.plan.compare, title, QComboBox)
        box.setCurrentIndex(box.findData(ref))
    settle(two)
    press(two.plan.compare, "Compare by: Difference")
    settle(two)
    panel = two.benches["surface"].panel
    assert panel.kind.kind == "resample" and panel._inputs["like"].currentData() == ground
    press(panel.foot, "Keep this step")
    settle(two)
    assert work.outcome(work.chosen_id).value.frame == work.outcome(ground).value.frame


def test_one_covering_alone_is_told(window, settle, hills_tif):
    window.files.open_path(hills_tif)
    settle(window)
    window.views.begin_comparing()
    assert "needs two results" in window.plan.message.text and not window.views.comparing


# --- the Key


def test_the_key_folds_to_a_strip_and_opens_again(estate, settle):
    key, view = estate.plan.key, estate.plan.view
    whole = key.height()
    press(key, "Fold the Key to a strip, or open it (K)")
    settle(estate)
    assert key.height() < 50 and key.width() < 130 and not key._scroll.isVisible()
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_K)
    settle(estate)
    assert key.height() == whole


def test_all_is_shown_beside_the_key_and_below_the_buttons(estate, settle):
    estate.resize(1280, 800)
    settle(estate)
    view, key = estate.plan.view, estate.plan.key
    view.fit()
    box = estate.work.frame.box
    (left, top), (right, bottom) = view.camera.pixel(box[0], box[3]), view.camera.pixel(box[2], box[1])
    assert (
        0 <= left < right <= key.x()
        and estate.plan.tools.geometry().bottom() <= top < bottom <= view.height()
    )


def test_a_row_of_the_key_is_dragged_to_another_place(estate, settle):
    order = [k.step for k in estate.work.study.key]
    assert len(order) > 1
    key = estate.plan.key
    head, last = key._heads[order[0]], key._heads[order[-1]]
    QTest.mousePress(head, LEFT, pos=head.rect().center())
    below = head.mapFromGlobal(last.mapToGlobal(last.rect().center())) + QPoint(0, 12)
    QTest.mouseRelease(head, LEFT, pos=below)
    settle(estate)
    assert [k.step for k in estate.work.study.key] == [*order[1:], order[0]]
    estate.work.undo()
    assert [k.step for k in estate.work.study.key] == order


def test_a_long_reading_goes_on_in_another_line(estate, settle):
    estate.resize(700, 600)
    settle(estate)
    QTest.mouseMove(estate.plan.view, QPoint(60, 200))
    settle(estate)
    bar = estate.plan.reading
    label = bar.findChild(QLabel)
    assert (
        bar.geometry().right() <= estate.plan.width()
        and label.heightForWidth(label.width()) <= label.height()
    )

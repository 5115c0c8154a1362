"""Whole jobs about sight in the window, with figures worked out apart."""

import itertools

import numpy as np
import pytest
from PySide6.QtCore import QPoint
from PySide6.QtTest import QTest

from moss_step.demo import DATA
from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.viewshed import seen_by
from tests.desk.driving import LEFT, drag, named, pixel, press
from tests.desk.jobs import by_name, choose_input, fill, keep, values


@pytest.fixture
def lookout(window, settle, tmp_path):
    """A quarter of the estate's ground, with the Sight bench open."""
    from moss_step.formats.raster import read_surface

    demo, _ = read_surface(DATA / "harrow_ground.tif")
    frame = demo.frame
    part = Surface(
        demo.values[::4, ::4].copy(), Frame(250, 250, frame.x0, frame.y0, 8.0, 8.0, frame.crs), METRE
    )
    write_surface(tmp_path / "upland.tif", part, "Upland")
    window.files.open_path(tmp_path / "upland.tif")
    settle(window)
    window.begin_step("viewshed")
    settle(window)
    return window


def ground_of(window) -> Surface:
    return window.work.outcome(by_name(window, "Upland")).value


def click(window, x: float, y: float) -> None:
    QTest.mouseClick(window.plan.view, LEFT, pos=pixel(window, x, y))


def test_four_masts_give_counts_and_ground_behind_a_ridge_is_hidden(lookout, settle):
    """Four masts of 60 m, a person of 2 m, curvature on: 0 to 4, and what a ridge hides is hidden."""
    window = lookout
    panel = window.benches["sight"].panel
    fill(window, settle, "observer_height", 60.0)
    fill(window, settle, "target_height", 2.0)
    for x, y in [(412_300, 5_871_700), (413_700, 5_871_600), (412_400, 5_870_400), (413_600, 5_870_300)]:
        click(window, x, y)
        settle(window)
    assert "mast of 60 m" in panel.said.text() and "2 m target" in panel.said.text()
    assert len(window.plan.view.look.handles) == 4
    seen = keep(window, settle)
    counts, dem = values(window, seen), ground_of(window)
    at = window.work.study.step(seen).settings["at"]
    sight = prepare_sight(dem)
    views = [seen_by(sight, Observer(x, y, height=60.0, target=2.0)) == 1 for x, y in at]
    assert np.array_equal(counts, np.sum(views, axis=0)) and set(np.unique(counts)) <= {0, 1, 2, 3, 4}
    found = {(f.of, f.name): f.value for f in window.work.outcome(seen).findings}
    for k in range(5):
        if (counts == k).any():
            assert found[f"seen by {k}", "area_m2"] == (counts == k).sum() * 64.0
    for k, view in enumerate(views, start=1):
        assert found[f"observer {k}", "share"] == pytest.approx(view.mean())


def test_a_place_just_behind_a_crest_is_hidden_from_a_mast_short_of_its_top(window, settle, tmp_path):
    """A ridge with a flat far side: a mast 100 m short of the top sees the crest and not what lies behind it."""
    r, c = np.mgrid[0:120, 0:200]
    z = np.where(c < 100, c * 0.8, np.maximum(80.0 - (c - 100) * 1.6, 0.0)) + 0 * r
    write_surface(
        tmp_path / "ridge.tif",
        Surface(z.astype(np.float32), Frame(120, 200, 412_000, 5_872_000, 2.0, 2.0, "EPSG:32628"), METRE),
        "Ridge",
    )
    window.files.open_path(tmp_path / "ridge.tif")
    settle(window)
    window.begin_step("viewshed")
    settle(window)
    fill(window, settle, "observer_height", 20.0)
    fill(window, settle, "at", "412101,5871881")
    seen = values(window, keep(window, settle))
    assert seen[59, 100] == 1 and seen[59, 90] == 1
    assert seen[59, 104] == 0 and seen[59, 130] == 0
    # eye at 40 + 20 m over the crest at 80 m: nothing of the far side is ever seen
    assert (seen[59, 103:150] == 0).all()


def test_one_lookout_and_the_reverse_question_have_the_same_area(lookout, settle):
    window = lookout
    fill(window, settle, "observer_height", 20.0)
    fill(window, settle, "target_height", 1.7)
    fill(window, settle, "reach", "600")
    fill(window, settle, "at", "413004,5871004")
    out = values(window, keep(window, settle)) > 0
    dem = ground_of(window)
    sight, cell = prepare_sight(dem), dem.frame.cell_at(413_004, 5_871_004)
    rows = range(cell[0] - 40, cell[0] + 41, 8)
    for r, c in itertools.product(rows, range(cell[1] - 40, cell[1] + 41, 8)):
        back = seen_by(
            sight, Observer(dem.frame.x_of(c), dem.frame.y_of(r), height=1.7, target=20.0, reach=600.0)
        )
        assert (back[cell] == 1) == bool(out[r, c]), "who is seen from the lookout sees the lookout"


def test_eleven_points_counts_which_blind_patches_and_the_best_three(lookout, settle):
    window = lookout
    dem = ground_of(window)
    rng = np.random.default_rng(7)
    points = [
        (float(x), float(y))
        for x, y in zip(rng.uniform(412_100, 413_900, 11), rng.uniform(5_870_100, 5_871_900, 11), strict=True)
    ]
    text = ";".join(f"{x:.1f},{y:.1f}" for x, y in points)
    fill(window, settle, "at", text)
    fill(window, settle, "observer_height", 4.0)
    fill(window, settle, "reach", "4000")
    seen = keep(window, settle)
    sight = prepare_sight(dem)
    views = np.array(
        [seen_by(sight, Observer(round(x, 1), round(y, 1), height=4.0, reach=4000.0)) == 1 for x, y in points]
    )
    assert np.array_equal(values(window, seen), views.sum(axis=0))

    window.begin_step("which_see")
    settle(window)
    fill(window, settle, "at", ";".join(text.split(";")[:3]))
    fill(window, settle, "observer_height", 4.0)
    fill(window, settle, "reach", "4000")
    which = window.work.outcome(keep(window, settle)).value
    for code in np.unique(which.codes):
        r, c = np.argwhere(which.codes == code)[0]
        who = [f"observer {k + 1}" for k in range(3) if views[k][r, c]]
        assert which.entry(int(code)).name == (" and ".join(who) or "none sees it")

    window.begin_step("blind_patches")
    choose_input(window, settle, "Seen", seen)
    blind = window.work.outcome(keep(window, settle)).value
    hidden = ~views.any(axis=0)
    assert (
        blind.columns["cells"].sum() <= hidden.sum()
        and blind.columns["area_m2"][0] == blind.columns["area_m2"].max()
    )

    window.begin_step("best_places")
    settle(window)
    for name, value in (("at", text), ("observer_height", 4.0), ("reach", "4000"), ("count", 3)):
        fill(window, settle, name, value)
    best = window.work.outcome(keep(window, settle))
    most = max(views[list(s)].any(axis=0).sum() for s in itertools.combinations(range(11), 3))
    assert best.value.columns["share_together"][-1] == pytest.approx(most / dem.values.size)
    assert "All sets were tried" in best.warnings[0]


def test_dragging_an_observer_shows_a_preview_and_settles_to_the_exact_view(lookout, settle):
    window = lookout
    fill(window, settle, "observer_height", 10.0)
    click(window, 412_800, 5_871_200)
    settle(window)
    before = window.work.outcome("draft").value.values.copy()
    view, start, end = window.plan.view, pixel(window, 412_800, 5_871_200), pixel(window, 413_200, 5_870_900)
    camera = view.camera
    QTest.mousePress(view, LEFT, pos=start)
    QTest.mouseMove(view, start + QPoint(20, 10))
    QTest.mouseMove(view, end)
    panel = window.benches["sight"].panel
    assert view.live is not None and view.live.veil is not None and "Preview" in panel.said.text()
    QTest.mouseRelease(view, LEFT, pos=end)
    assert view.live is None and view.camera == camera, "the plan itself did not move"
    settle(window)
    after = window.work.outcome("draft").value.values
    (x, y) = window.work.draft.step.settings["at"][0]
    expected = seen_by(prepare_sight(ground_of(window)), Observer(x, y, height=10.0)) == 1
    assert np.array_equal(after == 1, expected) and not np.array_equal(before, after)
    press(panel, "Take all observers away")
    assert not view.look.handles and window.work.draft is None and "Click on the plan" in panel.note.text


def test_a_sight_line_is_judged_while_it_is_pulled_and_its_ends_swap(lookout, settle):
    window = lookout
    window.begin_step("sight_line")
    settle(window)
    panel = window.benches["sight"].panel
    press(panel, "Draw the line on the plan")
    view = window.plan.view
    a, b = pixel(window, 412_300, 5_871_500), pixel(window, 413_600, 5_870_900)
    QTest.mousePress(view, LEFT, pos=a)
    QTest.mouseMove(view, b)
    assert ("Blocked from" in panel.said.text() or "Open" in panel.said.text()) and view.live.lines
    QTest.mouseRelease(view, LEFT, pos=b)
    settle(window)
    outcome = window.work.outcome("draft")
    found = {f.name: f.value for f in outcome.findings}
    assert found["length"] == pytest.approx(np.hypot(1300, 600), rel=0.01) and len(view.look.handles) == 2
    ends = window.work.draft.step.settings["ends"]
    press(panel, "Swap the ends")
    settle(window)
    assert window.work.draft.step.settings["ends"] == [*ends[2:], *ends[:2]]
    swapped = {f.name: f.value for f in window.work.outcome("draft").findings}
    assert swapped["share_seen"] != found["share_seen"]
    drag(view, pixel(window, *ends[2:]), pixel(window, 413_000, 5_871_400))
    settle(window)
    assert window.work.draft.step.settings["ends"][:2] != list(ends[2:])
    keep(window, settle)
    window.show_drawer("table")
    settle(window)
    assert window.table.model.rowCount() > 50


def test_what_nobody_sees_shows_the_ground_by_choice_of_the_key(lookout, settle):
    window = lookout
    fill(window, settle, "at", "413004,5871004")
    seen = keep(window, settle)
    row = window.work.study.key_row(seen)
    assert row.clear == 0.0
    clear = window.plan.view.grab().toImage()
    press(window.plan.key, f"How {window.work.study.name_of(seen)} is drawn")
    settle(window)
    edit = named(window.plan.key, "Value left clear")
    edit.clear()
    edit.editingFinished.emit()
    settle(window)
    assert window.work.study.key_row(seen).clear is None and window.plan.view.grab().toImage() != clear
    window.work.undo()
    settle(window)
    assert window.plan.view.grab().toImage() == clear or window.work.study.key_row(seen).clear == 0.0


def test_bad_observers_and_an_obstacle_in_another_frame_are_said_plainly(lookout, settle, tmp_path):
    window = lookout
    panel = window.benches["sight"].panel
    fill(window, settle, "at", "1,1")
    assert "outside the ground" in panel.note.text and not panel.keep_button.isEnabled()
    fill(window, settle, "at", "413004,5871004")
    fill(window, settle, "reach", "0")
    assert "reach of 0" in panel.note.text
    fill(window, settle, "reach", None)
    window.files.open_path(DATA / "harrow_ground.tif")
    settle(window)
    window.begin_step("viewshed")
    choose_input(window, settle, "Ground", by_name(window, "Upland"))
    fill(window, settle, "at", "413004,5871004")
    choose_input(window, settle, "Obstacles", by_name(window, "Harrow ground"))
    assert "cell on cell" in window.benches["sight"].panel.note.text
    window.begin_step("horizon")
    fill(window, settle, "at", "413004,5871004")

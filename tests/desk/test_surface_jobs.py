"""The whole job of a tarn in the real window: its table, its bed by kriging and by triangles, its water, its depth contours, handed on."""

import json

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.formats.vector import read_shapes
from moss_step.science.interpolate.tin import storage_of_tin
from tests.desk.person import Person, listed

SOUNDINGS, SHORE = DATA / "harrow_soundings.csv", DATA / "harrow_tarn.gpkg"
TRUTH = json.loads((DATA / "harrow_tarn_truth.json").read_text())
BOUND = 14


@pytest.fixture
def person(window, settle, monkeypatch):
    window.resize(1280, 800)
    settle(window)
    return Person(window, settle, monkeypatch)


def test_what_the_tarn_holds_by_kriging_and_by_triangles_with_contours_handed_on(person, tmp_path, settle):
    window = person.window
    person.drop(SOUNDINGS, SHORE)
    person.step("surface", "What a lake holds")
    last = person.keep()
    work = window.work
    by_kind = {s.kind: s.id for s in work.study.steps}
    found = {f.name: f.value for f in work.outcome(last).findings}
    kriged = {f.name: f.value for f in work.outcome(by_kind["interpolate"]).findings}
    error = kriged["mean_spread"] * found["plan_area"]
    assert abs(found["volume"] - TRUTH["volume_m3"]) < 3.0 * error + 0.005 * TRUTH["volume_m3"]
    assert found["plan_area"] == pytest.approx(TRUTH["area_m2"], rel=0.02)
    assert found["greatest_depth"] == pytest.approx(TRUTH["deepest_m"], abs=0.2)
    tin = work.outcome(by_kind["triangulate"]).value
    assert found["tin_volume"] == pytest.approx(storage_of_tin(tin, 0.0).volume)
    assert (
        found["tin_volume"] == pytest.approx(TRUTH["volume_m3"], rel=0.01)
        and abs(found["tin_differs_by"]) < 0.01
    )
    inside = shapely.union_all(read_shapes(SHORE).geometry).buffer(0.5)
    contours = work.outcome(by_kind["contours"]).value
    assert shapely.within(contours.geometry, inside).all()
    assert set(np.unique(contours.columns["elevation"])) >= {-3.5, -2.0, -0.5}
    work.choose(by_kind["contours"])
    person.did("click the card of the contours")
    person.save_as(tmp_path / "depths.gpkg")
    settle(window)
    assert len(read_shapes(tmp_path / "depths.gpkg")) == len(contours)
    assert person.count <= BOUND, listed(person.actions)


def test_the_bed_is_drawn_with_its_triangles_and_read(window, settle):
    """A TIN on the plan: heights painted, edges over them, a reading under the pointer, a section through it."""
    from PySide6.QtTest import QTest

    from tests.desk.driving import pixel
    from tests.desk.jobs import choose_input, fill, keep

    window.resize(1280, 800)
    for path in (SHORE, SOUNDINGS):
        window.files.open_path(path)
        settle(window)
    soundings = window.work.chosen_id
    window.begin_step("triangulate")
    settle(window)
    choose_input(window, settle, "Points", soundings)
    fill(window, settle, "column", "height")
    step = keep(window, settle)
    tin = window.work.outcome(step).value
    x, y = float(np.median(tin.x)), float(np.median(tin.y))
    QTest.mouseMove(window.plan.view, pixel(window, x, y))
    settle(window)
    said = " ".join(r.text for r in window.plan.reading.rows)
    assert ("m" in said and "-" in said) or "−" in said, said
    picture = window.work.picture(step)
    assert (
        picture.edges_in(tin.box, 10**6).shape[0] == len(tin.edges) and picture.edges_in(tin.box, 3) is None
    )
    window.show_drawer("section")
    settle(window)


def test_shapes_alone_are_shown_where_they_lie(window, settle):
    """The plan goes to shapes where no grid has a place."""
    window.resize(1280, 800)
    window.files.open_path(SHORE)
    settle(window)
    box, shown = window.work.outcome(window.work.chosen_id).value.box, window.plan.view.camera.box
    assert shown[0] <= box[0] and shown[2] >= box[2] and shown[1] <= box[1] and shown[3] >= box[3]
    assert (box[2] - box[0]) > 0.2 * (shown[2] - shown[0])


def test_a_level_follows_its_slider_with_volume_and_area(window, settle):
    """The slider runs over the heights of the bed; what is said while it moves is what the step says when it is let go."""
    from tests.desk.jobs import values

    window.resize(1280, 800)
    for path in (SHORE, SOUNDINGS):
        window.files.open_path(path)
        settle(window)
    shore, soundings = (s.id for s in window.work.study.steps)
    bed = window.work.add_step(
        "interpolate",
        {"points": soundings, "area": shore},
        {"column": "height", "edge_value": 0.0, "cell": 0.5},
    )
    settle(window)
    window.begin_step("storage")
    settle(window)
    panel = window.benches["surface"].panel
    heights = values(window, bed)
    control = panel.form.control("level")
    control.slider.setSliderDown(True)
    control.slider.setValue(400)
    level = control.value()
    assert level == pytest.approx(np.nanmin(heights) + 0.4 * np.ptp(heights[np.isfinite(heights)]), abs=0.01)
    settle(window)
    said = panel.said.text()
    control.slider.setSliderDown(False)
    panel.update_draft()
    settle(window)
    found = {f.name: f.value for f in window.work.outcome("draft").findings}
    assert float(said.split(" m³")[0].replace("\u202f", "").replace(" ", "")) == pytest.approx(
        found["volume"], rel=0.02
    )
    assert found["volume"] == pytest.approx(
        np.nansum(np.maximum(control.value() - heights, 0.0)) * 0.25, rel=1e-3
    )

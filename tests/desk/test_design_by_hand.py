"""Designs in the real window: a pad balanced on a hillside, a level and a grade that are dragged, volumes that follow."""

import numpy as np
import pytest

from moss_step.desk.benches import live_volumes
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from tests.desk.driving import until
from tests.desk.person import Person, listed

BOUND = 7
WEST, SOUTH = 400_000.0, 5_800_000.0


@pytest.fixture
def person(window, settle, monkeypatch, tmp_path):
    """A hillside of 100 m, opened from a file."""
    window.resize(1280, 800)
    settle(window)
    x = (np.arange(200) + 0.5) * 0.5
    z = 200.0 + 0.15 * x + 0.0 * x[:, None]
    path = tmp_path / "hill.tif"
    write_surface(
        path,
        Surface(z.astype(np.float32), Frame(200, 200, WEST, SOUTH + 100, 0.5, 0.5, "EPSG:32628"), METRE),
        "hill",
    )
    made = Person(window, settle, monkeypatch)
    made.drop(path)
    made.actions.clear()  # the hillside stands open
    return made


def on_hill(*corners):
    return [(WEST + x, SOUTH + y) for x, y in corners]


PAD = ((40, 40), (65, 40), (65, 60), (40, 60))


def test_a_pad_is_balanced_on_a_hillside_and_handed_on(person, tmp_path):
    window = person.window
    person.step("earthwork", "Pad")
    person.draw(on_hill(*PAD))
    last = person.keep()
    found = {f.name: f.value for f in window.work.outcome(last).findings}
    assert abs(found["net"]) < 1e-3 * (found["cut"] + found["fill"]) and found["cut"] > 100.0
    window.work.choose(f"{last}.works")
    person.did("click the tab of the works")
    person.save_as(tmp_path / "pad.gpkg")
    works = read_shapes(tmp_path / "pad.gpkg")
    assert works.columns["cut_m3"].sum() == pytest.approx(found["cut"], rel=1e-3)
    assert person.count <= BOUND, listed(person.actions)


def test_a_level_that_is_dragged_moves_figures_and_picture(person):
    window = person.window
    person.step("earthwork", "Pad")
    person.draw(on_hill(*PAD))
    panel = window.benches["earthwork"].panel
    panel.form.show_some(["lies"], {"lies": "at_level"})
    panel.update_draft()
    slider = panel.sliders["level"]
    slider.sliding.emit(208.0)
    until(lambda: "at 208" in panel.follows.text() and window.plan.view.live is not None, "nothing follows")
    low = panel.follows.text()
    slider.sliding.emit(212.0)
    until(lambda: "at 212" in panel.follows.text(), "the figures stand still")
    assert panel.follows.text() != low and window.plan.view.live.veil is not None
    slider.set_range(*panel.spans(panel.ground())["level"])
    assert 203.0 < slider._low < 206.5 and 209.5 < slider._high < 213.0  # the heights around the outline


def test_of_a_ground_that_is_mapped_only_what_lies_around_is_reckoned(person, monkeypatch):
    """Sums over all of a ground larger than memory would take gigabytes, and their time."""
    window = person.window
    person.step("earthwork", "Cut and fill")
    person.draw(on_hill((4, 4), (14, 4), (14, 12), (4, 12)))
    panel = window.benches["earthwork"].panel
    told = {}
    for mapped in (False, True):
        monkeypatch.setattr(live_volumes, "is_mapped", lambda _, known=mapped: known)
        for against in ("level", "edge", "plane"):
            panel.form.show_some(["against"], {"against": against})
            panel.sliders["level"].sliding.emit(201.0)
            until(lambda: panel.follows.text() and not window.work.follower.busy, "nothing follows")
            told[mapped, against] = panel.follows.text()
    for against in ("level", "edge", "plane"):
        assert told[True, against] == told[False, against]
    surface, _ = panel._near[2]
    assert surface.values.size < panel.ground().values.size / 2


def test_a_result_of_older_settings_wipes_nothing_that_is_dragged(person, settle):
    window = person.window
    person.step("earthwork", "Pad")
    person.draw(on_hill(*PAD))
    panel = window.benches["earthwork"].panel
    panel.form.show_some(["lies", "level"], {"lies": "at_level", "level": 206.0})
    panel.update_draft()
    settle(window)
    slider = panel.sliders["level"]
    slider.slider.setSliderDown(True)
    slider.sliding.emit(208.0)
    until(lambda: "at 208" in panel.follows.text() and window.plan.view.live is not None, "nothing follows")
    panel.show_outcome()  # what was reckoned before comes late
    assert "at 208" in panel.follows.text() and window.plan.view.live is not None
    slider.set_value(208.0)
    slider.slider.setSliderDown(False)
    settle(window)
    until(lambda: not panel.follows.text() and window.plan.view.live is None, "the whole is there, and more")


def test_a_corner_of_a_road_is_pulled_and_its_grade_dragged(person, settle):
    window = person.window
    person.step("earthwork", "Road")
    person.draw(on_hill((20, 30), (50, 50), (80, 45)))
    panel = window.benches["earthwork"].panel
    panel.form.show_some(["lies"], {"lies": "grade"})
    panel.update_draft()
    panel.sliders["grade"].sliding.emit(10.0)
    until(lambda: "cut" in panel.follows.text(), "nothing follows the grade")
    first = panel.follows.text()
    with person.pulling((WEST + 50, SOUTH + 50), 0, -42):
        until(lambda: panel.follows.text() != first, "nothing follows the corner")
    assert panel.settings()["path"][1][1] > SOUTH + 51.0 and len(panel.settings()["path"]) == 3


def test_a_bund_is_drawn_kept_and_undone(person, settle):
    window = person.window
    person.step("earthwork", "Bund")
    person.draw(on_hill((30, 20), (30, 80)))
    step = person.keep()
    assert {f.name: f.value for f in window.work.outcome(step).findings}["length"] == pytest.approx(
        60.0, rel=0.02
    )
    window.work.undo()
    settle(window)
    assert not window.work.study.has(step)


def test_sliders_of_a_kept_step_stand_where_its_settings_are(person, settle):
    window = person.window
    person.step("earthwork", "Road")
    person.draw(on_hill((20, 30), (50, 50), (80, 45)))
    panel = window.benches["earthwork"].panel
    panel.form.show_some(["lies", "grade"], {"lies": "grade", "grade": 3.0})
    panel.update_draft()
    settle(window)
    step = person.keep()
    window.work.choose("")
    window.work.choose(step)
    settle(window)
    slider = window.benches["earthwork"].panel.sliders["grade"]
    assert slider.value() == 3.0 and slider.slider.value() == pytest.approx(575, abs=2), (
        "3 % between -20 and 20"
    )

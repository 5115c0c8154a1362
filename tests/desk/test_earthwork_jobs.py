"""Cut and fill in the real window: an outline drawn and pulled on the plan with figures that follow, kept, handed on, opened again."""

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from tests.desk.driving import until
from tests.desk.person import Person, listed

BOUND = 8
CONE = np.pi * 400.0 * 10.0 / 3.0


@pytest.fixture
def person(window, settle, monkeypatch, tmp_path):
    """A stockpile of 20 m radius and 10 m height on a slope, opened from a file."""
    window.resize(1280, 800)
    settle(window)
    x = (np.arange(200) + 0.5) * 0.5
    y = 100.0 - x[:, None]
    z = 200.0 + 0.1 * x - 0.05 * y + np.maximum(10.0 - np.hypot(x - 50.0, y - 50.0) / 2.0, 0.0)
    frame = Frame(200, 200, 400_000.0, 5_800_100.0, 0.5, 0.5, "EPSG:32628")
    path = tmp_path / "heap.tif"
    write_surface(path, Surface(z.astype(np.float32), frame, METRE), "heap")
    made = Person(window, settle, monkeypatch)
    made.drop(path)
    return made


def corners(radius=30.0):
    a = np.linspace(0, 2 * np.pi, 7)[:-1]
    return [(400_050 + radius * np.cos(t), 5_800_050 + radius * np.sin(t)) for t in a]


def test_a_stockpile_is_outlined_reckoned_and_opened_again(person, tmp_path, settle):
    window = person.window
    person.step("earthwork", "Cut and fill")
    person.draw(corners())
    last = person.keep()
    work = window.work
    found = {f.name: f.value for f in work.outcome(last).findings}
    assert found["cut"] == pytest.approx(CONE, rel=0.01) and found["fill"] < 0.01 * CONE
    person.record(tmp_path / "heap.gpkg")
    person.drop(tmp_path / "heap.gpkg")
    again = read_shapes(tmp_path / "heap.gpkg")
    assert again.columns["cut_m3"][0] == pytest.approx(found["cut"])
    assert shapely.get_num_coordinates(again.geometry[0]) == len(corners()) + 1
    assert person.count <= BOUND, listed(person.actions)


def test_figures_and_picture_follow_a_corner_that_is_pulled(person, settle):
    window = person.window
    person.step("earthwork", "Cut and fill")
    person.draw(corners())
    panel, view = window.benches["earthwork"].panel, window.plan.view
    with person.pulling(corners()[0], 42, 14):
        until(lambda: panel.follows.text() and view.live is not None, "nothing follows")
        assert "cut" in panel.follows.text() and "net" in panel.follows.text()
        assert view.live.veil is not None
    settle(window)
    assert panel.follows.text() == "" and view.live is None
    assert len(panel.settings()["outline"]) == len(corners())
    assert panel.settings()["outline"][0][0] > corners()[0][0] + 1.0


def test_before_and_after_are_swapped_by_one_click(person, settle, tmp_path):
    window = person.window
    surface = window.work.outcome(window.work.study.steps[0].id).value
    write_surface(
        tmp_path / "later.tif", Surface(surface.values + np.float32(1), surface.frame, METRE), "later"
    )
    person.drop(tmp_path / "later.tif")
    window.begin_step("survey_change")
    settle(window)
    panel = window.benches["earthwork"].panel
    first, second = (s.id for s in window.work.study.steps)
    panel.take_inputs({"before": first, "after": second})
    panel.form.show_some(["error_before"], {"error_before": 0.2})
    settle(window)
    person.click("Swap before and after")
    inputs = {n: b.currentData() for n, b in panel._inputs.items() if n in ("before", "after")}
    assert inputs == {"before": second, "after": first}
    assert panel.settings()["error_after"] == 0.2
    step = person.keep()
    found = {f.name: f.value for f in window.work.outcome(step).findings}
    assert found["lowered"] == pytest.approx(10_000.0, rel=0.01) and found["raised"] == 0.0


def test_a_level_that_is_dragged_is_answered_from_sums_made_once(person, settle):
    window = person.window
    person.step("earthwork", "Cut and fill")
    person.draw(corners())
    panel = window.benches["earthwork"].panel
    panel.form.show_some(["against"], {"against": "level"})
    panel.update_draft()
    panel.sliders["level"].sliding.emit(203.0)
    until(lambda: "fill" in panel.follows.text(), "nothing follows the level")
    low = panel.follows.text()
    panel.sliders["level"].sliding.emit(206.0)
    until(lambda: panel.follows.text() != low, "the figures stand still")

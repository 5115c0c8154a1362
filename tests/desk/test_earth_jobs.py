"""Whole jobs of earthwork in the real window: a heap flown as a cloud, and the slip between two surveys."""

import csv

import numpy as np
import pytest

from moss_step.demo import DATA
from moss_step.demo.earth import ERROR, HEAP_VOLUME
from moss_step.formats.vector import read_shapes
from tests.desk.driving import until
from tests.desk.person import Person, listed
from tests.test_demo_earth import around_heap

HEAP_BOUND, SLIP_BOUND = 8, 10


@pytest.fixture
def person(window, settle, monkeypatch):
    window.resize(1280, 800)
    settle(window)
    return Person(window, settle, monkeypatch)


def corners_of_heap():
    return [tuple(at) for at in around_heap()[::3]]


def test_a_heap_flown_as_a_cloud_is_outlined_recorded_and_opened_again(person, tmp_path):
    window = person.window
    person.drop(DATA / "harrow_heap.laz")
    person.step("earthwork", "Cut and fill")
    person.draw(corners_of_heap())
    last = person.keep()
    found = {f.name: f.value for f in window.work.outcome(last).findings}
    assert found["cut"] == pytest.approx(HEAP_VOLUME, rel=0.02)
    person.record(tmp_path / "heap.gpkg")
    person.drop(tmp_path / "heap.gpkg")
    opened = window.work.outcome(window.work.study.steps[-1].id).value
    assert opened.columns["cut_m3"][0] == pytest.approx(found["cut"])
    assert opened.columns["against"][0] == "edge" and "harrow_heap.laz" in opened.columns["ground_name"][0]
    assert person.count <= HEAP_BOUND, listed(person.actions)
    again = read_shapes(tmp_path / "heap.gpkg")
    drawn = np.array(window.work.study.step(last).settings["outline"])
    assert np.allclose(again.geometry[0].exterior.coords[:-1], drawn)


def test_figures_follow_a_corner_that_is_pulled_over_a_cloud(person, settle):
    window = person.window
    person.drop(DATA / "harrow_heap.laz")
    person.step("earthwork", "Cut and fill")
    person.draw(corners_of_heap())
    panel, view = window.benches["earthwork"].panel, window.plan.view
    with person.pulling(corners_of_heap()[0], 25, 10):
        until(lambda: "cut" in panel.follows.text() and view.live is not None, "nothing follows")
        assert view.live.veil is not None
        rows = {name for name, _ in panel.facts.rows}
        for title in (
            "Cut over fill",
            "Area on the ground",
            "Perimeter",
            "Area of fill",
            "Mean depth of cut",
            "Deepest cut",
        ):
            assert title in rows, title


def test_figures_follow_a_corner_that_is_pulled_over_a_tin(person, settle, tmp_path):
    """Triangles of a cone on level ground: what follows is near to what is reckoned in the end."""
    window, west, south = person.window, 413_000.0, 5_870_000.0
    x, y = (a.ravel() for a in np.meshgrid(np.arange(0.0, 60.1, 1.0), np.arange(0.0, 60.1, 1.0)))
    z = 100.0 + np.maximum(8.0 - np.hypot(x - 30.0, y - 30.0) / 2.0, 0.0)
    rows = "\n".join(f"{a},{b},{c:.3f}" for a, b, c in zip(x + west, y + south, z, strict=True))
    (tmp_path / "cone.csv").write_text(f"x,y,z\n{rows}\n")
    person.drop(tmp_path / "cone.csv")
    points = window.work.study.steps[-1].id
    window.work.choose(window.work.add_step("triangulate", {"points": points}, {"column": "z"}))
    settle(window)
    person.step("earthwork", "Cut and fill")
    assert window.benches["earthwork"].panel.value_of("surface") is not None
    corners = [
        (west + 30 + 22 * np.cos(a), south + 30 + 22 * np.sin(a)) for a in np.linspace(0, 2 * np.pi, 7)[:-1]
    ]
    person.draw(corners)
    panel, view = window.benches["earthwork"].panel, window.plan.view
    with person.pulling(corners[0], 15, 0):
        until(lambda: "cut" in panel.follows.text() and view.live is not None, "nothing follows")
        live = dict(panel.facts.rows)
    found = {f.name: f.value for f in window.work.outcome("draft").findings}
    assert found["cut"] == pytest.approx(np.pi * 256.0 * 8.0 / 3.0, rel=0.02)
    assert float("".join(live["Cut"].split()[:-1])) == pytest.approx(found["cut"], rel=0.02)


def test_the_slip_is_reckoned_with_its_uncertainty_and_recorded(person, tmp_path):
    """The surveys are dropped the wrong way round: one click puts them right."""
    window = person.window
    person.drop(DATA / "harrow_slip_after.tif", DATA / "harrow_slip_before.tif")
    person.step("earthwork", "Change between surveys")
    panel = window.benches["earthwork"].panel
    assert (
        "Slip after" in panel._inputs["before"].currentText()
        or "after" in panel._inputs["before"].currentText()
    )
    person.click("Swap before and after")
    person.spin("Error of the survey before", ERROR)
    person.spin("Error of the survey after", ERROR)
    step = person.keep()
    found = {f.name: f.value for f in window.work.outcome(step).findings}
    assert found["lowered_error"] > 0 and found["least_detectable"] == pytest.approx(
        1.96 * ERROR * np.sqrt(2), rel=1e-3
    )
    person.record(tmp_path / "slip.csv")
    rows = {r["what"]: r["value"] for r in csv.DictReader((tmp_path / "slip.csv").open())}
    assert float(rows["lowered"]) == pytest.approx(found["lowered"], rel=1e-6)
    assert (
        "before" in rows["survey before"]
        and len(rows["survey after, content of harrow_slip_after.tif (BLAKE3)"]) == 64
    )
    assert float(rows["net change"]) == pytest.approx(found["net_change"], rel=1e-6)
    assert person.count <= SLIP_BOUND, listed(person.actions)


def test_a_record_as_text_says_the_same(person, tmp_path):
    window = person.window
    person.drop(DATA / "harrow_slip_before.tif", DATA / "harrow_slip_after.tif")
    person.step("earthwork", "Change between surveys")
    person.record(tmp_path / "slip.txt")
    text = (tmp_path / "slip.txt").read_text()
    net = (
        {f.name: f.value for f in window.work.outcome("draft").findings}["net_change"]
        if window.work.outcome("draft")
        else None
    )
    assert "reckoned" in text and "survey before" in text and "net change" in text and "m³" in text
    assert net is None or f"{net:.12g}" in text


def test_both_surveys_stand_in_the_section_with_what_moved_between_them(person, settle):
    window = person.window
    person.drop(DATA / "harrow_slip_before.tif", DATA / "harrow_slip_after.tif")
    person.step("earthwork", "Change between surveys")
    window.show_drawer("section")
    settle(window)
    window.views.cut.pull((413_150.0, 5_870_570.0, 413_185.0, 5_870_530.0))
    settle(window)
    chart = window.section.chart
    assert len(chart.moved) == 2 and set(chart.moved) <= set(chart.names)
    from pyqtgraph import FillBetweenItem

    assert sum(isinstance(i, FillBetweenItem) for i in chart._items) == 2
    before, after = (chart.table.columns[n] for n in chart.moved)
    assert np.nanmax(np.abs(before - after)) > 0.5


def test_the_block_shows_the_ground_as_it_was_over_what_it_became(person, settle):
    window = person.window
    person.drop(DATA / "harrow_slip_before.tif", DATA / "harrow_slip_after.tif")
    person.step("earthwork", "Change between surveys")
    window.show_drawer("block")
    settle(window)
    until(
        lambda: window.block.ground is not None and window.block.ground.was is not None,
        "nothing stands there",
    )
    was = window.block.ground.was
    assert np.isfinite(was.heights).any() and (was.above[np.isfinite(was.heights)] != 0).all()

"""How many clicks, drags, chords and typed texts whole jobs take from a fresh start with the demo's files."""

import csv
from pathlib import Path

import numpy as np
import pytest

from moss_step.demo import DATA
from moss_step.formats.raster import read_class_map
from tests.desk.person import Person, listed

GROUND, BOUNDARY, BOGS, PLACES = (DATA / f"harrow_{n}" for n in ("ground.tif", "boundary.gpkg", "bogs.gpkg", "places.gpkg"))  # fmt: skip
BOUNDS = {
    "highest ground per hexagon": 12,
    "hazard": 8,
    "seven observers": 10,
    "suitability by files of rules": 7,
    "east-facing and steep in a catchment": 7,
    "slope classes": 7,
    "dam and catchment": 7,
}


@pytest.fixture
def person(window, settle, monkeypatch):
    window.resize(1280, 800)
    settle(window)
    return Person(window, settle, monkeypatch)


def within(person, job: str) -> None:
    """Within its bound, and as the page of benchmarks says."""
    assert person.count <= BOUNDS[job], listed(person.actions)
    page = (Path(__file__).parents[2] / "docs" / "benchmarks.md").read_text()
    row = f"| {job} | {person.count} | {BOUNDS[job]} | {listed(person.actions)} |"
    assert row in page, f"docs/benchmarks.md should say: {row}"


def test_highest_ground_per_hexagon_over_an_area(person):
    person.drop(GROUND, BOUNDARY)
    person.step("classes", "Values per tile")
    person.choose("Only over", "boundary")
    last = person.keep()
    row, shapes = person.window.work.study.key_row(last), person.window.work.outcome(last).value
    assert (row.column, row.method, row.count, row.outline) == ("max", "natural", 5, "fill")
    whole = person.window.work.outcome("open_grid-1").value.range
    assert whole[0] < np.nanmin(shapes.columns["max"]) < np.nanmax(shapes.columns["max"]) <= whole[1]
    within(person, "highest ground per hexagon")


def test_hazard_of_slope_height_and_bog(person):
    person.drop(GROUND, BOGS)
    person.step("classes", "Hazard from criteria")
    person.fill("Criterion 2: bound", "450")
    person.choose("And inside", "bogs")
    last = person.keep()
    findings = {(f.of, f.name): f.value for f in person.window.work.outcome(last).findings}
    assert findings["2 of 3 hold", "area_m2"] > 0 and findings["1 of 3 holds", "area_m2"] > 0
    within(person, "hazard")


def test_seven_observers_with_area_by_count(person):
    person.drop(GROUND, PLACES)
    person.step("sight", "Viewshed")
    person.choose("Observers from file", "places")
    last = person.keep()
    work = person.window.work
    seen = work.outcome(last)
    assert seen.value.range[1] <= 7 and work.study.key_row(last).clear == 0.0, "none is not drawn"
    swatches = dict(work.now.scene.layers[0].picture.legend(work.study.key_row(last), None, "").classes)
    areas = [f for f in seen.findings if f.name == "area_m2" and f.of.startswith("seen by")]
    assert len(areas) == len(swatches) == len(np.unique(seen.value.values))
    within(person, "seven observers")


def test_suitability_by_rules_of_slope_and_bearing(person, tmp_path):
    head = "from,to,class,name,color\n"
    (tmp_path / "slope.csv").write_text(f"{head}0,15,1,good,#CAD39B\n15,,2,poor,#CF7340\n")
    (tmp_path / "bearing.csv").write_text(f"{head}-1,180,1,sunny,#CAD39B\n180,360,2,dull,#CF7340\n")
    person.drop(GROUND)
    person.step("classes", "Suitability")
    person.fill("Slope by", str(tmp_path / "slope.csv"))
    person.fill("Bearing by", str(tmp_path / "bearing.csv"))
    last = person.keep()
    assert {1, 2} <= set(np.unique(person.window.work.outcome(last).value.codes).tolist())
    within(person, "suitability by files of rules")


def test_east_facing_and_steep_ground_in_a_catchment(person):
    person.drop(GROUND)
    person.step("classes", "How much inside")
    person.click_plan(412_900.0, 5_870_700.0)
    last = person.keep()
    outcome = person.window.work.outcome(last)
    told = {f.name for f in outcome.findings if f.of}
    assert {"area_m2", "mean"} <= told
    steep = next(v for n, v in outcome.value.columns.items() if n.endswith("_mean") and "not" not in n)
    assert np.isnan(steep).all() or steep.min() > 30.0
    within(person, "east-facing and steep in a catchment")


def test_slope_classes_with_stated_ends_named_and_exported(person, tmp_path, settle):
    person.drop(GROUND)
    person.step("classes", "Slope classes")
    person.keep()
    person.save_as(tmp_path / "classes.tif")
    settle(person.window)
    assert read_class_map(tmp_path / "classes.tif").classes[0].name == "Flat"
    within(person, "slope classes")


def test_longest_way_to_a_dam_its_catchment_and_table(person, tmp_path, settle):
    person.drop(GROUND)
    person.step("water", "Dam and catchment")
    person.click_plan(412_900.0, 5_870_700.0)
    last = person.keep()
    person.save_as(tmp_path / "catchment.csv")
    settle(person.window)
    with (tmp_path / "catchment.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    area = person.window.work.outcome(last).value.geometry[0].area
    assert len(rows) == 1 and float(rows[0]["area_m2"]) == pytest.approx(area, rel=1e-6)
    within(person, "dam and catchment")

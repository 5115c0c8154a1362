"""Pads, roads and bunds as steps: what they tell, what they give beside, and what they refuse."""

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared
from moss_step.study.direct import do_step

SIDE, CELL = 120.0, 0.5


def slope(rise=0.1, cell=CELL):
    n = round(SIDE / cell)
    x = (np.arange(n) + 0.5) * cell
    z = 200.0 + rise * x + 0.0 * x[:, None]
    return Surface(z.astype(np.float32), Frame(n, n, 0.0, SIDE, cell, cell, "EPSG:32628"), METRE)


def run(kind, settings, **inputs):
    return run_declared(catalogue()[kind], settings, inputs, silent())


def found(outcome):
    return {f.name: f.value for f in outcome.findings}


OUTLINE = ((40.0, 40.0), (70.0, 40.0), (70.0, 60.0), (40.0, 60.0))
PATH = ((20.0, 60.0), (100.0, 60.0))


def test_a_pad_balances_and_its_design_is_level_there():
    ground = slope()
    outcome = run("pad", {"outline": OUTLINE}, surface=ground)
    said = found(outcome)
    assert abs(said["net"]) < 1e-3 * (said["cut"] + said["fill"])
    design = outcome.beside["design"]().value
    inside = design.values[130:150, 90:130]
    assert np.ptp(inside) < 1e-3 and inside[0, 0] == pytest.approx(said["pad_level"], abs=1e-3)
    assert np.array_equal(design.values[:40], ground.values[:40])
    depth = outcome.value.values
    assert np.nansum(depth) * CELL**2 == pytest.approx(said["net"], abs=0.5)
    works = outcome.beside["works"]().value
    assert list(works.columns["part"]) == ["Bed", "Slope in cut", "Slope in fill"]
    assert works.columns["cut_m3"].sum() == pytest.approx(said["cut"], rel=1e-3)
    assert works.columns["fill_m3"].sum() == pytest.approx(said["fill"], rel=1e-3)
    assert works.columns["area_m2"].sum() == pytest.approx(said["area"], rel=1e-3)
    assert works.columns["area_m2"][0] == pytest.approx(600.0, rel=5e-3)


def test_swell_shrink_density_and_cost_are_told():
    said = found(
        run(
            "pad",
            {"outline": OUTLINE, "shrink": 0.8, "swell": 1.3, "density": 1.9, "cost": 7.0},
            surface=slope(),
        )
    )
    assert 0.8 * said["cut"] == pytest.approx(said["fill"], rel=2e-3)
    assert said["loose_cut"] == pytest.approx(1.3 * said["cut"]) and said["mass"] == pytest.approx(
        1.9 * said["cut"]
    )
    assert said["cost"] == pytest.approx(7.0 * said["cut"]) and abs(said["left_over"]) < 0.01 * said["cut"]


def test_areas_from_a_file_are_one_pad_and_that_is_said():
    two = Shapes(
        np.array([shapely.box(30, 30, 40, 40), shapely.box(60, 60, 70, 70)], object), {}, "EPSG:32628"
    )
    outcome = run("pad", {"lies": "at_level", "level": 206.0}, surface=slope(), area=two)
    assert any("one pad" in w for w in outcome.warnings)


def test_a_road_has_three_volumes_that_agree():
    outcome = run(
        "road", {"path": PATH, "lies": "balanced", "every": 5.0, "crossfall": 0.0}, surface=slope(0.3)
    )
    said = found(outcome)
    assert abs(said["net"]) < 1e-3 * max(said["cut"], 1.0) + 0.5
    bent = run(
        "road",
        {
            "path": ((20, 30), (60, 70), (100, 60)),
            "lies": "grade",
            "start": 203.0,
            "grade": 4.0,
            "every": 2.0,
        },
        surface=slope(0.1),
    )
    said = found(bent)
    assert said["fill_end_areas"] == pytest.approx(said["fill"], rel=0.03)
    assert said["fill_prismoidal"] == pytest.approx(said["fill_end_areas"], rel=0.01)
    assert said["steepest_grade"] == pytest.approx(4.0, rel=1e-3)


def test_sections_haul_and_the_long_section_stand_beside_a_road():
    outcome = run("road", {"path": PATH, "lies": "grade", "start": 205.0, "grade": 0.0}, surface=slope())
    sections = outcome.beside["sections"]().value
    assert sections.columns["station_m"].tolist() == [0.0, 20.0, 40.0, 60.0, 80.0]
    assert sections.columns["ground"] == pytest.approx([202.0, 204.0, 206.0, 208.0, 210.0], abs=0.03)
    assert sections.columns["design"] == pytest.approx([205.0] * 5)
    wide = shapely.length(sections.geometry)
    assert wide == pytest.approx(sections.columns["left_m"] + sections.columns["right_m"], abs=1e-6)
    haul = outcome.beside["haul"]().value
    assert haul.columns["haul_m3"][-1] == pytest.approx(
        haul.columns["cut_m3"][-1] - haul.columns["fill_m3"][-1]
    )
    profile = outcome.beside["profile"]().value
    assert (
        profile.columns["ground"][0] == pytest.approx(202.0, abs=0.03)
        and (profile.columns["design"] == 205.0).all()
    )
    heights = outcome.beside["heights"]().value
    assert set(heights.columns["station_m"]) == {0.0, 20.0, 40.0, 60.0, 80.0}


@pytest.mark.parametrize("flip", ["across", "along"])
def test_left_and_right_change_sides_in_a_mirror(flip):
    n = round(SIDE / CELL)
    y = SIDE - (np.arange(n) + 0.5) * CELL
    z = (200.0 + 0.1 * y[:, None] + 0.02 * (np.arange(n) + 0.5) * CELL).astype(np.float32)
    frame = Frame(n, n, 0.0, SIDE, CELL, CELL, "EPSG:32628")
    path, given = (
        ((20.0, 50.0), (90.0, 70.0)),
        {"lies": "grade", "start": 205.0, "grade": 1.0, "falls": "to_left"},
    )
    one = run("road", {**given, "path": path}, surface=Surface(z, frame, METRE))
    axis = 0 if flip == "across" else 1
    turned = tuple((x, SIDE - y) if axis == 0 else (SIDE - x, y) for x, y in path)
    other = run(
        "road",
        {**given, "path": turned, "falls": "to_right"},
        surface=Surface(np.flip(z, axis).copy(), frame, METRE),
    )
    a, b = (o.beside["sections"]().value.columns for o in (one, other))
    assert a["left_m"] == pytest.approx(b["right_m"], abs=0.13) and a["right_m"] == pytest.approx(
        b["left_m"], abs=0.13
    )
    assert a["cut_m2"] == pytest.approx(b["cut_m2"], rel=5e-3, abs=0.05)


def test_a_road_at_a_stated_level_may_begin_where_no_height_is_known():
    ground = slope()
    holed = ground.values.copy()
    holed[:, :60] = np.nan
    outcome = run(
        "road", {"path": PATH, "lies": "grade", "start": 205.0}, surface=Surface(holed, ground.frame, METRE)
    )
    assert found(outcome)["unmeasured"] > 0.0 and any("more is moved" in w for w in outcome.warnings)
    with pytest.raises(MossError, match="not known"):
        run("road", {"path": PATH, "lies": "grade"}, surface=Surface(holed, ground.frame, METRE))


def test_a_road_by_heights_along_it_bends_at_them():
    outcome = run(
        "road", {"path": PATH, "lies": "profile", "heights": "0,203; 40,207; 80,205"}, surface=slope()
    )
    line = outcome.beside["profile"]().value
    at = np.interp([0, 20, 40, 60, 80], line.columns["station_m"], line.columns["design"])
    assert at == pytest.approx([203.0, 205.0, 207.0, 206.0, 205.0])


def test_a_bund_closes_at_the_higher_end_unless_a_crest_is_stated():
    across = ((20.0, 60.0), (60.0, 60.0))
    outcome = run("bund", {"path": across}, surface=slope())
    assert found(outcome)["crest"] == pytest.approx(206.0, abs=0.03)
    stated = run("bund", {"path": across, "crest": 205.0}, surface=slope())
    assert found(stated)["fill"] < found(outcome)["fill"]
    sunk = run("bund", {"path": across, "crest": 150.0}, surface=slope())
    assert found(sunk)["fill"] == 0.0 and any("below all ground" in w for w in sunk.warnings)


@pytest.mark.parametrize(("kind", "settings", "words"), [
    ("pad", {}, "no outline"),
    ("pad", {"outline": OUTLINE, "lies": "at_level"}, "No level"),
    ("pad", {"outline": OUTLINE, "cut_slope": 0.0}, "cut_slope"),
    ("pad", {"outline": ((0, 0), (50, 50), (50, 0), (0, 50))}, "no clean area"),
    ("pad", {"outline": ((500, 500), (550, 500), (550, 550))}, "outside"),
    ("road", {}, "no line"),
    ("road", {"path": ((20, 20), (20, 20))}, "no length"),
    ("road", {"path": PATH, "lies": "profile"}, "not stated"),
    ("road", {"path": PATH, "lies": "profile", "heights": "0,1; 0,2"}, "heights"),
    ("road", {"path": ((-50, 60), (100, 60))}, "not known"),
    ("road", {"path": PATH, "every": 0.001}, "too many"),
    ("bund", {"path": ((-50, 60), (-20, 60))}, "not known"),
])  # fmt: skip
def test_what_cannot_be_built_is_refused_in_words(kind, settings, words):
    with pytest.raises((AskedWronglyError, MossError)) as caught:
        run(kind, settings, surface=slope())
    assert words in str(caught.value)


def test_a_road_is_one_line():
    lines = Shapes(
        np.array([shapely.LineString(PATH), shapely.LineString([(20, 20), (30, 20)])], object),
        {},
        "EPSG:32628",
    )
    with pytest.raises(AskedWronglyError, match="one line"):
        run("road", {}, surface=slope(), line=lines)
    assert found(run("bund", {"crest": 215.0}, surface=slope(), line=lines))["fill"] > 0.0


def test_slopes_that_do_not_meet_the_ground_are_told():
    outcome = run(
        "pad", {"outline": OUTLINE, "lies": "at_level", "level": 260.0, "fill_slope": 5.0}, surface=slope()
    )
    assert any("more is moved" in w for w in outcome.warnings)


def test_the_record_names_the_ground_its_file_and_the_corners(tmp_path):
    write_surface(tmp_path / "hill.tif", slope(), "hill")
    kind = catalogue()["pad"]
    outline = ";".join(f"{x},{y}" for x, y in OUTLINE)
    results = do_step(
        kind, {"surface": str(tmp_path / "hill.tif"), "outline": outline}, silent(), ("", "record")
    )
    rows = results["record"][0].value.columns
    said = dict(zip(rows["what"], rows["value"], strict=True))
    assert said["ground"] == "hill" and len(said["ground, content of hill.tif (BLAKE3)"]) == 64
    assert said["corner 1 of 1"].startswith("40.000") or said["corner 1 of 1"].startswith("40.0")
    assert float(said["cut"]) == pytest.approx(found(results[""][0])["cut"])

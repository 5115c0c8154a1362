"""Steps on the shapes of points: what they refuse, in words, and what goes through files."""

from dataclasses import replace

import laspy
import numpy as np
import pytest
import shapely

from moss_step.cli import main
from moss_step.formats.cloud_source import read_source
from moss_step.formats.las_write import write_cloud
from moss_step.formats.vector import read_shapes
from moss_step.learned import objects
from moss_step.model.cloud import Cloud, PointClass
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.units import METRE
from moss_step.steps.catalogue import step_kind
from moss_step.study.declared import run_declared
from tests.cases import found


def run(kind, given, **inputs):
    return run_declared(step_kind(kind), given, inputs, silent())


def yard(seed=1):
    """Ground of 60 m, two walls of 1.2 m along it, two round bushes and a barn of 10 x 8 m."""
    rng = np.random.default_rng(seed)
    x, y = 60.0 * rng.random(24_000), 60.0 * rng.random(24_000)
    z, codes = 0.02 * x, np.full(24_000, 2)
    wall = (np.abs(y - 10.0) < 0.4) | (np.abs(y - 50.0) < 0.4)
    bush = np.minimum(np.hypot(x - 15.0, y - 30.0), np.hypot(x - 45.0, y - 20.0)) < 2.5
    barn = (np.abs(x - 35.0) < 5.0) & (np.abs(y - 35.0) < 4.0)
    z = z + np.select(
        [wall, bush, barn], [1.2, rng.uniform(0.3, 3.0, 24_000), 5.0 - 0.4 * np.abs(y - 35.0)], 0.0
    )
    codes[wall | bush | barn] = 1
    held = {
        "classification": codes.astype(np.uint8),
        "what": np.select([wall, bush, barn], [1, 2, 3], 0).astype(np.uint8),
    }
    return Cloud(x, y, z + rng.normal(0.0, 0.02, 24_000), held, "EPSG:32628", METRE)


YARD = yard()
PARTED = run("segments", {"method": "distance", "within": 1.0}, cloud=YARD).value


def boxes(*said):
    made = {"yes": [(0, 9, 60, 11), (0, 49, 60, 51)], "no": [(12, 27, 18, 33), (42, 17, 48, 23)]}
    rows = [(shapely.box(*b), w) for w in said for b in made[w]]
    return Shapes(
        np.array([g for g, _ in rows], object),
        {"example": np.array([w for _, w in rows], object)},
        "EPSG:32628",
    )


def test_segments_are_the_things_of_the_yard():
    numbers, what = PARTED.attributes["segment"], PARTED.attributes["what"]
    assert (numbers[what == 0] == 0).all()
    for thing in (1, 2, 3):
        large = {n for n in set(numbers[what == thing]) - {0} if (numbers == n).sum() > 100}
        assert len(large) == (1 if thing == 3 else 2)
    outlines = run("segments", {"method": "distance", "within": 1.0}, cloud=YARD).beside["outlines"]().value
    barn = int(np.bincount(numbers[what == 3]).argmax())
    assert outlines.columns["area_m2"][barn - 1] == pytest.approx(80.0, rel=0.15)
    assert outlines.columns["points"].sum() == (numbers > 0).sum()


def test_samples_are_shapes_or_segments_by_number():
    by_shape = run("train_class", {"rare": False}, cloud=PARTED, samples=boxes("yes", "no"))
    numbers, what = PARTED.attributes["segment"], PARTED.attributes["what"]
    picked = [
        n
        for n in range(1, numbers.max() + 1)
        if (numbers == n).sum() > 100 and (what[numbers == n] != 3).any()
    ]
    said = ["yes" if (what[numbers == n] == 1).all() else "no" for n in picked]
    named = Shapes(
        np.array([shapely.Point(0, 0)] * len(picked), object),
        {"segment": np.array(picked), "example": np.array(said, object)},
        "EPSG:32628",
    )
    by_number = run("train_class", {"rare": False}, cloud=PARTED, samples=named)
    for outcome in (by_shape, by_number):
        marked = run("use_class", {}, cloud=PARTED, model=outcome.value).value
        mine = marked.attributes["classification"] == 64
        assert (mine & (what == 1)).sum() > 0.9 * (what == 1).sum() and not (mine & (what == 2)).any()
    other = yard(2)
    again = run("use_class", {}, cloud=other, model=by_shape.value).value.attributes["classification"] == 64
    assert (again & (other.attributes["what"] == 1)).sum() > 0.9 * (other.attributes["what"] == 1).sum()


def test_too_few_examples_and_those_that_cannot_teach_are_refused():
    with pytest.raises(MossError, match="0 counter-examples"):
        run("train_class", {}, cloud=PARTED, samples=boxes("yes"))
    samples = boxes("yes", "no")
    fewer = Shapes(samples.geometry[:-1], {"example": samples.columns["example"][:-1]}, samples.crs)
    with pytest.raises(MossError, match="There is 1 counter-example, and a class needs 2"):
        run("train_class", {}, cloud=PARTED, samples=fewer)
    with pytest.raises(MossError, match="no segments to pick"):
        run("train_class", {"yes": [(1.0, 1.0)]}, cloud=YARD)
    with pytest.raises(MossError, match="No segment lies at"):
        run("train_class", {"yes": [(3.0, 55.0, 0.0)]}, cloud=PARTED)
    both = boxes("yes", "no")
    twice = Shapes(
        np.concatenate([both.geometry, both.geometry]),
        {"example": np.array(["yes"] * 4 + ["no"] * 4, object)},
        both.crs,
    )
    with pytest.raises(MossError, match="example and a counter-example"):
        run("train_class", {}, cloud=PARTED, samples=twice)
    odd = Shapes(both.geometry, {"example": np.array(["yes", "perhaps", "no", "no"], object)}, both.crs)
    with pytest.raises(MossError, match="perhaps"):
        run("train_class", {}, cloud=PARTED, samples=odd)
    one = replace(
        PARTED, x=np.full(len(PARTED), 5.0), y=np.full(len(PARTED), 10.0), z=np.full(len(PARTED), 1.0)
    )
    whole = Shapes(
        np.array([shapely.box(0, 0, 60, 60)] * 4, object),
        {"segment": np.array([1, 2, 3, 4]), "example": np.array(["yes", "yes", "no", "no"], object)},
        "EPSG:32628",
    )
    with pytest.raises(MossError):
        run("train_class", {}, cloud=one, samples=whole)
    with pytest.raises(MossError, match="one line"):
        run("train_class", {"name": "Wall\nPrecision 100 %"}, cloud=PARTED, samples=boxes("yes", "no"))


def test_measures_that_do_not_tell_examples_apart_ask_for_more():
    """Two halves of one wall against two halves of the other: they are alike."""
    halves = [(0, 9, 30, 11), (30, 9, 60, 11), (0, 49, 30, 51), (30, 49, 60, 51)]
    alike = Shapes(
        np.array([shapely.box(*b) for b in halves], object),
        {"example": np.array(["yes", "yes", "no", "no"], object)},
        "EPSG:32628",
    )
    outcome = run("train_class", {"rare": False}, cloud=PARTED, samples=alike)
    assert any("give more examples" in w for w in outcome.warnings)
    assert found(outcome, "recall") < 0.8 or found(outcome, "precision") < 0.8
    apart = run("train_class", {"rare": False}, cloud=PARTED, samples=boxes("yes", "no"))
    assert not apart.warnings and found(apart, "recall") > 0.8


def test_a_class_that_needs_intensity_says_so_where_there_is_none():
    lit = replace(
        PARTED, attributes={**PARTED.attributes, "intensity": np.arange(len(PARTED), dtype=np.uint16)}
    )
    taught = run("train_class", {"bands": True}, cloud=lit, samples=boxes("yes", "no")).value
    assert any("intensity" in m for m in taught.measures)
    with pytest.raises(MossError, match="no intensity"):
        run("use_class", {}, cloud=PARTED, model=taught)
    with pytest.raises(MossError, match="not one class alone"):
        run("use_class", {}, cloud=PARTED, model=objects("air", "forest"))


def test_colours_that_are_missing_are_said():
    with pytest.raises(MossError, match="no red"):
        run("segments", {"color": 2.0}, cloud=YARD)
    with pytest.raises(MossError, match="no red"):
        run("shape_measures", {"measures": "color"}, cloud=YARD)
    with pytest.raises(MossError, match="No point is of these classes"):
        run("shape_measures", {"classes": "17"}, cloud=YARD)


def test_measures_are_attributes_of_one_radius_several_or_the_best():
    one = run("shape_measures", {"measures": "planarity,height_above", "radii": "1.5"}, cloud=YARD)
    assert {"planarity", "height_above"} <= one.value.attributes.keys()
    assert found(one, "largest_radius") == 1.5
    wall = YARD.attributes["what"] == 1
    assert np.median(one.value.attributes["height_above"][wall]) == pytest.approx(1.2, abs=0.05)
    several = run("shape_measures", {"measures": "linearity", "radii": "1,2.5"}, cloud=YARD).value.attributes
    assert {"linearity_100cm", "linearity_250cm"} <= several.keys()
    best = run(
        "shape_measures", {"measures": "linearity", "best": True, "radii": "1,2.5"}, cloud=YARD
    ).value.attributes
    assert set(np.unique(best["best_radius"])) <= {1.0, 2.5}
    for wrong in ("", "0", "1,1.001", "x", "1,2,3,4,5,6,7"):
        if wrong:
            with pytest.raises(MossError):
                run("shape_measures", {"radii": wrong}, cloud=YARD)


def test_two_classifications_are_of_the_same_points():
    turned = replace(YARD, x=YARD.x[::-1].copy())
    for other in (turned, YARD.part(slice(0, 100))):
        with pytest.raises(MossError):
            run("cloud_changes", {}, before=YARD, after=other)
    same = run("cloud_changes", {}, before=YARD, after=YARD)
    assert found(same, "agreement") == 1.0 and found(same, "changed_points") == 0


def test_names_of_classes_go_through_las(tmp_path):
    """ASPRS LAS 1.4 R15, 2.8: a code and a description of 15 bytes for each class."""
    codes = np.where(YARD.attributes["what"] == 1, 64, YARD.attributes["classification"]).astype(np.uint8)
    cloud = replace(YARD, attributes={"classification": codes}).with_own(
        PointClass(64, "Dry-stone wall", "#8A5A2B"), PointClass(200, "Ein sehr langer Name", "")
    )
    write_cloud(tmp_path / "walls.laz", cloud)
    again = read_source(str(tmp_path / "walls.laz")).cloud
    assert again.class_name(64) == "Dry-stone wall" and again.class_name(200) == "Ein sehr langer"
    with laspy.open(tmp_path / "walls.laz") as file:
        held = file.header.vlrs.get("ClassificationLookupVlr")[0]
        assert held.lookups[64] == "Drystone wall"  # the library leaves out what is no letter
    write_cloud(tmp_path / "again.laz", again)
    assert read_source(str(tmp_path / "again.laz")).cloud.own == again.own


def test_class_is_written_as_one_says_it_on_the_command_line(tmp_path, capsys):
    codes = np.where(YARD.attributes["what"] == 3, 6, YARD.attributes["classification"]).astype(np.uint8)
    write_cloud(tmp_path / "yard.laz", replace(YARD, attributes={"classification": codes}))
    out = tmp_path / "barn.gpkg"
    assert main(["do", "outlines_of", f"cloud={tmp_path / 'yard.laz'}", "class=6", "-o", str(out)]) == 0, (
        capsys.readouterr().err
    )
    barn = read_shapes(out)
    assert len(barn) == 1 and barn.columns["area_m2"][0] == pytest.approx(80.0, rel=0.08)
    assert barn.columns["height_m"][0] == pytest.approx(5.0, abs=0.15)
    assert barn.columns["roof_slope"][0] == pytest.approx(np.degrees(np.arctan(0.4)), abs=3.0)

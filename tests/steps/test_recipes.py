"""Questions that take several steps: the same as those steps one after another, and kept as them."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.science.relief.gradient import aspect, slope
from moss_step.science.water.drainage import prepare
from moss_step.science.water.trace import mark_catchment
from moss_step.science.zones.statistics import class_means
from moss_step.steps.catalogue import catalogue
from moss_step.steps.recipes import named, planned_criteria
from moss_step.study.declared import run_declared
from moss_step.study.graph import Step, Study
from moss_step.study.saving import load_study, save_study
from tests.grounds import GROUNDS, metric, relief

RECIPES = [k for k in catalogue().values() if k.plan is not None]
HAZARD, INSIDE = catalogue()["hazard"], catalogue()["amount_inside"]


def ground():
    return metric(relief(4))


def areas(dem, left=0.262, right=0.741) -> Shapes:
    xmin, ymin, xmax, ymax = dem.frame.box
    box = shapely.box(xmin + left * (xmax - xmin), ymin, xmin + right * (xmax - xmin), ymax)
    return Shapes(np.array([box], object), {"name": np.array(["Middle"], object)}, dem.frame.crs)


def centres_inside(dem, shapes) -> np.ndarray:
    f = dem.frame
    x, y = f.x0 + (np.arange(f.cols) + 0.5) * f.dx, f.y0 - (np.arange(f.rows) + 0.5) * f.dy
    return shapely.contains_xy(shapes.geometry[0], *np.meshgrid(x, y))


def run(kind, settings, **inputs):
    return run_declared(kind, settings, inputs, silent())


@pytest.mark.parametrize("name", list(GROUNDS)[:6])
def test_summed_hazard_is_what_numpy_counts(name):
    dem = GROUNDS[name]
    bound = float(np.nanmedian(dem.values))
    steep, facing = slope(dem, unit="percent").values, aspect(dem).values
    text = f"slope_percent(dem) > 12; dem >= {bound!r}; facing(dem) in 315..45"
    result = run(HAZARD, {"criteria": text}, dem=dem).value
    holes = np.isnan(dem.values) | np.isnan(steep) | np.isnan(facing)
    off_north = np.abs((facing + 180.0) % 360.0 - 180.0)
    count = (
        (steep > 12).astype(int)
        + (dem.values >= np.float32(bound))
        + ((facing >= 0) & (off_north <= np.float32(45.0)))
    )
    held = np.where(holes, 255, count)
    sure = ~holes & (np.abs(off_north - 45.0) > 1e-3) & (facing >= 0)
    assert np.array_equal(result.codes[sure], held[sure])


def test_areas_are_a_criterion_of_their_own():
    dem = ground()
    bog, high = areas(dem), float(np.median(dem.values))
    result = run(HAZARD, {"criteria": f"dem > {high!r}"}, dem=dem, inside=bog).value
    expected = (dem.values > np.float32(high)).astype(int) + centres_inside(dem, bog)
    assert np.array_equal(result.codes, expected)
    both = run(HAZARD, {"criteria": f"dem > {high!r}", "rule": "all"}, dem=dem, inside=bog).value
    assert np.array_equal(both.codes == 1, expected == 2)


def test_weights_count_by_their_share():
    dem = ground()
    text = f"dem > {float(np.median(dem.values))!r} * 3; slope_degrees(dem) > 5 * 1"
    result = run(HAZARD, {"criteria": text, "rule": "weighted"}, dem=dem)
    weights = [f.value for f in result.findings if f.name == "weight"]
    assert weights == pytest.approx([0.75, 0.25])


def test_amount_inside_has_area_and_mean_of_the_ground_that_meets_all():
    dem = ground()
    valley, steep = areas(dem), slope(dem)
    east, least = aspect(dem).values, 8.0
    text = f"facing(dem) in 45..135; slope_degrees(dem) > {least}"
    shapes = run(INSIDE, {"criteria": text}, areas=valley, dem=dem, mean_of=steep).value
    hit = (np.abs((east - 90.0 + 180.0) % 360.0 - 180.0) <= 45.0) & (east >= 0) & (steep.values > least)
    hit &= centres_inside(dem, valley)
    yes = next(n for n in shapes.columns if n.endswith("m2") and not n.startswith(("not", "none", "no ")))
    cell = dem.frame.dx * dem.frame.dy
    assert shapes.columns[yes][0] == pytest.approx(hit.sum() * cell, rel=1e-3)
    mean = next(v for n, v in shapes.columns.items() if n == f"{yes.removesuffix('_m2')}_mean")
    assert mean[0] == pytest.approx(steep.values[hit].mean(), rel=1e-3)


@pytest.mark.parametrize("name", GROUNDS)
def test_means_by_class_are_weighed_by_ground(name):
    dem = GROUNDS[name]
    classes = run(catalogue()["threshold"], {"above": float(np.nanmedian(dem.values))}, surface=dem).value
    zone = areas(dem)
    means = class_means(zone, classes, dem)
    inside = centres_inside(dem, zone) & ~np.isnan(dem.values)
    weights = np.broadcast_to(dem.frame.row_areas[:, None], dem.frame.shape)
    for entry in classes.classes:
        cells = inside & (classes.codes == entry.code)
        wanted = (
            np.average(dem.values[cells].astype(float), weights=weights[cells]) if cells.any() else np.nan
        )
        assert means[entry.name][0] == pytest.approx(wanted, rel=1e-6, nan_ok=True)


def test_the_dam_s_catchment_is_all_that_drains_to_the_end_of_the_way():
    dem = ground()
    drainage = prepare(dem)
    f = dem.frame
    start = (f.x_of(20.5), f.y_of(12.5))
    path = run(catalogue()["flow_path"], {"start": [start]}, dem=dem).value
    along = shapely.get_coordinates(path.geometry[0])
    dam = tuple(along[len(along) // 2])
    result = run(catalogue()["dam_catchment"], {"start": [start], "dam": [dam]}, dem=dem).value
    row, col = f.cell_at(*dam)
    marks = np.zeros(f.shape, np.int32)
    mark_catchment(drainage, row * f.cols + col, 1, marks)
    assert result.geometry[0].area == pytest.approx(np.count_nonzero(marks) * f.dx * f.dy)
    alone = run(catalogue()["dam_catchment"], {"dam": [dam]}, dem=dem).value
    assert alone.geometry[0].equals(result.geometry[0]), "the longest way to the dam ends there, too"


def test_a_slanting_way_brings_no_cells_beside_it():
    """What is laid out along a diagonal must not count cells that the line only touches."""
    dem = ground()
    f, drainage = dem.frame, prepare(dem)
    for row, col in ((9, 7), (22, 30), (14, 25), (28, 11)):
        place = (f.x_of(col + 0.5), f.y_of(row + 0.5))
        result = run(catalogue()["dam_catchment"], {"dam": [place]}, dem=dem).value
        marks = np.zeros(f.shape, np.int32)
        at = f.cell_at(*place)
        mark_catchment(drainage, at[0] * f.cols + at[1], 1, marks)
        assert result.geometry[0].area == pytest.approx(np.count_nonzero(marks) * f.dx * f.dy)


def test_slope_classes_have_the_ends_and_names_that_were_given():
    dem, kind = ground(), catalogue()["slope_classes"]
    steep = slope(dem, unit="percent").values
    given = {"bounds": "10, 25", "names": "Gentle, Steep, Very steep"}
    for closed, side in (("upper", "left"), ("lower", "right")):
        result = run(kind, {**given, "closed": closed}, dem=dem).value
        place = np.searchsorted(np.float32([10, 25]), steep, side=side)
        assert [c.name for c in result.classes] == ["Gentle", "Steep", "Very steep"]
        assert np.array_equal(result.codes, place + 1)
    assert next(c.name for c in run(kind, {}, dem=dem).value.classes) == "Flat"
    with pytest.raises(AskedWronglyError, match="2 names are given for 3 classes"):
        run(kind, {"bounds": "10, 25", "names": "a, b"}, dem=dem)
    for wrong in ("25, 10", "steep", "10;25"):
        with pytest.raises(AskedWronglyError):
            kind.checked({"bounds": wrong})


def test_suitability_follows_the_rules_of_two_files(tmp_path):
    dem = ground()
    (tmp_path / "s.csv").write_text("from,to,class,name,color\n0,15,1,good,#CAD39B\n15,,2,poor,#CF7340\n")
    (tmp_path / "a.csv").write_text(
        "from,to,class,name,color\n-1,180,1,sunny,#CAD39B\n180,360,2,dull,#CF7340\n"
    )
    files = {"slope_rules": str(tmp_path / "s.csv"), "aspect_rules": str(tmp_path / "a.csv")}
    result = run(catalogue()["suitability"], {**files, "rule": "worst"}, dem=dem).value
    poor = slope(dem, unit="percent").values > 15
    dull = aspect(dem).values > 180
    assert np.array_equal(result.codes, np.where(poor | dull, 2, 1))


def test_tiles_have_the_statistic_that_was_asked_and_are_drawn_by_it():
    dem, kind = ground(), catalogue()["tile_values"]
    spacing = dem.frame.dx * 12
    tiles = run(kind, {"statistic": "max", "spacing": spacing, "shape": "square"}, surface=dem).value
    inside = shapely.contains_xy(
        tiles.geometry[0],
        *np.meshgrid(
            dem.frame.x0 + (np.arange(dem.frame.cols) + 0.5) * dem.frame.dx,
            dem.frame.y0 - (np.arange(dem.frame.rows) + 0.5) * dem.frame.dy,
        ),
    )
    assert tiles.columns["max"][0] == dem.values[inside].max()
    row = Study(steps=(Step(id="t", kind="tile_values", inputs={"surface": "g"}, settings={}),)).first_row(
        "t"
    )
    assert (row.column, row.outline, row.method, row.count) == ("max", "fill", "natural", 5)


@pytest.mark.parametrize("text", ["", "dem", "dem > ", "dem = 3", "dem > 3; ; x <<2", "sin(dem) > 3", "dem in 3", "a b > 3"])  # fmt: skip
def test_what_is_no_criterion_is_said(text):
    with pytest.raises(AskedWronglyError):
        HAZARD.checked({"criteria": text})


def test_a_surface_that_is_not_given_is_named():
    with pytest.raises(AskedWronglyError, match="no surface 'wet'"):
        run(HAZARD, {"criteria": "wet > 3; dem > 4"}, dem=ground())


def test_what_several_criteria_need_is_derived_once():
    text = "slope_percent(dem) > 30; slope_percent(dem) < 80; facing(dem) in 0..90"
    planned = planned_criteria(named(HAZARD.checked({"criteria": text}).criteria))
    assert [p.kind for p in planned].count("slope") == 1 and len({p.name for p in planned}) == len(planned)


def test_a_question_is_kept_as_linked_steps_in_one_group(tmp_path):
    study = Study(steps=(Step(id="g", kind="open_grid", settings={"source": "g.tif"}),))
    asked = Step(id="h", kind="hazard", inputs={"dem": "g"}, settings={"criteria": "slope_percent(dem) > 30; dem > 4"})  # fmt: skip
    kept, last = study.adding_plan(asked)
    assert [s.kind for s in kept.steps] == ["open_grid", "slope", "threshold", "threshold", "combine"]
    assert kept.groups == {last: [s.id for s in kept.steps[1:]]} and kept.name_of(last) == "Hazard"
    assert kept.step("threshold-1").inputs == {"surface": "slope-1"}
    save_study(kept, tmp_path / "s.moss.json")
    assert load_study(tmp_path / "s.moss.json").groups == kept.groups
    assert kept.removing(last).groups == {}


def test_no_step_of_a_study_is_a_question_of_several():
    """What is kept are ordinary steps: none has a plan itself."""
    for kind in RECIPES:
        assert kind.group and kind.words and "Kept as its" in kind.help

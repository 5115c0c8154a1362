"""Noise, and classes that are set by hand: in an outline, in areas, in a lasso of a section, between heights."""

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.formats.las import read_cloud
from moss_step.model.cloud import Cloud
from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.units import METRE
from moss_step.science.points.edits import corridor, in_outline
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared
from tests.cases import found

UTM = "EPSG:32628"


def run(kind, settings=None, **inputs):
    return run_declared(catalogue()[kind], settings or {}, inputs, silent())


@pytest.fixture(scope="module")
def flown():
    return read_cloud(DATA / "harrow_survey.laz")[0]


def test_birds_and_late_echoes_of_the_survey_are_noise(flown):
    outcome = run("noise_points", {}, cloud=flown)
    codes, truth = outcome.value.attributes["classification"], flown.attributes["truth"]
    for code, least in ((18, 0.9), (7, 0.9)):
        assert (codes[truth == code] == code).mean() >= least, code
    assert np.isin(codes[~np.isin(truth, (7, 18))], (7, 18)).mean() < 1e-3
    assert found(outcome, "noise_points") == np.isin(codes, (7, 18)).sum() == found(outcome, "changed_points")
    changes = outcome.beside["changes"]().value.columns
    assert changes["count"].sum() == len(flown) and set(changes["after"]) == {
        "Unassigned",
        "Low noise",
        "High noise",
    }


def test_what_was_noise_before_and_is_none_is_unassigned(flown):
    codes = flown.attributes["classification"].copy()
    codes[:50], codes[50:100] = 7, 4
    marked = Cloud(
        flown.x, flown.y, flown.z, {**flown.attributes, "classification": codes}, flown.crs, flown.unit
    )
    after = run("noise_points", {}, cloud=marked).value.attributes["classification"]
    assert (after[:50] == 1).all() and (after[50:100] == 4).all()


def test_far_points_are_noise_by_the_bounds_given():
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 40, (2, 4000))
    z = np.zeros(4000)
    z[:9] = -1.0
    cloud = Cloud(x, y, z, {}, UTM, METRE)
    assert found(run("noise_points", {"others": 0}, cloud=cloud), "noise_points") == 0
    assert found(run("noise_points", {"others": 0, "below": 0.8}, cloud=cloud), "noise_points") == 9


def grid_cloud() -> Cloud:
    y, x = (v.reshape(-1) + 0.5 for v in np.mgrid[0:20, 0:20].astype(float))
    codes = np.where(x < 10, 2, 4).astype(np.uint8)
    held = {"classification": codes, "height_above": (x / 2).astype(np.float32)}
    return Cloud(x, y, y * 0.5, held, UTM, METRE)


def changed(settings, **inputs):
    cloud = grid_cloud()
    after = run("edit_classes", settings, cloud=cloud, **inputs).value
    return cloud, (after.attributes["classification"] == settings["to_class"]) & (
        cloud.attributes["classification"] != settings["to_class"]
    )


def test_points_inside_an_outline_get_another_class():
    cloud, moved = changed({"to_class": 6, "outline": "5,5;15,5;15,9;5,9"})
    assert (
        moved == ((cloud.x > 5) & (cloud.x < 15) & (cloud.y > 5) & (cloud.y < 9))
    ).all() and moved.sum() == 40
    _, some = changed({"to_class": 6, "outline": "5,5;15,5;15,9;5,9", "classes": "4"})
    assert (some == (moved & (cloud.x > 10))).all()
    _, low = changed({"to_class": 6, "outline": "5,5;15,5;15,9;5,9", "below": 3.0})
    assert (low == (moved & (cloud.z <= 3.0))).all()
    _, high = changed(
        {"to_class": 6, "outline": "5,5;15,5;15,9;5,9", "above": 4.0, "heights": "above_ground"}
    )
    assert (high == (moved & (cloud.x / 2 >= 4.0))).all()


def test_areas_and_a_lasso_in_a_section_catch_the_same_points():
    area = Shapes(np.array([shapely.box(5, 5, 15, 9)]), {}, UTM)
    cloud, by_area = changed({"to_class": 6}, area=area)
    assert by_area.sum() == 40
    _, lasso = changed({"to_class": 6, "line": "0,7,20,7", "width": 4.0, "lasso": "5,0;15,0;15,99;5,99"})
    assert (lasso == by_area).all()
    _, thin = changed({"to_class": 6, "line": "0,7,20,7", "width": 4.0, "lasso": "5,0;15,0;15,3;5,3"})
    assert (thin == (by_area & (cloud.z <= 3.0))).all()


def test_a_corridor_gives_distance_along_and_beside_its_path():
    cloud = grid_cloud()
    near = corridor(cloud, np.array([[2.0, 3.0], [12.0, 3.0], [12.0, 13.0]]), 3.0)
    x, y = cloud.x[near.rows], cloud.y[near.rows]
    first = near.along <= 10.0
    apart = np.abs((12.0 - x) - (y - 3.0)) > 0.1  # elsewhere both parts are as near
    one, two = first & apart, ~first & apart
    assert near.along[one] == pytest.approx(x[one] - 2.0) and near.beside[one] == pytest.approx(3.0 - y[one])
    assert near.along[two] == pytest.approx(10.0 + y[two] - 3.0) and np.abs(near.beside).max() <= 1.5
    expected = (
        shapely.distance(shapely.LineString([(2, 3), (12, 3), (12, 13)]), shapely.points(cloud.x, cloud.y))
        <= 1.5
    )
    ends = (cloud.x < 2.0) | (cloud.y > 13.0)
    outer = (cloud.x > 12.0) & (
        cloud.y < 3.0
    )  # around the outer corner a point is nearest to the corner itself
    assert set(near.rows[~outer[near.rows]]) == set(np.flatnonzero(expected & ~ends & ~outer))


def test_a_corridor_is_measured_in_metres_on_degrees_and_feet():
    east, north = 1.0 / 55_800.0, 1.0 / 111_412.0  # degrees a metre at 60 north
    flat = grid_cloud()
    degrees = Cloud(10.0 + flat.x * east, 60.0 + flat.y * north, flat.z, {}, "EPSG:4326", METRE)
    wide, high = degrees.plan_metres
    assert wide == pytest.approx(55_800.0, rel=2e-3) and high == pytest.approx(111_412.0, rel=2e-3)
    path = np.array([[10.0, 60.0 + 7 * north], [10.0 + 20 * east, 60.0 + 7 * north]])
    near = corridor(degrees, path, 4.0)
    assert near.rows.size == 80 and near.along.max() == pytest.approx(19.5, rel=5e-3)


def test_an_outline_that_crosses_itself_holds_both_of_its_halves():
    bow = np.array([[0.0, 0.0], [10.0, 10.0], [10.0, 0.0], [0.0, 10.0]])
    x, y = np.array([2.0, 8.0, 5.0, 5.0]), np.array([5.0, 5.0, 1.0, 9.0])
    assert in_outline(x, y, bow).tolist() == [True, True, False, False]


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"to_class": 6}, "which points change"),
        ({"to_class": 6, "outline": "1,1;2,2"}, "2 corners"),
        ({"to_class": 6, "outline": "90,90;95,90;95,95"}, "No point lies inside"),
        ({"to_class": 6, "lasso": "1,1;2,2;3,1"}, "line of its section"),
        ({"to_class": 6, "above": 5.0, "below": 1.0}, "No height lies"),
    ],
)
def test_what_catches_nothing_is_told(settings, words):
    with pytest.raises(AskedWronglyError, match=words):
        run("edit_classes", settings, cloud=grid_cloud())


def test_heights_above_ground_that_are_not_there_are_asked_for():
    cloud = grid_cloud()
    bare = Cloud(cloud.x, cloud.y, cloud.z, {}, UTM, METRE)
    with pytest.raises(AskedWronglyError, match="no heights above"):
        run("edit_classes", {"to_class": 6, "above": 1.0, "heights": "above_ground"}, cloud=bare)
    with pytest.raises(AskedWronglyError, match="no heights above"):
        run("grid_points", {"what": "canopy", "cell": 1.0}, cloud=bare)


def test_ground_by_cloth_is_a_step_with_its_stiffness(flown):
    part = flown.part(slice(None, None, 3))
    outcome = run("ground_points", {"method": "cloth", "stiffness": 3}, cloud=part)
    truth = part.attributes["truth"] == 2
    assert ((outcome.value.attributes["classification"] == 2) != truth).mean() < 0.03
    kind = catalogue()["ground_points"]
    assert kind.idle(kind.checked({"stiffness": 3}), ["cloud"]) == {"stiffness": "only with method=cloth"}

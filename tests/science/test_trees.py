"""Single trees: on the demo's truth, against the general library's watershed, on cones, and on cells of other shapes."""

import numpy as np
import pytest
from skimage.segmentation import watershed

from moss_step.demo import DATA
from moss_step.demo.lidar import SOUTH, WEST, trees
from moss_step.formats.las import read_cloud
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.units import CENTIMETRE, METRE
from moss_step.science.points.kernels.trees import grow_crowns
from moss_step.science.points.trees import TreeSet, single_trees
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def run(kind, settings=None, **inputs):
    return run_declared(catalogue()[kind], settings or {}, inputs, silent())


@pytest.fixture(scope="module")
def above():
    bare = run("ground_points", {}, cloud=read_cloud(DATA / "harrow_survey.laz")[0]).value
    ground = run("grid_points", {"cell": 0.5}, cloud=bare).value
    first = run("grid_points", {"what": "first", "fill": 1.5}, cloud=bare, like=ground).value
    return run("difference", {}, first=first, second=ground).value


def test_trees_of_the_survey_are_found_where_and_as_high_as_they_stand(above):
    """Nine in ten found, one in ten false, and heights within half a metre."""
    points, crowns = single_trees(above)
    x, y, h = points.columns["x"] - WEST, points.columns["y"] - SOUTH, points.columns["tree_height"]
    wood = np.hypot(x - 230.0, y - 235.0) < 75.0
    x, y, h = x[wood], y[wood], h[wood]
    free, off = np.ones(len(x), bool), []
    standing = sorted(trees(), key=lambda t: -t.height)
    for tree in standing:
        away = np.where(free, np.hypot(x - tree.x, y - tree.y), np.inf)
        nearest = int(away.argmin())
        if away[nearest] < 0.6 * tree.crown:
            free[nearest] = False
            off.append(h[nearest] - tree.height)
    assert len(standing) > 400 and len(off) >= 0.9 * len(standing)
    assert free.sum() <= 0.1 * len(x)
    assert abs(np.mean(off)) < 0.2 and np.sqrt(np.mean(np.square(off))) < 0.5
    assert np.mean(np.abs(off) < 0.5) > 0.97
    assert (
        points.columns["tree"].tolist() == list(range(1, len(points) + 1))
        and (np.diff(points.columns["tree_height"]) <= 0).all()
    )
    assert crowns.columns["crown_m2"].sum() == pytest.approx(sum(g.area for g in crowns.geometry))
    assert all(c.buffer(1e-6).covers(p) for c, p in zip(crowns.geometry, points.geometry, strict=True))


def test_crowns_are_those_of_the_general_library(above):
    """skimage.segmentation.watershed of the heights turned over, from the same markers, under one bound."""
    height = np.nan_to_num(above.values[100:300, 200:420].astype(np.float64), nan=0.0)
    height += np.random.default_rng(1).normal(
        0.0, 1e-6, height.shape
    )  # no two alike: no order among equal ones
    rng, markers = np.random.default_rng(5), np.zeros(height.shape, np.int32)
    high = np.argwhere(height > 4.0)
    for number, (r, c) in enumerate(high[rng.choice(len(high), 60, replace=False)], start=1):
        markers[r, c] = number
    expected = watershed(-height, markers, mask=height >= 2.0)
    number = markers.copy()
    grow_crowns(height, number, np.full(61, 2.0))
    assert (number == expected).mean() > 0.999 and ((number > 0) == (expected > 0)).all()


def cones(frame: Frame, tops, unit_of=1.0) -> Surface:
    rows, cols = np.mgrid[0 : frame.rows, 0 : frame.cols]
    x, y = (cols + 0.5) * frame.dx, (frame.rows - rows - 0.5) * frame.dy
    z = np.zeros(frame.shape)
    for at_x, at_y, high, radius in tops:
        z = np.maximum(z, high * (1.0 - np.hypot(x - at_x, y - at_y) / radius))
    return Surface((z * unit_of).astype(np.float32), frame, METRE, "difference")


@pytest.mark.parametrize(("dx", "dy"), [(0.5, 0.5), (0.25, 1.0), (1.0, 0.25)])
def test_cones_have_one_top_each_whatever_the_shape_of_the_cells(dx, dy):
    tops = [(10.0, 10.0, 12.0, 4.0), (22.0, 11.0, 8.0, 3.0), (15.0, 25.0, 16.0, 5.0)]
    frame = Frame(int(35 / dy), int(35 / dx), 0.0, 35.0, dx, dy, UTM)
    points, crowns = single_trees(cones(frame, tops), TreeSet(crown=0.25))
    assert len(points) == 3
    for place, (x, y, *_) in zip(points.geometry, sorted(tops, key=lambda t: -t[2]), strict=True):
        assert np.hypot(place.x - x, place.y - y) < 0.8
    highs = points.columns["tree_height"]
    assert np.abs(highs - [16.0, 12.0, 8.0]).max() < 1.8
    areas = crowns.columns["crown_m2"] / (np.pi * (np.array([5.0, 4.0, 3.0]) * 0.75) ** 2)
    assert (np.abs(areas - 1.0) < 0.12).all()


def test_units_are_carried_and_low_ground_is_refused():
    frame = Frame(60, 60, 0.0, 30.0, 0.5, 0.5, UTM)
    surface = cones(frame, [(15.0, 15.0, 9.0, 4.0)])
    in_cm = Surface(surface.values * 100.0, frame, CENTIMETRE, "difference")
    plain, other = single_trees(surface)[0], single_trees(in_cm)[0]
    assert other.columns["tree_height"] == pytest.approx(plain.columns["tree_height"] * 100.0)
    assert (
        other.columns["crown_m2"] == pytest.approx(plain.columns["crown_m2"])
        and other.symbol("tree_height") == "cm"
    )
    with pytest.raises(MossError, match="2 m high"):
        single_trees(
            Surface(np.ones((5, 5), np.float32), Frame(5, 5, 0.0, 5.0, 1.0, 1.0, UTM), METRE, "difference")
        )


def test_trees_go_to_files_with_their_columns(tmp_path, above):
    outcome = run("single_trees", {"least": 3.0}, heights=above)
    assert {f.name for f in outcome.findings} >= {"trees", "highest", "mean_crown", "crowns_m2"}
    crowns = outcome.beside["crowns"]().value
    assert set(crowns.columns) == {"tree", "tree_height", "crown_m2", "crown_m"} and crowns.kind == "areas"
    assert (
        set(outcome.value.columns) == {"tree", "tree_height", "crown_m2", "crown_m", "x", "y"}
        and outcome.value.kind == "points"
    )

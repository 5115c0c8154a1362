"""Ground by a cloth: on the demo's truth, on planes with boxes, on a scarp, and whichever way the ground is turned."""

import numpy as np
import pytest

from moss_step.demo import DATA
from moss_step.formats.las import read_cloud
from moss_step.model.cloud import Cloud
from moss_step.model.progress import silent
from moss_step.model.units import FOOT, METRE
from moss_step.science.points.cloth import _at_rest, cloth_things
from moss_step.science.points.ground import SETS, ground_points, noise_points, scaled, usual_cell
from tests.science.test_clouds import UTM, scene


@pytest.fixture(scope="module")
def flown():
    return read_cloud(DATA / "harrow_survey.laz")[0]


@pytest.mark.parametrize("name", sorted(SETS))
def test_total_error_on_the_survey_whose_truth_is_known(flown, name):
    """Sithole & Vosselman 2004: at most 1.5 in 100 with the upland set, 3 with any."""
    low, high = noise_points(flown, 3.0 * usual_cell(flown), 3, 2.0, 60.0)
    kept = ~(low | high)
    found = np.zeros(len(flown), bool)
    found[kept] = ground_points(flown.part(kept), SETS[name], method="cloth")
    total = float((found != (flown.attributes["truth"] == 2)).mean())
    assert total < (0.015 if name == "upland" else 0.03), (name, total)


@pytest.mark.parametrize("slope", [0.0, 0.2, 0.84])
def test_a_leaning_plane_keeps_its_points(slope):
    cloud, _ = scene(slope, boxes=False)
    assert ground_points(cloud, SETS["scarp"], method="cloth").mean() > 0.999


@pytest.mark.parametrize("slope", [0.0, 0.2])
def test_boxes_on_a_plane_are_found_whole(slope):
    cloud, bare = scene(slope, boxes=True)
    found = ground_points(cloud, SETS["upland"], method="cloth")
    assert not found[~bare].any() and found[bare].mean() > 0.99


def test_ground_on_a_scarp_is_kept():
    rng = np.random.default_rng(8)
    x, y = rng.uniform(0, 80, (2, 30_000))
    z = 50.0 - np.clip((x - 40.0) * np.tan(np.radians(40.0)), 0.0, 12.0)
    assert ground_points(Cloud(x, y, z, {}, UTM, METRE), SETS["scarp"], method="cloth").mean() > 0.98


def test_feet_and_metres_give_the_same_ground():
    cloud, _ = scene(0.2, boxes=True)
    feet = Cloud(cloud.x / 0.3048, cloud.y / 0.3048, cloud.z / 0.3048, {}, UTM, FOOT)
    plain = ground_points(cloud, SETS["upland"], method="cloth")
    in_feet = ground_points(feet, scaled(SETS["upland"], 0.3048), method="cloth")
    assert (plain != in_feet).mean() < 1e-3


def test_the_cloth_does_not_depend_on_how_the_grid_is_turned():
    rng = np.random.default_rng(2)
    r, c = np.mgrid[0:50, 0:71]
    surface = 4.0 * np.sin(r / 9.0) + 3.0 * np.cos(c / 7.0) + rng.normal(0.0, 0.02, r.shape)
    surface[10:16, 20:30] += 5.0
    plain = cloth_things(surface, 1, 1.0, 1.0)
    assert plain[10:16, 20:30].all() and plain.mean() < 0.1
    for turned, back in ((surface[::-1], np.s_[::-1]), (surface[:, ::-1], np.s_[:, ::-1])):
        np.testing.assert_array_equal(cloth_things(np.ascontiguousarray(turned), 1, 1.0, 1.0)[back], plain)
    np.testing.assert_array_equal(cloth_things(np.ascontiguousarray(surface.T), 1, 1.0, 1.0).T, plain)


def test_a_stiffer_cloth_spans_wider_things_and_cuts_more_of_a_hill():
    r, c = np.mgrid[0:80, 0:80]
    roof = np.where((np.abs(r - 40) < 20) & (np.abs(c - 40) < 20), 4.0, 0.0)
    hill = 3.0 * np.exp(-((r - 40.0) ** 2 + (c - 40.0) ** 2) / 60.0)
    assert not cloth_things(roof, 1, 1.0, 1.0)[40, 40] and cloth_things(roof, 3, 1.0, 1.0)[21:60, 21:60].all()
    assert not cloth_things(hill, 1, 1.0, 1.0).any() and cloth_things(hill, 4, 1.0, 1.0).sum() > 50


def test_the_cloth_at_rest_solves_its_equation():
    """Where it hangs free its second differences are the load; elsewhere it lies on the floor (Cryer 1971)."""
    r, c = np.mgrid[0:40, 0:50]
    floor = -np.where((np.abs(r - 20) < 7) & (np.abs(c - 25) < 9), 6.0, 0.0).astype(float)
    cloth = _at_rest(floor, 0.06, 1.0, silent())
    free = cloth > floor + 1e-9
    bend = cloth[:-2, 1:-1] + cloth[2:, 1:-1] + cloth[1:-1, :-2] + cloth[1:-1, 2:] - 4.0 * cloth[1:-1, 1:-1]
    assert free[20, 25] and np.abs(bend[free[1:-1, 1:-1]] - 0.06).max() < 0.01
    assert (cloth >= floor).all() and not free[:8].any()


def test_cells_of_half_the_size_give_the_same_things():
    r, c = np.mgrid[0:60, 0:60]
    z = np.where((np.abs(r - 30) < 8) & (np.abs(c - 30) < 6), 4.0, 0.0) + 0.1 * r
    coarse = cloth_things(z, 2, 1.0, 1.0)
    fine = cloth_things(np.kron(z, np.ones((2, 2))), 2, 0.5, 1.0)
    np.testing.assert_array_equal(fine[::2, ::2], coarse)

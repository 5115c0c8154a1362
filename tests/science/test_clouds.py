"""Ground, noise and grids from points.

Sources: Sithole & Vosselman 2004 (errors of type I and II); the simulated survey, whose truth is known; scipy's
`binned_statistic_2d` and `LinearNDInterpolator` (general library); planes, boxes and scarps (mathematics).
"""

import numpy as np
import pytest
from scipy.interpolate import LinearNDInterpolator
from scipy.ndimage import grey_dilation, grey_opening
from scipy.stats import binned_statistic_2d

from moss_step.demo import DATA
from moss_step.demo.lidar import survey, trees
from moss_step.formats.las import read_cloud
from moss_step.formats.raster import read_surface
from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.units import FOOT, METRE
from moss_step.science.points.cells import cells_of, counts, density, extremes, taken
from moss_step.science.points.check import suspicions
from moss_step.science.points.gaps import filled
from moss_step.science.points.grids import frame_for, grid_points, heights_above, proposed_cell
from moss_step.science.points.ground import SETS, _highest_near, _opened, ground_points, noise_points, scaled
from moss_step.science.relief.profile import values_at
from tests.conftest import UTM


@pytest.fixture(scope="module")
def ground():
    return read_surface(DATA / "harrow_ground.tif")[0]


@pytest.fixture(scope="module")
def flown(ground):
    return survey(ground)


@pytest.fixture(scope="module")
def without_noise(flown):
    low, high = noise_points(flown, 3.0, 3, 2.0, 60.0)
    truth = flown.attributes["truth"]
    assert (low == (truth == 7)).all() and (high == (truth == 18)).all(), "every stray and nothing else"
    return flown.part(~(low | high))


def errors(cloud: Cloud, found: np.ndarray) -> tuple[float, float, float, float]:
    """Shares of ground lost, of things taken for ground, and of both together; and kappa (Cohen 1960)."""
    true = cloud.attributes["truth"] == 2
    lost, taken_in, wrong = (
        (true & ~found).sum() / true.sum(),
        (~true & found).sum() / (~true).sum(),
        (true != found).mean(),
    )
    chance = true.mean() * found.mean() + (1 - true.mean()) * (1 - found.mean())
    return lost, taken_in, wrong, (1 - wrong - chance) / (1 - chance)


@pytest.mark.parametrize("name", SETS)
def test_ground_of_the_survey_against_its_truth(without_noise, name):
    lost, taken_in, wrong, kappa = errors(without_noise, ground_points(without_noise, SETS[name]))
    assert wrong <= (0.015 if name == "upland" else 0.03), name
    assert lost < 0.01 and kappa > 0.97
    assert taken_in < 0.05


def test_the_survey_is_the_same_from_one_seed_and_has_what_it_says(flown, ground):
    again = survey(ground)
    np.testing.assert_array_equal(again.z, flown.z)
    truth = flown.attributes["truth"]
    assert {int(c) for c in np.unique(truth)} == {2, 3, 4, 5, 6, 7, 18, 64}
    assert flown.attributes["number_of_returns"].max() <= 5 and flown.attributes["point_source_id"].max() == 2
    assert (flown.attributes["return_number"] <= flown.attributes["number_of_returns"]).all()
    assert np.abs(flown.attributes["scan_angle"]).max() * 0.006 > 5.0 and len(trees()) > 100
    assert 2.0 < density(flown) < 12.0


def scene(slope: float, boxes: bool, seed: int = 4, side: int = 80) -> tuple[Cloud, np.ndarray]:
    """Five points a square metre on a plane that leans east, with boxes of 8 x 6 x 4 m on it; which are ground."""
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(0, side, (2, side * side * 5))
    z = 100.0 + slope * x
    on = np.zeros(len(x), bool)
    if boxes:
        for bx, by in ((15, 20), (40, 50), (60, 15)):
            on |= (np.abs(x - bx) < 4) & (np.abs(y - by) < 3)
        z = z + np.where(on, 4.0, 0.0)
    return Cloud(x, y, z, {}, UTM, METRE), ~on


@pytest.mark.parametrize("slope", [0.0, 0.2, 0.5, 0.84])
@pytest.mark.parametrize("name", ["upland", "scarp"])
def test_a_leaning_plane_keeps_all_its_points(slope, name):
    """0.84 is 40 degrees: beyond the slope that the upland set allows, and yet no point falls, at the edges neither."""
    cloud, _ = scene(slope, boxes=False)
    assert ground_points(cloud, SETS[name]).all()


@pytest.mark.parametrize("slope", [0.0, 0.2])
def test_boxes_on_a_plane_are_found_whole(slope):
    cloud, bare = scene(slope, boxes=True)
    found = ground_points(cloud, SETS["upland"])
    assert not found[~bare].any() and found[bare].mean() > 0.998


def test_ground_on_a_scarp_is_kept():
    """Level above, 12 m of fall at 40 degrees, level below."""
    rng = np.random.default_rng(8)
    x, y = rng.uniform(0, 80, (2, 30_000))
    z = 50.0 - np.clip((x - 40.0) * np.tan(np.radians(40.0)), 0.0, 12.0)
    assert ground_points(Cloud(x, y, z, {}, UTM, METRE), SETS["scarp"]).mean() > 0.995


def test_the_answer_does_not_hang_on_the_unit():
    cloud, _ = scene(0.2, boxes=True)
    feet = Cloud(cloud.x / 0.3048, cloud.y / 0.3048, cloud.z / 0.3048, {}, UTM, FOOT)
    plain = ground_points(cloud, SETS["upland"])
    in_feet = ground_points(feet, scaled(SETS["upland"], 0.3048))
    assert (plain != in_feet).mean() < 1e-3


def test_opening_is_that_of_the_general_library():
    values = np.random.default_rng(1).random((30, 41))
    for radius in (1, 3, 5, 6, 9, 29):
        yy, xx = np.mgrid[-radius : radius + 1, -radius : radius + 1]
        disk = xx * xx + yy * yy <= radius * radius
        expected = grey_dilation(values, footprint=disk, mode="constant", cval=-np.inf)
        np.testing.assert_array_equal(_highest_near(values, radius), expected)
    for radius in (1, 3, 6):
        yy, xx = np.mgrid[-radius : radius + 1, -radius : radius + 1]
        disk = xx * xx + yy * yy <= radius * radius
        inner = (slice(2 * radius, -2 * radius),) * 2
        np.testing.assert_array_equal(
            _opened(values, radius)[inner], grey_opening(values, footprint=disk)[inner]
        )


def test_gaps_are_filled_with_the_surface_that_is_bent_least():
    """A plane has none: what is cut out of it comes back (Laplace's equation); known cells stay."""
    rows, cols = np.mgrid[0:60, 0:70]
    plane = 3.0 * rows + 0.5 * cols
    holed = plane.copy()
    holed[20:35, 25:50] = np.nan
    result = filled(holed)
    assert np.abs(result - plane).max() < 0.5 and (result[:20] == plane[:20]).all()
    assert np.isnan(filled(np.full((3, 3), np.nan))).all()


def random_cloud(n: int = 4000) -> Cloud:
    rng = np.random.default_rng(6)
    z = rng.normal(300.0, 5.0, n)
    z[::50] = np.nan
    held = {"intensity": rng.integers(0, 900, n).astype(np.uint16)}
    return Cloud(rng.uniform(1000, 1100, n), rng.uniform(2000, 2080, n), z, held, UTM, METRE)


def test_cells_are_those_of_the_general_library():
    cloud, frame = random_cloud(), Frame(16, 20, 1000.0, 2080.0, 5.0, 5.0, UTM)
    numbers = cells_of(cloud, frame)
    known = np.isfinite(cloud.z)
    edges = [np.linspace(2000, 2080, 17), np.linspace(1000, 1100, 21)]

    def library(kind, values=None, which=known):
        held = cloud.z if values is None else values
        return binned_statistic_2d(cloud.y[which], cloud.x[which], held[which], kind, edges).statistic[::-1]

    np.testing.assert_array_equal(counts(numbers, frame), library("count", which=np.ones(len(cloud), bool)))
    for what, kind in (("mean", "mean"), ("spread", "std")):
        np.testing.assert_allclose(
            grid_points(cloud, frame, what, 0.0).values, library(kind), rtol=1e-6, atol=1e-6
        )
    for highest, kind in ((True, "max"), (False, "min")):
        found = taken(cloud.z, extremes(numbers, cloud.z, frame, highest))
        np.testing.assert_array_equal(found, library(kind))
    assert set(cells_of(cloud, Frame(1, 1, 0.0, 1.0, 1.0, 1.0))) == {-1}


def test_a_point_on_the_far_edge_belongs_to_the_last_cell():
    frame = Frame(2, 2, 0.0, 2.0, 1.0, 1.0)
    corner = Cloud(np.array([2.0, 0.0, 2.0]), np.array([0.0, 0.0, 2.0]), np.zeros(3))
    assert cells_of(corner, frame).tolist() == [3, 2, 1]


@pytest.mark.parametrize(("dx", "dy"), [(2.0, 2.0), (1.0, 4.0), (4.0, 1.0)])
def test_ground_on_triangles_is_that_of_the_general_library(dx, dy):
    rng = np.random.default_rng(9)
    x, y = rng.uniform(0, 60, (2, 700))
    cloud = Cloud(x, y, 10.0 + 0.3 * x + np.sin(y / 5.0), {}, UTM, METRE)
    frame = Frame(int(60 / dy), int(60 / dx), 0.0, 60.0, dx, dy, UTM)
    found = grid_points(cloud, frame, "ground", 0.0).values
    east, north = frame.x0 + (np.arange(frame.cols) + 0.5) * dx, frame.y0 - (np.arange(frame.rows) + 0.5) * dy
    at = np.stack(np.meshgrid(east, north), axis=-1)
    expected = LinearNDInterpolator(np.column_stack([x, y]), cloud.z)(at)
    inside = np.isfinite(expected) & np.isfinite(found)
    assert (np.isfinite(expected) == np.isfinite(found)).mean() > 0.995
    np.testing.assert_allclose(found[inside], expected[inside], rtol=1e-5)


def test_wide_gaps_stay_open_and_narrow_ones_are_filled():
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 100, (2, 9000))
    kept = ((x - 50) ** 2 + (y - 50) ** 2 > 15**2) & ((x - 15) ** 2 + (y - 15) ** 2 > 3**2)
    cloud = Cloud(x[kept], y[kept], 5.0 + 0.1 * x[kept], {}, UTM, METRE)
    frame = frame_for(cloud, 1.0)
    for what in ("ground", "mean"):
        filled_up = grid_points(cloud, frame, what, 8.0).values
        assert np.isnan(filled_up[50, 50]) and abs(filled_up[-16, 15] - (5.0 + 1.55)) < 0.1, what
    assert np.isnan(grid_points(cloud, frame, "mean", 0.0).values[-16, 15])


@pytest.mark.parametrize(("dx", "dy"), [(0.5, 4.0), (4.0, 0.5)])
def test_gaps_are_measured_in_metres_on_oblong_cells(dx, dy):
    """A hole 10 m across: filled up to 12 m, open with a bound of 6, whichever way the cells are long."""
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 60, (2, 9000))
    kept = np.hypot(x - 30, y - 30) > 5
    cloud = Cloud(x[kept], y[kept], 5.0 + 0.1 * x[kept], {}, UTM, METRE)
    frame = Frame(int(60 / dy), int(60 / dx), 0.0, 60.0, dx, dy, UTM)
    middle = frame.cell_at(30.0, 30.0)
    for what in ("ground", "mean"):
        wide, narrow = (grid_points(cloud, frame, what, fill).values[middle] for fill in (12.0, 2.5))
        assert abs(wide - 8.0) < 0.2 and np.isnan(narrow), what


def test_a_cloud_in_degrees_has_cells_and_gaps_of_the_same_metres():
    """The same points over degrees at 60 north, where a degree east is half one north."""
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 60, (2, 9000))
    kept = np.hypot(x - 30, y - 30) > 5
    north, east = (
        1.0 / 111_412.0,
        1.0 / 55_800.0,
    )  # degrees a metre at 60 north (GRS 80, to a part in a thousand)
    cloud = Cloud(10.0 + x[kept] * east, 60.0 + y[kept] * north, 5.0 + 0.1 * x[kept], {}, "EPSG:4326", METRE)
    assert 2.0 < density(cloud) < 3.0
    cell = proposed_cell(cloud)
    frame = frame_for(cloud, cell)
    assert 0.3 < np.sqrt(np.prod(frame.cell_metres)) < 1.6
    middle = frame.cell_at(10.0 + 30.0 * east, 60.0 + 30.0 * north)
    for what in ("ground", "mean"):
        wide, narrow = (grid_points(cloud, frame, what, fill).values[middle] for fill in (12.0, 2.5))
        assert abs(wide - 8.0) < 0.2 and np.isnan(narrow), what


def test_ground_in_cells_too_many_for_memory_is_refused():
    far = Cloud(np.array([0.0, 1e7] * 20), np.array([0.0, 1e7] * 20), np.zeros(40), {}, UTM, METRE)
    with pytest.raises(MossError, match="GB of memory"):
        ground_points(far, SETS["upland"])


def test_frames_lie_on_multiples_of_their_cell_and_the_cell_follows_the_density():
    cloud = random_cloud()
    frame = frame_for(cloud, 5.0)
    assert (frame.x0, frame.y0, frame.shape) == (1000.0, 2080.0, (16, 20))
    assert proposed_cell(cloud) == 2.0, "half a point a square metre"
    with pytest.raises(MossError, match="no points"):
        frame_for(Cloud(np.empty(0), np.empty(0), np.empty(0)), 1.0)


def test_heights_above_ground_take_each_unit(ground, flown):
    """Ground in centimetres under a cloud in metres, and the cloud in feet: the same heights."""
    from dataclasses import replace

    from moss_step.model.units import CENTIMETRE

    part = flown.part(slice(None, None, 60))
    plain = heights_above(part, ground)
    truth = part.attributes["truth"]
    assert abs(np.median(plain[truth == 2])) < 0.05 and plain[truth == 5].min() > 1.0
    in_cm = replace(ground, values=ground.values * 100.0, unit=CENTIMETRE)
    np.testing.assert_allclose(heights_above(part, in_cm), plain, atol=2e-3)
    in_feet = replace(part, z=part.z / 0.3048, unit=FOOT)
    np.testing.assert_allclose(heights_above(in_feet, ground) * 0.3048, plain, atol=2e-3)
    with pytest.raises(MossError, match="different reference systems"):
        heights_above(replace(part, crs="EPSG:32629"), ground)


def test_what_is_suspicious_is_said():
    n = 40
    x = np.arange(n, dtype=float)
    held = {
        "classification": np.ones(n, np.uint8), "return_number": np.zeros(n, np.uint8),
        "withheld": (np.arange(n) < 3).astype(np.uint8),
    }  # fmt: skip
    cloud = Cloud(np.append(x[:-1], 0.0), np.append(x[:-1], 0.0), np.append(x[:-1], 0.0), held)
    said = " ".join(suspicions(cloud, (0.0, 0.0, 30.0, 30.0)))
    for words in (
        "No reference system", "unit of heights is not stated", "8 points lie outside the box", "classes were never set",
        "3 points are marked as withheld", "40 points have the return number 0", "Of 1 points another one",
    ):  # fmt: skip
        assert words in said, (words, said)
    mixed = Cloud(x, x, x, {}, UTM, FOOT)
    assert any("Heights are in foot, and the plan is not" in s for s in suspicions(mixed))


def test_points_in_one_place_or_none_end_in_words():
    one = Cloud(np.ones(5), np.ones(5), np.ones(5), {}, UTM, METRE)
    with pytest.raises(MossError, match="one place"):
        ground_points(one, SETS["upland"])
    with pytest.raises(MossError, match="three points"):
        grid_points(one.part(slice(0, 2)), Frame(1, 1, 0.0, 2.0, 2.0, 2.0, UTM), "ground", 0.0)
    line = Cloud(np.arange(9.0), np.arange(9.0), np.zeros(9), {}, UTM, METRE)
    with pytest.raises(MossError, match="on one line"):
        grid_points(line, Frame(9, 9, 0.0, 9.0, 1.0, 1.0, UTM), "ground", 0.0)


@pytest.mark.parametrize(("dx", "dy"), [(2.0, 2.0), (1.0, 4.0)])
def test_ground_by_distance_is_the_weighted_mean_of_the_nearest(dx, dy):
    """Shepard 1968, against a brute-force search."""
    rng = np.random.default_rng(9)
    x, y = rng.uniform(0, 60, (2, 500))
    z = rng.normal(100.0, 3.0, 500)
    frame = Frame(int(60 / dy), int(60 / dx), 0.0, 60.0, dx, dy, UTM)
    got = grid_points(Cloud(x, y, z, {}, UTM, METRE), frame, "ground", 5.0, "inverse_distance").values
    for r, c in ((0, 0), (7, 3), (14, 29), (10, 20)):
        away = np.hypot(x - frame.x_of(c), y - frame.y_of(r))
        near = np.argsort(away)[:8]
        near = near[away[near] <= 5.0]
        assert got[r, c] == pytest.approx(np.average(z[near], weights=away[near] ** -2.0), rel=1e-6)
    lonely = Cloud(x[:5], y[:5], z[:5], {}, UTM, METRE)
    assert np.isnan(grid_points(lonely, frame, "ground", 1.0, "inverse_distance").values).mean() > 0.9


def test_a_canopy_has_no_pits_where_pulses_went_through():
    """A dome of 12 m whose every sixth first return comes from far below (Khosravipour et al. 2014)."""
    rng = np.random.default_rng(7)
    x, y = rng.uniform(0, 40, (2, 12_000))
    dome = 12.0 - 0.02 * ((x - 20) ** 2 + (y - 20) ** 2)
    through = rng.random(12_000) < 1 / 6
    height = np.where(dome > 0, np.where(through, dome * 0.2, dome), 0.0)
    cloud = Cloud(x, y, 100.0 + height, {"height_above": height.astype(np.float32)}, UTM, METRE)
    frame = Frame(80, 80, 0.0, 40.0, 0.5, 0.5, UTM)
    true = (
        12.0
        - 0.02 * ((np.arange(80) * 0.5 + 0.25 - 20) ** 2)[None, :]
        - 0.02 * ((np.arange(80) * 0.5 + 0.25 - 20) ** 2)[:, None]
    )
    inner = true > 5.5
    closed = grid_points(cloud, frame, "canopy", 5.0).values
    pitted = grid_points(Cloud(x, y, height, {}, UTM, METRE), frame, "ground", 5.0).values
    pits = lambda grid: float((true[inner] - grid[inner] > 1.0).mean())  # noqa: E731
    assert pits(pitted) > 0.25 and pits(closed) < 0.02
    assert (closed[inner] - true[inner]).max() < 0.3 and abs(np.median(closed[inner] - true[inner])) < 0.2


def test_the_survey_before_the_slip_is_the_same_ground_but_for_the_slip(ground, flown):
    """Two surveys by different pulses: their grounds differ by the two caps, whose volumes are known, and by noise elsewhere."""
    from moss_step.demo.lidar import before_slip, slip_volumes

    before = before_slip(ground)
    change = ground.values - before.values
    cell = ground.frame.dx * ground.frame.dy
    away, below = slip_volumes()
    assert -change[change < 0].sum() * cell == pytest.approx(away, rel=0.06)
    assert change[change > 0].sum() * cell == pytest.approx(below, rel=0.06)
    older, _ = read_cloud(DATA / "harrow_survey_before.laz")
    assert len(older) < 0.7 * len(flown) and set(np.unique(older.attributes["truth"])) == set(
        np.unique(flown.attributes["truth"])
    )
    frame = frame_for(flown, 1.0)
    grids = [
        grid_points(c.part(c.attributes["truth"] == 2), frame, "ground", 10.0).values.astype(np.float64)
        for c in (older, flown)
    ]
    r, c = np.mgrid[0 : frame.rows, 0 : frame.cols]
    x, y = frame.x0 + c + 0.5, frame.y0 - r - 0.5
    true = values_at(ground, x.ravel(), y.ravel()) - values_at(before, x.ravel(), y.ravel())
    off = (grids[1] - grids[0]).ravel() - true
    known = np.isfinite(off)
    assert np.sqrt(np.mean(off[known] ** 2)) < 0.1 and abs(np.mean(off[known])) < 0.01

"""Sight against an independent ray in plain Python, known shadows, the falling earth, and exhaustive search."""

import itertools
import math
from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from numpy.testing import assert_allclose

from moss_step.demo import DATA
from moss_step.formats.raster import read_surface
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.sight.heights import horizon_angles, mast_heights
from moss_step.science.sight.line import sight_line
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.places import best_places, lazy_greedy
from moss_step.science.sight.viewshed import seen_by, seen_fast, viewshed
from tests.conftest import plane, surface

RADIUS = 6_371_000.0


def at(dem: Surface, row: int, col: int, **more) -> Observer:
    return Observer(dem.frame.x_of(col), dem.frame.y_of(row), **more)


def plain_ray(z, start, end, eye, target, bend, size):
    """Independent reference: crossings by exact fractions, heights interpolated, angles as tangents."""
    (r0, c0), (r1, c1) = start, end
    n = max(abs(r1 - r0), abs(c1 - c0))
    d = math.hypot((r1 - r0) * size, (c1 - c0) * size)
    if n < 2:
        return True
    wanted = (float(z[r1, c1]) + target - bend * d * d - eye) / d
    for i in range(1, n):
        r, c = r0 + Fraction((r1 - r0) * i, n), c0 + Fraction((c1 - c0) * i, n)
        a, b = math.floor(r), math.floor(c)
        f = float(r - a) + float(c - b)  # one of the two is whole
        if f == 0:
            v = float(z[a, b])
        else:
            other = z[a + 1, b] if r != a else z[a, b + 1]
            v = float(z[a, b]) * (1 - f) + float(other) * f
        x = d * i / n
        if v == v and (v - bend * x * x - eye) / x > wanted + 1e-9:
            return False
    return True


@pytest.mark.parametrize("seed", range(6))
def test_the_exact_view_equals_an_independent_ray_for_every_target(seed):
    rng = np.random.default_rng(seed)
    z = (rng.normal(size=(34, 41)).cumsum(0).cumsum(1) * 0.4).astype(np.float32)
    if seed % 2:
        z[rng.random(z.shape) < 0.03] = np.nan
    z[17, 20] = 3.0
    dem = surface(z)
    sight = prepare_sight(dem)
    seen = seen_by(sight, at(dem, 17, 20, height=2.0, target=1.0))
    bend = 0.87 / (2 * RADIUS)
    for r, c in np.argwhere(~np.isnan(z)):
        expected = plain_ray(z, (17, 20), (int(r), int(c)), 5.0, 1.0, bend, 2.0)
        assert bool(seen[r, c]) == expected, (r, c)
    assert (seen[np.isnan(z)] == 2).all()


def test_a_wall_hides_what_stands_in_its_shadow_and_no_more():
    """Eye 2 m, wall 6 m high at 20 m: the straight line over it reaches ground of 0 m never, a 10 m tower at once (mathematics)."""
    z = np.zeros((41, 101))
    z[:, 10] = 6.0
    dem = surface(z)
    sight = prepare_sight(dem, curvature=False)
    low = seen_by(sight, at(dem, 20, 0, height=2.0))
    assert (low[20, :11] == 1).all() and (low[20, 11:] == 0).all()
    need = mast_heights(sight, [at(dem, 20, 0, height=2.0)]).values
    distance = np.arange(101) * 2.0
    assert_allclose(need[20, 11:], 2.0 + 4.0 * distance[11:] / 20.0, rtol=1e-5)
    high = seen_by(sight, at(dem, 20, 0, height=2.0, target=10.0))
    assert np.array_equal(high[20, 11:] == 1, need[20, 11:] <= 10.0)


def test_from_a_cone_all_is_seen_and_a_trench_keeps_its_shadow():
    r, c = np.mgrid[-30:31, -30:31]
    cone = surface(100.0 - 2 * np.hypot(r, c))
    view = seen_by(prepare_sight(cone, curvature=False), at(cone, 30, 30, height=1.0))
    assert (view == 1).mean() > 0.999
    z = np.zeros((21, 60))
    z[:, 20:30] = -10.0
    trench = surface(z)
    view = seen_by(prepare_sight(trench, curvature=False), at(trench, 10, 0, height=4.0))
    # the line over the near rim (at 38 m, 4 m below the eye) falls 4 in 38: the floor is met 10 m down after 95 m, beyond the far wall
    assert (view[10, 20:30] == 0).all() and (view[10, 30:] == 1).all() and (view[10, :20] == 1).all()
    steep = seen_by(prepare_sight(trench, curvature=False), at(trench, 10, 0, height=40.0))
    seen_from = 38 + 10 * 38 / 40
    assert np.array_equal(steep[10, 20:30] == 1, np.arange(20, 30) * 2.0 >= seen_from)


def test_a_level_ground_ends_at_the_horizon_of_the_curved_earth():
    """Horizon at sqrt(2 R h / (1 - k)); fall of 0.0785 m at 1 km, 0.0683 m with k = 0.13 (Ghilani & Wolf; mathematics)."""
    assert pytest.approx(0.0785, abs=5e-5) == 1000**2 / (2 * RADIUS)
    assert pytest.approx(0.0683, abs=5e-5) == 0.87 * 1000**2 / (2 * RADIUS)
    assert pytest.approx(0.0675, abs=5e-5) == 0.86 * 1000**2 / (2 * RADIUS)
    z = np.zeros((3, 1200), np.float32)
    dem = Surface(z, Frame(3, 1200, 412_000, 5_872_000, 20.0, 20.0, "EPSG:32628"), METRE)
    for k in (0.0, 0.13):
        sight = prepare_sight(dem, refraction=k)
        seen = seen_by(sight, at(dem, 1, 0, height=10.0))[1]
        horizon = math.sqrt(2 * RADIUS * 10.0 / (1 - k))
        assert np.flatnonzero(seen == 1).max() * 20.0 == pytest.approx(horizon, abs=25.0)
    flat = seen_by(prepare_sight(dem, curvature=False), at(dem, 1, 0, height=10.0))
    assert (flat == 1).all()


def test_two_places_of_equal_height_see_each_other_or_neither_does():
    rng = np.random.default_rng(2)
    dem = surface(rng.normal(size=(30, 30)).cumsum(0).cumsum(1) * 0.3)
    sight = prepare_sight(dem)
    places = [tuple(p) for p in rng.integers(0, 30, (12, 2))]
    for a, b in itertools.combinations(places, 2):
        there = seen_by(sight, at(dem, *a, height=3.0, target=3.0))[b]
        back = seen_by(sight, at(dem, *b, height=3.0, target=3.0))[a]
        assert there == back


def test_the_reverse_question_has_the_same_answer_with_heights_swapped():
    rng = np.random.default_rng(5)
    dem = surface(rng.normal(size=(25, 25)).cumsum(0).cumsum(1) * 0.3)
    sight = prepare_sight(dem)
    out = seen_by(sight, at(dem, 12, 12, height=20.0, target=1.7)) == 1
    into = np.zeros_like(out)
    for r in range(25):
        for c in range(25):
            into[r, c] = seen_by(sight, at(dem, r, c, height=1.7, target=20.0))[12, 12] == 1
    assert np.array_equal(out, into)


def test_counts_add_up_the_single_views_and_tell_which():
    dem, _ = read_surface(DATA / "harrow_ground.tif")
    part = Surface(
        dem.values[300:420, 300:450].copy(), dem.frame.part(slice(300, 420), slice(300, 450)), METRE
    )
    sight = prepare_sight(part)
    observers = [
        at(part, r, c, height=6.0, name=f"o{k}")
        for k, (r, c) in enumerate([(10, 10), (60, 70), (100, 140), (20, 120)])
    ]
    views = np.array([seen_by(sight, o) == 1 for o in observers])
    found = viewshed(sight, observers)
    assert (
        np.array_equal(found.count.values, views.sum(axis=0))
        and found.seen == views.sum(axis=(1, 2)).tolist()
    )
    for k, view in enumerate(views):
        assert np.array_equal(found.which >> np.uint64(k) & np.uint64(1), view)


@pytest.mark.parametrize("height", [1.7, 20.0])
def test_the_preview_agrees_with_the_exact_view(height):
    """At least 99.5 % of the cells, on the demo and on rough ground."""
    demo, _ = read_surface(DATA / "harrow_ground.tif")
    rng = np.random.default_rng(0)
    rough = Surface(demo.values + rng.normal(0, 0.5, demo.values.shape).astype(np.float32), demo.frame, METRE)
    for dem in (demo, rough):
        sight = prepare_sight(dem)
        observer = at(dem, 480, 520, height=height, target=2.0, reach=800.0)
        exact, fast = seen_by(sight, observer), seen_fast(sight, observer)
        asked = exact != 2
        assert np.array_equal(asked, fast != 2)
        assert (exact == fast)[asked].mean() > 0.995


@pytest.mark.parametrize("seed", range(6))
def test_the_preview_skips_nothing_that_matters(seed):
    rng = np.random.default_rng(seed)
    rows, cols = (int(n) for n in rng.integers(1, 400, 2))
    z = np.cumsum(rng.standard_normal((rows, cols)), axis=seed % 2).astype(np.float32)
    z[rng.random(z.shape) < 0.02] = np.nan
    row, col = (int(n) for n in np.argwhere(~np.isnan(z))[0 if seed == 0 else (~np.isnan(z)).sum() // 2])
    sight = prepare_sight(surface(z))
    observer = at(
        sight.dem, row, col, height=float(rng.integers(0, 30)), target=2.0, reach=float(rng.integers(50, 900))
    )
    # With tiles of no end no ray is ever let lie.
    everything = replace(sight, tiles=np.full_like(sight.tiles, np.inf))
    assert np.array_equal(seen_fast(sight, observer), seen_fast(everything, observer))


def test_bearings_angles_and_distances_limit_what_is_asked():
    dem = surface(np.zeros((41, 41)))
    sight = prepare_sight(dem, curvature=False)
    east = seen_by(sight, at(dem, 20, 20, height=2.0, bearing_from=45.0, bearing_to=135.0))
    r, c = np.mgrid[-20:21, -20:21]
    inside = (np.abs(r) <= c) | ((r == 0) & (c == 0))
    assert np.array_equal(east == 1, inside)
    north = seen_by(sight, at(dem, 20, 20, height=2.0, bearing_from=315.0, bearing_to=45.0))
    assert np.array_equal(north == 1, (np.abs(c) <= -r) | ((r == 0) & (c == 0)))
    ring = seen_by(sight, at(dem, 20, 20, height=2.0, near=10.0, reach=20.0))
    d = np.hypot(r, c) * 2
    assert np.array_equal(ring == 1, (d >= 10) & (d <= 20))
    down = seen_by(sight, at(dem, 20, 20, height=2.0, down=-10.0))
    assert np.array_equal(down == 1, (np.degrees(np.arctan2(-2.0, d)) >= -10.0) | (d == 0))


def test_obstacles_block_the_view_and_one_may_stand_among_them():
    z = np.zeros((21, 41))
    trees = z.copy()
    trees[:, 20:24] = 12.0
    dem, wood = surface(z), surface(trees)
    sight = prepare_sight(dem, wood, curvature=False)
    view = seen_by(sight, at(dem, 10, 2, height=2.0))
    assert (view[10, 3:21] == 1).all() and (view[10, 24:] == 0).all()
    among = seen_by(sight, at(dem, 10, 21, height=2.0))
    assert among[10, 21] == 1 and (among[10, 24:] == 0).all()
    with pytest.raises(MossError, match="cell on cell"):
        prepare_sight(dem, plane(5, 5, 0, 0))


def test_grids_in_degrees_use_true_distances():
    """At 60 degrees north a degree of longitude is half as long: a wall's shadow follows metres, not degrees."""
    z = np.zeros((61, 61), np.float32)
    frame = Frame(61, 61, 10.0, 60.03, 0.001, 0.001, "EPSG:4326")
    dem = Surface(z, frame, METRE)
    sight = prepare_sight(dem)
    ring = seen_by(sight, at(dem, 30, 30, height=2.0, reach=1000.0)) == 1
    width, height = frame.row_widths[30], frame.row_heights[30]
    assert ring[30].sum() == 2 * int(1000 / width) + 1 and ring[:, 30].sum() == 2 * int(1000 / height) + 1
    assert width == pytest.approx(height / 2, rel=0.01)


def test_a_line_across_valleys_alternates_as_an_independent_walk_says():
    dem, _ = read_surface(DATA / "harrow_ground.tif")
    sight = prepare_sight(dem)
    start, end = (412_300.0, 5_871_500.0), (413_600.0, 5_870_900.0)
    found = sight_line(sight, start, end, 20.0, 2.0)
    n = len(found.distance)
    z, d = found.ground, found.distance
    steepest, expected = -math.inf, []
    for i in range(n):
        rise = (z[i] - (z[0] + 20.0)) / d[i] if d[i] else -math.inf
        expected.append(i == 0 or rise >= steepest - 1e-12)
        if i and i < n - 1:
            steepest = max(steepest, rise)
    assert found.seen.tolist() == expected
    changes = np.count_nonzero(np.diff(found.seen.astype(int)))
    assert changes >= 4, "seen and hidden stretches alternate"
    ray = np.interp(d, [0, d[-1]], [z[0] + 20.0, z[-1] + 2.0])
    blocked = (z > ray + 1e-9)[1:-1].any()
    assert found.open == (not blocked)
    back = sight_line(sight, end, start, 20.0, 2.0)
    assert back.distance[-1] == pytest.approx(d[-1]) and not np.array_equal(back.seen[::-1], found.seen)
    same = sight_line(sight, start, end, 9.0, 9.0)
    other = sight_line(sight, end, start, 9.0, 9.0)
    assert same.open == other.open and same.clearance == pytest.approx(other.clearance, abs=1e-6)
    if not found.open:
        first = found.obstacles[0]
        k = int(np.flatnonzero((z > ray + 1e-9)[1:-1])[0]) + 1
        assert first[0] == pytest.approx(d[k])


def test_best_places_equal_exhaustive_search_and_greedy_keeps_its_promise():
    rng = np.random.default_rng(4)
    for _ in range(8):
        views, weights = rng.random((9, 60)) < 0.25, rng.random(60)
        best = max(weights[views[list(s)].any(axis=0)].sum() for s in itertools.combinations(range(9), 3))
        exact = best_places(views, weights, 3)
        assert exact.exact and sum(exact.gains) == pytest.approx(best)
        greedy = lazy_greedy(views, weights, 3)
        assert sum(greedy.gains) >= (1 - 1 / math.e) * best - 1e-9
        covered, plain = np.zeros(60, bool), []
        for _ in range(3):
            gains = [weights[v & ~covered].sum() for v in views]
            plain.append(int(np.argmax(gains)))
            covered |= views[plain[-1]]
        assert sum(greedy.gains) == pytest.approx(weights[covered].sum())
    views, weights = rng.random((200, 4000)) < 0.02, np.ones(4000)
    lazy = lazy_greedy(views, weights, 20)
    assert lazy.evaluations * 5 < 200 * 20, "at least five times fewer than looking at all each time"


@pytest.mark.parametrize(
    ("observer", "said"),
    [
        (Observer(0, 0), "outside the ground"), (Observer(412_001, 5_871_999), "no-data"),
        (Observer(412_011, 5_871_989, absolute=True, height=1.0), "below the ground"), (Observer(412_011, 5_871_989, reach=0.0), "reach of 0"),
        (Observer(412_011, 5_871_989, near=50.0, reach=20.0), "reach of 20"),
    ],
)  # fmt: skip
def test_observers_that_cannot_stand_there_are_told_so(observer, said):
    z = np.full((20, 20), 50.0)
    z[0, 0] = np.nan
    with pytest.raises(MossError, match=said):
        seen_by(prepare_sight(surface(z)), observer)


def test_one_row_two_at_one_place_and_too_many():
    row = surface(np.arange(40.0)[None, ::-1] * 0.1)
    sight = prepare_sight(row)
    assert (seen_by(sight, at(row, 0, 0, height=2.0)) == 1).all()
    twice = viewshed(sight, [at(row, 0, 0), at(row, 0, 0)])
    assert twice.count.values.max() == 2
    with pytest.raises(MossError, match="10,001 observers"):
        viewshed(sight, [at(row, 0, 0)] * 10_001)
    with pytest.raises(MossError, match="no length"):
        sight_line(sight, (412_001, 5_871_999), (412_001, 5_871_999), 1, 1)


def plain_horizon(z, start, end, eye, bend, size):
    """Independent reference: tangent of the highest crossing before a place, or None when nothing stands between."""
    (r0, c0), (r1, c1) = start, end
    n = max(abs(r1 - r0), abs(c1 - c0))
    d, best = math.hypot((r1 - r0) * size, (c1 - c0) * size), None
    for i in range(1, n):
        r, c = r0 + Fraction((r1 - r0) * i, n), c0 + Fraction((c1 - c0) * i, n)
        a, b = math.floor(r), math.floor(c)
        f = float(r - a) + float(c - b)
        other = z[a, b] if f == 0 else z[a + 1, b] if r != a else z[a, b + 1]
        v, x = float(z[a, b]) * (1 - f) + float(other) * f, d * i / n
        if v == v:
            rise = (v - bend * x * x - eye) / x
            best = rise if best is None else max(best, rise)
    return best


@pytest.mark.parametrize("seed", range(3))
def test_the_angle_above_the_horizon_equals_an_independent_ray(seed):
    rng = np.random.default_rng(seed)
    z = (rng.normal(size=(24, 31)).cumsum(0).cumsum(1) * 0.4).astype(np.float32)
    z[rng.random(z.shape) < 0.02] = np.nan
    z[12, 15] = 3.0
    dem, bend = surface(z), 0.87 / (2 * RADIUS)
    observer = at(dem, 12, 15, height=2.0, target=1.5)
    angles = horizon_angles(prepare_sight(dem), [observer]).values
    for r, c in np.argwhere(~np.isnan(z)):
        before = plain_horizon(z, (12, 15), (int(r), int(c)), 5.0, bend, 2.0)
        if before is None:
            assert np.isnan(angles[r, c]), (r, c)
            continue
        d = math.hypot((r - 12) * 2.0, (c - 15) * 2.0)
        top = math.atan((float(z[r, c]) + 1.5 - bend * d * d - 5.0) / d)
        assert angles[r, c] == pytest.approx(math.degrees(top - math.atan(before)), abs=2e-4), (r, c)


def test_the_sign_of_the_angle_says_who_is_seen():
    """Above the horizon is seen, below it is hidden, for the same targets."""
    rng = np.random.default_rng(5)
    dem = surface((rng.normal(size=(60, 70)).cumsum(0).cumsum(1) * 0.3).astype(np.float32))
    sight, observer = prepare_sight(dem), at(dem, 30, 30, height=3.0, target=2.0)
    angles, seen = horizon_angles(sight, [observer]).values, seen_by(sight, observer)
    clear = np.abs(angles) > 1e-4
    assert clear.sum() > 4000 and np.array_equal(angles[clear] > 0, seen[clear] == 1)


def test_of_several_observers_the_one_that_sees_best_counts():
    rng = np.random.default_rng(6)
    dem = surface((rng.normal(size=(40, 40)).cumsum(0).cumsum(1) * 0.3).astype(np.float32))
    sight, two = prepare_sight(dem), [at(dem, 5, 5), at(dem, 33, 30, height=9.0)]
    both = horizon_angles(sight, two).values
    assert_allclose(both, np.fmax(*(horizon_angles(sight, [o]).values for o in two)))


def test_level_ground_stands_at_its_own_horizon():
    """On level ground without curvature each place is as far below the level as its distance says: the next cell hides by less (mathematics)."""
    dem = surface(np.zeros((5, 60)))
    angles = horizon_angles(prepare_sight(dem, curvature=False), [at(dem, 2, 0, height=2.0)]).values[2]
    d = np.arange(60) * 2.0
    expected = np.degrees(np.arctan(-2.0 / d[2:]) - np.arctan(-2.0 / d[1:-1]))
    assert_allclose(angles[2:], expected, atol=1e-4)

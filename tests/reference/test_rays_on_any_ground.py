"""Horizons and sight lines against a fine march in plain NumPy over the bilinear ground, on oblong cells, in degrees, at the last row and column."""

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.sight.heights import horizon_angles, mast_heights
from moss_step.science.sight.line import sight_line
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.rays import EARTH_RADIUS
from moss_step.science.sight.viewshed import seen_by
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared
from tests.cases import result_of
from tests.conftest import surface
from tests.grounds import GROUNDS, in_degrees, metric, relief

BEND = 0.87 / (2.0 * EARTH_RADIUS)
ROUGH = np.random.default_rng(31).normal(size=(31, 37)) * 6.0


def march(
    dem: Surface, cell: tuple[int, int], eye: float, bearing: float, near: float = 0.0, most: float = np.inf
) -> float:
    """Steepest rise along a bearing in degrees, at steps of a two-hundredth of a cell: bilinear by scipy.ndimage (general library)."""
    wide, high = dem.frame.row_widths[cell[0]], dem.frame.row_heights[cell[0]]
    z = dem.values.astype(np.float64)
    d = np.arange(1, 40_000) * min(wide, high) / 200.0
    d = d[(d >= near) & (d <= most)]
    r = cell[0] - d * np.cos(np.radians(bearing)) / high
    c = cell[1] + d * np.sin(np.radians(bearing)) / wide
    on = (r > -1e-6) & (c > -1e-6) & (r < z.shape[0] - 1 + 1e-6) & (c < z.shape[1] - 1 + 1e-6)
    if not on.any():
        return np.nan
    heights = map_coordinates(z, [r[on], c[on]], order=1, mode="nearest")
    return float(np.degrees(np.arctan(((heights - BEND * d[on] ** 2 - eye) / d[on]).max())))


def horizon(dem: Surface, cell: tuple[int, int], **settings: object) -> dict[str, np.ndarray]:
    place = (dem.frame.x_of(cell[1]), dem.frame.y_of(cell[0]))
    outcome = run_declared(
        catalogue()["horizon"], {"at": (place,), "observer_height": 2.0, **settings}, {"dem": dem}, silent()
    )
    return dict(outcome.value.columns)


FORMS = {"square": (metric, {}), "oblong": (metric, {"dx": 40.0, "dy": 10.0}), "upright": (metric, {"dx": 10.0, "dy": 40.0}),
         "degrees": (in_degrees, {"latitude": 65.0})}  # fmt: skip


@pytest.mark.parametrize("cell", [(15, 18), (30, 36), (0, 0), (30, 12)])
@pytest.mark.parametrize("form", sorted(FORMS))
def test_the_horizon_passes_no_top_over(form, cell):
    make, more = FORMS[form]
    dem = make(ROUGH, **more)
    found = horizon(dem, cell, bearings=72)
    eye = float(dem.values[cell]) + 2.0
    expected = np.array([march(dem, cell, eye, b) for b in found["bearing"]])
    assert np.array_equal(np.isnan(found["angle"]), np.isnan(expected))
    known = ~np.isnan(expected)
    assert known.sum() >= 18 and np.abs(found["angle"] - expected)[known].max() < 0.1
    assert (found["angle"] - expected)[known].min() > -1e-4, "the march is a lower bound"


def test_a_horizon_reads_the_last_row_and_column():
    """A single post in the last column, seen from a level ground: its angle is that of its height over its distance (mathematics)."""
    z = np.zeros((9, 21))
    z[4, 20] = 30.0
    found = horizon(metric(z), (4, 0), curvature=False, bearings=4)
    assert found["angle"][1] == pytest.approx(np.degrees(np.arctan(28.0 / 200.0)), abs=1e-3)


def test_a_horizon_heeds_its_limits():
    """Nearest and farthest distance by the fine march; only the bearings asked for; equal ones are the full circle."""
    dem = metric(ROUGH)
    found = horizon(dem, (15, 18), near=60.0, reach=110.0, bearings=36)
    expected = [
        march(dem, (15, 18), float(dem.values[15, 18]) + 2.0, b, 60.0, 110.0) for b in found["bearing"]
    ]
    assert np.abs(found["angle"] - expected).max() < 0.1
    part = horizon(dem, (15, 18), bearing_from=300.0, bearing_to=30.0, bearings=36)
    assert sorted(part["bearing"]) == [0, 10, 20, 30, 300, 310, 320, 330, 340, 350]
    whole = horizon(dem, (15, 18), bearing_from=90.0, bearing_to=90.0, bearings=36)
    assert len(whole["bearing"]) == 36
    at = ((dem.frame.x_of(18), dem.frame.y_of(15)),)
    line = result_of(
        "horizon.skyline", {"at": at, "bearing_from": 300.0, "bearing_to": 30.0, "bearings": 36}, {"dem": dem}
    ).value
    assert isinstance(line, Shapes) and not line.geometry[0].is_closed


@pytest.mark.parametrize("kind", ["mast_height", "horizon_angle"])
def test_heights_and_angles_are_given_within_the_bearings_asked_for(kind):
    dem = metric(relief(4))
    place = (dem.frame.x_of(20), dem.frame.y_of(18))
    whole, part = (
        run_declared(catalogue()[kind], {"at": (place,), **more}, {"dem": dem}, silent()).value.values
        for more in ({}, {"bearing_from": 0.0, "bearing_to": 90.0, "near": 50.0, "reach": 150.0})
    )
    r, c = np.mgrid[0 : dem.frame.rows, 0 : dem.frame.cols]
    east, north = (c - 20) * 10.0, (18 - r) * 10.0
    d = np.hypot(east, north)
    inside = (east >= 0) & (north >= 0) & (d >= 50.0) & (d <= 150.0)
    assert np.isnan(part[~inside]).all()
    assert np.array_equal(part[inside], whole[inside], equal_nan=True)


def test_a_step_lists_only_what_it_heeds():
    """What would count for nothing is refused, in settings and in an observer's own values."""
    dem, listed = metric(relief(4)), catalogue()["mast_height"].settings.listed()
    assert not {"target_height", "down", "up"} & set(listed)
    for kind in ("mast_height", "horizon"):
        with pytest.raises(AskedWronglyError, match="has no setting 'target_height'"):
            run_declared(
                catalogue()[kind], {"at": ((1.0, 2.0),), "target_height": 3.0}, {"dem": dem}, silent()
            )
    place = (dem.frame.x_of(20), dem.frame.y_of(18))
    with pytest.raises(AskedWronglyError, match="target of an observer counts for nothing"):
        run_declared(
            catalogue()["mast_height"], {"at": (place,), "own": "1: target=4"}, {"dem": dem}, silent()
        )


@pytest.mark.parametrize("name", sorted(n for n in GROUNDS if "no-data" not in n))
def test_a_sight_line_comes_as_near_to_the_ground_as_it_does(name):
    """Clearance against a march at 40,000 points, bilinear by scipy.ndimage (general library); swapped ends are as clear (mathematics)."""
    dem = GROUNDS[name]
    f, unit = dem.frame, dem.metres_per_height
    sight, high = prepare_sight(dem, curvature=False), 0.4 * float(np.ptp(dem.range)) * unit
    start, end = (f.x_of(3.3), f.y_of(31.6)), (f.x_of(37.7), f.y_of(4.2))
    found = sight_line(sight, start, end, high, high)
    share = np.linspace(0.0, 1.0, 40_001)
    ground = (
        map_coordinates(
            dem.values.astype(np.float64), [31.6 + share * (4.2 - 31.6), 3.3 + share * (37.7 - 3.3)], order=1
        )
        * unit
    )
    ray = ground[0] + high + share * (ground[-1] - ground[0])
    clearance = (ray - ground)[1:-1].min()
    assert found.clearance == pytest.approx(clearance, abs=2e-3 * np.ptp(ground))
    assert found.clearance <= clearance + 1e-4 * np.ptp(ground), "no point of the march comes nearer"
    back = sight_line(sight, end, start, high, high)
    assert (
        back.clearance == pytest.approx(found.clearance, abs=1e-3 * np.ptp(ground))
        and back.open == found.open
    )
    assert found.ground[0] == pytest.approx(ground[0], rel=1e-6)


def test_a_sharp_top_between_two_steps_blocks_the_line():
    """A post of one cell beside the even steps of a slanting line: its highest point on the line stands above the ray."""
    z = np.zeros((21, 21))
    z[10, 10] = 9.0
    dem = surface(z, dx=10.0, dy=3.0)
    f = dem.frame
    found = sight_line(
        prepare_sight(dem, curvature=False),
        (f.x_of(0.4), f.y_of(9.5)),
        (f.x_of(19.8), f.y_of(10.6)),
        6.0,
        6.0,
    )
    share = np.linspace(0, 1, 100_001)
    top = map_coordinates(z, [9.5 + share * 1.1, 0.4 + share * 19.4], order=1).max()
    assert top > 6.0 and found.obstacles[0].over == pytest.approx(top - 6.0, abs=1e-3)


def test_a_view_from_a_mast_above_the_datum_on_a_high_ground():
    """4,000 m and a few millimetres, in double precision: the same view as from the same relief at 0."""
    small = relief(12) * 1e-3
    low, high = metric(small), Surface(small + 4000.0, metric(small).frame, metric(small).unit)
    x, y = low.frame.x_of(20), low.frame.y_of(18)
    eye = float(small[18, 20]) + 0.02
    one, other = (
        seen_by(prepare_sight(d), Observer(x, y, height=eye + rise, absolute=True))
        for d, rise in ((low, 0.0), (high, 4000.0))
    )
    assert np.array_equal(one, other) and 0.1 < (one == 1).mean() < 0.9
    with pytest.raises(MossError, match="below the ground"):
        seen_by(prepare_sight(high), Observer(x, y, height=3999.0, absolute=True))


def test_equal_bearings_look_all_around():
    dem = metric(relief(4))
    at = Observer(dem.frame.x_of(20), dem.frame.y_of(18), bearing_from=120.0, bearing_to=120.0)
    whole = Observer(at.x, at.y)
    sight = prepare_sight(dem)
    assert np.array_equal(seen_by(sight, at), seen_by(sight, whole))
    assert np.array_equal(
        mast_heights(sight, [at]).values, mast_heights(sight, [whole]).values, equal_nan=True
    )
    assert np.array_equal(
        horizon_angles(sight, [at]).values, horizon_angles(sight, [whole]).values, equal_nan=True
    )

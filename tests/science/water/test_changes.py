"""Filling with a gradient, breaching, ponds, ridges, catchments, and what is refused."""

from dataclasses import replace

import numpy as np
import pytest
import shapely

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress
from moss_step.model.units import FOOT
from moss_step.science.water import basins, catchments, depressions, network, pond, ridges, trace
from moss_step.science.water.drainage import accumulated, prepare, prepared
from moss_step.science.water.kernels.neighbours import OUT
from moss_step.science.water.kernels.trace import path_down
from tests.conftest import plane, surface


def rough(seed=0, shape=(40, 50), high=4.0):
    return surface(np.random.default_rng(seed).normal(size=shape) * high)


def test_filling_with_a_gradient_leaves_no_pit_and_rises_by_at_least_the_gradient():
    dem, gradient = rough(), 0.01
    made = depressions.filled_surface(prepare(dem), gradient).values.astype(float)
    assert (made >= dem.values - 1e-6).all()
    inner = made[1:-1, 1:-1]
    lowest = np.full(inner.shape, np.inf)
    for dr in (-1, 0, 1):
        for dc in (-1, 0, 1):
            if dr or dc:
                step = 2.0 * np.hypot(dr, dc) * gradient
                lowest = np.minimum(
                    lowest, made[1 + dr : made.shape[0] - 1 + dr, 1 + dc : made.shape[1] - 1 + dc] + step
                )
    assert (inner >= lowest - 1e-4).all(), "each cell stands at least the gradient above some neighbour"
    raised = inner > dem.values[1:-1, 1:-1] + 1e-4
    assert np.abs(inner - lowest)[raised].max() < 1e-3, "and no more than that where it was raised"


def test_a_breach_is_cut_through_a_wall_and_the_length_limit_holds():
    z = np.full((15, 30), 20.0)
    z[:, 20:] = 5.0 - np.arange(10) * 0.2
    z[5:10, 3:10] = 8.0
    z[7, 6] = 7.0
    dem = surface(z)
    drainage = prepare(dem)
    made, done, left = depressions.breached_surface(drainage, 40)
    assert (done, left) == (1, 0)
    assert (made.values <= dem.values).all()
    after = prepare(made)
    path = path_down(after.ways, 7 * 30 + 6)
    assert (np.diff(made.values.reshape(-1)[path]) < 0).all(), "the channel falls all the way"
    assert (
        len(depressions.lake_shapes(after)) == 0
        or depressions.lake_shapes(after).columns["depth"].max() < 1.1
    )
    assert depressions.breached_surface(drainage, 5)[1:] == (0, 1)


def test_breaching_rough_ground_cuts_less_than_filling_raises():
    dem = rough(4, high=1.0)
    drainage = prepare(dem)
    made, done, left = depressions.breached_surface(drainage, 100)
    assert left == 0 and done > 20
    cut = float((dem.values - made.values).sum())
    raised = float((drainage.filled() - dem.values).sum())
    assert 0 < cut < raised


def test_a_pond_behind_a_bund_across_a_trough_has_the_volume_of_a_wedge():
    """A trough 20 m wide that falls 5 in 100, dammed 4 m high: a wedge 80 m long, so 4 x 80 / 2 x 20 m³ (mathematics)."""
    r, c = np.mgrid[0:200, 0:31]
    z = np.where((c >= 10) & (c < 20), 100.0 - r * 2 * 0.05, 150.0)
    z[:, 0] = z[:, -1] = 150.0
    dem = surface(z)
    bund = shapely.LineString([(412_000 + 15, 5_872_000 - 300), (412_000 + 45, 5_872_000 - 300)])
    foot = float(z[150, 15])
    depth, bed = pond.ponded(dem, bund, foot + 4.0)
    stages, area, volume = pond.storage_curve(dem, bed, depth)
    assert pond.standing_before(dem, bed, depth) == 0.0
    assert volume[-1] == pytest.approx(4 * 80 / 2 * 20, rel=0.06) and area[-1] == pytest.approx(
        80 * 20, rel=0.06
    )
    assert (np.diff(volume) >= -1e-6).all() and stages[-1] == pytest.approx(foot + 4.0, abs=1e-3)
    assert np.nansum(depth.values) * 4.0 == pytest.approx(volume[-1], rel=1e-4)
    with pytest.raises(MossError, match="lies below the ground"):
        pond.ponded(dem, bund, foot - 1)
    with pytest.raises(MossError, match="does not stand on the ground"):
        pond.ponded(dem, shapely.LineString([(0, 0), (10, 10)]), 500.0)


def test_ridges_and_valleys_of_a_corrugated_ground_lie_where_they_must():
    r, c = np.mgrid[0:80, 0:120]
    dem = surface(20 * np.cos(c / 40 * 2 * np.pi) - r * 0.3 + 100)
    lines = ridges.ridges_and_valleys(dem, "both", 3000.0)
    long = ridges.kept_lines(lines, ridges.strong_enough(lines, 60.0, 2.0))
    kinds = long.columns["kind"]
    for kind, spots in (("valley", (20, 60, 100)), ("ridge", (0, 40, 80))):
        x = np.concatenate([shapely.get_coordinates(g)[:, 0] for g in long.geometry[kinds == kind]])
        col = (x - 412_000) / 2 - 0.5
        away = np.min(np.abs(col[:, None] - np.array(spots)), axis=1)
        assert np.median(away) <= 1.0, kind
    assert (long.columns["steepness_deg"] >= 2).all() and long.columns["line"].tolist() == list(
        range(1, len(long) + 1)
    )
    assert len(ridges.strong_enough(lines, 0, 80)) == 0
    with pytest.raises(MossError, match="No ridge or valley"):
        ridges.ridges_and_valleys(dem, "both", 1e9)


def test_catchments_of_a_line_and_an_area_and_nested_ones():
    dem = plane(40, 40, -0.2, 0.0)  # falls east: rows do not mix
    drainage = prepare(dem)
    bund = shapely.LineString([(412_061, 5_872_000 - 21), (412_061, 5_872_000 - 39)])
    made = catchments.catchments(drainage, [catchments.seeds_of(drainage, bund)])
    rows, cols = 10, 31
    assert made.columns["cells"][0] == rows * cols
    area = catchments.catchments(
        drainage, [catchments.seeds_of(drainage, shapely.box(412_040, 5_871_940, 412_060, 5_871_960))]
    )
    assert area.columns["cells"][0] == 10 * 30
    points = [np.array([5 * 40 + 10]), np.array([5 * 40 + 30])]
    whole = catchments.catchments(drainage, points)
    nested = catchments.catchments(drainage, points, nested=True)
    assert whole.columns["cells"].tolist() == [11, 31] and nested.columns["cells"].tolist() == [11, 20]
    with pytest.raises(MossError, match="Two outlets lie in one cell"):
        catchments.catchments(drainage, [points[0], points[0]], nested=True)
    with pytest.raises(MossError, match="outside the ground"):
        catchments.seeds_of(drainage, shapely.Point(0, 0))


def test_snapping_moves_to_the_largest_stream_within_the_distance_only():
    r, c = np.mgrid[0:60, -30:31]
    drainage = prepare(surface(np.abs(c) * 1.0 - r * 0.2 + 100))
    cell = 40 * 61 + 36
    row, col = divmod(trace.snapped(drainage, cell, 5.0), 61)
    assert np.hypot(row - 40, col - 36) * 2 <= 5.0 and col != 30
    assert trace.snapped(drainage, cell, 14.0) % 61 == 30
    assert trace.snapped(drainage, cell, 0.5) == cell


def test_weights_add_up_downstream_and_missing_ones_count_nothing():
    dem = plane(5, 10, -0.5, 0.0)
    drainage = prepare(dem)
    amount = np.full((5, 10), 0.25)
    amount[2, 3] = np.nan
    made = accumulated(drainage, "d8", "area", surface(amount))
    assert made.values[2, 9] == pytest.approx(9 * 0.25 * 4.0) and made.values[1, 9] == pytest.approx(
        10 * 0.25 * 4.0
    )


@pytest.mark.parametrize("shape", [(1, 1), (1, 9), (9, 1), (2, 2)])
def test_the_smallest_grounds_drain(shape):
    drainage = prepare(surface(np.arange(np.prod(shape), dtype=float).reshape(shape)))
    assert (drainage.ways == OUT).sum() == 1 or shape == (1, 1)
    assert drainage.cells[drainage.ways == OUT].sum() == np.prod(shape)


def test_stripes_islands_and_one_hole_drain_at_their_own_edges():
    z = np.random.default_rng(0).normal(size=(20, 30))
    z[:, ::3] = np.nan
    drainage = prepare(surface(z))
    assert (drainage.ways[~np.isnan(z)] < 9).all() and drainage.cells[drainage.ways == OUT].sum() == (
        ~np.isnan(z)
    ).sum()
    hole = np.full((9, 9), np.nan)
    hole[4, 4] = 3.0
    assert prepare(surface(hole)).cells[4, 4] == 1
    flat = prepare(surface(np.full((30, 30), 5.0)))
    assert flat.cells[flat.ways == OUT].sum() == 900 and (flat.ways[1:-1, 1:-1] < OUT).all()


def test_grounds_that_cannot_be_worked_on_are_refused():
    with pytest.raises(MossError, match="holds no values"):
        prepare(surface(np.full((4, 4), np.nan)))
    drainage = prepare(plane(20, 20, -0.1, 0))
    with pytest.raises(MossError, match="No stream has as much"):
        network.network(drainage, network.stream_cells(drainage, 1e9))


def test_feet_over_metres_slope_truly():
    feet = replace(plane(9, 9, -0.5, 0.5), unit=FOOT)
    metre = replace(feet, values=feet.values * np.float32(0.3048), unit=plane(2, 2, 0, 0).unit)
    assert np.array_equal(prepare(feet).ways, prepare(metre).ways)
    lengths = trace.flow_lengths(prepare(feet))
    assert lengths.max() == pytest.approx(trace.flow_lengths(prepare(metre)).max())


def test_a_prepared_ground_is_kept_and_a_run_can_be_stopped():
    dem = rough(8)
    assert prepared(dem) is None
    first = prepare(dem)
    assert prepare(dem) is first and prepared(dem) is first and first.nbytes / dem.values.size < 40
    progress = Progress()
    progress.stop()
    with pytest.raises(Exception, match="[Ss]topped"):
        prepare(rough(9), progress)


def test_a_hundred_thousand_outlets_are_refused_before_any_work():
    drainage = prepare(plane(40, 40, -0.2, 0.0))
    with pytest.raises(MossError, match="100,000 outlets"):
        catchments.catchments(drainage, [np.array([5])] * 100_000)


def test_feet_over_degrees_drain_by_true_slopes_and_areas():
    """Heights in feet over a grid in degrees: the same ways as in metres, ellipsoidal areas."""
    from moss_step.model.frame import Frame
    from moss_step.model.surface import Surface
    from moss_step.model.units import METRE

    z = np.random.default_rng(2).normal(size=(20, 24)).astype(np.float32) * 30
    frame = Frame(20, 24, 10.0, 60.0, 0.001, 0.001, "EPSG:4326")
    feet, metre = Surface(z, frame, FOOT), Surface(z * np.float32(0.3048), frame, METRE)
    assert (prepare(feet).ways == prepare(metre).ways).mean() > 0.99
    made = basins.basin_shapes(prepare(feet), None)
    assert (
        made.columns["area_m2"].sum() == pytest.approx(frame.area, rel=1e-6)
        and (made.columns["perimeter_m"] > 0).all()
    )


def test_a_start_on_a_pit_runs_on_over_the_lowest_pass():
    z = np.full((9, 9), 10.0)
    z[4, 4], z[4, 5:] = 2.0, 6.0
    drainage = prepare(surface(z))
    path = path_down(drainage.ways, 4 * 9 + 4)
    assert path[0] == 40 and path[-1] == 44 and drainage.ways.reshape(-1)[path[-1]] == OUT

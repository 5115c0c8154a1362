"""Measures on the common grounds against plain NumPy, SciPy, shapely and pyproj: distances, areas, slopes and bearings are those on the ground."""

import math

import networkx as nx
import numpy as np
import pytest
import shapely
from numpy.testing import assert_allclose
from pyproj import Geod
from scipy.sparse import coo_array
from scipy.sparse.linalg import spsolve
from skimage.morphology import reconstruction

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.relief.contours import contours
from moss_step.science.relief.curvature import curvature
from moss_step.science.relief.gradient import aspect, slope
from moss_step.science.relief.hypsometry import hypsometry
from moss_step.science.relief.neighbourhood import ruggedness
from moss_step.science.relief.openness import openness
from moss_step.science.relief.position import local_relief, position
from moss_step.science.relief.profile import profile
from moss_step.science.water import depressions, network, trace
from moss_step.science.water.basins import basin_shapes
from moss_step.science.water.catchments import catchments, seeds_of
from moss_step.science.water.directions import flow_bearings
from moss_step.science.water.drainage import accumulated, prepare
from moss_step.science.water.kernels.neighbours import DC, DR, OUT
from moss_step.science.water.kernels.trace import path_down
from moss_step.science.zones.tessellate import tessellate
from tests.conftest import UTM, surface
from tests.grounds import GROUNDS, holed, in_degrees, metric, relief

EVERY = pytest.mark.parametrize("name", sorted(GROUNDS))
GEOD = Geod(ellps="WGS84")


def metres_of(dem: Surface) -> tuple[np.ndarray, np.ndarray]:
    """Width and height of a cell by row, by the general library for degrees."""
    f = dem.frame
    if not f.geographic:
        return np.full(f.rows, f.dx), np.full(f.rows, f.dy)
    lats = np.array([f.y_of(r) for r in range(f.rows)])
    zero = np.zeros(f.rows)
    return GEOD.inv(zero, lats, zero + f.dx, lats)[2], GEOD.inv(zero, lats - f.dy / 2, zero, lats + f.dy / 2)[
        2
    ]


def heights_in_metres(dem: Surface) -> np.ndarray:
    return dem.values.astype(np.float64) * dem.metres_per_height


def inner(dem: Surface) -> np.ndarray:
    """Cells with eight neighbours that have values."""
    known = np.pad(~np.isnan(dem.values), 1)
    rows, cols = dem.frame.shape
    return np.logical_and.reduce([known[i : i + rows, j : j + cols] for i in range(3) for j in range(3)])


def shifted(z: np.ndarray, dr: int, dc: int) -> np.ndarray:
    rows, cols = z.shape
    return np.pad(z, 1, constant_values=np.nan)[1 + dr : 1 + dr + rows, 1 + dc : 1 + dc + cols]


def horn(dem: Surface) -> tuple[np.ndarray, np.ndarray]:
    """East and north gradient by the weights 1-2-1 of Horn 1981, each row with its own width."""
    z, (wide, high) = heights_in_metres(dem), metres_of(dem)
    wide, above, below = wide[:, None], np.roll(wide, 1)[:, None], np.roll(wide, -1)[:, None]
    east = (
        sum(
            w * (shifted(z, k, 1) - shifted(z, k, -1)) / (2 * width)
            for k, w, width in ((-1, 1, above), (0, 2, wide), (1, 1, below))
        )
        / 4
    )
    north = (
        sum(w * (shifted(z, -1, k) - shifted(z, 1, k)) for k, w in ((-1, 1), (0, 2), (1, 1)))
        / 8
        / high[:, None]
    )
    return east, north


@EVERY
def test_slope_and_aspect(name):
    dem = GROUNDS[name]
    east, north = horn(dem)
    where = inner(dem)
    assert_allclose(
        slope(dem).values[where], np.degrees(np.arctan(np.hypot(east, north)))[where], rtol=2e-3, atol=1e-6
    )
    bearing = np.degrees(np.arctan2(-east, -north)) % 360.0
    apart = (aspect(dem).values - bearing + 180.0) % 360.0 - 180.0
    assert np.abs(apart[where]).max() < 0.1


@pytest.mark.parametrize("method", ["horn", "quadratic"])
def test_no_data_faces_nowhere_and_is_not_counted(method):
    """A cell of no-data amid ground has no aspect, whatever its neighbours do."""
    dem = metric(holed(relief(3)))
    made = aspect(dem, method)
    assert np.isnan(made.values[25, 8]) and np.isnan(made.values[np.isnan(dem.values)]).all()
    assert made.valid_count <= dem.valid_count


@EVERY
def test_curvature_by_a_least_squares_fit(name):
    """The quadratic of Evans 1980 fitted to nine cells in metres by numpy.linalg.lstsq (general library), cell by cell."""
    dem = GROUNDS[name]
    z, (wide, high) = heights_in_metres(dem), metres_of(dem)
    found = {k: curvature(dem, k).values for k in ("profile", "plan", "mean")}
    cells = np.argwhere(inner(dem))[::37]
    expected = {k: [] for k in found}
    for r, c in cells:
        y, x = (np.mgrid[1:-2:-1, -1:2] * 1.0).reshape(2, 9)
        x, y = x * wide[r], y * high[r]
        near = z[r - 1 : r + 2, c - 1 : c + 2].reshape(9)
        a, b, m, p, q, _ = np.linalg.lstsq(
            np.stack([x * x, y * y, x * y, x, y, np.ones(9)], axis=1), near - near[4], rcond=None
        )[0]
        rr, t, s, steep = 2 * a, 2 * b, m, p * p + q * q
        expected["profile"].append(-(p * p * rr + 2 * p * q * s + q * q * t) / (steep * (1 + steep) ** 1.5))
        expected["plan"].append(-(q * q * rr - 2 * p * q * s + p * p * t) / steep**1.5)
        expected["mean"].append(
            -((1 + q * q) * rr - 2 * p * q * s + (1 + p * p) * t) / (2 * (1 + steep) ** 1.5)
        )
    for kind, values in expected.items():
        assert_allclose(
            found[kind][tuple(cells.T)], values, rtol=5e-3, atol=2e-3 * np.std(values), err_msg=kind
        )


def disk(dem: Surface, r: int, radius: float) -> tuple[np.ndarray, np.ndarray]:
    """Metres north-south and east-west from each cell of the grid to one of a row, as that row's cells measure."""
    wide, high = metres_of(dem)
    rows, cols = dem.frame.shape
    return np.abs(np.arange(rows) - r)[:, None] * high[r], np.abs(np.arange(-cols + 1, cols))[None] * wide[r]


@EVERY
@pytest.mark.parametrize("radius", [41.0, 120.0])
def test_position_and_relief_by_every_cell(name, radius):
    """The mean over a disk in metres, and the range of a square in metres, by plain NumPy."""
    dem = GROUNDS[name]
    z, cols = dem.values.astype(np.float64), dem.frame.cols
    above, around = position(dem, radius).values, local_relief(dem, radius).values
    for r, c in np.argwhere(~np.isnan(z))[::101]:
        down, across = disk(dem, r, radius)
        across = across[:, cols - 1 - c : 2 * cols - 1 - c]
        known = ~np.isnan(z)
        near = (np.hypot(down, across) <= radius * (1 + 1e-7)) & known
        assert above[r, c] == pytest.approx(z[r, c] - z[near].mean(), rel=2e-3, abs=1e-3 * np.nanstd(z))
        square = (down <= radius * (1 + 1e-7)) & (across <= radius * (1 + 1e-7)) & known
        assert around[r, c] == pytest.approx(np.ptp(z[square]), rel=1e-3, abs=1e-3 * np.nanstd(z))


def test_a_plane_on_oblong_cells_has_the_relief_of_its_slope():
    """10 x 2 m cells that rise by 1 in 1 northward: 100 m to each side are 200 m of relief (mathematics)."""
    r, _ = np.mgrid[0:200, 0:40]
    dem = surface(-2.0 * r, dx=10.0, dy=2.0)
    assert local_relief(dem, 100.0).values[100, 20] == pytest.approx(200.0)


def test_a_radius_of_a_fraction_of_a_metre_reaches_as_many_cells_as_it_holds():
    """0.3 m over cells of 0.1 m are three cells, not two (mathematics)."""
    c = np.mgrid[0:9, 0:21][1]
    steep = Surface((0.1 * c).astype(np.float32), Frame(9, 21, 0.0, 1.0, 0.1, 0.1, UTM), METRE)
    assert local_relief(steep, 0.3).values[4, 10] == pytest.approx(0.6, abs=1e-5)
    near = np.hypot(*np.mgrid[-3:4, -3:4]) <= 3
    bump = steep.values.copy()
    bump[1, 10] = 50.0
    assert position(Surface(bump, steep.frame, METRE), 0.3).values[4, 10] == pytest.approx(
        bump[4, 10] - bump[1:8, 7:14][near].mean(), rel=1e-4
    )


@EVERY
def test_ruggedness_and_openness_by_every_neighbour(name):
    dem = GROUNDS[name]
    z, (wide, high) = heights_in_metres(dem), metres_of(dem)
    where, unit = inner(dem), dem.metres_per_height
    pairs = [(i, j) for i in (-1, 0, 1) for j in (-1, 0, 1) if (i, j) != (0, 0)]
    squares = sum((shifted(z, i, j) - z) ** 2 for i, j in pairs)
    assert_allclose(ruggedness(dem).values[where] * unit, np.sqrt(squares)[where], rtol=2e-3)
    found = openness(dem, 90.0).values
    for r, c in np.argwhere(where)[::173]:
        angles = []
        for i, j in pairs:
            step, best = math.hypot(i * high[r], j * wide[r]), -np.inf
            for k in range(1, int(90.0 * (1 + 1e-9) / step) + 1):
                a, b = r + i * k, c + j * k
                if 0 <= a < z.shape[0] and 0 <= b < z.shape[1] and z[a, b] == z[a, b]:
                    best = max(best, (z[a, b] - z[r, c]) / (k * step))
            if best > -np.inf:
                angles.append(90.0 - math.degrees(math.atan(best)))
        assert found[r, c] == pytest.approx(np.mean(angles), abs=0.02)


@EVERY
def test_a_hypsometric_integral_weighs_ground(name):
    """Pike & Wilson 1971 with each cell's own area, by numpy.average (general library)."""
    dem = GROUNDS[name]
    known = ~np.isnan(dem.values)
    z = dem.values[known].astype(np.float64)
    areas = np.broadcast_to(dem.frame.row_areas[:, None], dem.frame.shape)[known]
    assert hypsometry(dem)[1] == pytest.approx((np.average(z, weights=areas) - z.min()) / np.ptp(z), rel=1e-6)


@EVERY
def test_contours_are_as_long_as_they_lie_on_the_ground(name):
    """Each line's length by pyproj.Geod for degrees and shapely for metres (general libraries)."""
    dem = GROUNDS[name]
    lines = contours(dem, np.ptp(dem.range) / 6)
    for line, length in zip(lines.geometry, lines.columns["length_m"], strict=True):
        assert length == pytest.approx(
            GEOD.geometry_length(line) if dem.frame.geographic else line.length, rel=1e-6
        )
    areas = dem.range[0] + np.ptp(dem.range) / 6 > lines.columns["elevation"].min() > dem.range[0]
    assert areas


# --- water


def filled_by_library(dem: Surface) -> np.ndarray:
    """Depressions filled by morphological reconstruction, with no-data as low as can be, so that it lets water out (general library)."""
    z = np.pad(dem.values.astype(np.float64), 1, constant_values=np.nan)
    low, high = np.nanmin(z) - 1.0, np.nanmax(z) + 1.0
    mask = np.where(np.isnan(z), low, z)
    seed = np.where(np.isnan(z), low, high)
    return np.where(np.isnan(z), np.nan, reconstruction(seed, mask, method="erosion"))[1:-1, 1:-1]


@EVERY
def test_depressions_are_filled_as_by_a_library(name):
    dem = GROUNDS[name]
    found = depressions.filled_surface(prepare(dem)).values
    assert_allclose(found, filled_by_library(dem), rtol=1e-6, atol=1e-5 * np.ptp(dem.range))


@EVERY
def test_water_runs_down_the_steepest_way_on_the_ground(name):
    """The bearing to the neighbour with the largest fall a metre, and the count upstream from it by scipy.sparse.linalg.spsolve (general library)."""
    dem = GROUNDS[name]
    z, (wide, high) = dem.values.astype(np.float64), metres_of(dem)
    drainage = prepare(dem)
    found, ways = flow_bearings(drainage), drainage.ways
    filled = filled_by_library(dem)
    for r, c in np.argwhere((ways < OUT) & (filled - z == 0))[::13]:
        falls = [
            (z[r, c] - shifted(z, i, j)[r, c]) / math.hypot(i * high[r], j * wide[r])
            for i, j in zip(DR, DC, strict=True)
        ]
        if np.nanmax(falls) <= 0:
            continue
        k = int(np.nanargmax(falls))
        expected = math.degrees(math.atan2(DC[k] * wide[r], -DR[k] * high[r])) % 360.0
        assert found[r, c] == pytest.approx(expected, abs=1e-3), (r, c)
    known = np.flatnonzero(~np.isnan(z).ravel())
    place = np.full(z.size, -1)
    place[known] = np.arange(known.size)
    run = ways.ravel()[known] < OUT
    to = known[run] + DR[ways.ravel()[known[run]]] * z.shape[1] + DC[ways.ravel()[known[run]]]
    n = known.size
    system = coo_array((np.ones(n), (np.arange(n), np.arange(n))), shape=(n, n)) - coo_array(
        (np.ones(len(to)), (place[to], np.flatnonzero(run))), shape=(n, n)
    )
    own = np.broadcast_to(dem.frame.row_areas[:, None], z.shape).ravel()[known]
    assert_allclose(
        accumulated(drainage).values.ravel()[known], spsolve(system.tocsc(), np.ones(n)), rtol=1e-5
    )
    assert_allclose(drainage.upstream_area.ravel()[known], spsolve(system.tocsc(), own), rtol=1e-6)


@pytest.mark.parametrize(("dx", "dy"), [(10.0, 30.0), (30.0, 10.0), (10.0, 10.0)])
@pytest.mark.parametrize("bearing", [20.0, 46.0, 110.0, 200.0, 295.0])
def test_water_on_a_plane_runs_where_the_plane_falls(dx, dy, bearing):
    """D-infinity on a plane gives the plane's own bearing, whatever the shape of the cells (Tarboton 1997; mathematics)."""
    r, c = np.mgrid[0:12, 0:12]
    east, north = math.sin(math.radians(bearing)), math.cos(math.radians(bearing))
    dem = surface(500.0 - 0.1 * (c * dx * east - r * dy * north), dx=dx, dy=dy)
    found = flow_bearings(prepare(dem), "dinf")[2:-2, 2:-2]
    assert_allclose(found, bearing, atol=0.05)


def test_diagonals_of_oblong_cells_point_where_they_lie():
    """Four to one: the south-east neighbour lies at 90 + atan(1/4) degrees (mathematics)."""
    dem = surface(100.0 - np.add.outer(np.arange(6.0), np.arange(6.0)), dx=4.0, dy=1.0)
    z = dem.values.copy()
    z[3, 3], z[4, 4] = 50.0, 20.0
    found = flow_bearings(prepare(Surface(z, dem.frame, METRE)))
    assert found[3, 3] == pytest.approx(90.0 + math.degrees(math.atan(1.0 / 4.0)), abs=1e-3)


def test_water_beside_the_frame_runs_as_beside_no_data():
    """The same ground within a frame of no-data: facets that lack a cell are none on either side."""
    dem = metric(relief(30))
    drainage = prepare(dem)
    wide = Surface(
        np.pad(dem.values, 3, constant_values=np.nan),
        Frame(42, 48, dem.frame.x0 - 30, dem.frame.y0 + 30, 10.0, 10.0, UTM),
        METRE,
    )
    for method in ("dinf", "freeman", "d8"):
        alone, framed = (
            accumulated(drainage, method).values,
            accumulated(prepare(wide), method).values[3:-3, 3:-3],
        )
        assert_allclose(alone, framed, rtol=1e-5, err_msg=method)
    assert_allclose(flow_bearings(drainage, "dinf"), flow_bearings(prepare(wide), "dinf")[3:-3, 3:-3])


@EVERY
def test_streams_and_basins_are_measured_on_the_ground(name):
    """Lengths, straight distances and areas of degrees by pyproj.Geod (general library)."""
    dem = GROUNDS[name]
    drainage = prepare(dem)
    lines = network.stream_lines(
        drainage, network.network(drainage, network.stream_cells(drainage, dem.area / 30))
    )
    xy = [np.asarray(g.coords) for g in lines.geometry]
    if dem.frame.geographic:
        straight = np.array([GEOD.inv(*a[0], *a[-1])[2] for a in xy])
        long = np.array([GEOD.geometry_length(g) for g in lines.geometry])
    else:
        straight, long = np.array([np.hypot(*(a[-1] - a[0])) for a in xy]), shapely.length(lines.geometry)
    assert_allclose(lines.columns["length_m"], long, rtol=1e-4)
    apart = straight > 0
    assert_allclose(lines.columns["sinuosity"][apart], (long / straight)[apart], rtol=1e-3)
    basins = basin_shapes(drainage, None, stream=network.stream_cells(drainage, dem.area / 30))
    for area, square_metres, perimeter in zip(
        basins.geometry, basins.columns["area_m2"], basins.columns["perimeter_m"], strict=True
    ):
        if dem.frame.geographic:
            plain, around = GEOD.geometry_area_perimeter(shapely.segmentize(area, 2e-5))
            assert (square_metres, perimeter) == (
                pytest.approx(abs(plain), rel=1e-4),
                pytest.approx(around, rel=1e-4),
            )
        else:
            assert (square_metres, perimeter) == (pytest.approx(area.area), pytest.approx(area.length))
    total = float((basins.columns["drainage_density"] * basins.columns["area_m2"]).sum()) / 1000.0
    assert total == pytest.approx(float(lines.columns["length_m"].sum()), rel=1e-4), (
        "each stretch of stream lies in one basin"
    )
    assert basins.columns["area_m2"].sum() == pytest.approx(dem.area)


def test_a_spur_of_one_cell_leaves_a_basin_its_mean_slope():
    """A cell without a neighbour to the side has no gradient: it is left out of the mean, and the others count."""
    z = relief(2)
    z[:, 30:] = np.nan
    z[18, 30:33] = 50.0
    drainage = prepare(metric(z))
    made = basin_shapes(drainage, None)
    assert np.isfinite(made.columns["mean_slope_deg"][made.columns["cells"] > 4]).all()


def test_areas_that_touch_at_a_corner_are_valid():
    """Basins, catchments of places and of links of a rough ground: every outline is valid (shapely, OGC Simple Features)."""
    dem = metric(np.random.default_rng(4).normal(size=(60, 60)) * 3)
    drainage = prepare(dem)
    for depth in (None, 0.5):
        assert shapely.is_valid(basin_shapes(drainage, depth).geometry).all()
    found = network.network(drainage, network.stream_cells(drainage, 2000.0))
    seeds = [np.array([e]) for e in network.last_own_cells(drainage, found)]
    made = catchments(drainage, seeds, nested=True)
    assert shapely.is_valid(made.geometry).all()
    assert shapely.area(made.geometry).sum() == pytest.approx(made.columns["area_m2"].sum())


@pytest.mark.parametrize("seed", range(6))
def test_whole_numbers_give_a_basin_for_each_outlet(seed):
    """On grounds of whole numbers, full of ties: as many basins as cells that water leaves the ground at."""
    dem = metric(np.rint(np.random.default_rng(seed).normal(size=(40, 44)).cumsum(0) * 2))
    drainage = prepare(dem)
    made = basin_shapes(drainage, None)
    assert len(made) == np.count_nonzero(drainage.ways == OUT)
    assert made.columns["cells"].sum() == dem.values.size


def test_snapping_and_cutting_go_by_the_ground_in_degrees():
    """A place between two cells of a path at 65 north: the nearer one on the ground, by pyproj.Geod (general library)."""
    dem = in_degrees(relief(9), 65.0)
    drainage = prepare(dem)
    path = path_down(drainage.ways, 15 * dem.frame.cols + 20)
    xy = trace.centres(drainage, path)
    place = xy[3] + (0.9e-4, 0.4e-4)
    by_ground = np.argmin([GEOD.inv(*p, *place)[2] for p in xy])
    assert np.argmin(dem.frame.distances(xy, place[None])) == by_ground
    seeds = seeds_of(drainage, shapely.Point(*xy[0]), 30.0)
    moved = GEOD.inv(*xy[0], *trace.centres(drainage, seeds)[0])[2]
    assert moved <= 30.0 + 1e-6


@pytest.mark.parametrize("seed", range(12))
def test_a_channel_is_the_least_that_can_be_dug(seed):
    """One pit: the volume above the pit's height along the channel is that of networkx's shortest path (general library), of ways no longer
    than asked for too."""
    rng = np.random.default_rng(seed)
    rough = metric(20.0 + rng.random((21, 21)) * 8.0)
    z = depressions.filled_surface(
        prepare(rough), gradient=1e-4
    ).values.copy()  # every cell drains, but for one pit
    z[10, 10] = 0.5
    z[rng.integers(0, 21), 0] = 0.1
    z[0, rng.integers(1, 21)] = 0.2
    dem = metric(z)
    graph = nx.DiGraph()
    for r, c in np.ndindex(z.shape):
        for i, j in zip(DR, DC, strict=True):
            if 0 <= r + i < 21 and 0 <= c + j < 21:
                graph.add_edge(
                    (r, c), (r + int(i), c + int(j)), dug=max(float(dem.values[r + i, c + j]) - 0.5, 0.0)
                )
    length = nx.single_source_dijkstra_path_length(graph, (10, 10), weight="dug")
    least = min(v for (r, c), v in length.items() if dem.values[r, c] < 0.5 or r in (0, 20) or c in (0, 20))
    made, done, left = depressions.breached_surface(prepare(dem), 400)
    cut = made.values < dem.values
    dug = float((dem.values - np.minimum(dem.values, 0.5))[cut].sum())
    assert dug == pytest.approx(least, rel=1e-5) and done == 1 and left == 0
    short, *_ = depressions.breached_surface(prepare(dem), 10)
    assert np.count_nonzero(short.values < dem.values) <= 11


def test_a_dearer_way_is_taken_where_the_cheapest_is_too_long():
    """A free way round of 16 cells, and a wall of one cell to dig: with at most 6 cells the wall is cut."""
    z = np.full((9, 20), 30.0)
    z[4, 2:18] = 9.1
    z[4, 2] = 9.0  # the pit
    z[4, 18:] = 5.0
    z[4, 0] = 5.0
    z[4, 1] = 14.0
    dem = metric(z)
    free, *_ = depressions.breached_surface(prepare(dem), 30)
    near, *_ = depressions.breached_surface(prepare(dem), 6)
    assert free.values[4, 1] == dem.values[4, 1] and near.values[4, 1] < dem.values[4, 1]


@pytest.mark.parametrize("step", [7.0, 0.5, 3.3])
def test_a_profile_steps_as_it_was_asked_to(step):
    """Points stand at whole steps from the start, and one at the end."""
    dem = metric(relief(1))
    line = shapely.LineString([(412_020, 5_871_900), (412_330, 5_871_770)])
    d = profile({"value": dem}, line, step).columns["distance"]
    assert_allclose(np.diff(d)[:-1], step, rtol=1e-9)
    assert d[-1] == pytest.approx(line.length) and np.diff(d)[-1] <= step + 1e-9


def test_grads_are_not_degrees():
    """The NTF (Paris) system in grads against the same cells in degrees: 0.9 degrees a grad (EPSG:4807; general library)."""
    grads = Frame(30, 40, 1.0, 52.0, 0.001, 0.001, "EPSG:4807")
    ellipsoid = grads.system.get_geod()
    lat = 0.9 * grads.y_of(15)
    wide = ellipsoid.inv(0.0, lat, 0.0009, lat)[2]
    high = ellipsoid.inv(0.0, lat - 0.00045, 0.0, lat + 0.00045)[2]
    assert grads.cell_metres == (pytest.approx(wide, rel=1e-6), pytest.approx(high, rel=1e-6))
    assert grads.row_areas[15] == pytest.approx(wide * high, rel=1e-5)
    assert grads.distances(np.array([[1.0, 52.0]]), np.array([[1.01, 52.0]]))[0] == pytest.approx(
        ellipsoid.inv(0.9, 46.8, 0.909, 46.8)[2]
    )


def test_tiles_ask_for_metres():
    from moss_step.model.errors import MossError

    with pytest.raises(MossError, match="in degrees"):
        tessellate(in_degrees(relief(1), 5.0).frame, "hexagon", 50.0)

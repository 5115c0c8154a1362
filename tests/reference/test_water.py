"""Water against general libraries, mathematics and independent walks."""

import networkx as nx
import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy.sparse import coo_matrix, identity
from scipy.sparse.linalg import spsolve
from skimage.morphology import reconstruction

from moss_step.demo import DATA
from moss_step.formats.raster import read_surface
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.water import basins, catchments, depressions, indices, network, trace
from moss_step.science.water.accumulation import CONVERGENCE
from moss_step.science.water.directions import facet_directions
from moss_step.science.water.drainage import accumulated, prepare
from moss_step.science.water.kernels.neighbours import DC, DR, NONE, OUT, PIT
from moss_step.science.water.kernels.network import horton_orders, stream_orders
from moss_step.science.water.kernels.trace import longest_up, mark_upstream, path_down
from moss_step.steps.catalogue import catalogue
from tests.conftest import plane, surface
from tests.reference.test_slope import jacksboro


def random_ground(seed: int) -> Surface:
    """Rough, terraced or flat ground of any small size, some with no-data."""
    rng = np.random.default_rng(seed)
    shape = tuple(rng.integers(1, 28, 2))
    z = rng.normal(size=shape) * 10
    if seed % 3 == 0:
        z = np.round(z / 5)
    if seed % 7 == 0:
        z[:] = 3
    if seed % 4 == 1:
        z[rng.random(shape) < 0.15] = np.nan
        z[0, 0] = 1.0
    return surface(z)


def edge_cells(z: np.ndarray) -> np.ndarray:
    known = np.pad(~np.isnan(z), 1)
    inner = np.ones(z.shape, bool)
    for i in range(3):
        for j in range(3):
            inner &= known[i : i + z.shape[0], j : j + z.shape[1]]
    return ~np.isnan(z) & ~inner


def filled_by_skimage(z: np.ndarray) -> np.ndarray:
    """Reconstruction by erosion from the edge (general library)."""
    known, high = ~np.isnan(z), np.nanmax(z) + 1
    seed = np.where(edge_cells(z), z, high)
    filled = reconstruction(seed, np.where(known, z, high), method="erosion", footprint=np.ones((3, 3)))
    return np.where(known, filled, np.nan)


def end_of(ways: np.ndarray, r: int, c: int) -> tuple[int, int]:
    for _ in range(ways.size + 1):
        if ways[r, c] >= OUT:
            return r, c
        r, c = r + DR[ways[r, c]], c + DC[ways[r, c]]
    raise AssertionError("the water runs in a circle")


@pytest.mark.parametrize("seed", range(40))
def test_the_filled_ground_equals_skimages_reconstruction_cell_by_cell(seed):
    dem = random_ground(seed)
    assert np.array_equal(
        prepare(dem).filled(), filled_by_skimage(dem.values).astype(np.float32), equal_nan=True
    )


def test_the_demo_and_a_real_degree_grid_fill_as_skimage_fills():
    demo, _ = read_surface(DATA / "harrow_ground.tif")
    rough = Surface(
        demo.values + np.random.default_rng(0).normal(0, 0.4, demo.values.shape).astype(np.float32),
        demo.frame,
        METRE,
    )
    for dem in (demo, rough, jacksboro()):
        assert np.array_equal(
            prepare(dem).filled(), filled_by_skimage(dem.values).astype(np.float32), equal_nan=True
        )


@pytest.mark.parametrize("seed", range(40))
def test_every_cell_reaches_an_outlet_and_the_outflow_equals_the_cells(seed):
    dem = random_ground(seed)
    drainage = prepare(dem)
    assert not (drainage.ways == PIT).any()
    out = drainage.ways == OUT
    assert (edge_cells(dem.values) | ~out).all(), "water leaves at edges only"
    filled = drainage.filled()
    for r, c in np.argwhere(drainage.ways < OUT):
        k = drainage.ways[r, c]
        assert filled[r + DR[k], c + DC[k]] <= filled[r, c]
    for r, c in np.argwhere(drainage.ways != NONE):
        assert drainage.ways[end_of(drainage.ways, r, c)] == OUT
    assert drainage.cells[out].sum() == dem.valid_count
    for method in ("d8", "freeman", "dinf"):
        total = accumulated(drainage, method).values
        assert np.nansum(total[out]) == pytest.approx(dem.valid_count, rel=1e-4)


def test_accumulation_equals_the_sparse_solve():
    """(I - P^T) a = 1 with the receivers' shares as P (scipy.sparse.linalg.spsolve), for all three methods."""
    rng = np.random.default_rng(5)
    dem = surface(rng.normal(size=(30, 40)) * 5)
    drainage = prepare(dem)
    filled, n = drainage.filled(), dem.values.size
    for method in ("d8", "dinf", "freeman"):
        rows, cols, shares = [], [], []
        direction = facet_directions(drainage)
        for r, c in np.argwhere(drainage.ways < OUT):
            k = int(drainage.ways[r, c])
            out = {k: 1.0}
            if method == "dinf":
                p = int(direction[r, c])
                part = float(direction[r, c]) - p
                out = {p % 8: 1.0 - part, (p + 1) % 8: part}
            elif method == "freeman":
                weights = {}
                for q in range(8):
                    i, j = r + DR[q], c + DC[q]
                    if 0 <= i < 30 and 0 <= j < 40 and filled[i, j] < filled[r, c]:
                        weights[q] = (
                            (filled[r, c] - filled[i, j]) / (2.0 * np.hypot(DR[q], DC[q]))
                        ) ** CONVERGENCE
                total = sum(weights.values())
                out = {q: w / total for q, w in weights.items()} if weights else out
            for q, share in out.items():
                if share > 0:
                    rows.append(r * 40 + c)
                    cols.append((r + DR[q]) * 40 + c + DC[q])
                    shares.append(share)
        p = coo_matrix((shares, (rows, cols)), (n, n)).tocsc()
        solved = spsolve((identity(n) - p.T).tocsc(), np.ones(n)).reshape(30, 40)
        assert_allclose(accumulated(drainage, method).values, solved, rtol=2e-5)


def test_a_tilted_plane_gathers_by_rows_and_facets_split_by_the_angle():
    """On a plane that falls due east, each row is a path; at 1 in 2 a facet splits by the exact angle (Tarboton 1997)."""
    east = prepare(plane(9, 12, -0.5, 0.0))
    assert (east.cells[1:-1, :] == np.arange(1, 13)).all()
    slanted = prepare(plane(9, 12, -1.0, 0.5))  # falls to the east and half as much to the south
    share = facet_directions(slanted)[2:-2, 2:-2]
    assert_allclose(share, np.degrees(np.arctan(0.5)) / 45.0, rtol=1e-5)


def test_a_cone_sheds_its_area_evenly_and_a_valley_gathers_all():
    r, c = np.mgrid[-40:41, -40:41]
    cone = prepare(surface(1000.0 - np.hypot(r, c)))
    area = accumulated(cone, "dinf", "area").values
    ring = (np.hypot(r, c) > 30) & (np.hypot(r, c) < 31)
    # specific area at distance d from the top of a cone is d / 2: pi d^2 over 2 pi d
    assert np.mean(area[ring] / 2.0) == pytest.approx(30.5 * 2 / 2, rel=0.15)
    valley = prepare(surface(np.abs(c) * 1.0 - r * 0.01 + 100))
    assert valley.cells[80, 40] == 81 * 81 - 80 or valley.cells[80, 40] > 0.9 * 81 * 81


def test_nested_bowls_have_known_depths_volumes_and_spill_points():
    """A wide shallow basin that holds two deeper pits; spilled over a notch of known height."""
    z = np.full((21, 31), 10.0)
    z[3:18, 3:28] = 8.0
    z[5:9, 5:9] = 5.0
    z[10:16, 20:26] = 6.0
    z[0:3, 15] = 9.0
    dem = surface(z)
    drainage = prepare(dem)
    lakes = depressions.lake_shapes(drainage)
    assert (
        len(lakes) == 1
        and lakes.columns["depth"].tolist() == [4.0]
        and lakes.columns["level"].tolist() == [9.0]
    )
    volume = (15 * 25 * 1.0 + 16 * 3.0 + 36 * 2.0) * 4.0
    assert (
        lakes.columns["volume_m3"][0] == pytest.approx(volume)
        and lakes.columns["area_m2"][0] == 15 * 25 * 4.0
    )
    assert (lakes.columns["spill_x"][0] - 412_000) / 2 - 0.5 == 15
    pools = drainage.pools
    deep = sorted((float(d) for d in pools.depth if d > 0), reverse=True)
    assert deep == [4.0, 2.0], "the deeper pit keeps the whole pool, the other one its own to where they join"
    _, _, nodes = basins.divided(drainage, 1.0)
    assert {float(z.reshape(-1)[pools.cell[n]]) for n in nodes} >= {5.0, 6.0}
    assert len(basins.divided(drainage, 3.0)[1]) == len(nodes) - 1
    assert len(basins.divided(drainage, None)[1]) == len(nodes) - 2 == (drainage.ways == OUT).sum()
    kept = depressions.filled_surface(drainage, keep_depth=3.0)
    assert np.array_equal(kept.values, dem.values)
    filled = depressions.filled_surface(drainage, keep_depth=4.5)
    assert filled.values[6, 6] == 9.0


@pytest.mark.parametrize("seed", [2, 4, 8, 10, 14, 16, 20, 22])
def test_basins_partition_the_ground_and_equal_the_catchments_of_their_outlets(seed):
    rng = np.random.default_rng(seed)
    dem = surface(rng.normal(size=(30, 34)) * 4)
    drainage = prepare(dem)
    numbered, ends, _ = basins.divided(drainage, None)
    assert (numbered > 0).all() and np.bincount(numbered.ravel())[1:].sum() == dem.values.size
    for number, outlet in enumerate(ends, start=1):
        marks = np.zeros(numbered.shape, np.uint8)
        mark_upstream(drainage.ways, np.array([outlet]), 1, marks)
        assert np.array_equal(marks == 1, numbered == number)
    total = 0.0
    shapes = basins.basin_shapes(drainage, None)
    for area, cells in zip(shapes.geometry, shapes.columns["cells"], strict=True):
        assert area.area == pytest.approx(cells * 4.0)
        total += area.area
    assert total == pytest.approx(dem.frame.area)


def test_deeper_limits_only_ever_merge_basins():
    dem = surface(np.random.default_rng(3).normal(size=(60, 60)) * 3)
    drainage = prepare(dem)
    last = None
    for depth in (0.0, 0.5, 1.0, 2.0, 4.0, 8.0, None):
        numbered, nodes, _ = basins.divided(drainage, depth)
        if last is not None:
            pairs = np.unique(np.stack([last.ravel(), numbered.ravel()]), axis=1)
            assert len(np.unique(pairs[0])) == pairs.shape[1], "each smaller basin lies within one larger one"
        last = numbered
    assert len(nodes) == len(
        np.unique(
            [
                end_of(drainage.ways, r, c)[0] * 60 + end_of(drainage.ways, r, c)[1]
                for r in range(60)
                for c in range(60)
            ]
        )
    )


def test_the_path_is_an_independent_walk_in_networkx():
    dem = surface(np.random.default_rng(9).normal(size=(40, 40)) * 3)
    drainage = prepare(dem)
    graph = nx.DiGraph()
    for r, c in np.argwhere(drainage.ways < OUT):
        k = int(drainage.ways[r, c])
        graph.add_edge(r * 40 + c, (r + DR[k]) * 40 + c + DC[k], weight=2.0 * np.hypot(DR[k], DC[k]))
    assert nx.is_directed_acyclic_graph(graph)
    lengths = trace.flow_lengths(drainage)
    for start in (0, 777, 1234):
        path = path_down(drainage.ways, start)
        walk = [start, *nx.dfs_preorder_nodes(graph, start)][1:] if start in graph else [start]
        assert path.tolist() == list(walk)
        assert lengths.reshape(-1)[start] == pytest.approx(trace.path_metres(drainage, path)[-1], rel=1e-6)
    outlet = int(np.argmax(drainage.cells * (drainage.ways == OUT)))
    longest = longest_up(drainage.ways, drainage.metres, outlet)
    upstream = nx.single_source_dijkstra_path_length(graph.reverse(), outlet)
    assert trace.path_metres(drainage, longest)[-1] == pytest.approx(max(upstream.values()), rel=1e-6)
    assert trace.flow_lengths(drainage, upstream=True).reshape(-1)[outlet] == pytest.approx(
        max(upstream.values()), rel=1e-6
    )
    assert len(upstream) == drainage.cells.reshape(-1)[outlet]


def test_stream_orders_on_a_hand_drawn_network():
    """Two first-order streams make a second, which a first joins, and two seconds make a third (Strahler 1957, Shreve 1966)."""
    below = np.array([2, 2, 4, 4, 8, 7, 7, 8, -1])
    strahler, shreve, queue = stream_orders(below)
    assert strahler.tolist() == [1, 1, 2, 1, 2, 1, 1, 2, 3]
    assert shreve.tolist() == [1, 1, 2, 1, 3, 1, 1, 2, 5]
    horton = horton_orders(below, np.array([9, 5, 14, 3, 18, 7, 8, 15, 33]), strahler, queue)
    assert horton.tolist() == [3, 1, 3, 1, 3, 1, 2, 2, 3]


def test_streams_are_connected_and_their_orders_follow_networkx():
    demo, _ = read_surface(DATA / "harrow_ground.tif")
    drainage = prepare(demo)
    found = network.network(drainage, network.stream_cells(drainage, 20_000.0))
    lines = network.stream_lines(drainage, found)
    graph = nx.DiGraph()
    for k in range(len(lines)):
        graph.add_edge(int(lines.columns["from_node"][k]), int(lines.columns["to_node"][k]), link=k)
    assert graph.number_of_edges() == len(lines)
    order: dict[int, int] = {}
    for node in nx.topological_sort(graph):
        into = [order[graph.edges[e]["link"]] for e in graph.in_edges(node)]
        here = 1 if not into else max(into) + (into.count(max(into)) > 1)
        for edge in graph.out_edges(node):
            order[graph.edges[edge]["link"]] = here
    assert [order[k] for k in range(len(lines))] == lines.columns["strahler"].tolist()
    assert (lines.columns["drop_m"] >= -1e-3).all() and (lines.columns["sinuosity"] >= 1 - 1e-6).all()
    nodes = network.stream_nodes(drainage, found)
    kinds = nodes.columns["kind"]
    assert (kinds == "spring").sum() == sum(1 for n in graph if graph.in_degree(n) == 0)
    assert (kinds == "outlet").sum() == sum(1 for n in graph if graph.out_degree(n) == 0)


def test_the_unit_plot_has_a_length_slope_factor_of_one():
    """22.13 m at 9 % (Wischmeier & Smith 1978; the figures are stated in it): the cell whose specific area is 22.13 m."""
    dem = plane(9, 60, -0.09, 0.0)
    drainage = prepare(dem)
    area = indices.specific_area(drainage, "d8")
    factor = indices.stream_power(drainage, "length_slope", "d8").values
    assert_allclose(area[4], 2.0 * np.arange(1, 61))
    expected = (area[4] / 22.13) ** 0.4 * (np.sin(np.arctan(0.09)) / 0.0896) ** 1.3
    assert_allclose(factor[4, 1:-1], expected[1:-1], rtol=1e-4)
    assert np.interp(22.13, area[4], factor[4]) == pytest.approx(1.0, abs=0.01)
    wet = indices.wetness(drainage, "d8").values
    assert_allclose(wet[4, 1:-1], np.log(area[4] / 0.09)[1:-1], rtol=1e-4)
    power = indices.stream_power(drainage, "power", "d8").values
    assert_allclose(power[4, 1:-1], (area[4] * 0.09)[1:-1], rtol=1e-4)


def test_height_above_drain_and_the_flood_of_a_v_valley():
    """A valley with sides of 1 in 4 and a level drain: ground under a stage s is s / 0.25 wide on both sides."""
    r, c = np.mgrid[0:60, -50:51]
    dem = surface(np.abs(c) * 2 * 0.25 - r * 1e-3 + 100)
    drainage = prepare(dem)
    above = indices.drain_height(drainage, (np.abs(c) < 1).astype(np.uint8))
    middle = above.values[20:40]
    assert_allclose(middle, np.abs(c[20:40]) * 0.5, atol=0.06)
    stages, area, volume = indices.stage_curve(above, 400, 10.0)
    stage = 5.0
    wet = indices.flooded(above, stage)
    assert np.interp(stage, stages, area) == pytest.approx(
        np.count_nonzero(~np.isnan(wet.values)) * 4.0, rel=0.02
    )
    assert np.interp(stage, stages, volume) == pytest.approx(float(np.nansum(wet.values)) * 4.0, rel=0.02)


def test_geographic_grids_use_true_distances():
    """Far north a degree of longitude is short: water takes the steeper way, and areas are ellipsoidal."""
    frame = Frame(30, 30, 10.0, 70.0, 0.001, 0.001, "EPSG:4326")
    rng = np.random.default_rng(1)
    dem = Surface(rng.normal(size=(30, 30)).astype(np.float32) * 20, frame, METRE)
    drainage = prepare(dem)
    metres, filled = drainage.metres, drainage.filled()
    for r, c in np.argwhere((drainage.ways < OUT) & (filled == dem.values)):
        if not (0 < r < 29 and 0 < c < 29):
            continue
        k = int(drainage.ways[r, c])
        spans = [metres[r, 1] if q & 1 else metres[r, 2] if q & 2 else metres[r, 0] for q in range(8)]
        drops = [(dem.values[r, c] - dem.values[r + DR[q], c + DC[q]]) / spans[q] for q in range(8)]
        if max(drops) > 0 and dem.values[r, c] > drainage.pools.level[drainage.pools.labels[r, c]]:
            assert drops[k] == pytest.approx(max(drops), rel=1e-5)
    out = drainage.ways == OUT
    assert np.nansum(accumulated(drainage, "d8", "area").values[out]) == pytest.approx(frame.area, rel=1e-4)


@pytest.mark.parametrize("seed", range(6))
def test_basins_by_junction_share_out_all_that_drains_to_a_stream(seed):
    """Links that meet where water leaves the ground included: each cell upstream of a stream lies in one basin (networkx)."""
    z = np.random.default_rng(seed).normal(size=(60, 70)).cumsum(0).cumsum(1)
    drainage = prepare(surface(z))
    streams = network.stream_cells(drainage, 20.0)
    found = network.network(drainage, streams)
    ends = network.last_own_cells(drainage, found)
    assert len(np.unique(ends)) == len(ends)
    made = catchments.catchments(drainage, [np.array([e]) for e in ends], nested=True)
    graph = nx.DiGraph()
    cols = z.shape[1]
    for r, c in np.argwhere(drainage.ways < OUT):
        k = drainage.ways[r, c]
        graph.add_edge(int(r * cols + c), int((r + DR[k]) * cols + c + DC[k]))
    leaves = {int(c[-1]) for c, below in zip(found.cells, found.below, strict=True) if below < 0}
    upstream = set().union(*(nx.ancestors(graph, leaf) | {leaf} for leaf in leaves))
    assert sum(made.columns["area_m2"]) == pytest.approx(len(upstream) * 4.0)


def test_flow_length_inside_a_catchment_counts_to_its_outlet():
    """Along the path of each of some cells, added up by hand, to the outlet of the catchment and not beyond."""
    z = np.random.default_rng(9).normal(size=(50, 60)).cumsum(0).cumsum(1)
    dem = surface(z)
    drainage = prepare(dem)
    inner = drainage.cells.copy()
    inner[[0, -1], :] = inner[:, [0, -1]] = 0
    outlet = int(np.argmax(inner))
    area = catchments.catchments(drainage, [np.array([outlet])])
    kind = catalogue()["flow_length"]
    made = kind.run(kind.checked({}), {"dem": dem, "area": area}, silent()).value.values
    assert (~np.isnan(made)).sum() == drainage.cells.reshape(-1)[outlet] and made.reshape(-1)[outlet] == 0
    for cell in np.flatnonzero(~np.isnan(made.reshape(-1)))[::17]:
        path = path_down(drainage.ways, int(cell))
        path = path[: int(np.flatnonzero(path == outlet)[0]) + 1]
        rows, cols = path // 60, path % 60
        assert made.reshape(-1)[cell] == pytest.approx(
            2.0 * np.hypot(np.diff(rows), np.diff(cols)).sum(), rel=1e-5, abs=1e-4
        )


def test_a_pool_is_as_deep_at_its_outlet_however_the_ground_is_turned():
    """A lake three metres deep that leaves over the edge to one side, and as high over level ground to the
    other (by hand). Which of both it reaches first must not count.
    """
    z = np.full((7, 9), 20.0)
    z[2:5, 1:6] = 7.0
    z[3, 0], z[3, 6:] = 10.0, 10.0
    for values in (z, z[:, ::-1], z[::-1], z.T, z.T[::-1]):
        dem = surface(np.ascontiguousarray(values))
        found = basins.basin_shapes(prepare(dem), None)
        low = found.columns["outlet_height"] == 10.0
        assert sorted(found.columns["pool_depth"][low].tolist()) == [0.0, 3.0]
        assert (found.columns["pool_depth"][~low] == 0.0).all()


def test_the_hypsometric_integral_keeps_the_digits_of_small_relief_on_a_large_base():
    """Against NumPy, on the heights less their base."""
    rng = np.random.default_rng(4)
    relief = rng.random((300, 400)) * 1e-9 + np.linspace(0.0, 1e-8, 400)
    dem = Surface(4000.0 + relief, surface(relief).frame, METRE)
    drainage = prepare(dem)
    found, numbered = basins.basin_shapes(drainage, None), basins.divided(drainage, None)[0]
    own = dem.values - 4000.0
    for k in range(5):
        inside = own[numbered == k + 1]
        expected = (inside.mean() - inside.min()) / np.ptp(inside)
        assert found.columns["hypsometric_integral"][k] == pytest.approx(expected, rel=1e-9)

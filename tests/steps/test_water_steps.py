"""Steps about water as a person asks for them, against counting by NumPy and graphs of networkx."""

import networkx as nx
import numpy as np
import pytest
import shapely
from skimage.measure import label

from moss_step.model.progress import silent
from moss_step.science.water.drainage import prepare
from moss_step.science.water.kernels.neighbours import DC, DR, OUT
from moss_step.steps.catalogue import catalogue
from tests.cases import result_of
from tests.conftest import surface


def outcome_of(kind: str, settings: dict, **inputs):
    return result_of(kind, settings, inputs)


def rough(seed: int = 0, shape: tuple[int, int] = (60, 70)):
    return surface(np.random.default_rng(seed).normal(size=shape).cumsum(0).cumsum(1) * 0.5)


def pools_of(dem) -> list[np.ndarray]:
    """Connected cells under water, by skimage (general library), with eight neighbours."""
    under = prepare(dem).filled() > dem.values
    numbered = label(under, connectivity=2)
    return [numbered == k for k in range(1, numbered.max() + 1)]


@pytest.mark.parametrize(("setting", "value"), [("keep_depth", 0.8), ("keep_area", 60.0)])
def test_deep_or_large_depressions_stay_as_lakes_and_the_others_are_filled(setting, value):
    dem = surface(np.random.default_rng(3).normal(size=(60, 70)) * 0.6)
    filled = prepare(dem).filled()
    made = outcome_of("fill_depressions", {setting: value}, dem=dem).value.values
    kept = filled_ones = 0
    for pool in pools_of(dem):
        depth, area = float((filled - dem.values)[pool].max()), pool.sum() * 4.0
        if np.array_equal(made[pool], dem.values[pool]):
            kept += 1
            assert depth >= value if setting == "keep_depth" else area >= value
        elif np.array_equal(made[pool], filled[pool]):
            filled_ones += 1
            assert depth < value if setting == "keep_depth" else area < value
    assert kept >= 1 and filled_ones >= 10
    dry = filled == dem.values
    assert np.array_equal(made[dry], dem.values[dry])


@pytest.mark.parametrize("kind", ["fill_depressions", "breach"])
def test_what_was_changed_is_a_surface_of_its_own_with_volume_in_and_out(kind):
    dem = rough(1)
    ground = outcome_of(kind, {}, dem=dem)
    change = outcome_of(f"{kind}.change", {}, dem=dem)
    difference = ground.value.values.astype(np.float64) - dem.values
    assert np.allclose(change.value.values, difference, atol=1e-4)
    found = {f.name: f.value for f in ground.findings}
    volumes = sorted(v for n, v in found.items() if n.endswith("m3"))
    expected = sorted([difference[difference > 0].sum() * 4.0, -difference[difference < 0].sum() * 4.0])
    assert any(v == pytest.approx(max(expected), rel=1e-3) for v in volumes)


def test_streams_of_area_and_slope_begin_on_steep_ground_with_less():
    """Two planes, one twice as steep: with an exponent the steep one has streams where the gentle one has none."""
    r, c = np.mgrid[0:80, 0:60]
    valley = np.abs(c - 30) * 0.2
    gentle, steep = surface(valley - r * 0.1 + 100), surface(valley * 4 - r * 0.4 + 100)
    lengths = []
    for dem in (gentle, steep):
        made = outcome_of("streams", {"min_area": 400.0, "slope_exponent": 1.0}, dem=dem).value
        lengths.append(made.columns["length_m"].sum())
    plain = [
        outcome_of("streams", {"min_area": 400.0}, dem=dem).value.columns["length_m"].sum()
        for dem in (gentle, steep)
    ]
    assert lengths[1] > lengths[0] and plain[0] == pytest.approx(plain[1], rel=0.05)


def test_springs_junctions_and_outlets_are_points_that_the_links_name():
    dem = rough(2)
    links = outcome_of("streams", {"min_area": 40.0}, dem=dem).value
    nodes = outcome_of("streams.nodes", {"min_area": 40.0}, dem=dem).value
    graph = nx.DiGraph(
        list(zip(links.columns["from_node"].tolist(), links.columns["to_node"].tolist(), strict=True))
    )
    assert len(nodes) == graph.number_of_nodes()
    column = next(
        v
        for n, v in nodes.columns.items()
        if v.dtype.kind == "O" and {"spring", "junction", "outlet"} & set(v.tolist())
    )
    springs = sum(d == 0 for _, d in graph.in_degree())
    outlets = sum(d == 0 for _, d in graph.out_degree())
    assert (column == "spring").sum() == springs and (column == "outlet").sum() == outlets
    assert (links.columns["drop_m"] >= 0).all() and (links.columns["sinuosity"] >= 1 - 1e-6).all()
    assert np.allclose(links.columns["length_m"], [g.length for g in links.geometry])


def test_the_longest_way_up_is_the_longest_of_all_in_a_graph():
    dem = rough(4)
    drainage = prepare(dem)
    graph, cols = nx.DiGraph(), 70
    for r, c in np.argwhere(drainage.ways < OUT):
        k = drainage.ways[r, c]
        below = (int(r + DR[k]), int(c + DC[k]))
        graph.add_edge((int(r), int(c)), below, length=2.0 * np.hypot(DR[k], DC[k]))
    cell = np.unravel_index(int(np.argmax(drainage.cells)), dem.values.shape)
    start = (int(cell[0]), int(cell[1]))
    expected = nx.dag_longest_path_length(
        graph.subgraph({start, *nx.ancestors(graph, start)}), weight="length"
    )
    at = [(dem.frame.x_of(start[1]), dem.frame.y_of(start[0]))]
    made = outcome_of("flow_path", {"start": at, "side": "up"}, dem=dem).value
    assert made.geometry[0].length == pytest.approx(expected) and cols == dem.frame.cols


def test_storage_grows_with_the_stage_and_ends_at_the_pond():
    """A trough of V shape with a dam across: the curve's last row is the pond at its crest, and each row holds more."""
    r, c = np.mgrid[0:60, 0:61]
    dem = surface(np.abs(c - 30) * 0.5 + (60 - r) * 0.2)
    x = [dem.frame.x_of(2), dem.frame.x_of(58)]
    line = (x[0], dem.frame.y_of(50), x[1], dem.frame.y_of(50))
    pond = outcome_of("pond", {"line": line, "crest": 7.0}, dem=dem)
    curve = outcome_of("pond.curve", {"line": line, "crest": 7.0}, dem=dem).value
    volume = next(v for n, v in curve.columns.items() if "m3" in n or "volume" in n)
    assert (np.diff(volume) >= 0).all() and volume[0] == pytest.approx(0.0, abs=1.0)
    depth = np.nan_to_num(pond.value.values)
    assert volume[-1] == pytest.approx(depth.sum() * 4.0, rel=0.02)


def test_cells_that_may_get_water_from_beyond_the_edge_are_blanked():
    """On a plane that falls to the east, rows that begin at the western edge all may: nothing is left but what starts inside."""
    dem = rough(5)
    drainage = prepare(dem)
    kept = outcome_of("flow_accumulation", {"edges": "keep"}, dem=dem).value.values
    blank = outcome_of("flow_accumulation", {"edges": "blank"}, dem=dem).value.values
    rim = np.zeros(dem.values.shape, bool)
    rim[[0, -1], :] = rim[:, [0, -1]] = True
    touched, todo = np.zeros_like(rim), list(map(tuple, np.argwhere(rim)))
    while todo:
        r, c = todo.pop()
        if touched[r, c]:
            continue
        touched[r, c] = True
        k = drainage.ways[r, c]
        if k < OUT:
            todo.append((r + DR[k], c + DC[k]))
    assert np.array_equal(np.isnan(blank), touched) and np.array_equal(blank[~touched], kept[~touched])


def test_the_figures_of_basins_are_those_of_their_cells_and_ways():
    """Every figure by NumPy over the cells that shapely finds in the outline, ways in a graph of networkx."""
    dem = rough(2, (90, 110))
    made = outcome_of("basins", {"min_depth": 1.0}, dem=dem).value
    drainage = prepare(dem)
    steep = catalogue()["slope"].run(catalogue()["slope"].checked({}), {"dem": dem}, silent()).value.values
    r, c = np.mgrid[0:90, 0:110]
    x, y = dem.frame.x_of(0) + 2.0 * c, dem.frame.y_of(0) - 2.0 * r
    stands = drainage.filled().astype(np.float64)
    graph = nx.DiGraph()
    for i, j in np.argwhere(drainage.ways < OUT):
        k = drainage.ways[i, j]
        graph.add_edge(
            (int(i), int(j)), (int(i + DR[k]), int(j + DC[k])), length=2.0 * np.hypot(DR[k], DC[k])
        )
    for k in range(min(len(made), 12)):
        column = {n: v[k] for n, v in made.columns.items()}
        held = shapely.contains_xy(made.geometry[k], x, y)
        z = dem.values[held].astype(np.float64)
        assert column["cells"] == held.sum() and column["area_m2"] == pytest.approx(held.sum() * 4.0)
        assert column["lowest"] == pytest.approx(z.min()) and column["highest"] == pytest.approx(z.max())
        assert column["relief"] == pytest.approx(np.ptp(z)) and column["mean_slope_deg"] == pytest.approx(
            steep[held].mean(), rel=1e-5
        )
        assert column["hypsometric_integral"] == pytest.approx((z.mean() - z.min()) / np.ptp(z), rel=1e-4)
        assert column["perimeter_m"] == pytest.approx(made.geometry[k].length)
        ways = graph.subgraph(set(map(tuple, np.argwhere(held).tolist())))
        path = nx.dag_longest_path(ways, weight="length") if ways.number_of_edges() else []
        length = nx.path_weight(ways, path, "length") if path else 0.0
        assert column["longest_path_m"] == pytest.approx(length)
        if length:
            assert column["form_factor"] == pytest.approx(held.sum() * 4.0 / length**2)
            ends: dict[tuple[int, int], tuple[float, tuple[int, int]]] = {}
            for cell in reversed(
                list(nx.topological_sort(ways))
            ):  # each cell's way within the basin, and where that ends
                below = next(iter(ways.successors(cell)), None)
                ends[cell] = (
                    (0.0, cell)
                    if below is None
                    else (ends[below][0] + ways[cell][below]["length"], ends[below][1])
                )
            falls = [(stands[h] - stands[e]) / d for h, (d, e) in ends.items() if d == pytest.approx(length)]
            assert any(
                column["path_gradient"] == pytest.approx(fall, rel=1e-5, abs=1e-9) for fall in falls
            ), "one of the longest"
            assert column["path_gradient"] >= 0
        outlet = dem.frame.cell_at(column["outlet_x"], column["outlet_y"])
        assert column["outlet_height"] == pytest.approx(float(dem.values[outlet]))
    assert (made.columns["drainage_density"] >= 0).all() and "drainage_density" in made.symbols

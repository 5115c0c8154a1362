"""Properties of water on grounds of every kind, against plain Python: a priority queue, a graph, and counting by hand."""

import heapq
import itertools

import networkx as nx
import numba
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from moss_step.science.water import accumulation, basins, depressions, trace
from moss_step.science.water.directions import facet_directions
from moss_step.science.water.drainage import amounts, prepare
from moss_step.science.water.kernels.accumulation import (
    count_donors,
)
from moss_step.science.water.kernels.neighbours import DC, DR, NONE, OUT, PIT
from moss_step.science.water.kernels.trace import mark_upstream, path_down
from tests.conftest import surface

STEPS = [(dr, dc) for dr in (-1, 0, 1) for dc in (-1, 0, 1) if dr or dc]
heights = st.one_of(st.integers(0, 4).map(float), st.floats(0, 9, width=32), st.just(np.nan))
shapes = st.tuples(st.integers(2, 9), st.integers(2, 9))
grounds = arrays(np.float32, shapes, elements=heights).filter(lambda z: not np.isnan(z).all())


def filled_by_queue(z: np.ndarray) -> np.ndarray:
    """Priority flood as Barnes, Lehman & Mulla 2014 give it, in plain Python."""
    rows, cols = z.shape
    out, queue = np.full(z.shape, np.nan), []
    for r, c in itertools.product(range(rows), range(cols)):
        open_side = any(
            not (0 <= r + dr < rows and 0 <= c + dc < cols) or np.isnan(z[r + dr, c + dc]) for dr, dc in STEPS
        )
        if not np.isnan(z[r, c]) and open_side:
            out[r, c] = z[r, c]
            heapq.heappush(queue, (z[r, c], r, c))
    while queue:
        level, r, c = heapq.heappop(queue)
        for dr, dc in STEPS:
            i, j = r + dr, c + dc
            if 0 <= i < rows and 0 <= j < cols and np.isnan(out[i, j]) and not np.isnan(z[i, j]):
                out[i, j] = max(level, z[i, j])
                heapq.heappush(queue, (out[i, j], i, j))
    return out


def receivers(ways: np.ndarray) -> dict[tuple[int, int], tuple[int, int] | None]:
    """Where each cell runs to: None where its water leaves the ground."""
    found: dict[tuple[int, int], tuple[int, int] | None] = {}
    for r, c in np.argwhere(ways != NONE):
        k = ways[r, c]
        assert k != PIT, "no water stays"
        found[int(r), int(c)] = None if k == OUT else (int(r + DR[k]), int(c + DC[k]))
    return found


@given(grounds)
@settings(max_examples=150, deadline=None)
def test_the_filled_ground_is_the_one_of_a_priority_queue(z):
    assert np.array_equal(prepare(surface(z)).filled(), filled_by_queue(z), equal_nan=True)


@given(grounds)
@settings(max_examples=150, deadline=None)
def test_all_water_leaves_the_ground_and_never_runs_up_the_filled_one(z):
    drainage = prepare(surface(z))
    to, filled = receivers(drainage.ways), filled_by_queue(z)
    assert set(to) == {(int(r), int(c)) for r, c in np.argwhere(~np.isnan(z))}
    graph = nx.DiGraph([(a, b) for a, b in to.items() if b is not None])
    assert nx.is_directed_acyclic_graph(graph)
    for a, b in to.items():
        if b is None:
            assert any(
                not (0 <= a[0] + dr < z.shape[0] and 0 <= a[1] + dc < z.shape[1])
                or np.isnan(z[a[0] + dr, a[1] + dc])
                for dr, dc in STEPS
            )
        else:
            assert filled[b] <= filled[a]


@given(grounds)
@settings(max_examples=120, deadline=None)
def test_a_cell_runs_down_the_steepest_way_where_there_is_one(z):
    """Ground above the water runs as it lies, what water covers as the filled ground: no drop to a neighbour is steeper."""
    drainage, filled = prepare(surface(z)), filled_by_queue(z)
    dry = z > drainage.pools.level[drainage.pools.labels]
    for (r, c), b in receivers(drainage.ways).items():
        height = z.astype(float) if dry[r, c] else filled
        drops = [
            (height[r, c] - height[r + dr, c + dc]) / (2.0 * np.hypot(dr, dc)) for dr, dc in STEPS
            if 0 <= r + dr < z.shape[0] and 0 <= c + dc < z.shape[1] and not np.isnan(z[r + dr, c + dc])
        ]  # fmt: skip
        steepest = max([0.0, *drops])
        if b is not None and steepest > 0:
            taken = (height[r, c] - height[b]) / (2.0 * np.hypot(b[0] - r, b[1] - c))
            assert taken == pytest.approx(steepest, rel=1e-5)


@given(grounds)
@settings(max_examples=120, deadline=None)
def test_cells_upstream_are_those_of_the_graph(z):
    drainage = prepare(surface(z))
    to = receivers(drainage.ways)
    graph = nx.DiGraph()
    graph.add_nodes_from(to)
    graph.add_edges_from((a, b) for a, b in to.items() if b is not None)
    for cell in to:
        assert drainage.cells[cell] == len(nx.ancestors(graph, cell)) + 1
    assert sum(drainage.cells[a] for a, b in to.items() if b is None) == len(to), (
        "all of the ground flows out"
    )


@given(grounds, st.data())
@settings(max_examples=80, deadline=None)
def test_what_is_marked_upstream_of_cells_is_what_reaches_them(z, data):
    drainage = prepare(surface(z))
    to = receivers(drainage.ways)
    seeds = data.draw(st.lists(st.sampled_from(sorted(to)), min_size=1, max_size=3, unique=True))
    graph = nx.DiGraph()
    graph.add_nodes_from(to)
    graph.add_edges_from((a, b) for a, b in to.items() if b is not None)
    expected = set(seeds).union(*(nx.ancestors(graph, s) for s in seeds))
    marks = np.zeros(z.shape, np.uint8)
    count, r0, r1, c0, c1 = mark_upstream(
        drainage.ways, np.array([r * z.shape[1] + c for r, c in seeds]), 1, marks
    )
    assert {(int(r), int(c)) for r, c in np.argwhere(marks)} == expected and count == len(expected)
    rows, cols = [r for r, _ in expected], [c for _, c in expected]
    assert (r0, r1, c0, c1) == (min(rows), max(rows), min(cols), max(cols))


@given(grounds, st.floats(0, 5))
@settings(max_examples=80, deadline=None)
def test_basins_share_out_the_ground_and_deeper_pools_only_merge_them(z, deeper):
    drainage = prepare(surface(z))
    finer, few = basins.divided(drainage, 0.0)[0], basins.divided(drainage, deeper)[0]
    assert np.array_equal(finer > 0, ~np.isnan(z)) and np.array_equal(few > 0, ~np.isnan(z))
    pairs = {(int(a), int(b)) for a, b in zip(finer[finer > 0], few[finer > 0], strict=True)}
    assert len(pairs) == len({a for a, _ in pairs}), "a basin lies whole in one of the larger ones"


@given(grounds)
@settings(max_examples=80, deadline=None)
def test_depressions_hold_what_the_filled_ground_holds(z):
    drainage, filled = prepare(surface(z)), filled_by_queue(z)
    under = np.nan_to_num(filled - z.astype(float))
    lakes = depressions.lake_shapes(drainage)
    if len(lakes) == 0:
        assert under.max() == 0
        return
    assert sum(lakes.columns["volume_m3"]) == pytest.approx(under.sum() * 4.0, rel=1e-4)
    assert sum(lakes.columns["area_m2"]) == pytest.approx((under > 0).sum() * 4.0)
    assert max(lakes.columns["depth"]) == pytest.approx(under.max(), rel=1e-5)


def test_strips_of_a_tall_ground_add_up_to_the_whole():
    """The same by one walk after another: ways that cross from strip to strip, up and down, once and many times."""
    rng = np.random.default_rng(8)
    z = (
        rng.normal(size=(700, 40)).cumsum(0) * 0.2
        + 30.0 * np.sin(np.arange(700) / 40.0)[:, None]
        + rng.normal(size=(700, 40))
    )
    z[rng.random(z.shape) < 0.01] = np.nan
    drainage = prepare(surface(z))
    own = amounts(drainage.frame, "cells", None, drainage.ways)
    total, donors = own.copy(), np.empty(z.shape, np.uint8)
    count_donors(drainage.ways, donors)
    accumulation.accumulate(drainage.ways, donors, total)
    to = receivers(drainage.ways)
    graph = nx.DiGraph()
    graph.add_nodes_from(to)
    graph.add_edges_from((a, b) for a, b in to.items() if b is not None)
    expected = own.copy()
    for cell in nx.topological_sort(graph):
        below = to[cell]
        if below is not None:
            expected[below] += expected[cell]
    assert np.array_equal(total, expected) and np.array_equal(
        drainage.cells[~np.isnan(z)], expected[~np.isnan(z)]
    )
    assert (donors[drainage.ways != NONE] == 255).all(), "every cell was passed"


@pytest.mark.parametrize("size", [1, 2, 63, 64, 65, 700])
def test_a_level_ground_of_any_size_drains_to_its_rim(size):
    z = np.zeros((size, size))
    drainage = prepare(surface(z))
    assert int(drainage.cells[drainage.ways == OUT].sum()) == size * size
    inner = drainage.ways[1:-1, 1:-1]
    assert (inner < OUT).all()
    if size > 2:
        r, c = np.argwhere(drainage.ways < OUT)[len(inner) // 2]
        path = path_down(drainage.ways, int(r) * size + int(c))
        assert len(path) <= min(r, c, size - 1 - r, size - 1 - c) + 1, "by the shortest way to the rim"


@given(grounds)
@settings(max_examples=60, deadline=None)
def test_two_receivers_are_neighbours_of_the_steepest_facet_and_carry_all(z):
    """D-infinity: a direction between two neighbours, or one of the single receiver; what flows out is the whole ground."""
    drainage = prepare(surface(z))
    share = facet_directions(drainage)
    known = drainage.ways != NONE
    assert (
        np.isnan(share[~known]).all()
        and ((share[known] == -1) | ((share[known] >= 0) & (share[known] < 8))).all()
    )
    total = np.where(known, 1.0, 0.0)
    accumulation.accumulate_shares(drainage.drained(), "dinf", total[None])
    assert total[(drainage.ways == OUT)].sum() == pytest.approx(known.sum())
    assert (total[known] >= 1.0 - 1e-9).all()


def test_a_direction_a_hair_from_east_is_east_and_no_whole_turn():
    z = np.full((5, 5), 2.0, np.float32)
    z[2, 2], z[2, 3], z[2, 4], z[1, 3], z[3, 3] = 1.0, 0.0, -1.0, -1e-8, np.nan
    assert facet_directions(prepare(surface(z)))[2, 2] == 0.0


@pytest.mark.parametrize("threads", [1, 2])
def test_a_large_catchment_marked_in_shares_is_the_one_marked_by_one_walk(threads):
    """Every branch of the stem belongs to one share; counts and bounds add up."""
    rng = np.random.default_rng(31)
    z = (
        np.hypot(*np.mgrid[-200:200, -260:260]) * -0.05
        + rng.normal(size=(400, 520)).cumsum(0).cumsum(1) * 0.01
    ) * -1
    z[:, :40] = np.nan
    drainage = prepare(surface(z))
    seed = int(np.argmax(drainage.cells))
    assert drainage.cells.reshape(-1)[seed] > 100_000
    one, shared = np.zeros(z.shape, np.uint8), np.zeros(z.shape, np.uint8)
    before = numba.get_num_threads()
    numba.set_num_threads(min(threads, before))
    try:
        expected = mark_upstream(drainage.ways, np.array([seed]), 1, one)
        assert trace.mark_catchment(drainage, seed, 1, shared) == tuple(int(v) for v in expected)
    finally:
        numba.set_num_threads(before)
    assert np.array_equal(one, shared) and one.sum() == drainage.cells.reshape(-1)[seed]


def test_a_drop_too_small_for_a_slope_is_a_way_down_all_the_same():
    """The least number above 0 that single precision knows, over 2 m, has no slope above 0."""
    z = np.zeros((5, 5), np.float32)
    z[2, 2] = np.float32(1e-45)
    drainage = prepare(surface(z))
    assert receivers(drainage.ways)[2, 2] is not None and z[2, 2] > 0

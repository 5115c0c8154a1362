"""Segments held against SciPy's connected components, and against surfaces whose parts are known."""

import numpy as np
import pytest
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from moss_step.model.cloud import Cloud
from moss_step.science.points.segments import SegmentSet, segments_of


def parts_by_scipy(points, within):
    pairs = cKDTree(points).query_pairs(within, output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs)), pairs.T), shape=(len(points), len(points)))
    return connected_components(graph, directed=False)[1]


def same_parts(one, other):
    """Whether two numberings part points alike."""
    return (
        len(np.unique(np.column_stack([one, other]), axis=0)) == len(np.unique(one)) == len(np.unique(other))
    )


@pytest.mark.parametrize("within", [0.5, 1.1, 2.5])
@pytest.mark.parametrize("seed", [1, 2])
def test_distance_parts_points_as_scipys_components_do(within, seed):
    rng = np.random.default_rng(seed)
    points = np.column_stack([40.0 * rng.random(1200), 25.0 * rng.random(1200) ** 2, 4.0 * rng.random(1200)])
    found = segments_of(Cloud(*points.T), SegmentSet("distance", within, least=1))
    assert same_parts(found, parts_by_scipy(points, within))
    sizes = np.bincount(found)[1:]
    assert (np.diff(sizes) <= 0).all() and found.min() == 1  # the largest first


def test_bands_count_as_metres_beside_places():
    rng = np.random.default_rng(3)
    x, y, band = 20.0 * rng.random(800), 20.0 * rng.random(800), rng.integers(0, 2, 800) * 250.0
    cloud = Cloud(x, y, np.zeros(800))
    weighed = segments_of(cloud, SegmentSet("distance", 1.5, least=1, weights={"red": 4.0}), {"red": band})
    wanted = parts_by_scipy(np.column_stack([x, y, band / 250.0 * 4.0]), 1.5)
    assert same_parts(weighed, wanted)
    assert len(np.unique(weighed)) > len(np.unique(segments_of(cloud, SegmentSet("distance", 1.5, least=1))))


def roof(noise=0.02, seed=4):
    """A pitched roof of two planes of 35 degrees beside a level court, with the number of each point's part."""
    rng = np.random.default_rng(seed)
    x, y = 30.0 * rng.random(6000), 20.0 * rng.random(6000)
    off = np.abs(y - 10.0)
    on = (off < 5.0) & (x > 5.0)
    z = np.where(on, 9.0 - off * np.tan(np.radians(35.0)), 0.0) + rng.normal(0.0, noise, 6000)
    return Cloud(x, y, z), np.where(on, np.where(y > 10.0, 1, 2), 0)


@pytest.mark.parametrize("turn", [0.0, 0.7])
def test_smooth_segments_are_the_planes_of_a_roof(turn):
    cloud, part = roof()
    c, s = np.cos(turn), np.sin(turn)
    found = segments_of(
        Cloud(c * cloud.x - s * cloud.y, s * cloud.x + c * cloud.y, cloud.z),
        SegmentSet("smooth", 1.2, residual=0.1, least=50),
    )
    for number in range(3):
        held = np.bincount(found[part == number])
        assert held[1:].max() / (part == number).sum() > 0.85  # all but the edges
    whole = [np.bincount(found[part == n])[1:].argmax() for n in range(3)]
    assert len(set(whole)) == 3


def test_points_without_a_plane_are_of_no_smooth_segment():
    line = Cloud(np.arange(50.0), np.zeros(50), np.zeros(50))
    assert not segments_of(line, SegmentSet("smooth", 2.0, least=2)).any()


def test_a_stop_is_heard():
    from moss_step.model.errors import StoppedError
    from moss_step.model.progress import Progress

    def stop(*_):
        raise StoppedError

    with pytest.raises(StoppedError):
        segments_of(roof()[0], SegmentSet(), progress=Progress(stop))

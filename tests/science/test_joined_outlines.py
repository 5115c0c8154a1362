"""Outlines joined from corners against outlines that are walked along the cells."""

import numpy as np
import pytest
import shapely

from moss_step.science.sample import ground
from moss_step.science.zones.kernels.tracing import list_corners
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.tracing import joined_parts, parts_of


@pytest.mark.parametrize("seed", range(12))
def test_corners_in_any_order_give_the_outlines_that_a_walk_gives(seed: int) -> None:
    """Noise of few codes: holes, islands in holes, and areas that meet themselves at corners."""
    rng = np.random.default_rng(seed)
    codes = rng.integers(0, 2 + seed % 3, size=(23, 31)).astype(np.int32)
    frame = ground(codes.tolist()).frame
    expected = parts_of(codes, 0, frame)
    parts, owner = label_components(codes, 4, 0)
    corners = list_corners(np.pad(parts, 1), 1, 1)
    found = joined_parts(rng.permutation(corners), owner[1:], frame)
    assert found.number.tolist() == expected.number.tolist()
    assert shapely.equals_exact(found.geometry, expected.geometry, 0.0).all()
    assert shapely.is_valid(found.geometry).all()
    assert shapely.area(found.geometry).sum() == pytest.approx(np.count_nonzero(codes) * 4.0)


@pytest.mark.parametrize("codes", [[[0, 0], [0, 0]], [[1]], [[1, 0, 1], [0, 1, 0], [1, 0, 1]]])
def test_small_grounds(codes: list[list[int]]) -> None:
    cells = np.array(codes, np.int32)
    frame = ground(codes).frame
    expected = parts_of(cells, 0, frame)
    parts, owner = label_components(cells, 4, 0)
    found = joined_parts(list_corners(np.pad(parts, 1), 1, 1), owner[1:], frame)
    assert shapely.equals_exact(found.geometry, expected.geometry, 0.0).all()
    assert len(found.geometry) == len(expected.geometry)

"""Connected components against skimage.measure.label, which numbers them in the same order."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays
from skimage.measure import label

from moss_step.science.zones.kernels.labelling import count_labels
from moss_step.science.zones.labelling import label_components

NONE = 255


@pytest.mark.parametrize("neighbours", [4, 8])
@given(
    codes=arrays(
        np.uint8, array_shapes(min_dims=2, max_dims=2, max_side=40), elements=st.sampled_from([0, 1, 2, NONE])
    )
)
@settings(max_examples=60, deadline=None)
def test_components_equal_skimage_number_for_number(codes, neighbours):
    found, owner = label_components(codes, neighbours, NONE)
    theirs = label(codes, background=NONE, connectivity=1 if neighbours == 4 else 2)
    assert np.array_equal(found, theirs)
    assert (owner[found][codes != NONE] == codes[codes != NONE]).all()


def test_components_that_cross_strips_are_one():
    """A grid with enough rows is labelled in strips at once: a snake through all of them is one component."""
    codes = np.full((400, 41), NONE, np.uint8)
    codes[:, ::4] = 1
    for k in range(10):
        codes[-1 if k % 2 == 0 else 0, 4 * k : 4 * k + 5] = 1
    found, owner = label_components(codes, 4, NONE)
    assert found.max() == 1 and owner.tolist() == [0, 1]
    cells, areas = count_labels(found, np.linspace(1.0, 2.0, 400), 2)
    assert cells[1] == (codes == 1).sum() and cells.sum() == codes.size
    assert areas.sum() == pytest.approx(1.5 * codes.size)


def test_a_grid_without_classes_has_no_component():
    found, owner = label_components(np.full((5, 5), NONE, np.uint8), 8, NONE)
    assert (found == 0).all() and len(owner) == 1

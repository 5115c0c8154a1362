"""The lowest passes out of the parts of a tree, many cells at once, against each pair of neighbours by itself."""

import numpy as np
import pytest
from scipy import ndimage

from moss_step.science.water.kernels.neighbours import DC, DR
from moss_step.science.water.kernels.pools import Tree, border_cells, join_parts, lowest_over, lowest_passes
from moss_step.science.water.pools import room_for_passes

OPEN = (True, True, True, True)


def one_by_one(z, labels, part, open_at):
    """Of each part the lowest height over any pair of neighbours, and the code of the first such pair in order of rows."""
    rows, cols = z.shape
    found = {}
    top, right, bottom, left = open_at
    for r in range(rows):
        for c in range(cols):
            own = part[labels[r, c]]
            if labels[r, c] == 0 or own == 0:
                continue
            for k in range(8):
                i, j = r + DR[k], c + DC[k]
                height, code = z[r, c], (r * cols + c) * 9 + 8
                if not (0 <= i < rows and 0 <= j < cols):
                    if (
                        (i < 0 and not top)
                        or (i >= rows and not bottom)
                        or (j < 0 and not left)
                        or (j >= cols and not right)
                    ):
                        continue
                elif labels[i, j] > 0:
                    if part[labels[i, j]] == own:
                        continue
                    height = max(z[r, c], z[i, j])
                    code = (r * cols + c) * 9 + k if k < 4 else (i * cols + j) * 9 + (k ^ 4)
                found[own] = min(found.get(own, (np.inf, 0)), (height, code))
    return found  # fmt: skip


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("levels", [3, 10_000])
@pytest.mark.parametrize("open_at", [OPEN, (False, True, False, True), (False, False, False, False)])
def test_passes_are_those_of_each_pair_by_itself(seed, levels, open_at):
    """Whole numbers of few levels have many passes as high as each other; holes lead out of the ground."""
    rng = np.random.default_rng(seed)
    shape = [(23, 31), (1, 9), (9, 1), (64, 40), (3, 3), (2, 50)][seed]
    labels = rng.integers(1, 12, shape).astype(np.int32)
    if seed % 2:
        labels[rng.random(shape) < 0.1] = 0
    z = rng.integers(0, levels, shape).astype(np.float32)
    z[labels == 0] = np.nan
    part = np.append(0, rng.integers(0, 6, 11)).astype(np.int32)
    passes = room_for_passes(2, 6)
    lowest_passes(z, labels, part, passes, open_at)
    assert found(passes) == one_by_one(z, labels, part, open_at)
    borders = border_cells(labels, part)
    assert np.array_equal(borders, np.flatnonzero(at_borders(labels, part)))
    for other in range(5, 0, -1):  # parts are joined, one after another, and the last one to the outside
        lowest_over(z, labels, part, borders, passes, open_at)
        assert found(passes) == one_by_one(z, labels, part, open_at)
        part[part == other] = other - 1


def found(passes):
    """Of each part its pass in all strips."""
    known = passes.best < np.inf
    return {
        own: min(zip(passes.best[known[:, own], own], passes.where[known[:, own], own], strict=True))
        for own in range(1, 6)
        if known[:, own].any()
    }


def at_borders(labels, part):
    """Cells that lie in a part, beside another one or no ground, or at a side of the grid."""
    parts = part[labels]
    differ = ndimage.generic_filter(parts, lambda p: (p != p[4]).any(), 3, mode="constant", cval=-1)
    return (differ > 0) & (parts > 0)


def test_a_ground_of_more_cells_than_32_bits_number_is_joined_where_its_pass_lies():
    """300 million cells, all rows of them alike: a pass in the last row has a code beyond 32 bits."""
    rows, cols = 20_000, 15_000
    row = np.repeat(np.array([1, 2], np.int32), cols // 2)
    labels = np.broadcast_to(row, (rows, cols))
    cell = (rows - 1) * cols + cols // 2 - 1
    passes = room_for_passes(1, 3)
    passes.best[:] = 5.0
    passes.where[:] = cell * 9  # to the east of it
    tree = Tree(*(np.zeros(2, kind) for kind in (np.float32, np.int32, np.int32, np.int32, np.int8)))
    parts, gained = join_parts(labels, np.arange(3, dtype=np.int32), passes, tree, 0)
    assert (parts, gained) == (2, 1)
    assert (tree.one[0], tree.other[0], tree.at[0], tree.way[0]) == (1, 2, cell, 0)

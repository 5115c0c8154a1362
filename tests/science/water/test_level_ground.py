"""Kernels of level ground against plain ways of the same: labels of a general library, and cell after cell."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from moss_step.large.sides import ring
from moss_step.model.arrays import read_only
from moss_step.science.water.kernels.descent import descend_water, water_at_edge, water_within
from moss_step.science.water.kernels.flats import HIGHER, LOWER, look_around
from moss_step.science.water.kernels.flats import OUT as OUT_BITS
from moss_step.science.water.kernels.neighbours import DC, DR, DRY, NONE, PIT, Filled
from moss_step.science.water.kernels.tiles import OPEN, mark_open, number_open

SHAPES = [(3, 3), (3, 9), (9, 3), (4, 4), (40, 57)]


def level_ground(shape: tuple[int, int], seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Terraces of a few heights with holes, some of whose cells have a way."""
    rng = np.random.default_rng(seed)
    z = rng.integers(0, 3, shape).astype(np.float32)
    z = ndimage.zoom(z, 2, order=0)[: shape[0], : shape[1]].astype(np.float32)
    ways = np.where(rng.random(shape) < 0.75, PIT, rng.integers(0, 8, shape)).astype(np.uint8)
    hole = rng.random(shape) < 0.05
    z[hole], ways[hole] = np.nan, NONE
    return z, ways


@pytest.mark.parametrize("shape", SHAPES)
def test_flats_that_reach_the_rim_are_those_that_a_general_library_joins_to_it(shape):
    """Parts of level cells within, by scipy.ndimage.label, beside a level cell on the rim."""
    for seed in range(20):
        z, ways = level_ground(shape, seed)
        wanted = np.zeros(shape, bool)
        for height in range(3):
            level = (z == height) & (ways == PIT)
            inner = level.copy()
            inner[[0, -1]] = inner[:, [0, -1]] = False
            beside = ndimage.binary_dilation(level & ~inner & _rim(shape), np.ones((3, 3)))
            parts, _ = ndimage.label(inner, np.ones((3, 3)))
            wanted |= np.isin(parts, np.unique(parts[beside & inner])) & inner
        count = mark_open(z, ways)
        assert np.array_equal(ways == OPEN, wanted)
        assert count == wanted.sum()


def _rim(shape: tuple[int, int]) -> np.ndarray:
    rim = np.ones(shape, bool)
    rim[1:-1, 1:-1] = False
    return rim


@pytest.mark.parametrize("shape", SHAPES)
def test_cells_of_a_window_are_numbered_as_its_ring_runs(shape):
    cells = np.array([shape[1] + 1], np.int32)
    place = np.empty(shape, np.int32)
    number_open(cells, place)
    wanted = np.zeros(shape, np.int32)
    r, c = ring(shape[0] - 2, shape[1] - 2)
    wanted[r, c] = -1 - np.arange(len(r))
    wanted[1, 1] = 1
    assert np.array_equal(place, wanted)


@pytest.mark.parametrize("shape", [(4, 4), (3, 200), (150, 31)])
def test_what_lies_beside_level_cells_is_what_each_finds_by_itself(shape):
    for seed in range(5):
        z, ways = level_ground(shape, seed)
        ways[[0, -1]] = ways[:, [0, -1]] = 8
        before, place = ways.copy(), np.zeros(shape, np.int32)
        count = look_around(Filled(read_only(z), np.zeros(shape, np.int32), DRY), ways, place)
        found = 0
        for r, c in np.argwhere(before == PIT):
            same = [k for k in range(8) if z[r + DR[k], c + DC[k]] == z[r, c]]
            flat = sum(1 << k for k in same if before[r + DR[k], c + DC[k]] == PIT)
            out = [k for k in same if before[r + DR[k], c + DC[k]] < PIT]
            higher = any(z[r + DR[k], c + DC[k]] > z[r, c] for k in range(8))
            if flat:
                bits, found = -1 - place[r, c], found + 1
                assert (bits & 255, bool(bits & HIGHER), bool(bits & LOWER)) == (flat, higher, bool(out))
                assert not out or bits >> OUT_BITS == min(out, key=lambda k: (k % 2, k))
            elif out:
                assert ways[r, c] == min(out, key=lambda k: (k % 2, k))
        assert count == found


@pytest.mark.parametrize("shape", [(1, 5), (5, 1), (2, 2), (3, 3), (31, 64)])
def test_water_runs_over_many_cells_as_over_each(shape):
    """Row by row against cell by cell, under pools of several heights, with holes."""
    for seed in range(10):
        rng = np.random.default_rng(seed)
        z = rng.normal(size=shape).astype(np.float32)
        labels = rng.integers(1, 5, shape).astype(np.int32)
        z[rng.random(shape) < 0.1] = np.nan
        labels[np.isnan(z)] = 0
        ground = Filled(read_only(z), labels, np.array([-np.inf, -1, 0, 1, 3], np.float32))
        metres = np.tile(np.array([1, 1.9, 1.6], np.float32), (shape[0], 1))
        ways = np.full(shape, NONE)
        descend_water(ground, metres, 0, shape[0], ways)
        for r, c in np.ndindex(shape):
            wet = labels[r, c] > 0 and z[r, c] <= ground.level[labels[r, c]]
            inner = 0 < r < shape[0] - 1 and 0 < c < shape[1] - 1
            alone = water_within if inner else water_at_edge
            assert ways[r, c] == (alone(ground, metres, r, c) if wet else NONE)

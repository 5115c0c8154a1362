"""Natural neighbours against areas counted pixel by pixel and mathematics; near samples against NumPy."""

import numpy as np
import pytest
from scipy.interpolate import LinearNDInterpolator
from scipy.spatial import cKDTree

from moss_step.science.interpolate.neighbours import NaturalNeighbours, NearSamples


def field(count, seed=0):
    rng = np.random.default_rng(seed)
    return rng.random(count) * 100.0, rng.random(count) * 100.0


def grid(low, high, side):
    edge = np.linspace(low, high, side)
    x, y = np.meshgrid(edge, edge)
    return x.ravel(), y.ravel()


@pytest.mark.parametrize("count", [4, 30, 1000])
def test_planes_are_given_back(count):
    """Sibson 1981: natural neighbours reproduce planes exactly, within the hull and nowhere else."""
    x, y = field(count)
    u, v = grid(-10.0, 110.0, 90)
    found = NaturalNeighbours(x, y, 3.0 * x - 2.0 * y + 7.0).at(u, v)
    flat = LinearNDInterpolator(np.column_stack([x, y]), x)(np.column_stack([u, v]))
    inside = np.isfinite(found)
    assert np.abs(found - (3.0 * u - 2.0 * v + 7.0))[inside].max() < 1e-8
    assert (inside != np.isfinite(flat)).mean() < 1e-3


def test_planes_are_given_back_on_a_lattice():
    """All circles through four points: no triangle is better than its neighbour."""
    x, y = (v.ravel().astype(float) for v in np.meshgrid(np.arange(12), np.arange(12)))
    u, v = grid(0.0, 11.0, 67)
    found = NaturalNeighbours(x, y, 2.0 * x + y).at(u, v)
    assert np.abs(found - 2.0 * u - v).max() < 1e-9


def test_weights_are_the_areas_taken_from_the_cells():
    """Areas counted on a fine raster; they add up to one."""
    x, y = field(14, 3)
    place = np.array([50.0]), np.array([48.0])
    edge = (np.arange(1400) + 0.5) / 1400 * 300.0 - 100.0
    fine = np.column_stack([v.ravel() for v in np.meshgrid(edge, edge)])
    away, owner = cKDTree(np.column_stack([x, y])).query(fine)
    taken = np.hypot(fine[:, 0] - 50.0, fine[:, 1] - 48.0) < away
    counted = np.bincount(owner[taken], minlength=14) / taken.sum()
    weights = np.array([NaturalNeighbours(x, y, np.eye(14)[k]).at(*place)[0] for k in range(14)])
    assert np.abs(weights - counted).max() < 3e-3 and weights.sum() == pytest.approx(1.0, abs=1e-12)


def test_samples_keep_their_values():
    x, y = field(60, 4)
    z = np.sin(x)
    assert np.allclose(NaturalNeighbours(x, y, z).at(x, y), z, atol=1e-6)


def test_flat_ones_are_those_of_a_library():
    x, y = field(400, 5)
    z = np.sin(x / 9.0) * y
    u, v = grid(5.0, 95.0, 60)
    found = NaturalNeighbours(x, y, z).at(u, v, flat=True)
    theirs = LinearNDInterpolator(np.column_stack([x, y]), z)(np.column_stack([u, v]))
    both = np.isfinite(found) & np.isfinite(theirs)
    assert both.mean() > 0.95 and np.abs(found - theirs)[both].max() < 1e-6


@pytest.mark.parametrize("power", [1.0, 2.0, 8.0])
def test_distance_weighs_as_shepard_says(power):
    x, y = field(50, 6)
    z = np.cos(x)
    u, v = grid(1.0, 99.0, 20)
    found = NearSamples(x, y, z, count=50, power=power).at(u, v)
    h = np.hypot(u[:, None] - x, v[:, None] - y)
    weight = h**-power
    assert np.allclose(found, (weight * z).sum(1) / weight.sum(1))
    assert np.array_equal(NearSamples(x, y, z).at(x, y), z)
    assert np.array_equal(NearSamples(x, y, z, 1).at(u, v), z[h.argmin(1)])

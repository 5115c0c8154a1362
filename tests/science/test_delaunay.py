"""The triangulation: against the general library, by its own definition, and on ground that is hard for it."""

import numpy as np
import pytest
from scipy.spatial import Delaunay

from moss_step.model.errors import MossError
from moss_step.science.interpolate.triangles import delaunay


def as_set(triangles) -> set[tuple[int, ...]]:
    return {tuple(sorted(t)) for t in np.asarray(triangles).tolist()}


def area(x, y, triangles) -> float:
    a, b, c = triangles.T
    return float(np.abs((x[b] - x[a]) * (y[c] - y[a]) - (x[c] - x[a]) * (y[b] - y[a])).sum() / 2)


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("n", [3, 4, 10, 300, 5000])
def test_triangles_are_those_of_the_general_library(n, seed):
    x, y = np.random.default_rng(seed).uniform(0, 1000, (2, n))
    assert as_set(delaunay(x, y)) == as_set(Delaunay(np.column_stack([x, y])).simplices)


@pytest.mark.parametrize("how", ["clustered", "strip", "spiral", "far off", "gaussian"])
def test_no_point_lies_in_the_circle_of_a_triangle(how):
    rng = np.random.default_rng(7)
    n = 400
    x, y = {
        "clustered": lambda: np.concatenate(
            [rng.normal(c, 0.5, (2, n // 4)) for c in (0, 50, 53, 400)], axis=1
        ),
        "strip": lambda: np.stack([rng.uniform(0, 5000, n), rng.uniform(0, 1, n)]),
        "spiral": lambda: np.stack(
            [np.arange(n) * np.cos(np.arange(n) / 9.0), np.arange(n) * np.sin(np.arange(n) / 9.0)]
        ),
        "far off": lambda: rng.uniform(0, 300, (2, n)) + np.array([[412_000.0], [5_870_000.0]]),
        "gaussian": lambda: rng.normal(0, 1, (2, n)),
    }[how]()
    triangles = delaunay(x, y)
    a, b, c = (np.stack([x[k], y[k]]) for k in triangles.T)
    d = 2 * (a[0] * (b[1] - c[1]) + b[0] * (c[1] - a[1]) + c[0] * (a[1] - b[1]))
    # around the first corner, or the coordinates' size drowns the answer
    b0, c0 = b - a, c - a
    d = 2 * (b0[0] * c0[1] - b0[1] * c0[0])
    ux = (c0[1] * (b0**2).sum(0) - b0[1] * (c0**2).sum(0)) / d
    uy = (b0[0] * (c0**2).sum(0) - c0[0] * (b0**2).sum(0)) / d
    radius = np.hypot(ux, uy)
    away = np.hypot(x[:, None] - (a[0] + ux), y[:, None] - (a[1] + uy))
    deep = (radius - away) / radius
    solid = np.abs(d) > 1e-6 * radius**2  # a sliver's circle is known to few digits
    assert deep[:, solid].max() < 1e-3
    hull = Delaunay(np.column_stack([x - x.mean(), y - y.mean()]))
    whole = area(x - x.mean(), y - y.mean(), hull.simplices)
    assert area(x - x.mean(), y - y.mean(), triangles) == pytest.approx(whole, rel=1e-6)


@pytest.mark.parametrize(("rows", "cols"), [(2, 2), (2, 50), (30, 41)])
def test_a_lattice_is_covered_once(rows, cols):
    """All points lie on circles through four, and the rim on four lines."""
    y, x = (v.reshape(-1).astype(float) for v in np.mgrid[0:rows, 0:cols])
    triangles = delaunay(x, y)
    assert len(triangles) == 2 * (rows - 1) * (cols - 1) and area(x, y, triangles) == (rows - 1) * (cols - 1)
    assert set(np.unique(triangles)) == set(range(rows * cols))


def test_points_in_one_place_count_once_and_rounded_ones_are_no_trouble():
    rng = np.random.default_rng(3)
    x, y = np.round(rng.uniform(0, 30, (2, 20_000)), 1)
    triangles = delaunay(x, y)
    places = np.unique(np.column_stack([x, y]), axis=0)
    used = np.unique(triangles)
    assert len(used) == len(places) and len(np.unique(np.column_stack([x, y])[used], axis=0)) == len(places)
    assert area(x, y, triangles) == pytest.approx(area(*places.T, Delaunay(places).simplices))


def test_mirrored_points_have_mirrored_triangles():
    x, y = np.random.default_rng(8).uniform(0, 100, (2, 2000))
    plain = as_set(delaunay(x, y))
    assert (
        as_set(delaunay(-x, y)) == plain
        and as_set(delaunay(y, x)) == plain
        and as_set(delaunay(x * 0.3048, y * 0.3048)) == plain
    )


@pytest.mark.parametrize(
    ("x", "y", "words"),
    [
        ([0.0, 1.0], [0.0, 1.0], "three points"),
        ([0.0, 1.0, 2.0, 5.0], [0.0, 2.0, 4.0, 10.0], "one line"),
        ([3.0] * 9, [4.0] * 9, "one line"),
        ([0.0, 0.0, 1.0, 1.0], [0.0, 0.0, 1.0, 1.0], "one line"),
    ],
)
def test_what_has_no_triangles_is_said(x, y, words):
    with pytest.raises(MossError, match=words):
        delaunay(np.array(x), np.array(y))

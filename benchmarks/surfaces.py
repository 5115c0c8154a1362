"""Surfaces between measured places: kriging and its error, triangles, distance, and levels."""

from __future__ import annotations

import numpy as np
from pykrige.ok import OrdinaryKriging
from scipy.interpolate import LinearNDInterpolator
from scipy.spatial import Delaunay

from benchmarks.measure import Line, best, rough_ground
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.interpolate.levels import depth_at, levels_of, storage_of_grid
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.surfaces import Choice, Interpolator
from moss_step.science.interpolate.tin import on_grid, triangulate
from moss_step.science.interpolate.triangles import delaunay
from moss_step.science.interpolate.variogram import Variogram

_FEW, _MANY, _MILLION = 1_000, 200_000, 1_000_000
_PLANE = Plane(0.0, 0.0, 1.0, 1.0)


def lines() -> list[Line]:
    """Measure everything on places drawn by a seed."""
    return [*_kriging(), *_near(), *_triangles(), *_level()]


def _scattered(count: int) -> Measured:
    rng = np.random.default_rng(1)
    x, y = rng.random(count) * 4000.0, rng.random(count) * 4000.0
    return Measured(x, y, np.sin(x / 300.0) + np.cos(y / 500.0) + rng.normal(0.0, 0.05, count))


def _cells(side: int) -> tuple[np.ndarray, np.ndarray]:
    edge = (np.arange(side) + 0.5) * (4000.0 / side)
    x, y = np.meshgrid(edge, edge)
    return x.ravel(), y.ravel()


def _line(what: str, seconds: float, against: str, wanted: str, holds: bool) -> Line:
    return Line(what, f"{seconds:.2f} s", against, wanted, holds)


def _kriging() -> list[Line]:
    held, (x, y) = _scattered(_FEW), _cells(1000)
    model = Variogram.single("exponential", 1.0, 900.0, 0.01)
    made = Interpolator(held, _PLANE, Choice(model=model))
    took = best(lambda: Interpolator(held, _PLANE, Choice(model=model)).at(x, y), 2)
    error = best(lambda: made.errors_at(x, y), 1)
    theirs = OrdinaryKriging(
        held.x, held.y, held.values, variogram_model="exponential",
        variogram_parameters={"psill": 0.99, "range": 900.0, "nugget": 0.01},
    )  # fmt: skip
    some = 20_000  # all of a million would take it minutes; its time grows with the places
    library = best(lambda: theirs.execute("points", x[:some], y[:some], backend="vectorized"), 1)
    ratio = library * (len(x) / some) / (took + error)
    return [
        _line("kriging of 1,000 soundings onto a million cells", took, "", "within 5 s", took <= 5.0),
        _line("its error surface", error, "", "within 45 s", error <= 45.0),
        _line(
            "both, against PyKrige (from 20,000 cells)", took + error, f"{ratio:.1f} times faster",
            "at least 3 times", ratio >= 3.0,
        ),
    ]  # fmt: skip


def _near() -> list[Line]:
    held, (x, y) = _scattered(_MANY), _cells(1000)
    model = Variogram.single("spherical", 1.0, 900.0, 0.01)
    kriged = best(lambda: Interpolator(held, _PLANE, Choice(model=model)).at(x, y), 1)
    weighed = best(lambda: Interpolator(held, _PLANE, Choice("inverse_distance", neighbours=12)).at(x, y), 1)
    return [
        _line(
            "kriging of 200,000 places, by near ones, a million cells",
            kriged,
            "",
            "within 20 s",
            kriged <= 20.0,
        ),
        _line(
            "inverse distance of 200,000 places, a million cells",
            weighed,
            "",
            "within 3 s",
            weighed <= 3.0,
        ),
    ]


def _triangles() -> list[Line]:
    held, side = _scattered(_MILLION), 4000
    frame = Frame(side, side, 0.0, 4000.0, 4000.0 / side, 4000.0 / side)
    alone = best(lambda: delaunay(held.x, held.y), 2)
    made = best(lambda: triangulate(held, _PLANE, None), 2)
    tin = triangulate(held, _PLANE, None)
    grid = best(lambda: on_grid(tin, frame), 2)
    places = np.column_stack([held.x, held.y])
    of_library = LinearNDInterpolator(Delaunay(places), held.values)
    x, y = _cells(side)
    some = slice(7_000_000, 8_000_000)  # a sixteenth of the cells
    theirs = best(lambda: of_library(x[some], y[some]), 1) * 16.0
    share, faster = made / alone, theirs / grid
    return [
        _line(
            "TIN of a million places", made,
            f"{share:.2f} times the triangulation alone", "at most 1.3 times",
            share <= 1.3,
        ),
        _line(
            "onto 16 million cells, against SciPy (from a sixteenth)", grid, f"{faster:.1f} times faster",
            "within 2 s, at least 8 times", grid <= 2.0 and faster >= 8.0,
        ),
    ]  # fmt: skip


def _level() -> list[Line]:
    ground = Surface(rough_ground(4096), Frame(4096, 4096, 0.0, 4096.0, 1.0, 1.0), METRE)
    low, high = ground.range or (0.0, 1.0)
    level = 0.5 * (low + high)
    curve = best(lambda: levels_of(ground), 1)
    depth = best(lambda: depth_at(ground, level), 3) * 1e3
    whole = best(lambda: storage_of_grid(ground, level), 2)
    return [
        _line("volume and area at a hundred levels, 16 million cells", curve, "", "", True),
        _line("volume, areas and depths under one level", whole, f"depths alone {depth:.0f} ms", "", True),
    ]

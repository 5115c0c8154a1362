"""One scene in metres, told in other ways: degrees at 5 and 65 north, feet, cells four to one. What is made of its points stays the same.

Each place is carried over by the metres of a degree in the middle of the scene (WGS 84 by pyproj.Geod), so that distances are equal to a few parts in a million."""

from dataclasses import dataclass, replace

import numpy as np
import pytest
from pyproj import Geod

from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE, Unit
from moss_step.science.interpolate.levels import level_for, storage_of_grid
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.surfaces import METHODS, Choice, Interpolator
from moss_step.science.interpolate.tin import on_grid, storage_of_tin, triangulate
from moss_step.science.interpolate.variogram import Variogram
from moss_step.science.points import blocks, grids
from moss_step.science.points.blocks import blocks_of
from moss_step.science.points.grids import grid_points
from moss_step.science.points.trees import TreeSet, single_trees

UTM, SIDE = "EPSG:32628", 60.0


@dataclass(frozen=True)
class Telling:
    """How the scene is told: metres of a unit of x and of y, its corner, system and unit of heights."""

    wide: float
    high: float
    x0: float
    y0: float
    crs: str
    unit: Unit
    cell: tuple[float, float] = (1.0, 1.0)

    def frame(self) -> Frame:
        """Cells of so many metres over the scene."""
        across, up = self.cell
        rows, cols = round(SIDE / up), round(SIDE / across)
        return Frame(
            rows, cols, self.x0, self.y0 + SIDE / self.high, across / self.wide, up / self.high, self.crs
        )

    def places(self, east, north):
        return self.x0 + east / self.wide, self.y0 + north / self.high

    def cloud(self, east, north, z, **more) -> Cloud:
        x, y = self.places(east, north)
        held = {n: (v / self.unit.factor).astype(np.float32) for n, v in more.items()}
        return Cloud(x, y, z / self.unit.factor, held, self.crs, self.unit)

    def metres(self, surface) -> np.ndarray:
        return surface.values * self.unit.factor


def degrees(latitude: float, unit: Unit = METRE) -> Telling:
    geod, step = Geod(ellps="WGS84"), 1e-4
    wide = geod.inv(-3.0, latitude, -3.0 + step, latitude)[2] / step
    high = geod.inv(-3.0, latitude - step / 2, -3.0, latitude + step / 2)[2] / step
    return Telling(wide, high, -3.0, latitude - SIDE / high / 2.0, "EPSG:4326", unit)


PLAIN = Telling(1.0, 1.0, 413_000.0, 5_870_000.0, UTM, METRE)
TOLD = {
    "degrees at 5 north": degrees(5.0),
    "degrees at 65 north": degrees(65.0),
    "feet over degrees": degrees(54.0, FOOT),
    "feet": Telling(1.0, 1.0, 413_000.0, 5_870_000.0, UTM, FOOT),
    "feet on the plan": Telling(1200.0 / 3937.0, 1200.0 / 3937.0, 1e6, 2e6, "EPSG:2232", METRE),
}
ANY = pytest.mark.parametrize("told", TOLD)


@pytest.fixture(scope="module")
def scene():
    """East, north, height and height above ground: a slope, waves, and a dome of 9 m with pits."""
    rng = np.random.default_rng(3)
    east, north = rng.uniform(0, SIDE, (2, 6000))
    floor = 50.0 + 0.1 * east + 2.0 * np.sin(north / 7.0)
    dome = np.maximum(9.0 - 0.03 * ((east - 30.0) ** 2 + (north - 30.0) ** 2), 0.0)
    above = np.where(rng.random(6000) < 1 / 6, 0.2 * dome, dome)
    return east, north, floor, above


def same(found, expected, bound):
    assert (
        np.array_equal(np.isnan(found), np.isnan(expected))
        or (np.isnan(found) != np.isnan(expected)).mean() < 0.01
    )
    assert np.nanmax(np.abs(found - expected)) < bound


@ANY
@pytest.mark.parametrize("between", ["triangles", "inverse_distance"])
def test_ground_between_points(scene, told, between):
    east, north, floor, _ = scene
    found, expected = (
        t.metres(grid_points(t.cloud(east, north, floor), t.frame(), "ground", 4.0, between))
        for t in (TOLD[told], PLAIN)
    )
    same(found, expected, 2e-3)


@ANY
def test_canopy_without_pits(scene, told):
    east, north, floor, above = scene
    found, expected = (
        t.metres(
            grid_points(t.cloud(east, north, floor + above, height_above=above), t.frame(), "canopy", 5.0)
        )
        for t in (TOLD[told], PLAIN)
    )
    assert (np.abs(found - expected) > 0.02).mean() < 0.01, "but for ties between triangles"


@ANY
@pytest.mark.parametrize("what", ["highest", "lowest", "mean", "spread", "count", "density"])
@pytest.mark.parametrize("cell", [(3.0, 3.0), (4.0, 1.0), (1.0, 4.0)])
def test_measures_of_cells(scene, told, what, cell):
    east, north, floor, above = scene
    lies = (east < 20.0) | (east > 30.0)  # a gap, and no points at the rim
    kept = lies & (east > 4.0) & (east < 57.0)
    found, expected = (
        (surface.values * (1.0 if what in ("count", "density") else t.unit.factor))
        for t in (replace(TOLD[told], cell=cell), replace(PLAIN, cell=cell))
        for surface in (
            grid_points(t.cloud(east[kept], north[kept], (floor + above)[kept]), t.frame(), what, 0.0),
        )
    )
    empty = found == 0.0 if what in ("count", "density") else np.isnan(found)
    assert 0.2 < empty.mean() < 0.7
    alike = np.isclose(found, expected, rtol=1e-3, atol=1e-3, equal_nan=True)
    assert alike.mean() > 0.99, "but for points on the rims of cells"
    if what == "count":
        assert found.sum() == pytest.approx(kept.sum(), abs=5)
        flipped = grid_points(
            PLAIN.cloud(SIDE - east[kept], north[kept], floor[kept]),
            replace(PLAIN, cell=cell).frame(),
            what,
            0.0,
        ).values[:, ::-1]
        assert (flipped == expected).mean() > 0.99


@ANY
def test_blocks_with_margins(scene, told, monkeypatch):
    east, north, floor, _ = scene
    t = TOLD[told]
    cloud, frame = t.cloud(east, north, floor), t.frame()
    whole = {b: grid_points(cloud, frame, "ground", 4.0, b).values for b in ("triangles", "inverse_distance")}
    for module in (blocks, grids):
        monkeypatch.setattr(module, "MOST", 700)
    monkeypatch.setattr(grids, "blocks_of", lambda c: blocks_of(c, 700))
    for between, expected in whole.items():
        parts = grid_points(cloud, frame, "ground", 4.0, between).values
        assert np.array_equal(np.isnan(parts), np.isnan(expected))
        np.testing.assert_allclose(parts, expected, rtol=1e-6, atol=1e-3)


@ANY
def test_trees(scene, told):
    """Three cones: as many trees, as high, with crowns as wide."""
    tops = ((12.0, 15.0, 8.0), (40.0, 20.0, 11.0), (25.0, 45.0, 6.0))

    def trees(t):
        frame = t.frame()
        e, n = np.meshgrid(np.arange(frame.cols) + 0.5, SIDE - np.arange(frame.rows) - 0.5)
        high = np.max([h - 1.2 * np.hypot(e - a, n - b) for a, b, h in tops], axis=0)

        surface = Surface((np.maximum(high, 0.0) / t.unit.factor).astype(np.float32), frame, t.unit)
        points, _ = single_trees(surface, TreeSet(least=2.0))
        return np.sort(points.columns["tree_height"] * t.unit.factor), np.sort(points.columns["crown_m2"])

    (heights, crowns), (plain_heights, plain_crowns) = trees(TOLD[told]), trees(PLAIN)
    np.testing.assert_allclose(heights, plain_heights, rtol=2e-3)
    np.testing.assert_allclose(crowns, plain_crowns, rtol=2e-2)


@ANY
@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize(("direction", "ratio"), [(0.0, 1.0), (30.0, 0.4)])
def test_surfaces_between_places(scene, told, method, direction, ratio):
    """Kriging with its error, and the other methods; ranges and bearings are those on the ground."""
    east, north, floor, _ = (v[:250] for v in scene)
    u, v = np.random.default_rng(5).uniform(10, 50, (2, 300))
    found = []
    for t in (TOLD[told], PLAIN):
        f = t.unit.factor
        model = Variogram.single(
            "exponential", 6.0 / f**2, 30.0, 0.01 / f**2, direction=direction, ratio=ratio
        )
        choice = Choice(method, model=model, direction=direction, ratio=ratio)
        made = Interpolator(Measured(*t.places(east, north), floor / f), Plane.of(t.frame()), choice)
        at = t.places(u, v)
        error = made.errors_at(*at) * f if method == "kriging" else np.zeros(1)
        found.append((made.at(*at) * f, error, made.distances(*at)))
    values, expected = found[0][0], found[1][0]
    near = np.abs(values - expected) < 5e-3
    assert near.all() if method in ("kriging", "spline", "inverse_distance") else near.mean() > 0.98
    np.testing.assert_allclose(found[0][1], found[1][1], atol=1e-3)
    np.testing.assert_allclose(found[0][2], found[1][2], atol=2e-2)


@ANY
def test_triangles_their_grid_and_the_water_on_them(scene, told):
    east, north, floor, _ = (v[:800] for v in scene)
    found = []
    for t in (TOLD[told], PLAIN):
        f, frame = t.unit.factor, t.frame()
        tin = triangulate(Measured(*t.places(east, north), floor / f), Plane.of(frame), t.crs, t.unit)
        grid = on_grid(tin, frame)
        level = 53.0 / f
        held = (storage_of_tin(tin, level), storage_of_grid(grid, level))
        found.append([v for h in held for v in (h.volume, h.plan_area, h.surface_area, h.greatest_depth * f)])
        assert storage_of_grid(grid, level_for(grid, 500.0)).volume == pytest.approx(500.0, rel=1e-4)
    np.testing.assert_allclose(found[0], found[1], rtol=4e-3)


@pytest.mark.parametrize("cell", [(1.0, 4.0), (4.0, 1.0)])
@pytest.mark.parametrize("between", ["triangles", "inverse_distance"])
def test_cells_four_to_one_hold_what_square_ones_hold_in_their_middle(scene, cell, between):
    """Values are those at the middle of a cell: every one stands in a fine grid, too."""
    east, north, floor, _ = scene
    cloud = PLAIN.cloud(east, north, floor)
    long = Telling(1.0, 1.0, PLAIN.x0, PLAIN.y0, UTM, METRE, cell).frame()
    fine = Telling(1.0, 1.0, PLAIN.x0, PLAIN.y0, UTM, METRE, (0.5, 0.5)).frame()
    a, b = (grid_points(cloud, f, "ground", 4.0, between).values for f in (long, fine))
    # The middle of a cell of 4 m is a corner of cells of half a metre: the mean of the four around it.
    rows = np.arange(long.rows) * int(cell[1] / 0.5) + int(cell[1])
    cols = np.arange(long.cols) * int(cell[0] / 0.5) + int(cell[0])
    around = np.mean([b[np.ix_(rows - i, cols - j)] for i in (0, 1) for j in (0, 1)], axis=0)
    both = np.isfinite(a) & np.isfinite(around)
    assert both.mean() > 0.9 and np.quantile(np.abs(a - around)[both], 0.99) < 0.08

"""Volumes against things outside of the project: closed meshes, the spot-height method, end areas, mathematics.

Sources: Ghilani & Wolf, Elementary Surveying, chapter on volumes, recalled from memory and recomputed here; trimesh for closed meshes.
"""

import numpy as np
import pytest
import shapely

from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.earthwork.sections import average_end_area, prismoidal
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.tin import triangulate
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared
from tests.steps.test_cut_fill import AROUND, cone, found, grid, pyramid, tilted

UTM = "EPSG:32628"


def run(kind, settings, **inputs):
    return run_declared(catalogue()[kind], settings, inputs, silent())


def test_cut_of_one_over_the_other_is_fill_of_the_other_over_the_one():
    there = found(
        run("cut_fill", {"against": "surface", "outline": AROUND}, surface=grid(cone), base=grid(pyramid))
    )
    back = found(
        run("cut_fill", {"against": "surface", "outline": AROUND}, surface=grid(pyramid), base=grid(cone))
    )
    assert there["cut"] == pytest.approx(back["fill"], rel=1e-9) and there["fill"] == pytest.approx(
        back["cut"], rel=1e-9
    )
    assert there["cut_area"] == pytest.approx(back["fill_area"], rel=1e-9)


def test_a_closed_mesh_holds_the_same_as_its_tin_against_a_level():
    """Triangles of a heap with walls and a floor at a level, closed: its volume by trimesh."""
    import trimesh

    x, y = (a.ravel() for a in np.meshgrid(np.arange(20.0, 80.1, 2.0), np.arange(20.0, 80.1, 2.0)))
    z = cone(x, y)
    tin = triangulate(Measured(x, y, z), Plane(50.0, 50.0, 1.0, 1.0), UTM, METRE)
    level, n = 195.0, len(tin.x)
    top = np.column_stack([tin.x, tin.y, tin.z])
    floor = np.column_stack([tin.x, tin.y, np.full(n, level)])
    faces = tin.triangles
    sides = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    seen = {tuple(s) for s in sides.tolist()}
    rim = np.array([s for s in sides.tolist() if (s[1], s[0]) not in seen])
    walls = np.concatenate([
        np.column_stack([rim[:, 1], rim[:, 0], rim[:, 0] + n]), np.column_stack([rim[:, 1], rim[:, 0] + n, rim[:, 1] + n]),
    ])  # fmt: skip
    mesh = trimesh.Trimesh(
        np.concatenate([top, floor]), np.concatenate([faces, faces[:, ::-1] + n, walls]), process=False
    )
    assert mesh.is_watertight
    outline = [(20.0, 20.0), (80.0, 20.0), (80.0, 80.0), (20.0, 80.0)]
    told = found(
        run("cut_fill", {"against": "level", "level": level, "outline": outline, "cell": 0.25}, surface=tin)
    )
    assert told["cut"] == pytest.approx(abs(mesh.volume), rel=1e-3)


def test_spot_heights_of_unit_areas_give_the_volume_of_a_borrow_pit():
    """Ghilani & Wolf, unit-area (borrow-pit) method: V = A / 4 times the sum of each depth by the squares that it belongs to."""
    side, count = 10.0, 6
    at = np.arange(count + 1) * side
    depth = 2.0 + 0.03 * at[None, :] - 0.02 * at[:, None] + 0.3 * np.sin(at[None, :] / 20.0)
    belongs = np.ones_like(depth) * 4.0
    belongs[[0, -1]] /= 2.0
    belongs[:, [0, -1]] /= 2.0
    by_hand = side**2 / 4.0 * (depth * belongs).sum()
    cell = 0.5
    n = int(count * side / cell)
    x = (np.arange(n) + 0.5) * cell
    y = count * side - (np.arange(n) + 0.5) * cell
    from scipy.interpolate import RegularGridInterpolator

    between = RegularGridInterpolator((at, at), depth)
    z = between(np.stack(np.meshgrid(y, x, indexing="ij"), axis=-1))
    ground = Surface((100.0 - z).astype(np.float64), Frame(n, n, 0.0, count * side, cell, cell, UTM), METRE)
    outline = [(0, 0), (60, 0), (60, 60), (0, 60)]
    told = found(run("cut_fill", {"against": "level", "level": 100.0, "outline": outline}, surface=ground))
    scale = told["area"] / 3600.0
    assert told["fill"] == pytest.approx(by_hand * scale, rel=1e-3)


def test_average_end_area_as_in_the_textbook():
    """Ghilani & Wolf, first example on volumes (from memory, recomputed): end areas of 711 and 515 ft², 100 ft apart: 2270 yd³."""
    volume = average_end_area(np.array([0.0, 100.0]), np.array([711.0, 515.0])).sum()
    assert volume / 27.0 == pytest.approx(2270.0, abs=0.5)


def test_prismoidal_formula_is_exact_for_a_wedge_a_pyramid_and_a_frustum():
    high = 12.0
    for ends in ((0.0, 5.0), (4.0, 4.0), (2.0, 7.0)):
        a, b = ends
        areas, middle = np.array([a**2, b**2]), np.array([((a + b) / 2.0) ** 2])
        exact = high / 3.0 * (a**2 + a * b + b**2)
        assert prismoidal(np.array([0.0, high]), areas, middle).sum() == pytest.approx(exact)
        assert (
            average_end_area(np.array([0.0, high]), areas).sum() >= exact - 1e-12
        )  # end areas never say less


def test_a_prism_on_a_tilted_plane_is_cut_off_by_its_edge():
    """A block 3 m high on a tilted plane: its volume above the plane through its own edge (mathematics)."""

    def block(x, y):
        inside = (np.abs(x - 50.0) < 10.0) & (np.abs(y - 50.0) < 8.0)
        return tilted(x, y) + np.where(inside, 3.0, 0.0)

    outline = [tuple(p) for p in shapely.get_coordinates(shapely.box(30, 30, 70, 70))[:-1]]
    for against in ("edge", "plane"):
        told = found(run("cut_fill", {"against": against, "outline": outline}, surface=grid(block)))
        assert told["cut"] == pytest.approx(20.0 * 16.0 * 3.0, rel=2e-3)

"""TINs: break lines kept, outlines, volumes against mathematics and closed meshes."""

import numpy as np
import pytest
import shapely
from scipy.interpolate import LinearNDInterpolator

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.tin import Tin
from moss_step.model.units import FOOT, METRE
from moss_step.science.interpolate.places import Measured, one_a_place
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.tin import BreakLine, on_grid, storage_of_tin, triangulate

PLANE = Plane(0.0, 0.0, 1.0, 1.0)


def scattered(count, seed=0, lattice=0.0):
    rng = np.random.default_rng(seed)
    x, y = rng.random(count) * 1000.0, rng.random(count) * 1000.0
    if lattice:
        x, y = np.round(x / lattice) * lattice, np.round(y / lattice) * lattice
    return one_a_place(Measured(x, y, np.sin(x / 90.0) * 5.0 + y / 50.0))


def some_lines(count, seed, lattice=0.0):
    rng = np.random.default_rng(seed)
    made = []
    for _ in range(count):
        n = int(rng.integers(2, 6))
        xy = rng.random((n, 2)) * 1000.0
        if lattice:
            xy = np.round(xy / lattice) * lattice
        corners = np.column_stack([xy, rng.random(n)])
        made.append(BreakLine(corners))
    return made


def covered(tin, line):
    """Length of a line that no edge of a TIN runs along, within 3 mm."""
    edges = shapely.linestrings(np.column_stack([tin.x, tin.y])[tin.edges])
    near = edges[shapely.STRtree(edges).query(line)]
    along = near[shapely.within(near, shapely.buffer(line, 2e-3))]
    return shapely.length(shapely.difference(line, shapely.buffer(shapely.union_all(along), 3e-3)))


@pytest.mark.parametrize("lattice", [0.0, 50.0])
@pytest.mark.parametrize("seed", range(4))
def test_no_triangle_crosses_a_break_line(seed, lattice):
    """Lines that cross each other and pass through points: each is made of edges, and the triangles cover the
    hull once.
    """
    lines = some_lines(12, seed, lattice)
    tin = triangulate(scattered(300, seed, lattice), PLANE, None, lines=lines)
    for line in lines:
        whole = shapely.LineString(line.corners[:, :2])
        assert covered(tin, whole) < 1e-2 or whole.length == 0
    faces = shapely.polygons(np.column_stack([tin.x, tin.y])[tin.triangles])
    hull = shapely.convex_hull(shapely.multipoints(np.column_stack([tin.x, tin.y])))
    assert shapely.area(faces).sum() == pytest.approx(hull.area, rel=1e-8)


def test_heights_along_a_break_line_are_its_own():
    """A wall of 2 m across a level floor: read along it, the surface has the height of the wall."""
    held = scattered(200)
    flat = Measured(held.x, held.y, np.zeros(len(held)))
    wall = BreakLine(np.array([[100.0, 200.0, 2.0], [900.0, 700.0, 2.0]]))
    tin = triangulate(flat, PLANE, None, lines=[wall])
    share = np.linspace(0.02, 0.98, 40)
    x, y = 100.0 + 800.0 * share, 200.0 + 500.0 * share
    read = LinearOn(tin)(x, y)
    assert np.allclose(read, 2.0, atol=1e-3)


class LinearOn:
    """Heights on given triangles, by brute force."""

    def __init__(self, tin):
        self.tin = tin

    def __call__(self, x, y):
        t, out = self.tin, []
        for px, py in zip(x, y, strict=True):
            for a, b, c in t.triangles:
                m = np.array([[t.x[a], t.x[b], t.x[c]], [t.y[a], t.y[b], t.y[c]], [1.0, 1.0, 1.0]])
                w = np.linalg.solve(m, [px, py, 1.0])
                if (w > -1e-6).all():
                    out.append(float(w @ [t.z[a], t.z[b], t.z[c]]))
                    break
        return np.array(out)


def test_lines_without_heights_take_them_from_the_points():
    held = scattered(300)
    plane = Measured(held.x, held.y, 2.0 * held.x - held.y)
    line = BreakLine(np.array([[200.0, 200.0, np.nan], [800.0, 600.0, np.nan]]))
    tin = triangulate(plane, PLANE, None, lines=[line])
    assert np.abs(tin.z - (2.0 * tin.x - tin.y)).max() < 1e-2


def test_nothing_lies_beyond_an_outline_or_a_longest_side():
    held = scattered(400)
    circle = shapely.Point(500.0, 500.0).buffer(300.0)
    rim = BreakLine(
        np.column_stack([shapely.get_coordinates(circle), np.zeros(len(shapely.get_coordinates(circle)))])
    )
    tin = triangulate(held, PLANE, None, lines=[rim], outline=circle)
    faces = shapely.polygons(np.column_stack([tin.x, tin.y])[tin.triangles])
    assert shapely.area(faces).sum() == pytest.approx(circle.area, rel=1e-6)
    short = triangulate(held, PLANE, None, longest=60.0)
    ends = np.column_stack([short.x, short.y])[short.edges]
    assert len(short) > 0 and np.hypot(*(ends[:, 0] - ends[:, 1]).T).max() <= 60.0


def test_a_grid_of_a_tin_is_that_of_a_library():
    held = scattered(500)
    tin, frame = triangulate(held, PLANE, None), Frame(80, 70, 100.0, 900.0, 10.0, 10.0)
    x, y = np.meshgrid(frame.x0 + (np.arange(70) + 0.5) * 10.0, frame.y0 - (np.arange(80) + 0.5) * 10.0)
    theirs = LinearNDInterpolator(np.column_stack([held.x, held.y]), held.values)(x, y)
    assert np.nanmax(np.abs(on_grid(tin, frame).values - theirs)) < 1e-4


def revolved(depth, radius=10.0, around=720, rings=60):
    """A bowl: depth over radius on rings of points, its rim at 0."""
    r = np.linspace(0.0, radius, rings + 1)[1:]
    angle = np.linspace(0.0, 2.0 * np.pi, around, endpoint=False)
    x = np.concatenate([[0.0], (r[:, None] * np.cos(angle)).ravel()])
    y = np.concatenate([[0.0], (r[:, None] * np.sin(angle)).ravel()])
    z = -np.concatenate([[depth(0.0)], np.repeat(depth(r), around)])
    return triangulate(Measured(x, y, z), PLANE, None, METRE)


@pytest.mark.parametrize(
    ("depth", "volume"),
    [
        (lambda r: 5.0 * (1.0 - r / 10.0), np.pi * 100.0 * 5.0 / 3.0),
        (lambda r: np.minimum(5.0, 10.0 * (1.0 - r / 10.0)), np.pi * 5.0 / 3.0 * (100.0 + 50.0 + 25.0)),
        (lambda r: np.sqrt(26.0**2 - r**2) - 24.0, np.pi * 2.0 * (3.0 * 100.0 + 4.0) / 6.0),
    ],
    ids=["cone", "frustum", "spherical cap"],
)
def test_volumes_are_those_of_mathematics(depth, volume):
    """Cone, frustum, and a cap with a rim of 10 m and 2 m deep: π h (3 a² + h²) / 6."""
    assert storage_of_tin(revolved(depth), 0.0).volume == pytest.approx(volume, rel=2e-3)


def test_half_a_cone_holds_an_eighth():
    """Below half of its depth lies (1/2)³ of a cone (mathematics)."""
    cone = revolved(lambda r: 5.0 * (1.0 - r / 10.0))
    whole, half = storage_of_tin(cone, 0.0), storage_of_tin(cone, -2.5)
    assert half.volume == pytest.approx(whole.volume / 8.0, rel=2e-3)
    assert half.plan_area == pytest.approx(whole.plan_area / 4.0, rel=2e-3)
    assert whole.greatest_depth == pytest.approx(5.0) and whole.mean_depth == pytest.approx(
        5.0 / 3.0, rel=2e-3
    )
    assert whole.surface_area == pytest.approx(np.pi * 10.0 * np.hypot(10.0, 5.0), rel=2e-3)


def test_a_volume_is_that_of_a_closed_mesh():
    """trimesh (lib): the surface, a lid at the level, and walls between them."""
    import trimesh  # takes long to load

    tin = triangulate(scattered(60), PLANE, None, METRE)
    level = float(tin.z.max()) + 1.0
    n, t = len(tin.x), tin.triangles[:, ::-1].astype(int)
    floor = np.column_stack([tin.x, tin.y, tin.z])
    lid = np.column_stack([tin.x, tin.y, np.full(n, level)])
    sides = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
    both = {tuple(s) for s in sides.tolist()}
    rim = np.array([s for s in sides.tolist() if (s[1], s[0]) not in both])
    walls = np.concatenate(
        [
            np.column_stack([rim[:, 0], rim[:, 1], rim[:, 1] + n]),
            np.column_stack([rim[:, 0], rim[:, 1] + n, rim[:, 0] + n]),
        ]
    )
    mesh = trimesh.Trimesh(
        np.concatenate([floor, lid]), np.concatenate([t[:, ::-1], t + n, walls]), process=False
    )
    assert storage_of_tin(tin, level).volume == pytest.approx(abs(mesh.volume), rel=1e-9)


def test_what_stands_above_and_lies_below_a_level_differ_by_the_block_to_it():
    tin = triangulate(scattered(200), PLANE, None, METRE)
    level = float(np.median(tin.z))
    below, above = storage_of_tin(tin, level), storage_of_tin(tin, level, below=False)
    p = np.column_stack([tin.x, tin.y, tin.z])[tin.triangles]
    area = 0.5 * np.abs(np.cross(p[:, 1, :2] - p[:, 0, :2], p[:, 2, :2] - p[:, 0, :2]))
    mean = p[:, :, 2].mean(axis=1)
    assert below.plan_area + above.plan_area == pytest.approx(area.sum())
    assert above.volume - below.volume == pytest.approx((area * (mean - level)).sum(), rel=1e-9)


def test_heights_in_feet_hold_the_same_water():
    tin = triangulate(scattered(100), PLANE, None, METRE)
    feet = Tin(tin.x, tin.y, tin.z / 0.3048, tin.triangles, tin.lines, None, FOOT)
    one, other = storage_of_tin(tin, 10.0), storage_of_tin(feet, 10.0 / 0.3048)
    assert (other.volume, other.plan_area, other.surface_area) == pytest.approx(
        (one.volume, one.plan_area, one.surface_area)
    )
    assert other.greatest_depth * 0.3048 == pytest.approx(one.greatest_depth)


@pytest.mark.parametrize(
    ("x", "y", "words"),
    [
        ([0.0], [0.0], "three"),
        ([0.0, 1.0], [0.0, 1.0], "three"),
        ([0.0, 1.0, 2.0], [0.0, 1.0, 2.0], "one line"),
    ],
)
def test_too_few_places_are_refused(x, y, words):
    with pytest.raises(MossError, match=words):
        triangulate(Measured(np.array(x), np.array(y), np.zeros(len(x))), PLANE, None)

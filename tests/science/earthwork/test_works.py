"""Pads, roads and bunds against mathematics: frustums, prisms, wedges, on cells of every shape and in degrees."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import AskedWronglyError, MossError, StoppedError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.science.earthwork.balance import balanced
from moss_step.science.earthwork.design import Design, Path, Template, pad
from moss_step.science.earthwork.sections import (
    average_end_area,
    haul_along,
    prismoidal,
    sections_at,
)
from moss_step.science.earthwork.works import built

UTM = "EPSG:32628"
CELLS = {"square": (0.5, 0.5), "wide": (1.0, 0.25), "high": (0.25, 1.0), "coarse": (2.0, 2.0)}


def ground_of(height, dx, dy, side=120.0, unit=METRE):
    cols, rows = round(side / dx), round(side / dy)
    x = (np.arange(cols) + 0.5) * dx
    y = side - (np.arange(rows)[:, None] + 0.5) * dy
    values = np.broadcast_to(np.asarray(height(x, y), float), (rows, cols)) / unit.factor
    return Surface(values.astype(np.float32), Frame(rows, cols, 0.0, side, dx, dy, UTM), unit)


def level(x, y):
    return 0.0 * x + 0.0 * y


def frustum(side, high, n):
    """Volume of a square pad with fill 1:n around it, the corners rounded (mathematics)."""
    return side**2 * high + 4 * side * n * high**2 / 2 + np.pi * (n * high) ** 2 * high / 3


@pytest.mark.parametrize("cells", CELLS)
@pytest.mark.parametrize("n", [0.5, 2.0])
def test_a_pad_on_level_ground_is_a_frustum(cells, n):
    flat = ground_of(level, *CELLS[cells])
    area = shapely.box(40, 40, 60, 60)
    up = built(flat, pad(flat.frame, area, 3.0, Template(fill=(n, n))))
    down = built(flat, pad(flat.frame, area, -3.0, Template(cut=(n, n))))
    exact = frustum(20.0, 3.0, n)
    assert up.moved.fill == pytest.approx(exact, rel=2e-3) and up.moved.cut == 0.0
    assert down.moved.cut == pytest.approx(exact, rel=2e-3) and down.moved.fill == 0.0
    assert up.areas[0] == pytest.approx(400.0, rel=2e-3) and not up.open
    assert float(np.nansum(up.change) * flat.frame.row_areas[0]) == pytest.approx(up.moved.fill, rel=1e-5)


def test_a_wall_is_a_prism():
    flat = ground_of(level, 0.5, 0.5)
    made = built(flat, pad(flat.frame, shapely.box(40, 40, 60, 60), 3.0, Template(fill=(0.01, 0.01))))
    assert made.moved.fill == pytest.approx(1200.0, rel=5e-3)


@pytest.mark.parametrize("cells", CELLS)
def test_a_balanced_pad_on_a_slope_cuts_what_it_fills(cells):
    slope = ground_of(lambda x, y: 0.2 * x - 0.1 * y, *CELLS[cells])
    design, made = balanced(slope, pad(slope.frame, shapely.box(40, 40, 70, 60), 0.0, Template()))
    total = made.moved.cut + made.moved.fill
    assert abs(made.moved.net) < 1e-3 * total and total > 500.0
    # On a plane, with the same slopes both ways, the middle of the pad lies on the ground (symmetry).
    same = Template(cut=(1.5, 1.5), fill=(1.5, 1.5))
    design, made = balanced(slope, pad(slope.frame, shapely.box(40, 40, 70, 60), 0.0, same))
    assert design.level == pytest.approx(0.2 * 55 - 0.1 * 50, abs=0.02)


def test_a_factor_counts_in_the_balance():
    slope = ground_of(lambda x, y: 0.2 * x, 0.5, 0.5)
    _, made = balanced(slope, pad(slope.frame, shapely.box(40, 40, 70, 60), 0.0, Template()), 0.8)
    assert 0.8 * made.moved.cut == pytest.approx(made.moved.fill, rel=1e-3)


def test_a_pad_that_falls_drains_toward_its_bearing():
    flat = ground_of(level, 0.5, 0.5)
    design = pad(flat.frame, shapely.box(40, 40, 60, 60), 5.0, Template(), fall=0.02, toward=90.0)
    made = built(flat, design)
    rows, cols = flat.frame.cell_at(45.0, 50.0), flat.frame.cell_at(55.0, 50.0)
    whole = np.zeros(flat.frame.shape)
    whole[made.rows, made.cols] = np.nan_to_num(made.change)
    assert whole[rows] - whole[cols] == pytest.approx(0.02 * 10.0, abs=1e-3)
    assert whole[flat.frame.cell_at(50.0, 45.0)] == pytest.approx(
        whole[flat.frame.cell_at(50.0, 55.0)], abs=1e-4
    )


def test_holes_of_an_outline_are_left_out_with_slopes_of_their_own():
    flat = ground_of(level, 0.5, 0.5)
    ring = shapely.Polygon(shapely.box(30, 30, 80, 80).exterior, [shapely.box(50, 50, 60, 60).exterior])
    made = built(flat, pad(flat.frame, ring, 1.0, Template(fill=(1.0, 1.0))))
    inner = 10.0 * 4 * 0.5 - 4 * 1 / 3  # four wedges into the hole, mitred at its corners
    outer = 50.0 * 4 * 0.5 + np.pi / 3
    assert made.moved.fill == pytest.approx(2400.0 + inner + outer, rel=2e-3)


@pytest.mark.parametrize("cells", CELLS)
def test_a_straight_road_is_a_prism(cells):
    flat = ground_of(level, *CELLS[cells])
    path = Path(np.array([[20.0, 60.0], [100.0, 60.0]]), np.array([-1.0, -1.0]))
    made = built(flat, Design.along([path], Template(half=3.0, cut=(1.0, 1.0), square=True)))
    assert made.moved.cut == pytest.approx(80.0 * (6.0 + 1.0), rel=5e-3)


def test_a_slope_ends_where_it_first_meets_the_ground():
    """A ridge beyond the catch point stays as it is."""
    ridge = ground_of(lambda x, y: np.where(y > 75, 5.0, 0.0) + 0.0 * x, 0.5, 0.5)
    path = Path(np.array([[20.0, 60.0], [100.0, 60.0]]), np.array([-1.0, -1.0]))
    made = built(ridge, Design.along([path], Template(half=3.0, cut=(1.0, 1.0), square=True)))
    assert made.moved.cut == pytest.approx(80.0 * 7.0, rel=5e-3)


def test_slopes_that_run_out_of_the_ground_are_told():
    flat = ground_of(level, 0.5, 0.5)
    made = built(flat, pad(flat.frame, shapely.box(40, 40, 118, 60), 4.0, Template()))
    assert made.open
    holed = flat.values.copy()
    holed[:, 130:] = np.nan
    assert built(
        Surface(holed, flat.frame, METRE), pad(flat.frame, shapely.box(40, 40, 64, 60), 4.0, Template())
    ).open


def test_heights_in_feet_are_the_same_pad():
    metric = ground_of(lambda x, y: 0.2 * x, 0.5, 0.5)
    feet = ground_of(lambda x, y: 0.2 * x, 0.5, 0.5, unit=FOOT)
    area = shapely.box(40, 40, 70, 60)
    one, other = (built(g, pad(g.frame, area, 11.0, Template())) for g in (metric, feet))
    assert other.moved.cut == pytest.approx(one.moved.cut, rel=1e-4)
    assert other.moved.fill == pytest.approx(one.moved.fill, rel=1e-4)


@pytest.mark.parametrize("latitude", [5.0, 65.0])
def test_degrees_give_the_same_volume(latitude):
    frame = Frame(300, 300, -3.0, latitude, 8e-6, 5e-6, "EPSG:4326")
    flat = Surface(np.zeros(frame.shape, np.float32), frame, METRE)
    wide, high = frame.cell_metres
    x, y = frame.x0 + 150 * frame.dx, frame.y0 - 150 * frame.dy
    half = 10.0 / wide * frame.dx, 10.0 / high * frame.dy
    area = shapely.box(x - half[0], y - half[1], x + half[0], y + half[1])
    made = built(flat, pad(frame, area, 2.0, Template(fill=(2.0, 2.0))))
    assert made.moved.fill == pytest.approx(frustum(20.0, 2.0, 2.0), rel=5e-3)


@pytest.mark.parametrize("slopes", [(2.0, 2.0), (1.0, 3.0)])
def test_a_bund_is_a_prism_with_rounded_ends(slopes):
    flat = ground_of(level, 0.25, 0.25)
    path = Path(np.array([[30.0, 60.0], [90.0, 60.0]]), np.array([2.0, 2.0]))
    made = built(flat, Design.along([path], Template(0.5, (0, 0), slopes, slopes, only_fill=True)))
    section = 1.0 * 2.0 + (slopes[0] + slopes[1]) * 4.0 / 2.0
    ends = sum(np.pi / 2 * 2.0 * ((0.5 + 2 * n) ** 2 + (0.5 + 2 * n) * 0.5 + 0.25) / 3.0 for n in slopes)
    assert made.moved.fill == pytest.approx(60.0 * section + ends, rel=5e-3)
    assert made.moved.cut == 0.0


def test_a_bund_below_the_ground_moves_nothing():
    flat = ground_of(level, 0.5, 0.5)
    path = Path(np.array([[30.0, 60.0], [90.0, 60.0]]), np.array([-2.0, -2.0]))
    made = built(flat, Design.along([path], Template(0.5, only_fill=True)))
    assert made.moved.fill == made.moved.cut == 0.0
    with pytest.raises(AskedWronglyError):
        balanced(flat, Design.along([path], Template(0.5, only_fill=True)))


def test_a_design_beside_the_ground_or_on_no_data_is_refused():
    flat = ground_of(level, 0.5, 0.5)
    path = Path(np.array([[500.0, 60.0], [600.0, 60.0]]), np.zeros(2))
    with pytest.raises(MossError, match="outside"):
        built(flat, Design.along([path], Template(3.0)))
    empty = Surface(np.full(flat.frame.shape, np.nan, np.float32), flat.frame, METRE)
    with pytest.raises(MossError, match="No height"):
        built(empty, pad(flat.frame, shapely.box(40, 40, 60, 60), 4.0, Template()))


# --- cross-sections


def test_sections_agree_with_mathematics_and_with_the_grid():
    """A road that climbs out of level ground: its sections are trapezoids, its body a prismoid."""
    flat = ground_of(level, 0.25, 0.25)
    path, template = (
        Path(np.array([[20.0, 60.0], [100.0, 60.0]]), np.array([0.0, 4.0])),
        Template(half=3.0, fill=(2.0, 2.0), square=True),
    )
    stations = np.linspace(0.0, 80.0, 9)
    middles = (stations[1:] + stations[:-1]) / 2.0
    at, between = (sections_at(flat, path, template, s) for s in (stations, middles))
    high = stations / 20.0
    assert at.fill == pytest.approx(6.0 * high + 2.0 * high**2, rel=2e-3, abs=1e-9)
    exact = 6.0 * 4.0 * 80.0 / 2.0 + 2.0 * 16.0 * 80.0 / 3.0
    by_prisms = prismoidal(stations, at.fill, between.fill).sum()
    by_ends = average_end_area(stations, at.fill).sum()
    assert by_prisms == pytest.approx(exact, rel=2e-3)
    assert by_ends - by_prisms == pytest.approx(
        8 * 10.0 * 2.0 * 0.5**2 / 6.0, rel=0.05
    )  # common practice: more
    made = built(flat, Design.along([path], template))
    assert made.moved.fill == pytest.approx(exact, rel=2e-3)
    assert -at.left[-1] == pytest.approx(3.0 + 8.0, abs=0.2) and at.right[-1] == pytest.approx(11.0, abs=0.2)


def test_left_and_right_are_seen_along_the_line():
    """Ground that rises to the south of a road to the east is cut on its right."""
    slope = ground_of(lambda x, y: -0.1 * (y - 60.0) + 0.0 * x, 0.25, 0.25)
    path = Path(np.array([[20.0, 60.0], [100.0, 60.0]]), np.zeros(2))
    falls = Template(half=3.0, falls=(0.05, -0.05), cut=(1.0, 1.0), fill=(1.0, 1.0), square=True)
    at = sections_at(slope, path, falls, np.array([40.0]))
    assert at.bearings[0] == pytest.approx(90.0)
    right = at.offsets > 0
    with np.errstate(invalid="ignore"):
        off = at.ground[0] - at.design[0]
    assert np.nanmin(off[right]) > 0.0 and np.nanmax(off[~right]) < 1e-6
    back = Path(path.xy[::-1], path.z)
    turned = sections_at(slope, back, falls, np.array([40.0]))
    with np.errstate(invalid="ignore"):
        assert np.nanmin((turned.ground - turned.design)[0][turned.offsets < 0]) > 0.0
    left, right_end = at.ends(slope)
    assert left[0, 1] > 60.0 > right_end[0, 1]


def test_average_end_area_and_prismoidal_formula_on_a_pyramid():
    """A pyramid of base 12 and height 9: end areas give half of base and height, the prismoidal formula a third."""
    stations, areas, middle = np.array([0.0, 9.0]), np.array([12.0, 0.0]), np.array([3.0])
    assert average_end_area(stations, areas).sum() == 54.0
    assert prismoidal(stations, areas, middle).sum() == 36.0


def test_haul_is_the_area_under_the_mass_curve():
    stations = np.array([0.0, 10.0, 20.0, 30.0, 40.0])
    found = haul_along(stations, np.array([10.0, 0.0, 0.0, 7.0]), np.array([0.0, 5.0, 5.0, 0.0]))
    assert found.mass.tolist() == [0.0, 10.0, 5.0, 0.0, 7.0]
    assert found.hauled == 10.0 and found.mean_way == pytest.approx((50.0 + 75.0 + 25.0) / 10.0)
    assert found.even.tolist() == [0.0, 30.0]


def test_too_many_sections_are_refused():
    flat = ground_of(level, 0.5, 0.5)
    path = Path(np.array([[20.0, 60.0], [100.0, 60.0]]), np.zeros(2))
    with pytest.raises(MossError, match="too many"):
        sections_at(flat, path, Template(3.0), np.linspace(0, 80, 30_000))


def test_a_level_far_beyond_all_ground_shapes_all_of_it_and_says_so():
    flat = ground_of(level, 0.5, 0.5)
    made = built(flat, pad(flat.frame, shapely.box(40, 40, 60, 60), 1e6, Template()))
    assert made.open and (made.kinds > 0).all() and np.isfinite(made.moved.fill)


def test_a_line_that_crosses_itself_and_stands_still_is_built():
    flat = ground_of(level, 0.5, 0.5)
    xy = np.array([[20, 20], [100, 100], [100, 100.0], [20, 100], [100, 20]], float)
    made = built(flat, Design.along([Path(xy, np.ones(5))], Template(half=2.0, fill=(1.0, 1.0), square=True)))
    once = sum(
        built(
            flat,
            Design.along([Path(xy[[a, b]], np.ones(2))], Template(half=2.0, fill=(1.0, 1.0), square=True)),
        ).moved.fill
        for a, b in ((0, 1), (2, 3), (3, 4))
    )
    assert 0.9 * once < made.moved.fill < once, "where lines meet the ground is raised once"


def test_a_search_for_the_level_that_balances_can_be_stopped():
    slope = ground_of(lambda x, y: 0.2 * x, 0.5, 0.5)
    progress = Progress()
    progress.stop()
    with pytest.raises(StoppedError):
        balanced(slope, pad(slope.frame, shapely.box(40, 40, 70, 60), 0.0, Template()), 1.0, progress)

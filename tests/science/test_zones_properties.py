"""Tiles, zones, patches and outlines on extents and maps made at random, against shapely, NumPy and counting."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy import ndimage

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.zones.choose import numbers_text, row_numbers, rows_matching
from moss_step.science.zones.outlines import classes_to_areas, mask_surface, patches, shapes_to_grid
from moss_step.science.zones.statistics import STATISTICS, zone_statistics
from moss_step.science.zones.tessellate import tessellate
from tests.conftest import UTM

sides = st.integers(1, 40)
frames = st.builds(
    lambda r, c, d: Frame(r, c, 412_000.0, 5_872_000.0, d, d, UTM),
    sides,
    sides,
    st.sampled_from([0.5, 2.0, 7.5]),
)
codes = arrays(
    np.uint8, st.tuples(st.integers(1, 14), st.integers(1, 14)), elements=st.sampled_from([0, 1, 2, NO_CLASS])
)
NAMES = (
    ClassEntry(0, "moss", "#CAD39B"),
    ClassEntry(1, "heath", "#CF7340"),
    ClassEntry(2, "crag", "#B9652A"),
)


def class_map(grid: np.ndarray, size: float = 2.0) -> ClassMap:
    return ClassMap(grid, Frame(*grid.shape, 412_000.0, 5_872_000.0, size, size, UTM), NAMES)


@given(frames, st.sampled_from(["hexagon", "square", "triangle"]), st.floats(1.0, 6.0))
@settings(max_examples=60, deadline=None)
def test_tiles_cover_an_extent_once(frame, tile, times):
    """Union and sum of areas by shapely: nothing is left bare, nothing lies double, all tiles are alike."""
    spacing = times * max(frame.dx, frame.dy)
    tiles = tessellate(frame, tile, spacing)
    extent = shapely.box(*frame.box)
    inside = shapely.intersection(tiles.geometry, extent)
    assert shapely.area(inside).sum() == pytest.approx(extent.area, rel=1e-6)
    assert shapely.area(shapely.union_all(inside)) == pytest.approx(extent.area, rel=1e-6)
    each = spacing**2 * {"hexagon": np.sqrt(3) / 2, "square": 1.0, "triangle": np.sqrt(3) / 4}[tile]
    assert np.allclose(tiles.columns["area_m2"], each, rtol=1e-3) and (shapely.area(inside) > 0).all()
    assert tiles.columns["zone"].tolist() == list(range(1, len(tiles) + 1))


@given(frames, st.floats(0.01, 0.99))
@settings(max_examples=20, deadline=None)
def test_tiles_smaller_than_a_cell_are_refused(frame, share):
    with pytest.raises(AskedWronglyError, match="smaller than a cell"):
        tessellate(frame, "square", share * frame.dx)


@given(
    arrays(np.float32, (12, 15), elements=st.floats(-50, 50, width=32) | st.just(np.nan)),
    st.integers(0, 1000),
)
@settings(max_examples=60, deadline=None)
def test_statistics_of_zones_are_those_of_the_cells_in_them(z, seed):
    """By centre, against NumPy on the cells whose centres shapely finds inside."""
    rng = np.random.default_rng(seed)
    frame = Frame(12, 15, 412_000.0, 5_872_000.0, 2.0, 2.0, UTM)
    middles = np.column_stack([rng.uniform(412_000, 412_030, 3), rng.uniform(5_871_976, 5_872_000, 3)])
    zones = Shapes(np.array([shapely.Point(m).buffer(rng.uniform(2, 9)) for m in middles], object), {}, UTM)
    found = zone_statistics(zones, Surface(z, frame, METRE), list(STATISTICS))
    r, c = np.mgrid[0:12, 0:15]
    centres = shapely.points(412_001.0 + 2.0 * c, 5_871_999.0 - 2.0 * r)
    for k, zone in enumerate(zones.geometry):
        held = z[shapely.contains(zone, centres) & ~np.isnan(z)].astype(np.float64)
        assert found["count"][k] == len(held)
        if len(held) == 0:
            assert np.isnan(found["mean"][k]) and np.isnan(found["max"][k])
            continue
        expected = {"sum": held.sum(), "mean": held.mean(), "min": held.min(), "max": held.max(), "range": np.ptp(held), "std": held.std(),
                    "median": np.median(held), "p10": np.percentile(held, 10), "p90": np.percentile(held, 90), "variety": len(np.unique(held))}  # fmt: skip
        for name, value in expected.items():
            assert found[name][k] == pytest.approx(value, rel=1e-4, abs=2e-4), name


@given(codes, st.sampled_from([4, 8]))
@settings(max_examples=80, deadline=None)
def test_patches_are_the_components_of_each_class(grid, neighbours):
    """As many, as large, as scipy.ndimage.label finds class by class (general library)."""
    if (grid == NO_CLASS).all():
        return
    made = patches(class_map(grid), neighbours)
    square = np.ones((3, 3)) if neighbours == 8 else ndimage.generate_binary_structure(2, 1)
    sizes = []
    for code in (0, 1, 2):
        found, count = ndimage.label(grid == code, square)
        sizes += np.bincount(found.ravel(), minlength=count + 1)[1:].tolist()
    assert sorted(made.columns["cells"].tolist()) == sorted(sizes)
    assert made.columns["area_m2"].sum() == pytest.approx((grid != NO_CLASS).sum() * 4.0)
    assert shapely.is_valid(made.geometry).all() or neighbours == 8


@given(codes)
@settings(max_examples=80, deadline=None)
def test_a_class_map_turned_to_areas_and_back_is_the_same(grid):
    if (grid == NO_CLASS).all():
        return
    areas = classes_to_areas(class_map(grid))
    assert shapely.area(areas.geometry).sum() == pytest.approx((grid != NO_CLASS).sum() * 4.0)
    back = shapes_to_grid(areas, class_map(grid).frame, "name")
    names = {c.code: c.name for c in back.classes}
    said = np.array([[names.get(int(v), "") for v in row] for row in back.codes])
    expected = np.array([[{0: "moss", 1: "heath", 2: "crag"}.get(int(v), "") for v in row] for row in grid])
    assert (said == expected).all()


@given(codes, st.integers(1, 3))
@settings(max_examples=40, deadline=None)
def test_rounded_outlines_leave_no_seam_and_keep_the_areas_that_are_told(grid, rounds):
    if (grid == NO_CLASS).all():
        return
    exact, smooth = classes_to_areas(class_map(grid)), classes_to_areas(class_map(grid), rounds)
    assert smooth.columns["area_m2"].tolist() == pytest.approx(exact.columns["area_m2"].tolist())
    whole = shapely.area(shapely.union_all(smooth.geometry))
    assert whole == pytest.approx(shapely.area(smooth.geometry).sum(), rel=1e-6), (
        "no two lie over one another"
    )


@given(codes, st.integers(0, 100))
@settings(max_examples=40, deadline=None)
def test_inside_and_outside_of_areas_make_the_whole(grid, seed):
    rng = np.random.default_rng(seed)
    frame = class_map(grid).frame
    ground = Surface(rng.normal(size=grid.shape).astype(np.float32), frame, METRE)
    xmin, ymin, xmax, ymax = frame.box
    area = Shapes(np.array([shapely.box(xmin, ymin, (xmin + xmax) / 2, ymax)], object), {}, UTM)
    if frame.cols == 1:
        with pytest.raises(
            MossError, match="Nothing would be left"
        ):  # the middle of the only column lies on the area's side
            _ = [mask_surface(ground, area, side) for side in ("inside", "outside")]
        return
    inside, outside = (mask_surface(ground, area, side).values for side in ("inside", "outside"))
    assert (np.isnan(inside) != np.isnan(outside)).all()
    assert np.array_equal(np.where(np.isnan(inside), outside, inside), ground.values)


@given(st.lists(st.integers(0, 60), min_size=1, unique=True))
def test_rows_written_as_numbers_are_read_back(rows):
    text = numbers_text(np.array(rows))
    assert row_numbers(text, 61).tolist() == sorted(rows)


@given(
    st.lists(st.floats(-99, 99).map(lambda v: round(v, 2)), min_size=1, max_size=30),
    st.floats(-99, 99).map(lambda v: round(v, 2)),
)
def test_a_condition_on_a_column_chooses_what_numpy_chooses(values, bound):
    column = np.array(values)
    found = rows_matching({"height": column}, f"height > {bound} or height == {values[0]}")
    assert found.tolist() == np.flatnonzero((column > bound) | (column == values[0])).tolist()


def test_large_whole_numbers_of_a_column_are_told_apart():
    """Numbers above 2^24 have no place of their own in single precision; a table's columns are compared in double."""
    column = np.array([16_777_216, 16_777_217, 16_777_218])
    assert rows_matching({"parcel": column}, "parcel == 16777217").tolist() == [1]
    assert rows_matching(
        {"share": np.array([0.1, 0.2, 0.3])}, "share == 0.1 or share * 2 == 0.6"
    ).tolist() == [0, 2]


@given(frames, st.floats(0, 1), st.floats(0, 1))
def test_a_place_lies_in_the_cell_whose_middle_is_nearest(frame, across, down):
    xmin, ymin, xmax, ymax = frame.box
    x, y = xmin + across * (xmax - xmin), ymin + down * (ymax - ymin)
    cell = frame.cell_at(x, y)
    if cell is None:
        assert min(x - xmin, xmax - x, y - ymin, ymax - y) == 0.0, "only the rim may belong to no cell"
        return
    assert (
        abs(frame.x_of(cell[1]) - x) <= frame.dx / 2 + 1e-6
        and abs(frame.y_of(cell[0]) - y) <= frame.dy / 2 + 1e-6
    )


@given(frames, st.data())
def test_a_part_of_a_frame_lies_where_its_cells_lie(frame, data):
    r0 = data.draw(st.integers(0, frame.rows - 1))
    c0 = data.draw(st.integers(0, frame.cols - 1))
    r1, c1 = data.draw(st.integers(r0 + 1, frame.rows)), data.draw(st.integers(c0 + 1, frame.cols))
    part = frame.part(slice(r0, r1), slice(c0, c1))
    assert part.shape == (r1 - r0, c1 - c0)
    assert part.x_of(0) == pytest.approx(frame.x_of(c0)) and part.y_of(0) == pytest.approx(frame.y_of(r0))
    rows, cols = frame.window(part.box)
    assert (rows, cols) == (slice(r0, r1), slice(c0, c1))
    assert part.area == pytest.approx(frame.area * part.rows * part.cols / (frame.rows * frame.cols))


def test_the_deviation_of_high_ground_that_hardly_varies_is_not_lost():
    """Centimetres of variation at 2,000 m: squares of such heights need double precision (NumPy in double as reference)."""
    z = (2000.0 + 0.02 * np.random.default_rng(4).normal(size=(40, 40))).astype(np.float32)
    frame = Frame(40, 40, 412_000.0, 5_872_000.0, 2.0, 2.0, UTM)
    zone = Shapes(np.array([shapely.box(*frame.box)], object), {}, UTM)
    found = zone_statistics(zone, Surface(z, frame, METRE), ["std"])["std"][0]
    assert found == pytest.approx(float(np.std(z.astype(np.float64))), rel=1e-3)

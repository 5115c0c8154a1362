"""Shares of cells and what is cut and filled: against exact overlays, a library for coverage, and mathematics."""

import numpy as np
import pytest
import shapely
from exactextract import exact_extract
from exactextract.raster import NumPyRasterSource

from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Frame
from moss_step.science.earthwork.outline import Heights, Outline, Plane

UTM = "EPSG:32628"
FRAMES = [
    Frame(40, 60, 0.0, 40.0, 1.0, 1.0, UTM),
    Frame(20, 120, 0.0, 40.0, 0.5, 2.0, UTM),
    Frame(80, 15, 0.0, 40.0, 4.0, 0.5, UTM),
]


def star(seed, middle=(30.0, 20.0), largest=18.0, corners=50):
    rng = np.random.default_rng(seed)
    a = np.sort(rng.uniform(0, 2 * np.pi, corners))
    r = rng.uniform(0.2 * largest, largest, corners)
    made = shapely.Polygon(np.column_stack([middle[0] + r * np.cos(a), middle[1] + r * np.sin(a)])).buffer(0)
    hole = shapely.Point(middle).buffer(2.0)
    return shapely.union_all([made.difference(hole), shapely.box(1.3, 1.2, 4.9, 3.7)])


def overlaid(frame, area):
    """Shares by shapely's overlay of each cell."""
    x = frame.x0 + np.arange(frame.cols) * frame.dx
    y = frame.y0 - np.arange(1, frame.rows + 1) * frame.dy
    u, v = np.meshgrid(x, y)
    cells = shapely.box(u, v, u + frame.dx, v + frame.dy)
    return shapely.area(shapely.intersection(cells, area)) / (frame.dx * frame.dy)


@pytest.mark.parametrize("frame", FRAMES)
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_shares_are_those_of_an_overlay_and_of_a_library(frame, seed):
    area = star(seed)
    shares = Outline(frame, area).shares()
    assert np.abs(shares - overlaid(frame, area)).max() < 1e-11
    source = NumPyRasterSource(np.ones(frame.shape), 0.0, 0.0, 60.0, 40.0)
    feature = {"type": "Feature", "geometry": shapely.geometry.mapping(area), "properties": {}}
    (found,) = exact_extract(source, feature, ["count"])
    assert shares.sum() == pytest.approx(found["properties"]["count"], rel=1e-6)


@pytest.mark.parametrize("area", [
    shapely.box(-10, -10, 70, 50), shapely.box(-10, 5, 20, 60), shapely.box(50, -20, 90, 12.3),
    shapely.Point(0, 40).buffer(15), shapely.Point(60, 20).buffer(9.7), shapely.box(3, 4, 8, 9),
    shapely.box(3.25, 4.25, 3.5, 4.75), shapely.Polygon([(5, 5), (55, 5.0001), (30, 35)]),
])  # fmt: skip
def test_outlines_beyond_the_grid_and_along_cells(area):
    frame = FRAMES[0]
    outline = Outline(frame, area)
    expected = overlaid(frame, area)
    assert np.abs(outline.shares() - expected).max() < 1e-11
    z = np.random.default_rng(0).normal(size=frame.shape)
    moved = outline.moved(z, 0.25)
    cells = expected * frame.row_areas[:, None]
    assert moved.cut == pytest.approx((cells * np.clip(z - 0.25, 0, None)).sum(), rel=1e-9)
    assert moved.fill == pytest.approx((cells * np.clip(0.25 - z, 0, None)).sum(), rel=1e-9)
    quick = Heights(z, 0.25).inside(outline)
    for name in vars(moved):
        assert getattr(quick, name) == pytest.approx(getattr(moved, name), rel=1e-9, abs=1e-12), name


@pytest.mark.parametrize("frame", FRAMES)
@pytest.mark.parametrize("base", ["level", "plane", "grid"])
def test_blocks_answer_as_all_cells_do(frame, base):
    rng = np.random.default_rng(5)
    z = rng.normal(size=frame.shape)
    z[rng.random(frame.shape) < 0.1] = np.nan
    under = {"level": 0.2, "plane": Plane(0.4, 0.01, -0.03), "grid": rng.normal(size=frame.shape)}[base]
    heights = Heights(z, under, 0.3048)
    for seed in range(4):
        outline = Outline(frame, star(seed, (30 + seed, 20 - seed)))
        whole, quick = outline.moved(z, under, 0.3048), heights.inside(outline)
        for name in vars(whole):
            assert getattr(quick, name) == pytest.approx(getattr(whole, name), rel=1e-9, abs=1e-12), name


def test_no_data_is_told_as_area_that_was_not_measured():
    frame = FRAMES[0]
    z = np.full(frame.shape, 5.0)
    z[:, :30] = np.nan
    moved = Outline(frame, shapely.box(20, 10, 40, 20)).moved(z, 4.0)
    cell = frame.row_areas[0]
    assert moved.unmeasured == pytest.approx(100 * cell) and moved.cut == pytest.approx(100 * cell)


def test_cut_of_one_over_the_other_is_fill_the_other_way():
    frame, rng = FRAMES[1], np.random.default_rng(9)
    a, b = rng.normal(size=frame.shape), rng.normal(size=frame.shape)
    outline = Outline(frame, star(4))
    there, back = outline.moved(a, b), outline.moved(b, a)
    assert (there.cut, there.fill, there.cut_area) == (back.fill, back.cut, back.fill_area)


@pytest.mark.parametrize("area", [
    shapely.Polygon([(0, 0), (10, 10), (10, 0), (0, 10)]), shapely.LineString([(0, 0), (5, 5)]), shapely.Polygon(),
])  # fmt: skip
def test_what_is_no_clean_area_is_refused(area):
    with pytest.raises(AskedWronglyError):
        Outline(FRAMES[0], area)

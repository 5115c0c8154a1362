"""Outlines of cells: against the tracer of the raster library (rasterio.features.shapes, GDAL), and contours traced in bands."""

import numpy as np
import pytest
import shapely
from rasterio.features import shapes as trace
from shapely.geometry import shape

from moss_step.model.frame import Frame
from moss_step.science.regrid import affine
from moss_step.science.relief import contour_tracing
from moss_step.science.relief import contours as tracer
from moss_step.science.zones.tracing import areas_of, parts_of
from tests.grounds import GROUNDS, metric


def of_the_library(numbered: np.ndarray, frame: Frame, count: int) -> list[shapely.Geometry]:
    parts: list[list[shapely.Geometry]] = [[] for _ in range(count)]
    for geometry, k in trace(numbered, mask=numbered > 0, connectivity=4, transform=affine(frame)):
        parts[int(k) - 1].append(shape(geometry))
    return [shapely.multipolygons(p) for p in parts]


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize(
    ("rows", "cols", "kinds"), [(1, 9, 2), (9, 1, 2), (12, 15, 1), (30, 23, 2), (40, 40, 5)]
)
def test_outlines_are_those_of_the_library(seed, rows, cols, kinds):
    numbered = np.random.default_rng(seed).integers(0, kinds + 1, (rows, cols)).astype(np.int32)
    frame = Frame(rows, cols, 1000.0, 2000.0, 2.0, 3.0, None)
    found, expected = areas_of(numbered, frame, kinds), of_the_library(numbered, frame, kinds)
    assert shapely.is_valid(found).all()
    assert shapely.equals(found, expected).all()
    assert shapely.area(found) == pytest.approx([6.0 * (numbered == k + 1).sum() for k in range(kinds)])


def test_corners_only_where_an_outline_turns_and_parts_that_touch_at_a_corner_apart():
    codes = np.array([[1, 1, 0], [1, 1, 0], [0, 0, 1]], np.uint8)
    found = parts_of(codes, 0, Frame(3, 3, 0.0, 3.0, 1.0, 1.0, None))
    assert list(found.number) == [1, 1]
    assert shapely.get_num_coordinates(found.geometry).tolist() == [5, 5]


def test_an_area_that_closes_at_a_corner_around_a_hole_is_valid():
    codes = np.array([[1, 1, 1], [1, 0, 1], [1, 1, 0]], np.uint8)
    (area,) = parts_of(codes, 0, Frame(3, 3, 0.0, 3.0, 1.0, 1.0, None)).geometry
    assert area.is_valid and len(area.interiors) == 1 and area.area == 7.0


@pytest.mark.parametrize("name", GROUNDS)
def test_contours_traced_in_bands_are_those_of_the_whole(name, monkeypatch):
    ground = GROUNDS[name]
    interval = float(np.ptp(ground.range)) / 7.3
    whole = tracer.contours(ground, interval)
    monkeypatch.setattr(contour_tracing, "BAND_CELLS", 7 * ground.frame.cols)
    banded = tracer.contours(ground, interval)
    for column in ("elevation", "index", "closed", "depression"):
        assert sorted(banded.columns[column]) == sorted(whole.columns[column])
    assert sorted(banded.columns["length_m"]) == pytest.approx(sorted(whole.columns["length_m"]))
    assert shapely.equals(shapely.union_all(banded.geometry), shapely.union_all(whole.geometry)) or (
        shapely.hausdorff_distance(shapely.union_all(banded.geometry), shapely.union_all(whole.geometry))
        < 1e-6 * ground.frame.dx
    )


def test_a_ring_over_many_bands_is_one_closed_line(monkeypatch):
    rows, cols = np.mgrid[0:60, 0:50]
    hill = metric(100.0 - np.hypot(rows - 30.2, cols - 25.1))
    monkeypatch.setattr(contour_tracing, "BAND_CELLS", 3 * 50)
    made = tracer.contours(hill, 10.0)
    inner = made.columns["elevation"] >= 80.0
    assert made.columns["closed"][inner].all() and inner.sum() == 2 and not made.columns["depression"].any()

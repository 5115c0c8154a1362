import numpy as np
import pytest
import shapely
from exactextract import exact_extract
from exactextract.raster import NumPyRasterSource
from numpy.testing import assert_allclose, assert_array_equal
from pyproj import Geod
from skimage.measure import label

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.relief.profile import profile
from moss_step.science.zones import coverage, ordering
from moss_step.science.zones.outlines import classes_to_areas, mask_surface, patches, shapes_to_grid
from moss_step.science.zones.statistics import STATISTICS, class_areas, zone_statistics
from moss_step.science.zones.tessellate import tessellate
from tests.conftest import UTM, plane, surface
from tests.grounds import GROUNDS


def random_classes(seed=0, shape=(60, 80)):
    rng = np.random.default_rng(seed)
    codes = rng.integers(0, 3, shape).astype(np.uint8)
    codes[codes == 2] = NO_CLASS
    frame = plane(*shape, 0, 0).frame
    return ClassMap(codes, frame, (ClassEntry(0, "no", "#000000"), ClassEntry(1, "yes", "#FFFFFF")))


@pytest.mark.parametrize("neighbours", [4, 8])
def test_patches_are_all_classed_cells_largest_first(neighbours):
    """As many patches as skimage.measure.label finds in each class (general library)."""
    classes = random_classes()
    made = patches(classes, neighbours)
    connectivity = 1 if neighbours == 4 else 2
    assert len(made) == sum(label(classes.codes == code, connectivity=connectivity).max() for code in (0, 1))
    assert made.columns["cells"].sum() == (classes.codes != NO_CLASS).sum()
    assert_allclose(shapely.area(made.geometry), made.columns["area_m2"])
    assert (np.diff(made.columns["area_m2"]) <= 0).all()


def test_patch_statistics_and_the_size_filter():
    codes = np.full((10, 10), NO_CLASS, np.uint8)
    codes[1:4, 1:4], codes[6, 6], codes[8:10, 8:10] = 1, 1, 1
    classes = ClassMap(codes, plane(10, 10, 0, 0).frame, (ClassEntry(1, "steep", "#CF7340"),))
    dem = surface(np.arange(100.0).reshape(10, 10))
    made = patches(classes, 8, 2, dem)
    assert made.columns["cells"].tolist() == [9, 4] and made.columns["highest"].tolist() == [33, 99]
    assert made.columns["mean"].tolist() == [22, 93.5] and made.columns["name"].tolist() == ["steep", "steep"]
    with pytest.raises(MossError, match="No patch has 50 cells"):
        patches(classes, 8, 50)


def test_classes_to_areas_and_back():
    classes = random_classes(3)
    areas = classes_to_areas(classes)
    counts = [(classes.codes == c).sum() * 4.0 for c in (0, 1)]
    assert_allclose(areas.columns["area_m2"], counts)
    assert_allclose(shapely.area(areas.geometry), counts)
    again = shapes_to_grid(areas, classes.frame, "name")
    names = {c.code: c.name for c in again.classes}
    for code, name in ((0, "no"), (1, "yes")):
        assert {names[int(v)] for v in again.codes[classes.codes == code]} == {name}
    with pytest.raises(AskedWronglyError, match="no column 'kind'"):
        shapes_to_grid(areas, classes.frame, "kind")


def test_masks_keep_one_side():
    dem = plane(20, 20, 0.1, 0)
    area = Shapes(np.array([shapely.box(412_000, 5_871_970, 412_020, 5_872_000)]), {}, UTM)
    inside, outside = mask_surface(dem, area, "inside"), mask_surface(dem, area, "outside")
    assert inside.valid_count == 150 and outside.valid_count == 250
    assert (np.isnan(inside.values) ^ np.isnan(outside.values)).all()


@pytest.mark.parametrize(
    ("tile", "area"), [("hexagon", 0.8660254 * 2500), ("square", 2500.0), ("triangle", 0.4330127 * 2500)]
)
def test_tiles_cover_the_extent_without_gaps_or_overlaps(tile, area):
    frame = plane(200, 300, 0, 0).frame
    made = tessellate(frame, tile, 50.0)
    assert_allclose(made.columns["area_m2"], area, rtol=1e-6)
    extent = shapely.box(*frame.box)
    parts = shapely.intersection(made.geometry, extent)
    assert shapely.area(parts).sum() == pytest.approx(extent.area)
    assert extent.difference(shapely.union_all(made.geometry)).area < 1e-3
    assert shapely.intersects(made.geometry, extent).all()


def test_tiles_over_areas_and_bad_spacings():
    frame = plane(200, 300, 0, 0).frame
    keep = Shapes(np.array([shapely.box(412_100, 5_871_800, 412_150, 5_871_850)]), {}, UTM)
    assert 0 < len(tessellate(frame, "hexagon", 50.0, keep)) < 12
    with pytest.raises(AskedWronglyError, match="smaller than a cell"):
        tessellate(frame, "hexagon", 1.0)
    with pytest.raises(MossError, match="in degrees"):
        tessellate(Frame(5, 5, 0, 50, 0.1, 0.1, "EPSG:4326"), "square", 1e5)
    with pytest.raises(MossError, match="No tile meets"):
        tessellate(frame, "square", 50.0, Shapes(np.array([shapely.box(0, 0, 1, 1)]), {}, UTM))


def zones_and_ground(overlapping=False):
    rng = np.random.default_rng(1)
    dem = surface(rng.integers(0, 12, (80, 100)).astype(float))
    dem = Surface(
        np.where(rng.random((80, 100)) < 0.1, np.nan, dem.values).astype(np.float32), dem.frame, METRE
    )
    centres = [(412_040, 5_871_940), (412_120, 5_871_900), (412_150, 5_871_890 if overlapping else 5_871_960)]
    return Shapes(
        np.array([shapely.Point(p).buffer(28) for p in centres]),
        {"name": np.array(["a", "b", "c"], object)},
        UTM,
    ), dem


@pytest.mark.parametrize("overlapping", [False, True])
def test_zone_statistics_equal_a_mask_per_zone_in_numpy(overlapping):
    """Each zone's cells by testing every centre with shapely, then NumPy (general libraries)."""
    zones, dem = zones_and_ground(overlapping)
    found = zone_statistics(zones, dem, list(STATISTICS))
    r, c = np.mgrid[0:80, 0:100]
    xs, ys = dem.frame.x0 + (c + 0.5) * 2, dem.frame.y0 - (r + 0.5) * 2
    for k, g in enumerate(zones.geometry):
        v = dem.values[shapely.contains_xy(g, xs, ys)].astype(float)
        v = v[~np.isnan(v)]
        distinct, counts = np.unique(v, return_counts=True)
        expected = {"count": v.size, "sum": v.sum(), "mean": v.mean(), "median": np.median(v), "min": v.min(), "max": v.max(),
                    "range": np.ptp(v), "std": v.std(), "variety": distinct.size, "p10": np.percentile(v, 10),
                    "p25": np.percentile(v, 25), "p75": np.percentile(v, 75), "p90": np.percentile(v, 90)}  # fmt: skip
        for name, value in expected.items():
            assert found[name][k] == pytest.approx(value, rel=1e-5), name
        assert counts[distinct == found["majority"][k]] == counts.max()
        assert counts[distinct == found["minority"][k]] == counts.min()


def test_coverage_weights_equal_exactextract():
    """exactextract called by hand on the same values (general library)."""
    zones, dem = zones_and_ground()
    found = zone_statistics(zones, dem, ["mean", "count", "range"], "coverage")
    source = NumPyRasterSource(
        dem.values.astype(float), *(dem.frame.box[i] for i in (0, 1, 2, 3)), nodata=np.nan
    )
    features = [
        {"type": "Feature", "properties": {}, "geometry": shapely.geometry.mapping(g)} for g in zones.geometry
    ]
    theirs = [f["properties"] for f in exact_extract(source, features, ["mean", "count", "min", "max"])]
    assert_allclose(found["mean"], [t["mean"] for t in theirs])
    assert_allclose(found["count"], [t["count"] for t in theirs])
    assert_allclose(found["range"], [t["max"] - t["min"] for t in theirs])


def test_zones_that_cannot_be_used():
    zones, dem = zones_and_ground()
    with pytest.raises(AskedWronglyError, match="'mode' is not a statistic"):
        zone_statistics(zones, dem, ["mode"])
    far = Shapes(np.array([shapely.box(0, 0, 1, 1)]), {}, UTM)
    with pytest.raises(MossError, match="No zone meets the surface"):
        zone_statistics(far, dem, ["mean"])
    bow = Shapes(
        np.array(
            [
                shapely.Polygon(
                    [(412_000, 5_871_900), (412_100, 5_871_980), (412_100, 5_871_900), (412_000, 5_871_980)]
                )
            ]
        ),
        {},
        UTM,
    )
    assert zone_statistics(bow, dem, ["count"])["count"][0] > 0, "a crossed outline is mended"
    beside = Shapes(np.append(zones.geometry, shapely.box(0, 0, 1, 1)), {}, UTM)
    assert zone_statistics(beside, dem, ["count", "mean"])["count"][3] == 0


def test_class_areas_per_zone_add_up():
    classes = random_classes(2)
    zones = tessellate(classes.frame, "square", 40.0)
    table = class_areas(zones, classes)
    assert table["yes"].sum() == pytest.approx((classes.codes == 1).sum() * 4.0)


def test_a_profile_reads_planes_exactly_and_measures_true_distances():
    dem = plane(100, 100, 0.25, -0.5)
    line = shapely.LineString([(412_010.0, 5_871_990.0), (412_150.0, 5_871_850.0)])
    table = profile({"value": dem}, line)
    x, y = table.columns["x"], table.columns["y"]
    expected = 500 + (x - 412_001) * 0.25 + (y - 5_871_999) * -0.5
    assert_allclose(table.columns["value"], expected, atol=2e-3)
    assert table.columns["distance"][-1] == pytest.approx(line.length)
    degrees = Surface(
        np.ones((50, 50), np.float32), Frame(50, 50, 10.0, 50.0, 0.01, 0.01, "EPSG:4326"), METRE
    )
    table = profile({"value": degrees}, shapely.LineString([(10.1, 49.9), (10.3, 49.7)]))
    assert table.columns["distance"][-1] == pytest.approx(
        Geod(ellps="WGS84").inv(10.1, 49.9, 10.3, 49.7)[2], rel=1e-6
    )
    with pytest.raises(AskedWronglyError, match="no length"):
        profile({"value": dem}, shapely.LineString([(0, 0), (0, 0)]))


@pytest.mark.parametrize("weigh", ["cells", "area"])
def test_statistics_by_coverage_are_those_of_the_library_with_large_areas_in_bands(weigh, monkeypatch):
    """exactextract's own statistics of the whole areas (general library), where ours are added up band by band."""
    rng = np.random.default_rng(4)
    values = rng.normal(300.0, 20.0, (90, 70))
    values[rng.random((90, 70)) < 0.1] = np.nan
    frame = Frame(90, 70, -2.0, 60.0, 0.02, 0.01, "EPSG:4326")
    dem = Surface(values, frame, METRE)
    west, south, east, north = frame.box
    round_one = shapely.Point((west + east) / 2, (south + north) / 2).buffer(0.4213)
    beyond = shapely.box(west - 1.0, north - 0.3334, west + 0.1117, north + 1.0)
    ring = round_one.difference(round_one.buffer(-0.2)).union(
        shapely.box(east - 0.013, south, east, south + 0.005)
    )
    zones = Shapes(np.array([round_one, beyond, ring, shapely.box(70, 0, 71, 1)], object), {}, "EPSG:4326")
    monkeypatch.setattr(coverage, "_PIECE", 300)
    monkeypatch.setattr(ordering, "_PIECE", 100)
    plain = ["count", "sum", "min", "max", "variety", "median"]
    found = zone_statistics(zones, dem, [*plain, "mean", "std", "p10", "p90"], "coverage", weigh=weigh)
    source = NumPyRasterSource(values, *frame.box, nodata=np.nan)
    areas = NumPyRasterSource(
        np.ascontiguousarray(np.broadcast_to(frame.row_areas[:, None], frame.shape)), *frame.box
    )
    features = [
        {"type": "Feature", "properties": {}, "geometry": shapely.geometry.mapping(g)}
        for g in zones.geometry[:3]
    ]
    of = (
        {"mean": "mean", "std": "stdev"}
        if weigh == "cells"
        else {"mean": "weighted_mean", "std": "weighted_stdev"}
    )
    asked = [
        *plain,
        *(f"{ours}={theirs}" for ours, theirs in of.items()),
        "q=quantile(q=0.1)",
        "r=quantile(q=0.9)",
    ]
    theirs = [
        f["properties"]
        for f in exact_extract(source, features, asked, weights=areas if weigh == "area" else None)
    ]
    for name, other in {
        **{n: n for n in plain},
        "mean": "mean",
        "std": "std",
        "p10": "q_10",
        "p90": "r_90",
    }.items():
        assert_allclose(found[name][:3], [float(t[other]) for t in theirs], rtol=1e-6, err_msg=name)
    assert found["count"][3] == 0 and np.isnan(found["median"][3]) and found["variety"][3] == 0
    rounded = Surface(np.round(values / 20.0), frame, METRE)
    source = NumPyRasterSource(rounded.values, *frame.box, nodata=np.nan)
    found = zone_statistics(zones, rounded, ["majority", "minority", "variety"], "coverage")
    for name in ("majority", "minority", "variety"):
        assert_allclose(
            found[name][:3], [f["properties"][name] for f in exact_extract(source, features, [name])]
        )


def test_values_in_order_are_those_of_one_sort(monkeypatch):
    rng, heard = np.random.default_rng(5), []
    monkeypatch.setattr(ordering, "_PIECE", 50)
    for values in (rng.normal(size=2_345), np.repeat([3.0, 1.0, 2.0], 400), np.zeros(333)):
        weights = rng.random(len(values))
        ours, theirs = ordering.in_order(Progress(lambda f, _: heard.append(f)), values, weights)
        assert_array_equal(ours, np.sort(values))
        assert_allclose(
            np.bincount(np.searchsorted(np.unique(ours), ours), theirs),
            np.bincount(np.unique(values, return_inverse=True)[1], weights),
        )
        assert_array_equal(ordering.in_order(silent(), values)[0], ours)
    assert len(heard) > 100


@pytest.mark.parametrize("name", GROUNDS)
def test_statistics_by_coverage_are_those_of_the_mirrored_ground(name):
    """On every common ground: cells 1:4, degrees, holes and a rim, feet, small relief on a large base; turned south up with its zones."""
    ground = GROUNDS[name]
    west, south, east, north = ground.frame.box
    zones = np.array(
        [
            shapely.box(
                west + 3.3 * ground.frame.dx, south, east - 1.7 * ground.frame.dx, (2 * south + north) / 3
            )
        ],
        object,
    )
    turned = shapely.transform(zones, lambda xy: np.column_stack([xy[:, 0], south + north - xy[:, 1]]))
    wanted = ["count", "mean", "std", "min", "max", "median", "p10", "variety"]
    one, other = (
        zone_statistics(
            Shapes(g, {}, ground.frame.crs), Surface(v, ground.frame, ground.unit), wanted, "coverage"
        )
        for g, v in ((zones, ground.values), (turned, ground.values[::-1]))
    )
    assert one["count"][0] > 100
    for statistic in wanted:
        assert_allclose(one[statistic], other[statistic], rtol=1e-6, err_msg=statistic)

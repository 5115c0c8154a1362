"""Steps do what they say and say what they take: defaults, weights, units, settings that count for nothing, grids that do not meet."""

import numpy as np
import pytest
import shapely
from numpy.testing import assert_allclose
from scipy.ndimage import label

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import CELLS, METRE, NONE, UNKNOWN, Unit
from moss_step.science.algebra.voids import fill_voids
from moss_step.science.grid_check import suspicions
from moss_step.science.relief.position import local_relief, position
from moss_step.science.water import network, ridges
from moss_step.science.water.drainage import accumulated, prepare
from moss_step.science.water.kernels.neighbours import OUT
from moss_step.science.zones.statistics import class_areas, zone_statistics
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import InputSpec
from moss_step.steps.water import stream_area
from moss_step.study.declared import METRES_TAKEN, run_declared
from tests.cases import KINDS, as_is, given_for, input_for, result_of
from tests.conftest import UTM, plane, surface
from tests.grounds import holed, in_degrees, metric, relief


def run(kind: str, settings: dict[str, object] | None = None, **inputs: object) -> Outcome:
    return result_of(kind, settings or {}, inputs)


def figures(outcome: Outcome) -> dict[str, float]:
    return {f.name: f.value for f in outcome.findings if not f.of}


def padded(dem: Surface, rim: int = 20) -> Surface:
    f = dem.frame
    frame = Frame(f.rows + 2 * rim, f.cols + 2 * rim, f.x0 - rim * f.dx, f.y0 + rim * f.dy, f.dx, f.dy, f.crs)
    return Surface(np.pad(dem.values, rim, constant_values=np.nan), frame, dem.unit)


# --- the ground that has heights

WIDE = metric(relief(14, 240, 260), 20.0, 20.0)


@pytest.mark.parametrize("kind", ["streams", "drain_height", "stream_basins", "ridges_valleys", "basins"])
def test_defaults_follow_the_ground_and_not_its_frame(kind):
    """The same ground in a frame of no-data three times as large: the same lines, areas and figures."""
    one, other = run(kind, dem=WIDE), run(kind, dem=padded(WIDE, 150))
    assert one.figure == other.figure
    assert figures(one) == pytest.approx(figures(other), rel=1e-6)
    if isinstance(one.value, Shapes):
        for name, values in one.value.columns.items():
            if values.dtype.kind == "f" and not name.endswith(("_x", "_y")):
                assert_allclose(np.sort(other.value.columns[name]), np.sort(values), rtol=1e-5, atol=1e-9)


def test_the_stated_least_area_is_a_400th_in_whole_hectares_and_at_least_one():
    drainage = prepare(WIDE)
    assert stream_area(None, drainage) == round(240 * 260 * 400.0 / 400.0, -4)
    assert stream_area(None, prepare(metric(relief(1)))) == 10_000.0
    for kind in ("streams", "drain_height", "stream_basins"):
        help_text = catalogue()[kind].settings.listed()["min_area"].description
        assert "400th" in help_text and "at least 1 ha" in help_text


def test_drain_height_and_streams_know_the_same_drains():
    """An outlet with enough ground and no stream above it makes no line, and so is no drain."""
    z = np.full((9, 9), 10.0)
    z[:, 4], z[4, 4] = 9.0, 8.0
    r, c = np.mgrid[0:9, 0:9]
    drainage = prepare(metric(z + 0.01 * r + 0.001 * c))
    for least in (300.0, 1000.0, 3000.0):
        stream = network.stream_cells(drainage, least)
        ends = (stream == 1) & (drainage.ways == OUT)
        try:
            lines = network.network(drainage, stream)
        except MossError:
            assert not stream.any()
            continue
        held = np.zeros(stream.size, bool)
        held[np.concatenate(lines.cells)] = True
        assert np.array_equal(held.reshape(stream.shape), stream == 1) and ends.sum() <= len(lines.cells)


# --- units that are not stated


@pytest.mark.parametrize(
    "name", sorted(n for n, k in KINDS.items() if any(s.quantity == "elevation" for s in k.inputs))
)
def test_an_unstated_height_unit_is_metres_everywhere_and_that_is_said(name):
    kind, ground = KINDS[name], metric(relief(21))
    unknown = Surface(ground.values, ground.frame, UNKNOWN)
    results = []
    for dem in (ground, unknown):
        inputs = {
            s.name: input_for(s, kind, dem, as_is(dem))
            for s in kind.inputs
            if not s.optional or s.quantity == "elevation"
        }
        results.append(run_declared(kind, given_for(kind, as_is(dem), dem), inputs, silent()))
    known, taken = results
    assert METRES_TAKEN in taken.warnings and METRES_TAKEN not in known.warnings
    values = [
        r.value.values
        if isinstance(r.value, Surface)
        else np.array([f.value for f in r.findings if isinstance(f.value, float)])
        for r in results
    ]
    assert_allclose(values[1], values[0], rtol=1e-6)


@pytest.mark.parametrize(
    ("text", "said"),
    [("yd", None), ("dm", None), ("cubit", "which is not known here: metres are taken"), ("", "not stated")],
)
def test_a_unit_that_a_file_states_is_known_or_named(text, said, tmp_path):
    from moss_step.formats.raster import describe
    from tests.conftest import write_tif

    path = write_tif(tmp_path / "a.tif", relief(1).astype(np.float32), unit=text)
    found = run("open_grid", {"source": str(path)})
    assert describe(path).unit_text == text
    heard = [w for w in found.warnings if "unit" in w]
    assert (
        (not heard and found.value.unit.kind == "length")
        if said is None
        else any(said in w and text in w for w in heard)
    )


def test_a_system_that_stretches_the_ground_is_named_with_how_much():
    """Web Mercator stretches by 1 / cos(latitude), near enough on the ellipsoid (Snyder 1987): 2 times at 60 north."""
    frame = Frame(10, 10, 0.0, 8_399_737.9, 30.0, 30.0, "EPSG:3857")
    said = next(
        w for w in suspicions(Surface(np.zeros((10, 10), np.float32), frame, METRE)) if "times its size" in w
    )
    assert "2.00 times" in said or "1.99 times" in said
    assert not any("times its size" in w for w in suspicions(metric(relief(1))))


# --- weights, shares, amounts


def test_weighted_accumulation_has_the_unit_of_its_weights_and_says_what_is_missing():
    rain = Unit("mm_of_rain", "mm", "none")
    dem = plane(6, 8, -0.5, 0.1)
    weights = np.full((6, 8), 2.0, np.float32)
    weights[2, 3] = np.nan
    given = Surface(weights, dem.frame, rain, "value")
    made = run("flow_accumulation", {}, dem=dem, weights=given)
    assert made.value.unit == rain and any("1 cells of the ground have no weight" in w for w in made.warnings)
    by_area = run("flow_accumulation", {"unit": "area"}, dem=dem, weights=given)
    assert by_area.value.unit == NONE and any("times square metres" in w for w in by_area.warnings)
    assert run("flow_accumulation", {}, dem=dem).value.unit == CELLS
    at = ((dem.frame.x_of(2), dem.frame.y_of(2)),)
    for kind in ("viewshed", "best_places"):
        assert any("have no weight" in w for w in run(kind, {"at": at}, dem=dem, weights=given).warnings)


@pytest.mark.parametrize("method", ["d8", "freeman", "dinf"])
def test_what_is_fed_from_the_edge_goes_by_the_method(method):
    """Cells that get any water of the edge cells by the same method, added up on its own (mathematics: a weight of 1 at the edge, 0 elsewhere)."""
    dem = metric(relief(17))
    edge = np.zeros(dem.frame.shape, np.float32)
    edge[[0, -1]] = edge[:, [0, -1]] = 1.0
    fed = accumulated(prepare(dem), method, "cells", Surface(edge, dem.frame, CELLS)).values > 0
    made = run("flow_accumulation", {"method": method, "edges": "blank"}, dem=dem).value.values
    assert np.array_equal(np.isnan(made), fed)


def test_freemans_exponent_is_stated_and_can_be_set():
    """A high exponent sends all to the steepest neighbour, as D8 does (Freeman 1991); it is refused beside other methods."""
    dem = metric(relief(17))
    usual = run("flow_accumulation", {"method": "freeman"}, dem=dem)
    assert any("power of 1.1" in w for w in usual.warnings)
    steep = run("flow_accumulation", {"method": "freeman", "exponent": 20.0}, dem=dem)
    single = run("flow_accumulation", {}, dem=dem)
    apart = [np.abs(np.log(o.value.values / single.value.values)).mean() for o in (steep, usual)]
    assert apart[0] < 0.5 * apart[1] and any("power of 20" in w for w in steep.warnings)
    for kind in ("flow_accumulation", "wetness", "stream_power"):
        with pytest.raises(AskedWronglyError, match="exponent counts only with method=freeman"):
            run(kind, {"method": "d8", "exponent": 3.0}, dem=dem)


def test_each_catchment_measures_its_ways_to_its_own_outlet():
    """Two halves of a plane that falls east: within each the way down counts to its own edge (mathematics)."""
    dem = plane(6, 20, -0.5, 0.0)
    xmin, ymin, xmax, ymax = dem.frame.box
    halves = Shapes(
        np.array(
            [shapely.box(xmin, ymin, xmin + 16, ymax), shapely.box(xmin + 16, ymin, xmax, ymax)], object
        ),
        {},
        UTM,
    )
    down = run("flow_length", {}, dem=dem, area=halves).value.values
    assert down[3].tolist() == [*(2.0 * k for k in range(7, -1, -1)), *(2.0 * k for k in range(11, -1, -1))]
    up = run("flow_length", {"side": "up"}, dem=dem, area=halves).value.values
    assert up[3].tolist() == [*(2.0 * k for k in range(8)), *(2.0 * k for k in range(12))]


def test_a_pond_counts_the_water_that_its_bund_adds():
    """A level hollow 2 m deep that is full before, in a trough dammed 3 m above its rim: only what is added counts (mathematics)."""
    z = np.full((40, 31), 20.0)
    z[:, 10:20] = 10.0 - 0.001 * np.arange(40)[:, None]
    z[20:24, 12:18] = 8.0
    dem = surface(z)
    line = (412_000 + 18.0, 5_872_000 - 70.0, 412_000 + 42.0, 5_872_000 - 70.0)
    made = run("pond", {"line": line, "crest": 12.0}, dem=dem)
    found = figures(made)
    deep = float(np.nansum(made.value.values)) * 4.0
    before = float(prepare(dem).filled().astype(float).sum() - dem.values.astype(float).sum()) * 4.0
    assert found["volume_before_m3"] == pytest.approx(before, rel=1e-3) and before > 150.0
    assert found["volume_m3"] == pytest.approx(deep - before, rel=1e-3)
    assert any("stood there before" in w for w in made.warnings)
    curve = run("pond.curve", {"line": line, "crest": 12.0}, dem=dem)
    assert curve.value.columns["volume_m3"][-1] == pytest.approx(found["volume_m3"], rel=1e-6)


def test_no_pool_is_shallower_than_the_least_depth():
    dem = metric(np.random.default_rng(5).normal(size=(60, 60)) * 3)
    for least in (0.5, 2.0, 4.0):
        made = run("basins", {"min_depth": least}, dem=dem).value.columns
        assert ((made["pool_depth"] == 0.0) | (made["pool_depth"] >= least)).all()
        assert (made["pool_m3"][made["pool_depth"] == 0.0] == 0.0).all()


def test_a_plain_roof_has_its_ridge_and_a_trough_its_valley():
    """Two planes that meet: one line along where they meet, as long as the roof, at its slope to both sides, with nothing set (mathematics)."""
    r, c = np.mgrid[0:60, -40:41]
    for sign, kind in ((-1.0, "ridge"), (1.0, "valley")):
        dem = metric(200.0 + sign * np.abs(c) * 4.0 + (sign * 0.02) * r)
        made = run("ridges_valleys", {}, dem=dem).value
        at = np.flatnonzero(made.columns["kind"] == kind)
        longest = at[np.argmax(made.columns["length_m"][at])]
        assert made.columns["length_m"][longest] > 500.0
        assert 12.0 < made.columns["steepness_deg"][longest] < np.degrees(np.arctan(0.4)) + 0.1, (
            "but for the way up to its head"
        )
        x = shapely.get_coordinates(made.geometry[longest])[:, 0]
        assert np.abs(np.median(x) - dem.frame.x_of(40)) < 10.0


def test_ridges_are_kept_whole_by_their_whole_length():
    """Lines of a stem are joined: together they are as long as the links of the network that they come from."""
    drainage = prepare(metric(relief(3)))
    found = network.network(drainage, network.stream_cells(drainage, 3000.0))
    stems, _ = network.main_stems(drainage, found)
    links = network.stream_lines(drainage, found)
    lines = ridges.ridges_and_valleys(drainage.dem, "valleys", 3000.0)
    assert len(stems) == len(lines) < len(links)
    assert lines.columns["length_m"].sum() == pytest.approx(links.columns["length_m"].sum())


def test_a_radius_below_a_cell_is_refused_and_an_inner_one_needs_a_ring():
    dem = metric(relief(1))
    for measure in (local_relief, position):
        with pytest.raises(AskedWronglyError, match="less than a cell"):
            measure(dem, 9.0)
    with pytest.raises(AskedWronglyError, match="inner counts only with window=ring"):
        run("position", {"radius": 40.0, "inner": 20.0}, dem=dem)


def test_standing_shapes_without_a_height_are_said_to_stand_ten_metres():
    dem = plane(30, 30, 0.0, 0.0)
    at = ((dem.frame.x_of(3), dem.frame.y_of(15)),)
    walls = Shapes(
        np.array([shapely.LineString([(412_030, 5_871_940), (412_030, 5_872_000)])], object), {}, UTM
    )
    own = Shapes(walls.geometry, {"height": np.array([4.0])}, UTM)
    for kind in (
        "viewshed",
        "which_see",
        "mast_height",
        "horizon_angle",
        "horizon",
        "horizon.skyline",
        "best_places",
    ):
        assert any(
            "stand 10 m above the ground" in w
            for w in run(kind, {"at": at}, dem=dem, barriers=walls).warnings
        )
        assert not any("stand 10 m" in w for w in run(kind, {"at": at}, dem=dem, barriers=own).warnings)
    ends = {"ends": (412_005, 5_871_970, 412_055, 5_871_970)}
    assert any(
        "stand 10 m above the ground" in w for w in run("sight_line", ends, dem=dem, barriers=walls).warnings
    )
    with pytest.raises(AskedWronglyError, match="barrier_height counts only with barriers"):
        run("viewshed", {"at": at, "barrier_height": 3.0}, dem=dem)


# --- settings that would count for nothing


@pytest.mark.parametrize(
    ("kind", "settings", "extra"),
    [
        ("combine", {"rule": "sum", "weights": "1,2"}, ""),
        ("classify", {"rules": "fao_slope", "count": 7}, ""),
        ("viewshed", {"at": "1,2", "curvature": False, "refraction": 0.2}, ""),
        ("viewshed", {"at": "1,2"}, "observers"),
        ("catchment", {"at": "1,2"}, "outlets"),
        ("flow_path", {"start": "1,2"}, "starts"),
        ("pond", {"line": "1,2,3,4", "crest": 5.0}, "bund"),
        ("profile", {"line": "1,2,3,4"}, "path"),
        ("sight_line", {"ends": "1,2,3,4"}, "line"),
        ("best_places", {"at": "1,2", "spacing": 50.0}, ""),
        ("choose_shapes", {"where": "value > 0", "relation": "within"}, ""),
    ],
)
def test_a_setting_that_counts_for_nothing_is_refused(kind, settings, extra):
    step, dem = catalogue()[kind], metric(relief(1))
    inputs = {s.name: input_for(s, step, dem, as_is(dem)) for s in step.inputs if not s.optional}
    if extra:
        inputs[extra] = input_for(next(s for s in step.inputs if s.name == extra), step, dem, as_is(dem))
    if step.further is not None and kind == "combine":
        inputs |= {n: input_for(step.further, step, dem, as_is(dem)) for n in ("a", "b")}
    with pytest.raises(AskedWronglyError, match=r"counts only with"):
        run_declared(step, settings, inputs, silent())


def test_an_older_study_opens_without_the_settings_that_never_counted():
    mast, position_step = catalogue()["mast_height"], catalogue()["position"]
    assert mast.cleaned({"target_height": 5.0, "observer_height": 3.0}, ()) == {"observer_height": 3.0}
    assert position_step.cleaned({"window": "disk", "inner": 5.0, "radius": 30.0}, ()) == {
        "window": "disk",
        "radius": 30.0,
    }


# --- grids that do not meet

TWO_GRIDS = sorted(
    (n, tuple(names))
    for n, k in KINDS.items()
    if len(names := [s.name for s in k.inputs if s.accepts in ("surface", "classes")]) > 1
    or (k.further and k.further.accepts in ("surface", "classes"))
)
ANYWHERE = {
    "survey_change": "reads the earlier survey at the cells of the later one, and says so",
    "cut_fill": "reads the base at the cells of the ground, and says so",
    "interpolate": "reads the drift where the places and the cells lie",
    "merge": "puts grids beside one another",
    "profile": "reads each surface where the line runs",
    "resample": "carries one grid onto the cells of another",
}


@pytest.mark.parametrize("apart", ["400 km away", "another shape"])
@pytest.mark.parametrize(("name", "grids"), [(n, g) for n, g in TWO_GRIDS if n not in ANYWHERE])
def test_grids_that_do_not_lie_cell_on_cell_are_refused_in_words(name, grids, apart):
    kind, dem = KINDS[name], metric(relief(1))
    f = dem.frame
    far = Surface(dem.values, Frame(f.rows, f.cols, f.x0 + 400_000, f.y0, f.dx, f.dy, f.crs), METRE)
    other = far if apart == "400 km away" else metric(relief(2, 20, 25))
    inputs = {s.name: input_for(s, kind, dem, as_is(dem)) for s in kind.inputs if not s.optional}
    if kind.further is not None and kind.further.accepts in ("surface", "classes"):
        inputs |= {
            "a": input_for(kind.further, kind, dem, as_is(dem)),
            "b": input_for(kind.further, kind, other, as_is(other)),
        }
        settings = {"expression": "a + b"} if name == "formula" else given_for(kind, as_is(dem), dem)
        with pytest.raises(MossError, match="do not lie cell on cell"):
            run_declared(kind, settings, inputs, silent())
    for spec in [s for s in kind.inputs if s.name in grids[1:]]:
        assert isinstance(spec, InputSpec)
        mixed = {**inputs, spec.name: input_for(spec, kind, other, as_is(other))}
        with pytest.raises(MossError, match="do not lie cell on cell"):
            run_declared(kind, given_for(kind, as_is(dem), dem), mixed, silent())


def test_a_profile_reads_surfaces_of_other_systems_where_the_line_runs_in_theirs():
    """The same plane in metres and in degrees: the same values along one line (pyproj, general library)."""
    from pyproj import Transformer

    dem = metric(relief(1))
    turn = Transformer.from_crs("EPSG:4326", UTM, always_xy=True)
    to = Transformer.from_crs(UTM, "EPSG:4326", always_xy=True)
    west, north = to.transform(dem.frame.x0 - 200.0, dem.frame.y0 + 200.0)
    frame = Frame(600, 600, west, north, 2e-5, 2e-5, "EPSG:4326")
    lon, lat = np.meshgrid([frame.x_of(c) for c in range(600)], [frame.y_of(r) for r in range(600)])
    x, y = turn.transform(lon, lat)
    sloping = Surface((0.01 * (x - 412_000) + 0.02 * (y - 5_871_000)).astype(np.float32), frame, METRE)
    plain = metric(
        np.array(
            [
                [
                    0.01 * (dem.frame.x_of(c) - 412_000) + 0.02 * (dem.frame.y_of(r) - 5_871_000)
                    for c in range(42)
                ]
                for r in range(36)
            ]
        )
    )
    made = run(
        "profile", {"line": (412_020.0, 5_871_990.0, 412_060.0, 5_871_950.0)}, surface=plain, other=sloping
    )
    assert_allclose(made.value.columns["other"], made.value.columns["value"], atol=2e-3)
    assert any("another reference system" in w for w in made.warnings)


# --- voids and zones


@pytest.mark.parametrize(("dx", "dy"), [(10.0, 10.0), (40.0, 10.0), (10.0, 40.0)])
def test_a_void_in_a_plane_is_the_plane(dx, dy):
    """Exactly, whatever the shape of the cells (mathematics); and mirrored with the ground."""
    r, c = np.mgrid[0:20, 0:24]
    z = 100.0 + 0.3 * c * dx - 0.2 * r * dy
    hole = np.zeros(z.shape, bool)
    hole[6:11, 8:14], hole[15, 3] = True, True
    made, voids = fill_voids(metric(np.where(hole, np.nan, z), dx, dy), 100)
    assert_allclose(made.values, z, rtol=1e-5)
    assert (len(voids.first), len(voids.cells)) == (2, 31)
    rough = np.where(hole, np.nan, relief(3, 20, 24))
    for turn in (lambda a: a[:, ::-1], lambda a: a[::-1], lambda a: a[::-1, ::-1]):
        one = fill_voids(metric(turn(rough), dx, dy), 100)[0].values
        assert_allclose(one, turn(fill_voids(metric(rough, dx, dy), 100)[0].values), rtol=1e-5)
    filled = fill_voids(metric(rough, dx, dy), 100)[0].values
    parts, n = label(hole)
    for k in range(1, n + 1):
        rim = np.pad(parts == k, 1)
        ring = (rim[:-2, 1:-1] | rim[2:, 1:-1] | rim[1:-1, :-2] | rim[1:-1, 2:]) & ~hole
        assert (
            rough[ring].min() - 1e-4 <= filled[parts == k].min()
            and filled[parts == k].max() <= rough[ring].max() + 1e-4
        )


def two_zones(ground: Surface) -> Shapes:
    xmin, ymin, xmax, ymax = ground.frame.box
    middle = (ymin + ymax) / 2
    return Shapes(
        np.array([shapely.box(xmin, ymin, xmax, middle), shapely.box(xmin, middle, xmax, ymax)], object),
        {"low_m2": np.zeros(2)},
        ground.frame.crs,
    )


def test_classes_that_share_a_name_keep_a_column_each():
    ground = metric(relief(1))
    codes = (np.arange(36)[:, None] % 3 * np.ones(42)).astype(np.uint8)
    entries = (
        ClassEntry(0, "low", "#CAD39B"),
        ClassEntry(1, "bog", "#CF7340"),
        ClassEntry(2, "bog", "#CF7340"),
    )
    classes = ClassMap(codes, ground.frame, entries)
    found = class_areas(two_zones(ground), classes)
    assert set(found) == {"low", "bog (1)", "bog (2)"}
    assert sum(v.sum() for v in found.values()) == pytest.approx(ground.frame.area)
    made = run("zone_classes", {}, zones=two_zones(ground), classes=classes).value
    assert {"low_m2", "low_m2_2", "bog_1_m2", "bog_2_m2"} <= set(made.columns), (
        "a column of the zones is not written over"
    )


def test_quantiles_by_coverage_are_those_of_whole_cells():
    """Zones along the borders of cells cover whole ones: numpy.percentile of the same cells (general library)."""
    ground = metric(relief(4))
    wanted = ["p10", "p25", "median", "p75", "p90", "range", "mean"]
    found = zone_statistics(two_zones(ground), ground, wanted, "coverage")
    for k, half in enumerate((ground.values[18:], ground.values[:18])):
        for name, share in (("p10", 10), ("p25", 25), ("median", 50), ("p75", 75), ("p90", 90)):
            assert found[name][k] == pytest.approx(np.percentile(half, share), abs=0.01 * float(np.ptp(half)))
        assert found["range"][k] == pytest.approx(np.ptp(half), rel=1e-5) and found["mean"][
            k
        ] == pytest.approx(half.mean(), rel=1e-5)


@pytest.mark.parametrize("weighting", ["centre", "coverage"])
def test_means_weigh_the_ground_when_asked(weighting):
    """Ten degrees of latitude: numpy.average with each row's own area (general library); the difference is said."""
    z = np.repeat(np.arange(40.0)[:, None], 10, axis=1).astype(np.float32)
    ground = Surface(z, Frame(40, 10, 0.0, 70.0, 0.25, 0.25, "EPSG:4326"), METRE)
    areas = np.repeat(ground.frame.row_areas[:, None], 10, axis=1)
    whole = Shapes(np.array([shapely.box(*ground.frame.box)], object), {}, "EPSG:4326")
    plain = run(
        "zone_statistics", {"statistics": "mean,std", "weighting": weighting}, zones=whole, surface=ground
    )
    weighed = run(
        "zone_statistics",
        {"statistics": "mean,std", "weighting": weighting, "weigh": "area"},
        zones=whole,
        surface=ground,
    )
    mean = np.average(z, weights=areas)
    assert plain.value.columns["mean"][0] == pytest.approx(z.mean()) and weighed.value.columns["mean"][
        0
    ] == pytest.approx(mean)
    assert weighed.value.columns["std"][0] == pytest.approx(
        np.sqrt(np.average((z - mean) ** 2, weights=areas)), rel=1e-5
    )
    assert any("weigh=area" in w for w in plain.warnings) and not any(
        "weigh=area" in w for w in weighed.warnings
    )


def test_a_deviation_of_millimetres_at_4000_metres_keeps_its_digits():
    """In double precision, against numpy.std (general library)."""
    small = np.random.default_rng(2).normal(size=(36, 42)) * 1e-3
    high = Surface(small + 4000.0, metric(small).frame, METRE)
    found = zone_statistics(two_zones(high), high, ["std", "mean"])
    assert found["std"][1] == pytest.approx(small[:18].std(), rel=1e-6) and found["mean"][
        1
    ] - 4000.0 == pytest.approx(small[:18].mean(), rel=1e-5)


def test_a_basins_integral_weighs_its_ground():
    """Ten degrees of latitude: (mean - lowest) / relief with each row's own area, by numpy.average (general library)."""
    r, c = np.mgrid[0:40, 0:10]
    dem = Surface(
        (900.0 - 20.0 * r + 0.1 * c).astype(np.float32),
        Frame(40, 10, 0.0, 70.0, 0.25, 0.25, "EPSG:4326"),
        METRE,
    )
    made = run("basins", {}, dem=dem).value.columns
    areas = np.repeat(dem.frame.row_areas[:, None], 10, axis=1)
    found = float(
        (
            made["hypsometric_integral"] * made["area_m2"] * made["relief"] + made["lowest"] * made["area_m2"]
        ).sum()
        / made["area_m2"].sum()
    )
    assert found == pytest.approx(np.average(dem.values, weights=areas), rel=1e-6)
    assert abs(found - dem.values.mean()) > 1.0


def test_a_path_is_cut_at_the_nearest_place_on_the_ground():
    """At 65 north a step east is less than half of one north: the cut by pyproj.Geod (general library)."""
    from pyproj import Geod

    dem = in_degrees(relief(9), 65.0)
    start = (dem.frame.x_of(20), dem.frame.y_of(15))
    whole = shapely.get_coordinates(run("flow_path", {"start": (start,)}, dem=dem).value.geometry[0])
    for k in range(2, len(whole) - 2, 3):
        place = whole[k] + (1.6e-4, 0.8e-4)
        nearest = int(np.argmin([Geod(ellps="WGS84").inv(*p, *place)[2] for p in whole]))
        cut = shapely.get_coordinates(
            run("flow_path", {"start": (start,), "cut": (tuple(place),)}, dem=dem).value.geometry[0]
        )
        assert len(cut) == nearest + 1 or (nearest == 0 and len(cut) == 2)


def test_best_places_lie_as_far_apart_as_asked_both_ways():
    """Candidates over oblong cells stand on an even grid in metres."""
    dem = metric(relief(1, 60, 60), 5.0, 20.0)
    made = run("best_places", {"spacing": 100.0, "count": 200}, dem=dem).value
    xy = shapely.get_coordinates(made.geometry)
    assert np.diff(np.unique(xy[:, 0])).mean() == pytest.approx(100.0, abs=6.0)
    assert np.diff(np.unique(xy[:, 1])).mean() == pytest.approx(100.0, abs=12.0)
    degrees = in_degrees(relief(1, 60, 60), 65.0)
    far = run("best_places", {"spacing": 60.0, "count": 200}, dem=degrees).value
    lat = np.unique(shapely.get_coordinates(far.geometry)[:, 1])
    assert np.diff(lat).mean() * 111_500 == pytest.approx(60.0, abs=12.0)


def test_natural_breaks_state_how_well_they_fit():
    outcome = run("classify", {"rules": "natural", "count": 4}, surface=metric(holed(relief(1))))
    fit = figures(outcome)["goodness_of_variance_fit"]
    assert 0.85 < fit < 1.0
    equal = figures(
        run("classify", {"rules": "equal_interval", "count": 4}, surface=metric(holed(relief(1))))
    )
    assert fit >= equal["goodness_of_variance_fit"]

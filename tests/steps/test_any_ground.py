"""Every step on grounds that nobody wants: a result or a plain message, never anything else.

The steps and their inputs come from the declarations, so that a new step is tested as soon as it is declared.
"""

import numpy as np
import pytest
import shapely

from moss_step.kinds.registry import kind_named
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.units import FOOT, METRE, UNKNOWN
from moss_step.science.interpolate.places import measured
from moss_step.science.interpolate.surfaces import plane_around
from moss_step.science.interpolate.tin import triangulate
from moss_step.steps.declare import InputSpec, StepKind, extra
from moss_step.steps.places import POINTS
from moss_step.steps.reach import NEIGHBOURS
from tests.cases import KINDS, RESULTS, changed_over, points_over, taught
from tests.conftest import UTM, surface

rough = (np.random.default_rng(11).normal(size=(24, 30)).cumsum(0).cumsum(1) * 0.3).astype(np.float32)
striped, lone, island = rough.copy(), np.full((9, 9), np.nan), rough.copy()
striped[:, ::3] = np.nan
lone[4, 4] = 100.0
island[:8], island[-8:], island[:, :8], island[:, -8:] = np.nan, np.nan, np.nan, np.nan
degrees = Frame(24, 30, -3.0, 57.0, 0.001, 0.001, "EPSG:4326")
GROUNDS = {
    "rough": surface(rough),
    "level": surface(np.zeros((12, 14))),
    "all no-data": surface(np.full((8, 8), np.nan)),
    "one cell": surface([[5.0]]),
    "one row": surface(rough[:1]),
    "one column": surface(rough[:, :1]),
    "lone cell": surface(lone),
    "stripes": surface(striped),
    "island": surface(island),
    "huge heights": surface(rough * 1e30),
    "feet over degrees": Surface(rough, degrees, FOOT),
    "no system": surface(rough, crs=None),
    "unknown unit": surface(rough, unit=UNKNOWN),
    "flat cells": surface(rough, dx=2.0, dy=0.5),
}
PLACE = {"at", "start", "cut"}
ONE_OF_TWO = {"catchment": ("line",), "edit_classes": ("line",), "best_places": ("spacing",)}
"""Settings that stand for the same as another that is given."""
PLAIN = np.random.default_rng(22).normal(size=(60, 70)).cumsum(0).cumsum(1).astype(np.float32)
PLAIN_GROUND = surface(PLAIN)
KNOWN = {
    "interval": 10.0, "spacing": 10.0, "crest": 1.0, "cell": 3.0, "to": "foot", "value": 1.0, "at_least": 0.0, "column": "value", "among": "high",
    "level": 0.0, "least_length": 5.0, "least_steepness": 0.0, "min_area": 20.0, "to_class": 6,
}  # fmt: skip


_BUND = "pond"
_PLACED = "best_places catchment dam_catchment flow_path horizon horizon_angle horizon.skyline mast_height sight_line viewshed which_see"
_BY_DIFFERENCES = " ".join(
    n for n, k in KINDS.items() if k.reach is NEIGHBOURS and n not in ("roughness", "ruggedness")
)
_FLAT = (
    f"blind_patches contours horizon.skyline landform ridges_valleys stream_power wetness {_BY_DIFFERENCES}"
)
REFUSED = {
    "rough": _BUND,
    "level": f"variogram lake_volume interpolate single_trees threshold_curve classify contours hypsometry ridges_valleys {_BUND}",
    "all no-data": f"shape_measures segments object_points train_class use_class outlines_of bund pad road balance survey_change cut_fill variogram lake_volume storage triangulate tin_grid interpolate compare_methods check_heights edit_classes noise_points single_trees ground_points grid_points height_above amount_inside basins blind_patches breach class_change classify contours depressions drain_height fill_depressions flood flow_accumulation flow_directions "
    f"flow_length hypsometry landform mask patches polygonize profile relief_tint reproject resample ridges_valleys slope_classes stream_basins stream_power streams "
    f"suitability threshold_curve wetness {_PLACED} {_BUND}",
    "one cell": f"train_class variogram lake_volume triangulate tin_grid interpolate compare_methods slope_classes suitability threshold_curve basins classify flood horizon hypsometry stream_basins streams {_FLAT} {_BUND}",
    "one row": f"train_class triangulate tin_grid single_trees slope_classes suitability {_FLAT} {_BUND}",
    "one column": f"train_class triangulate tin_grid slope_classes suitability {_FLAT} {_BUND}",
    "lone cell": f"train_class road variogram lake_volume triangulate tin_grid interpolate compare_methods slope_classes suitability threshold_curve basins blind_patches classify contours flood horizon horizon.skyline hypsometry reproject resample ridges_valleys sight_line "
    f"sight_line.stretches stream_basins streams {_BUND}",
    "stripes": f"amount_inside {_PLACED} {_BUND}",
    "island": f"blind_patches contours flood sight_line {_BUND}",
    "huge heights": f"lake_volume ground_points noise_points slope_classes suitability contours relief_tint ruggedness stream_power wetness {_BUND}",
    "feet over degrees": f"landform resample tessellate tile_values {_BUND}",
    "no system": f"reproject resample {_BUND}",
    "unknown unit": f"convert_units {_BUND}",
    "flat cells": _BUND,
}
"""What cannot be answered on each ground; the bund of the settings holds nothing back on any of them."""


def gives(name: str) -> str:
    kind, _, result = name.partition(".")
    return KINDS[kind].result_by(result, settings_for(KINDS[kind], surface(PLAIN))).gives


def refused(name: str, ground: str) -> bool:
    """Whether a result is refused, or its step with it."""
    return bool({name, name.partition(".")[0]} & set(REFUSED[ground].split()))


def classes_over(ground: Surface) -> ClassMap:
    with np.errstate(invalid="ignore"):
        codes = np.where(np.isnan(ground.values), NO_CLASS, np.nan_to_num(ground.values) > 0).astype(np.uint8)
    return ClassMap(codes, ground.frame, (ClassEntry(0, "low", "#CAD39B"), ClassEntry(1, "high", "#CF7340")))


def shapes_over(ground: Surface, kind: str) -> Shapes:
    xmin, ymin, xmax, ymax = ground.frame.box
    if kind == "lines":
        made: list[shapely.Geometry] = [shapely.LineString([(xmin, ymin), (xmax, ymax)])]
    elif kind == "points":
        made = [shapely.Point((xmin + xmax) / 2, (ymin + ymax) / 2)]
    else:
        made = [
            shapely.box(xmin, ymin, (xmin + xmax) / 2, ymax),
            shapely.box((xmin + xmax) / 2, ymin, xmax, ymax),
        ]
    return Shapes(np.array(made, object), {"value": np.arange(len(made), dtype=float)}, ground.frame.crs)


def scattered_over(ground: Surface) -> Shapes:
    """Places with the heights of the ground there."""
    rng, frame = np.random.default_rng(4), ground.frame
    rows, cols = rng.integers(0, frame.rows, 40), rng.integers(0, frame.cols, 40)
    points = shapely.points(frame.x0 + (cols + 0.5) * frame.dx, frame.y0 - (rows + 0.5) * frame.dy)
    return Shapes(np.asarray(points), {"value": ground.values[rows, cols].astype(float)}, frame.crs)


def value_for(spec: InputSpec, ground: Surface) -> object:
    """What a person could give: the ground itself, or what is made from it."""
    if spec.accepts == "cloud":
        return changed_over(ground) if spec.name == "after" else points_over(ground)
    if spec.name == "after" and spec.quantity == "elevation":  # half of the ground was lowered, half raised
        moved = np.where(np.arange(ground.frame.cols) < ground.frame.cols / 2, -1.0, 1.0).astype(np.float32)
        return Surface(ground.values + moved, ground.frame, ground.unit)
    if spec.accepts == "surface":
        return Surface(ground.values, ground.frame, ground.unit, spec.quantity) if spec.quantity else ground
    if spec.accepts == "classes":
        return classes_over(ground)
    if spec.accepts == "tin":
        spots = scattered_over(ground)
        return triangulate(measured(spots), plane_around(spots.box, spots.crs), spots.crs, ground.unit)
    if spec.accepts in ("table", "point_model"):
        return Table({"a": np.arange(3.0)}) if spec.accepts == "table" else taught()
    if spec is POINTS or spec.title == "Soundings":
        return scattered_over(ground)
    return shapes_over(
        ground,
        "lines"
        if spec.name in ("line", "path", "bund")
        else "points"
        if spec.name == "observers" or spec.shapes == "points"
        else "areas",
    )


def parts_of(ground: Surface) -> Shapes:
    """Quarters of a ground: two are samples of a class, two of none."""
    xmin, ymin, xmax, ymax = ground.frame.box
    x, y = (xmin + xmax) / 2, (ymin + ymax) / 2
    made = [shapely.box(a, b, a + x - xmin, b + y - ymin) for a in (xmin, x) for b in (ymin, y)]
    return Shapes(np.array(made, object), {"example": np.array([1, 0, 1, 0])}, ground.frame.crs)


BESIDE = {
    "cut_fill": {"against": "level"},
    "pad": {"lies": "at_level"},
    "survey_change": {"too_small": "counted"},  # the same ground twice has no change that can be told
    "weigh": {"weights": "1,1"},
    "segments": {"method": "distance", "least": 2, "classes": "2"},
    "outlines_of": {"of_class": 2, "what": "buildings", "least_area": 1e-3, "straight": False},
    "train_class": {"method": "gaussian"},
}
"""What single steps are asked beside."""


def settings_for(kind: StepKind, ground: Surface) -> dict[str, object]:
    """What is needed beside the defaults: places and lines over the middle of the ground."""
    xmin, ymin, xmax, ymax = ground.frame.box
    x, y, given = (xmin + xmax) / 2, (ymin + ymax) / 2, {}
    for name, field in kind.settings.model_fields.items():
        control = extra(field, "control")
        if control == "points":
            given[name] = ((x, y),)
        elif control in ("line", "box"):
            fifth_x, fifth_y = (xmax - xmin) / 5, (ymax - ymin) / 5
            given[name] = (xmin + fifth_x, ymin + fifth_y, xmax - fifth_x, ymax - fifth_y)
        elif control == "drawn":
            given[name] = [{"vertices": [(xmin, ymin), (x, ymax), (xmax, y)]}]
        elif control == "path":
            given[name] = ((xmin + (xmax - xmin) / 3, y), (xmax - (xmax - xmin) / 3, y))
        elif control == "outline":
            given[name] = ((xmin, ymin), (xmin, ymax), (xmax, ymax), (xmax, ymin))
        elif control == "crs":
            given[name] = "EPSG:32628"
        elif control == "file":
            given[name] = "a.tif"
        elif control == "rules":
            given[name] = "equal_interval"
        elif control == "formula":
            given[name] = "a > 0"
        elif control == "criteria":
            given[name] = "a > 0; b <= 500"
        elif name in PLACE and field.is_required():
            given[name] = f"{x},{y}"
    if kind.kind == "lake_volume":
        return {
            "column": "value",
            "level": 0.0,
            "interval": max(float(np.ptp(ground.range or (0, 1))), 1e-6) / 4.0,
        }
    given |= BESIDE.get(kind.kind, {})
    known = {n: v for n, v in KNOWN.items() if (kind.kind, n) != ("open_table", "value")}
    given |= {name: value for name, value in known.items() if name in kind.settings.model_fields}
    for name in ONE_OF_TWO.get(kind.kind, ()):
        del given[name]
    return given


RUNS: dict[tuple[str, int], tuple[Surface, Outcome]] = {}
"""Runs on the grounds of this file, by step and ground: each result of a step is one of them."""


def outcome_of(name: str, ground: Surface, progress: Progress | None = None, anew: bool = False) -> Outcome:
    kind, result = KINDS[name.partition(".")[0]], name.partition(".")[2]
    held = RUNS.get((kind.kind, id(ground)))
    if held is None or anew or progress is not None:
        inputs = {s.name: value_for(s, ground) for s in kind.inputs if not s.optional}
        if kind.kind in ("interpolate", "tin_grid"):
            inputs["like"] = ground
        if kind.kind == "train_class":
            inputs["samples"] = parts_of(ground)
        if kind.further is not None:
            inputs |= {name: value_for(kind.further, ground) for name in ("a", "b")}
        made = kind.run(kind.checked(settings_for(kind, ground)), inputs, progress or silent())
        held = RUNS[kind.kind, id(ground)] = (ground, made)
    return kind.outcome_of(held[1], result)


@pytest.mark.parametrize("name", RESULTS)
@pytest.mark.filterwarnings("error::RuntimeWarning")
def test_a_step_gives_a_result_or_says_what_is_wrong_and_what_to_do(name):
    for ground in sorted(GROUNDS):
        check_it_answers_or_refuses(name, ground)


def check_it_answers_or_refuses(name, ground):
    if refused(name, ground):
        with pytest.raises(MossError) as caught:
            outcome_of(name, GROUNDS[ground])
        error = caught.value
        assert error.what.endswith((".", "?")) and len(error.what) > 12 and error.do, error.what
        return
    outcome = outcome_of(name, GROUNDS[ground])
    assert isinstance(outcome.value, kind_named(gives(name)).type)
    assert outcome.figure
    if isinstance(outcome.value, Surface):
        assert not np.isinf(outcome.value.values).any(), "an infinite value is no value"
        assert outcome.value.values.dtype == np.float32 and outcome.value.values.ndim == 2
    assert all(np.isfinite(f.value) or isinstance(f.value, float) for f in outcome.findings)


@pytest.mark.parametrize("name", RESULTS)
def test_a_step_runs_on_a_plain_ground(name):
    """On a rough metric ground in metres, whatever can be asked is answered."""
    try:
        outcome = outcome_of(name, PLAIN_GROUND)
    except MossError as error:
        pytest.fail(f"{name}: {error}")
    assert outcome.figure
    columns = getattr(outcome.value, "columns", {})
    assert [n for n, v in columns.items() if v.dtype.kind == "f" and np.isinf(v).any()] == [], (
        "an infinite value is no value"
    )


@pytest.mark.parametrize("name", RESULTS)
def test_a_step_leaves_its_inputs_as_they_were(name):
    ground = surface(rough.copy())
    before = ground.values.copy()
    if refused(name, "rough"):
        with pytest.raises(MossError):
            outcome_of(name, ground)
    else:
        outcome_of(name, ground)
    assert np.array_equal(ground.values, before, equal_nan=True)


@pytest.mark.parametrize("name", [n for n in RESULTS if gives(n) == "surface" and not refused(n, "stripes")])
def test_a_step_gives_the_same_twice(name):
    first, second = outcome_of(name, GROUNDS["stripes"]), outcome_of(name, surface(striped.copy()), anew=True)
    assert np.array_equal(first.value.values, second.value.values, equal_nan=True)
    assert [(f.name, f.of) for f in first.findings] == [(f.name, f.of) for f in second.findings]
    assert [f.value for f in first.findings] == pytest.approx([f.value for f in second.findings], nan_ok=True)


def test_metres_are_the_unit_of_the_plain_ground():
    assert GROUNDS["rough"].unit == METRE and GROUNDS["rough"].frame.crs == UTM

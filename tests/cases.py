"""A case of every step of the catalogue on any ground: settings that ask the same wherever it lies, and an input of each kind."""

from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np
import shapely

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.cloud import Cloud, PointClass
from moss_step.model.outcome import Outcome, Value
from moss_step.model.point_model import PointModel
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.tin import Tin
from moss_step.science.interpolate.places import measured
from moss_step.science.interpolate.surfaces import plane_around
from moss_step.science.interpolate.tin import triangulate
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import InputSpec, StepKind, extra
from moss_step.study.declared import run_declared

KINDS = {n: k for n, k in catalogue().items() if k.inputs or k.further}
RESULTS = sorted(f"{n}.{r}" if r else n for n, k in KINDS.items() for r in k.results)
"""Every result of every step, written as a step's input is: ``step`` or ``step.name``."""
PLACES = [(11, 13), (22, 30)]
LINE = ((6, 7), (29, 33))
BUND = ((18, 4), (18, 30))
ZONES = [((3, 3), (16, 18)), ((16, 18), (33, 39))]
"""Corners of boxes in rows and columns, on the borders of cells."""

BETWEEN = ("interpolate", "compare_methods", "triangulate", "lake_volume", "variogram", "coverage")
"""Steps between places that were measured."""

Place = Callable[[tuple[float, float]], tuple[float, float]]


def as_is(ground: Surface) -> Place:
    return lambda at: (ground.frame.x_of(at[1]), ground.frame.y_of(at[0]))


def given_for(kind: StepKind, place: Place, ground: Surface) -> dict[str, object]:
    """Settings that ask the same of a ground in any guise: places by their cells, lengths in metres, heights in the unit of the ground."""
    low, high = ground.range
    unit = ground.metres_per_height

    def height(share: float) -> float:
        """A height of the ground, in its own unit."""
        return low + share * (high - low)

    relief_ = (high - low) * unit
    given: dict[str, object] = {}
    for name, field in kind.settings.listed().items():
        control = extra(field, "control")
        if control == "points" and name != "cut" and not (kind.plan is not None and name == "start"):
            given[name] = tuple(place(at) for at in PLACES)
        elif control == "line" and kind.kind != "catchment":
            given[name] = sum((place(at) for at in (BUND if kind.kind == "pond" else LINE)), ())
        elif control == "points" and name == "start" and kind.plan is not None:
            continue
        elif control == "criteria":
            given[name] = f"a > {height(0.5)!r}; slope_degrees(b) > 5"
        elif control == "drawn":
            given[name] = [{"name": "a", "vertices": [place(at) for at in ((6, 7), (8, 30), (29, 33))]}]
        elif control == "box":
            corners = np.array([place((2.5, 3.5)), place((30.5, 35.5))])
            given[name] = (*corners.min(axis=0), *corners.max(axis=0))
    fixed = {
        "interval": relief_ / 7.3 / unit, "crest": height(0.62), "column": "value", "among": "high", "radius": 34.0, "small": 24.0,
        "large": 64.0, "expression": f"a > {height(0.5)!r}", "at_least": height(0.5), "min_area": 2500.0, "detail": 2500.0, "least_length": 20.0,
        "least_steepness": -0.0, "stage": relief_ * 0.2 / unit, "base": height(0.0), "weights": "2,1", "steps": 20, "snap": 25.0,
        "observer_height": 0.1 * relief_, "target_height": 0.05 * relief_, "statistics": "mean,min,max,std,median", "rules": "natural",
    }  # fmt: skip
    given |= {n: v for n, v in fixed.items() if n in kind.settings.listed()}
    own = own_settings(kind.kind, place, ground, height, relief_)
    return own if kind.kind in ALL_OWN else {n: v for n, v in (given | own).items() if v is not None}


ALL_OWN = (
    "tin_grid",
    "storage",
    "edit_classes",
    "check_heights",
    "single_trees",
    "cut_fill",
    "balance",
    "pad",
    "road",
    "bund",
    "shape_measures",
    "segments",
    "object_points",
    "train_class",
    "use_class",
    "outlines_of",
    "cloud_changes",
    *BETWEEN,
)
"""Steps that take their own settings alone."""


def own_settings(
    kind: str, place: Place, ground: Surface, height: Callable[[float], float], relief_: float
) -> dict[str, object]:
    """What a step asks beside what all are asked; None for what it is not asked."""
    unit = ground.metres_per_height
    corners = tuple(place(at) for at in ((2.5, 3.5), (2.5, 35.5), (30.5, 35.5), (30.5, 3.5)))
    inner = tuple(place(at) for at in ((13.5, 14.5), (13.5, 24.5), (21.5, 24.5), (21.5, 14.5)))
    along = tuple(place(at) for at in ((12.0, 12.0), (18.0, 20.0), (20.0, 28.0)))
    fine = 1e-4 if ground.frame.geographic else 10.0
    plateau = {"variogram": "exponential", "sill": relief_**2 / unit**2, "range": 150.0, "nugget": 0.0}
    own: dict[str, dict[str, object]] = {
        "contours": {"base": height(0.013)},
        "relief_tint": {"base": height(0.013)},
        "reproject": {"crs": "EPSG:32628", "cell": 15.0},
        "resample": {"cell": 15.0},
        "grid_points": {"what": "lowest", "cell": fine, "fill": 0.0},
        "edit_classes": {"to_class": 6, "classes": "2", "outline": corners},
        "check_heights": {"column": "z"},
        "interpolate": {"column": "z", **plateau},
        "compare_methods": {"column": "z", **plateau},
        "triangulate": {"column": "z"},
        "balance": {"outline": corners},
        "pad": {"outline": inner, "lies": "at_level", "level": height(0.5)},
        "road": {"path": along, "lies": "grade", "start": height(0.5), "grade": 1.0, "every": 30.0},
        "bund": {"path": along, "crest": height(0.6), "width": 12.0},
        "cut_fill": {"against": "level", "level": height(0.5), "outline": corners},
        "coverage": {"spacing": 60.0, "bearing": 0.0},
        "variogram": {"column": "z", "shape": "exponential"},
        "lake_volume": {"column": "z", "level": height(0.5), "interval": relief_ / 7.3 / unit},
        "tin_grid": {},
        "storage": {"level": height(0.5)},
        "shape_measures": {"measures": "planarity,verticality,height_range", "radii": "45"},
        "segments": {"method": "distance", "least": 2, "classes": "2"},
        "object_points": {"roof": 500.0, "spacing": 10.0},
        "train_class": {"radii": "45,90", "method": "gaussian"},
        "use_class": {"least": 1},
        "outlines_of": {"of_class": 2, "what": "buildings", "least_area": 1.0, "straight": False},
        "single_trees": {"least": 0.3 * relief_, "window": 35.0, "growth": 0.0},
        "combine": {"weights": None},
        "convert_units": {"to": "metre"},
    }
    return own.get(kind, {})


def boxes(ground: Surface, place: Place) -> Shapes:
    made = []
    for first, last in ZONES:
        corners = np.array([place((first[0] - 0.5, first[1] - 0.5)), place((last[0] - 0.5, last[1] - 0.5))])
        made.append(shapely.box(*corners.min(axis=0), *corners.max(axis=0)))
    return Shapes(np.array(made, object), {"value": np.array([1.0, 2.0])}, ground.frame.crs)


def input_for(spec: InputSpec, kind: StepKind, ground: Surface, place: Place) -> Value:
    if spec.accepts == "surface":
        quantity = spec.quantity or ground.quantity
        values = ground.values
        if quantity == "seen":
            values = np.where(
                np.isnan(ground.values), np.nan, ground.values > np.nanmedian(ground.values)
            ).astype(np.float32)
        if quantity == "drain_height" or spec.name == "heights":
            values = (ground.values - np.nanmin(ground.values)).astype(np.float32)
        return replace(ground, values=values, quantity=quantity)
    if spec.accepts == "classes":
        codes = np.full(ground.frame.shape, NO_CLASS, np.uint8)
        known = ~np.isnan(ground.values)
        share = 0.7 if spec.name == "after" else 0.5
        codes[known] = ground.values[known] > np.quantile(ground.values[known], share)
        return ClassMap(
            codes, ground.frame, (ClassEntry(0, "low", "#CAD39B"), ClassEntry(1, "high", "#CF7340"))
        )
    if spec.accepts == "cloud":
        return changed_over(ground) if spec.name == "after" else points_over(ground)
    if spec.accepts == "point_model":
        return taught()
    if spec.accepts == "tin":
        return tin_over(ground, place)
    if kind.kind in BETWEEN and spec.name == "points":
        return spots_over(ground, place)
    if kind.kind == "check_heights":
        places = [place(at) for at in PLACES]
        deep = np.array([1.5, 1.1]) / ground.metres_per_height
        z = np.array([ground.values[ground.frame.cell_at(*at)] for at in places], np.float64) - deep
        return Shapes(
            np.asarray(shapely.points(places)), {"z": z}, ground.frame.crs, {"z": ground.unit.symbol}
        )
    return boxes(ground, place)


def spots_over(ground: Surface, place: Place) -> Shapes:
    """Thirty places with the heights of the ground, none as far from another as from a third."""
    at = np.random.default_rng(3).uniform((2, 2), (33, 39), (30, 2)).tolist()
    places = [place(a) for a in at]
    held = [ground.frame.cell_at(*p) for p in places]
    z = np.array([np.nan if c is None else ground.values[c] for c in held], np.float64)
    return Shapes(
        np.asarray(shapely.points(places)), {"z": z, "value": z}, ground.frame.crs, {"z": ground.unit.symbol}
    )


def tin_over(ground: Surface, place: Place) -> Tin:
    """Triangles between the places of ``spots_over``."""
    spots = spots_over(ground, place)
    held = measured(spots, "z")
    return triangulate(held, plane_around(spots.box, spots.crs), spots.crs, ground.unit)


def points_over(ground: Surface) -> Cloud:
    """Four points in each cell of a ground, and a bush of 3 m over every ninth cell in the order of their heights."""
    frame, per_metre = ground.frame, 1.0 / ground.metres_per_height
    r, c = (v.reshape(-1) for v in np.mgrid[0 : frame.rows, 0 : frame.cols])
    z = ground.values.reshape(-1).astype(np.float64)
    known = np.isfinite(z)
    r, c, z = r[known], c[known], z[known]
    bush = np.argsort(np.argsort(z, kind="stable"), kind="stable") % 9 == 4
    places = [(-0.25, -0.25), (-0.25, 0.25), (0.25, -0.25), (0.25, 0.25)]
    x = [frame.x0 + (c + 0.5 + dc) * frame.dx for _, dc in places] + [frame.x0 + (c[bush] + 0.5) * frame.dx]
    y = [frame.y0 - (r + 0.5 + dr) * frame.dy for dr, _ in places] + [frame.y0 - (r[bush] + 0.5) * frame.dy]
    heights = np.concatenate([z, z, z, z, z[bush] + 3.0 * per_metre])
    green = np.arange(len(heights)) >= 4 * len(z)
    held = {
        "classification": np.where(green, 4, 2).astype(np.uint8),
        "intensity": np.where(green, 90, 160).astype(np.uint16),
    }
    return Cloud(np.concatenate(x), np.concatenate(y), heights, held, frame.crs, ground.unit)


def changed_over(ground: Surface) -> Cloud:
    """The points over a ground, the upper half of the bushes in another class."""
    cloud = points_over(ground)
    codes = cloud.attributes["classification"]
    high = (codes == 4) & (cloud.z > np.median(cloud.z)) if len(cloud) else codes == 4
    held = {**cloud.attributes, "classification": np.where(high, 5, codes).astype(np.uint8)}
    return replace(cloud, attributes=held)


def taught() -> PointModel:
    """A class of what stands one to five metres above the ground."""
    classes = (PointClass(64, "Bush", "#4C6B34"), PointClass(1, "Unassigned", "#B9B6A8"))
    arrays = {
        "mean": np.array([[3.0], [30.0]]), "inverse": np.ones((2, 1, 1)), "constant": np.zeros(2),
        "weight": np.ones(1), "low": np.ones(1, np.float32), "high": np.full(1, 5.0, np.float32),
    }  # fmt: skip
    return PointModel("Bush", "gaussian", classes, ("height_above",), (20.0,), arrays)


def halves(ground: Surface, place: Place) -> Shapes:
    """Two samples of a class, and two that are none."""
    corners = [((3, 3), (10, 18)), ((11, 3), (18, 18)), ((3, 20), (18, 38)), ((19, 20), (33, 38))]
    made = []
    for first, last in corners:
        ends = np.array([place((first[0] - 0.5, first[1] - 0.5)), place((last[0] - 0.5, last[1] - 0.5))])
        made.append(shapely.box(*ends.min(axis=0), *ends.max(axis=0)))
    answers = np.array(["yes", "yes", "no", "no"], object)
    return Shapes(np.array(made, object), {"example": answers}, ground.frame.crs)


def inputs_for(kind: StepKind, ground: Surface, place: Place) -> dict[str, Value]:
    inputs = {s.name: input_for(s, kind, ground, place) for s in kind.inputs if not s.optional}
    if kind.kind in ("interpolate", "tin_grid", "coverage"):
        inputs["like"] = ground  # cells of a size of its own would lie otherwise on a mirrored ground
    if kind.kind == "train_class":
        inputs["samples"] = halves(ground, place)
    if kind.further is not None:
        inputs |= {name: input_for(kind.further, kind, ground, place) for name in ("a", "b")}
    return inputs


RUNS: OrderedDict[object, Outcome] = OrderedDict()
"""Runs that several tests ask for, the newest last: each result of a step is one of them, and grounds come again."""
MOST_RUNS = 300


def run(
    name: str, ground: Surface, place: Place, progress: Progress | None = None, **more: object
) -> Outcome:
    """Give a result of a step on a ground; ``name`` is one of ``RESULTS``."""
    kind, _, result = name.partition(".")
    step = KINDS[kind]
    given = given_for(step, place, ground) | more
    if progress is not None:
        return result_of(name, given, inputs_for(step, ground, place), progress)
    where = [place(at) for at in ((0, 0), (7, 11))]
    key = (
        kind,
        repr(given),
        repr(where),
        ground.frame,
        ground.unit,
        ground.quantity,
        ground.values.tobytes(),
    )
    if key not in RUNS:
        RUNS[key] = run_declared(step, given, dict(inputs_for(step, ground, place)), silent())
        while len(RUNS) > MOST_RUNS:
            RUNS.popitem(last=False)
    RUNS.move_to_end(key)
    return step.outcome_of(RUNS[key], result)


def result_of(
    name: str, settings: Mapping[str, object], inputs: Mapping[str, Value], progress: Progress | None = None
) -> Outcome:
    """Give a result of a step, written ``step`` or ``step.name``."""
    kind, _, result = name.partition(".")
    step = catalogue()[kind]
    return step.outcome_of(run_declared(step, settings, dict(inputs), progress or silent()), result)


def found(outcome: Outcome, name: str) -> float:
    """The value of a finding."""
    return next(f.value for f in outcome.findings if f.name == name)

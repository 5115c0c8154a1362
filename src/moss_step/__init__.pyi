"""Types of the steps as functions; written by tools/from_catalogue.py from their declarations."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

from moss_step.door import Result as Result
from moss_step.model.errors import AskedWronglyError as AskedWronglyError
from moss_step.model.errors import MossError as MossError
from moss_step.model.outcome import Value

__version__: str

def amount_inside(
    areas: Result | Value | str | Path | None = None,
    mean_of: Result | Value | str | Path | None = None,
    *,
    criteria: Sequence[object],
    at: Sequence[Sequence[float]] | str | None = None,
    measure: Literal["area", "share"] = "area",
    progress: Callable[[float, str], None] | None = None,
    **inputs: Result | Value | str | Path,
) -> Result: ...

def aspect(
    dem: Result | Value | str | Path,
    *,
    method: Literal["horn", "quadratic"] = "horn",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def balance(
    surface: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    *,
    outline: Sequence[Sequence[float]] | str | None = None,
    shrink: float = 1.0,
    swell: float = 1.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def basins(
    dem: Result | Value | str | Path,
    *,
    min_depth: float | None = None,
    min_area: float = 0.0,
    names: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def best_places(
    dem: Result | Value | str | Path,
    observers: Result | Value | str | Path | None = None,
    obstacles: Result | Value | str | Path | None = None,
    barriers: Result | Value | str | Path | None = None,
    area: Result | Value | str | Path | None = None,
    weights: Result | Value | str | Path | None = None,
    *,
    at: Sequence[Sequence[float]] | str | None = None,
    observer_height: float = 1.7,
    target_height: float = 0.0,
    own: str | None = None,
    reach: float | None = None,
    near: float = 0.0,
    bearing_from: float = 0.0,
    bearing_to: float = 360.0,
    down: float = -90.0,
    up: float = 90.0,
    absolute: bool = False,
    curvature: bool = True,
    refraction: float = 0.13,
    barrier_height: float = 10.0,
    count: int = 3,
    spacing: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def blind_patches(
    seen: Result | Value | str | Path,
    *,
    least_cells: int = 10,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def breach(
    dem: Result | Value | str | Path,
    *,
    most_cells: int = 50,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def bund(
    surface: Result | Value | str | Path,
    line: Result | Value | str | Path | None = None,
    *,
    crest: float | None = None,
    width: float = 1.0,
    left_slope: float = 2.0,
    right_slope: float = 2.0,
    path: Sequence[Sequence[float]] | str | None = None,
    swell: float = 1.0,
    shrink: float = 1.0,
    density: float | None = None,
    cost: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def catchment(
    dem: Result | Value | str | Path,
    outlets: Result | Value | str | Path | None = None,
    *,
    at: Sequence[Sequence[float]] | str | None = None,
    line: Sequence[float] | str | None = None,
    snap: float = 0.0,
    nested: bool = False,
    names: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def check_heights(
    surface: Result | Value | str | Path,
    points: Result | Value | str | Path,
    *,
    column: str | None = None,
    unit: Literal["as_surface", "metre", "foot", "us_survey_foot"] = "as_surface",
    group: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def choose_shapes(
    shapes: Result | Value | str | Path,
    others: Result | Value | str | Path | None = None,
    *,
    where: str | None = None,
    relation: Literal["meets", "within", "apart"] = "meets",
    rows: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def class_among(
    classes: Result | Value | str | Path,
    *,
    among: Sequence[str],
    elsewhere: Literal["no", "no_data"] = "no",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def class_change(
    before: Result | Value | str | Path,
    after: Result | Value | str | Path,
    *,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def classify(
    surface: Result | Value | str | Path,
    *,
    rules: str | Sequence[object] = "equal_interval",
    closed: Literal["upper", "lower"] = "upper",
    count: int = 5,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def cloud_changes(
    before: Result | Value | str | Path,
    after: Result | Value | str | Path,
    *,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def combine(
    *,
    weights: Sequence[float] | None = None,
    comparisons: str | None = None,
    rule: Literal["sum", "all", "any", "worst", "which", "weighted"] = "sum",
    progress: Callable[[float, str], None] | None = None,
    **inputs: Result | Value | str | Path,
) -> Result: ...

def compare_methods(
    points: Result | Value | str | Path,
    breaklines: Result | Value | str | Path | None = None,
    drift: Result | Value | str | Path | None = None,
    *,
    column: str | None = None,
    unit: Literal["as_stated", "metre", "centimetre", "foot", "us_survey_foot", "fathom", "none"] = "as_stated",
    trend: Literal["none", "plane", "quadratic"] = "none",
    variogram: Literal["fitted", "spherical", "exponential", "gaussian", "matern"] = "fitted",
    nugget: float | None = None,
    sill: float | None = None,
    range: float | None = None,
    smoothness: Literal["1.5", "2.5"] = "1.5",
    second_shape: Literal["none", "spherical", "exponential", "gaussian", "matern"] = "none",
    second_sill: float | None = None,
    second_range: float | None = None,
    direction: float = 0.0,
    ratio: float = 1.0,
    neighbours: int = 24,
    power: float = 2.0,
    smoothing: float = 0.0,
    exact: bool = False,
    folds: int = 10,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def compare_sight(
    before: Result | Value | str | Path,
    after: Result | Value | str | Path,
    *,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def contours(
    dem: Result | Value | str | Path,
    *,
    interval: float = 10.0,
    base: float = 0.0,
    levels: str = "",
    within: float = 0.0,
    index_every: int = 5,
    drawn: Literal["alike", "by_depth"] = "alike",
    smooth: bool = False,
    however_many: bool = False,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def convert_units(
    surface: Result | Value | str | Path,
    *,
    to: Literal["metre", "centimetre", "millimetre", "kilometre", "foot", "us_survey_foot", "degree", "percent"] = "metre",
    exaggeration: float = 1.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def coverage(
    points: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    like: Result | Value | str | Path | None = None,
    *,
    spacing: float = 5.0,
    bearing: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def crop(
    surface: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    *,
    box: Sequence[float] | str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def curvature(
    dem: Result | Value | str | Path,
    *,
    kind: Literal["profile", "plan", "tangential", "mean"] = "profile",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def cut_fill(
    surface: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    base: Result | Value | str | Path | None = None,
    *,
    against: Literal["level", "edge", "plane", "lowest", "surface"] = "edge",
    level: float | None = None,
    outline: Sequence[Sequence[float]] | str | None = None,
    cell: float | None = None,
    swell: float = 1.0,
    shrink: float = 1.0,
    density: float | None = None,
    cost: float | None = None,
    survey_date: str | None = None,
    base_date: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def dam_catchment(
    dem: Result | Value | str | Path,
    *,
    dam: Sequence[Sequence[float]],
    start: Sequence[Sequence[float]] | str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def depressions(
    dem: Result | Value | str | Path,
    *,
    least_depth: float = 0.0,
    least_area: float = 0.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def difference(
    first: Result | Value | str | Path,
    second: Result | Value | str | Path,
    *,
    measure: Literal["difference", "ratio", "change"] = "difference",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def drain_height(
    dem: Result | Value | str | Path,
    *,
    min_area: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def draw(
    dem: Result | Value | str | Path | None = None,
    *,
    kind: Literal["points", "lines", "areas"] = "areas",
    shapes: Sequence[object],
    crs: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def edit_classes(
    cloud: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    *,
    to_class: int,
    classes: Sequence[int] = (),
    outline: Sequence[Sequence[float]] | str | None = None,
    line: Sequence[float] | str | None = None,
    width: float = 4.0,
    lasso: Sequence[Sequence[float]] | str | None = None,
    above: float | None = None,
    below: float | None = None,
    heights: Literal["of_points", "above_ground"] = "of_points",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def exposure(
    dem: Result | Value | str | Path,
    *,
    bearing: float = 0.0,
    weigh: Literal["facing", "slope"] = "facing",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def fill_depressions(
    dem: Result | Value | str | Path,
    *,
    gradient: float = 0.0,
    keep_depth: float | None = None,
    keep_area: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def fill_voids(
    surface: Result | Value | str | Path,
    *,
    most_cells: int = 100,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def flood(
    above: Result | Value | str | Path,
    *,
    stage: float = 1.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def flow_accumulation(
    dem: Result | Value | str | Path,
    weights: Result | Value | str | Path | None = None,
    *,
    method: Literal["d8", "freeman", "dinf"] = "d8",
    unit: Literal["cells", "area"] = "cells",
    edges: Literal["keep", "blank"] = "keep",
    exponent: float = 1.1,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def flow_directions(
    dem: Result | Value | str | Path,
    *,
    method: Literal["d8", "dinf"] = "d8",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def flow_length(
    dem: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    *,
    side: Literal["down", "up"] = "down",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def flow_path(
    dem: Result | Value | str | Path,
    starts: Result | Value | str | Path | None = None,
    *,
    start: Sequence[Sequence[float]] | str | None = None,
    side: Literal["down", "up"] = "down",
    cut: Sequence[Sequence[float]] | str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def formula(
    *,
    expression: str,
    progress: Callable[[float, str], None] | None = None,
    **inputs: Result | Value | str | Path,
) -> Result: ...

def grid_points(
    cloud: Result | Value | str | Path,
    like: Result | Value | str | Path | None = None,
    *,
    what: Literal["ground", "first", "canopy", "highest", "lowest", "mean", "count", "density", "spread", "intensity"] = "ground",
    cell: float | None = None,
    fill: float = 20.0,
    between: Literal["triangles", "inverse_distance"] = "triangles",
    classes: Sequence[int] = (),
    returns: Literal["all", "first", "last", "only"] = "all",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def ground_points(
    cloud: Result | Value | str | Path,
    *,
    terrain: Literal["flat", "upland", "forest", "built_up", "scarp"] = "upland",
    method: Literal["morphological", "cloth"] = "morphological",
    noise: bool = True,
    cell: float | None = None,
    widest: float | None = None,
    slope: float | None = None,
    stiffness: int | None = None,
    height: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def hazard(
    inside: Result | Value | str | Path | None = None,
    *,
    criteria: Sequence[object],
    rule: Literal["sum", "all", "any", "weighted"] = "sum",
    progress: Callable[[float, str], None] | None = None,
    **inputs: Result | Value | str | Path,
) -> Result: ...

def height_above(
    cloud: Result | Value | str | Path,
    ground: Result | Value | str | Path,
    *,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def hillshade(
    dem: Result | Value | str | Path,
    *,
    azimuth: float = 315.0,
    altitude: float = 45.0,
    z_factor: float = 1.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def horizon(
    dem: Result | Value | str | Path,
    observers: Result | Value | str | Path | None = None,
    obstacles: Result | Value | str | Path | None = None,
    barriers: Result | Value | str | Path | None = None,
    *,
    at: Sequence[Sequence[float]] | str | None = None,
    observer_height: float = 1.7,
    own: str | None = None,
    reach: float | None = None,
    near: float = 0.0,
    bearing_from: float = 0.0,
    bearing_to: float = 360.0,
    absolute: bool = False,
    curvature: bool = True,
    refraction: float = 0.13,
    barrier_height: float = 10.0,
    bearings: int = 360,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def horizon_angle(
    dem: Result | Value | str | Path,
    observers: Result | Value | str | Path | None = None,
    obstacles: Result | Value | str | Path | None = None,
    barriers: Result | Value | str | Path | None = None,
    *,
    at: Sequence[Sequence[float]] | str | None = None,
    observer_height: float = 1.7,
    target_height: float = 0.0,
    own: str | None = None,
    reach: float | None = None,
    near: float = 0.0,
    bearing_from: float = 0.0,
    bearing_to: float = 360.0,
    down: float = -90.0,
    up: float = 90.0,
    absolute: bool = False,
    curvature: bool = True,
    refraction: float = 0.13,
    barrier_height: float = 10.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def hypsometry(
    dem: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    *,
    steps: int = 100,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def interpolate(
    points: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    breaklines: Result | Value | str | Path | None = None,
    drift: Result | Value | str | Path | None = None,
    like: Result | Value | str | Path | None = None,
    *,
    column: str | None = None,
    unit: Literal["as_stated", "metre", "centimetre", "foot", "us_survey_foot", "fathom", "none"] = "as_stated",
    method: Literal["kriging", "tin", "natural_neighbour", "inverse_distance", "nearest", "spline"] = "kriging",
    trend: Literal["none", "plane", "quadratic"] = "none",
    variogram: Literal["fitted", "spherical", "exponential", "gaussian", "matern"] = "fitted",
    nugget: float | None = None,
    sill: float | None = None,
    range: float | None = None,
    smoothness: Literal["1.5", "2.5"] = "1.5",
    second_shape: Literal["none", "spherical", "exponential", "gaussian", "matern"] = "none",
    second_sill: float | None = None,
    second_range: float | None = None,
    direction: float = 0.0,
    ratio: float = 1.0,
    neighbours: int = 24,
    power: float = 2.0,
    smoothing: float = 0.0,
    exact: bool = False,
    cell: float | None = None,
    edge_value: float | None = None,
    reach: float | None = None,
    beyond: bool = False,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def lake_volume(
    points: Result | Value | str | Path,
    area: Result | Value | str | Path,
    *,
    column: str = "height",
    level: float = 0.0,
    method: Literal["kriging", "tin", "natural_neighbour", "inverse_distance", "nearest", "spline"] = "kriging",
    cell: float | None = None,
    interval: float = 0.5,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def landform(
    dem: Result | Value | str | Path,
    *,
    small: float = 50.0,
    large: float = 250.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def mask(
    surface: Result | Value | str | Path,
    areas: Result | Value | str | Path,
    *,
    keep: Literal["inside", "outside"] = "inside",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def mast_height(
    dem: Result | Value | str | Path,
    observers: Result | Value | str | Path | None = None,
    obstacles: Result | Value | str | Path | None = None,
    barriers: Result | Value | str | Path | None = None,
    *,
    at: Sequence[Sequence[float]] | str | None = None,
    observer_height: float = 1.7,
    own: str | None = None,
    reach: float | None = None,
    near: float = 0.0,
    bearing_from: float = 0.0,
    bearing_to: float = 360.0,
    absolute: bool = False,
    curvature: bool = True,
    refraction: float = 0.13,
    barrier_height: float = 10.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def merge(
    *,
    progress: Callable[[float, str], None] | None = None,
    **inputs: Result | Value | str | Path,
) -> Result: ...

def noise_points(
    cloud: Result | Value | str | Path,
    *,
    within: float | None = None,
    others: int = 3,
    below: float = 2.0,
    above: float = 60.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def object_points(
    cloud: Result | Value | str | Path,
    *,
    method: Literal["grid", "likelihood"] = "grid",
    terrain: Literal["flat", "upland", "forest", "built_up", "scarp"] = "upland",
    roof: float = 20.0,
    eaves: float = 2.0,
    low: float = 0.5,
    medium: float = 2.0,
    least: float = 0.15,
    spacing: float | None = None,
    classes: Sequence[int] = (),
    view: Literal["by_density", "air", "drone"] = "by_density",
    weigh: Literal["forest", "gaussian"] = "forest",
    water: bool = False,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def open_cloud(
    source: str,
    *,
    crs: str | None = None,
    unit: Literal["as_stated", "metre", "foot", "us_survey_foot"] = "as_stated",
    height_unit: Literal["as_stated", "metre", "foot", "us_survey_foot"] = "as_stated",
    box: Sequence[float] | str | None = None,
    returns: Literal["all", "first", "last", "only"] = "all",
    classes: Sequence[int] = (),
    every: int = 1,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def open_grid(
    source: str,
    *,
    crs: str | None = None,
    unit: Literal["as_stated", "metre", "centimetre", "millimetre", "decimetre", "yard", "foot", "us_survey_foot", "degree", "percent", "bearing", "none"] = "as_stated",
    no_data: float | None = None,
    box: Sequence[float] | str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def open_recording(
    source: str,
    *,
    latency: float = 0.0,
    offset: float = 0.0,
    water_level: float = 0.0,
    spikes: bool = False,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def open_shapes(
    source: str,
    *,
    crs: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def open_table(
    source: str,
    *,
    x: str = "",
    y: str = "",
    value: str = "",
    crs: str | None = None,
    unit: Literal["as_named", "metre", "centimetre", "foot", "us_survey_foot", "fathom", "none"] = "as_named",
    measures: Literal["as_named", "height", "depth", "other"] = "as_named",
    water_level: float | None = None,
    level_column: str = "",
    leave_out: str = "",
    reason: str = "",
    metric: bool = True,
    delimiter: Literal["found", "comma", "semicolon", "tab", "blank", "bar"] = "found",
    decimal: Literal["found", "point", "comma"] = "found",
    header: Literal["found", "yes", "no"] = "found",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def openness(
    dem: Result | Value | str | Path,
    *,
    radius: float = 100.0,
    side: Literal["positive", "negative"] = "positive",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def outlines_of(
    cloud: Result | Value | str | Path,
    *,
    of_class: int = 6,
    what: Literal["by_class", "buildings", "crowns", "tops", "centre_lines", "wires"] = "by_class",
    straight: bool = True,
    least_area: float = 10.0,
    least_length: float = 5.0,
    gap: float = 6.0,
    width: float = 1.2,
    least_height: float = 2.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def pad(
    surface: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    *,
    lies: Literal["balanced", "at_level"] = "balanced",
    level: float | None = None,
    cut_slope: float = 1.5,
    fill_slope: float = 2.0,
    fall: float = 0.0,
    toward: float = 180.0,
    outline: Sequence[Sequence[float]] | str | None = None,
    swell: float = 1.0,
    shrink: float = 1.0,
    density: float | None = None,
    cost: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def patches(
    classes: Result | Value | str | Path,
    surface: Result | Value | str | Path | None = None,
    *,
    neighbours: Literal[4, 8] = 8,
    least_cells: int = 1,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def polygonize(
    classes: Result | Value | str | Path,
    *,
    smoothing: int = 0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def pond(
    dem: Result | Value | str | Path,
    bund: Result | Value | str | Path | None = None,
    *,
    line: Sequence[float] | str | None = None,
    crest: float,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def position(
    dem: Result | Value | str | Path,
    *,
    radius: float = 100.0,
    window: Literal["disk", "ring"] = "disk",
    inner: float = 0.0,
    standardised: bool = False,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def profile(
    surface: Result | Value | str | Path,
    path: Result | Value | str | Path | None = None,
    *,
    line: Sequence[float] | str | None = None,
    step: float | None = None,
    progress: Callable[[float, str], None] | None = None,
    **inputs: Result | Value | str | Path,
) -> Result: ...

def rasterize(
    shapes: Result | Value | str | Path,
    like: Result | Value | str | Path,
    *,
    inside: bool = False,
    column: str = "name",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def relief(
    dem: Result | Value | str | Path,
    *,
    radius: float = 100.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def relief_tint(
    dem: Result | Value | str | Path,
    *,
    interval: float | None = None,
    base: float = 0.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def reproject(
    surface: Result | Value | str | Path,
    *,
    crs: str,
    cell: float | None = None,
    resampling: Literal["nearest", "bilinear", "cubic", "average"] = "bilinear",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def resample(
    surface: Result | Value | str | Path,
    like: Result | Value | str | Path | None = None,
    *,
    cell: float | None = None,
    resampling: Literal["nearest", "bilinear", "cubic", "average"] = "bilinear",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def ridges_valleys(
    dem: Result | Value | str | Path,
    *,
    which: Literal["ridges", "valleys", "both"] = "both",
    least_length: float = 50.0,
    least_steepness: float = 2.0,
    detail: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def road(
    surface: Result | Value | str | Path,
    line: Result | Value | str | Path | None = None,
    *,
    width: float = 4.0,
    lies: Literal["on_ends", "grade", "balanced", "profile"] = "on_ends",
    start: float | None = None,
    grade: float = 0.0,
    heights: str | None = None,
    cut_slope: float = 1.5,
    fill_slope: float = 2.0,
    crossfall: float = 2.5,
    falls: Literal["both_sides", "to_left", "to_right"] = "both_sides",
    every: float = 20.0,
    path: Sequence[Sequence[float]] | str | None = None,
    swell: float = 1.0,
    shrink: float = 1.0,
    density: float | None = None,
    cost: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def roughness(
    dem: Result | Value | str | Path,
    *,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def ruggedness(
    dem: Result | Value | str | Path,
    *,
    method: Literal["riley", "mean_absolute"] = "riley",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def segments(
    cloud: Result | Value | str | Path,
    *,
    method: Literal["smooth", "distance"] = "smooth",
    within: float | None = None,
    angle: float = 12.0,
    residual: float = 0.15,
    least: int = 10,
    classes: Sequence[int] = (),
    intensity: float = 0.0,
    color: float = 0.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def several_lights(
    dem: Result | Value | str | Path,
    *,
    altitude: float = 30.0,
    z_factor: float = 1.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def shape_measures(
    cloud: Result | Value | str | Path,
    *,
    measures: Sequence[Literal["linearity", "planarity", "scattering", "omnivariance", "anisotropy", "eigenentropy", "surface_variation", "verticality", "roughness", "point_density", "height_range", "height_deviation", "echo_ratio", "height_above", "intensity", "color"]] = ('linearity', 'planarity', 'verticality'),
    radii: str | None = None,
    best: bool = False,
    classes: Sequence[int] = (),
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def sight_line(
    dem: Result | Value | str | Path,
    line: Result | Value | str | Path | None = None,
    obstacles: Result | Value | str | Path | None = None,
    barriers: Result | Value | str | Path | None = None,
    *,
    ends: Sequence[float] | str | None = None,
    observer_height: float = 1.7,
    target_height: float = 0.0,
    curvature: bool = True,
    refraction: float = 0.13,
    barrier_height: float = 10.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def single_trees(
    heights: Result | Value | str | Path,
    *,
    least: float = 2.0,
    window: float = 2.51503,
    growth: float = 0.00901,
    crown: float = 0.35,
    calm: bool = True,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def slope(
    dem: Result | Value | str | Path,
    *,
    unit: Literal["degrees", "percent"] = "degrees",
    method: Literal["horn", "quadratic"] = "horn",
    z_factor: float = 1.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def slope_classes(
    dem: Result | Value | str | Path,
    *,
    unit: Literal["degrees", "percent"] = "percent",
    bounds: str | None = None,
    names: str | None = None,
    closed: Literal["upper", "lower"] = "upper",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def storage(
    surface: Result | Value | str | Path,
    tin: Result | Value | str | Path | None = None,
    area: Result | Value | str | Path | None = None,
    *,
    level: float | None = None,
    volume: float | None = None,
    side: Literal["below", "above"] = "below",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def stream_basins(
    dem: Result | Value | str | Path,
    *,
    min_area: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def stream_power(
    dem: Result | Value | str | Path,
    *,
    index: Literal["power", "sediment", "length_slope"] = "power",
    method: Literal["d8", "freeman", "dinf"] = "dinf",
    exponent: float = 1.1,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def streams(
    dem: Result | Value | str | Path,
    *,
    min_area: float | None = None,
    slope_exponent: float = 0.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def suitability(
    dem: Result | Value | str | Path,
    *,
    slope_rules: str | Sequence[object] = "fao_slope",
    aspect_rules: str | Sequence[object] = "aspect_8",
    slope_unit: Literal["degrees", "percent"] = "percent",
    rule: Literal["weighted", "worst", "which"] = "weighted",
    slope_weight: float = 1.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def survey_change(
    before: Result | Value | str | Path,
    after: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    stable: Result | Value | str | Path | None = None,
    spread_before: Result | Value | str | Path | None = None,
    spread_after: Result | Value | str | Path | None = None,
    *,
    error_before: float = 0.05,
    error_after: float = 0.05,
    probability: float = 0.95,
    too_small: Literal["left_out", "counted"] = "left_out",
    offset: Literal["none", "mean", "tilt", "shift"] = "none",
    stayed: Literal["drawn", "proposed"] = "drawn",
    reach: float = 0.0,
    simulated: int = 0,
    seed: int = 1,
    least_patch: float = 0.0,
    before_date: str | None = None,
    after_date: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def tessellate(
    extent: Result | Value | str | Path,
    keep: Result | Value | str | Path | None = None,
    *,
    shape: Literal["hexagon", "square", "triangle"] = "hexagon",
    spacing: float = 100.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def threshold(
    surface: Result | Value | str | Path,
    *,
    at_least: float | None = None,
    above: float | None = None,
    at_most: float | None = None,
    below: float | None = None,
    elsewhere: Literal["no", "no_data"] = "no",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def threshold_curve(
    surface: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    *,
    side: Literal["above", "below"] = "above",
    steps: int = 100,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def tile_values(
    surface: Result | Value | str | Path,
    keep: Result | Value | str | Path | None = None,
    *,
    statistic: Literal["mean", "max", "min", "median", "range", "std", "sum", "count"] = "max",
    shape: Literal["hexagon", "square", "triangle"] = "hexagon",
    spacing: float = 100.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def tin_grid(
    tin: Result | Value | str | Path,
    like: Result | Value | str | Path | None = None,
    *,
    cell: float | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def train_class(
    cloud: Result | Value | str | Path,
    samples: Result | Value | str | Path | None = None,
    *,
    name: str = "Own class",
    code: int = 64,
    color: str = "#8A5A2B",
    yes: Sequence[Sequence[float]] = (),
    no: Sequence[Sequence[float]] = (),
    method: Literal["forest", "gaussian"] = "forest",
    radii: str | None = None,
    rare: bool = True,
    bands: bool = False,
    classes: Sequence[int] = (),
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def triangulate(
    points: Result | Value | str | Path,
    area: Result | Value | str | Path | None = None,
    breaklines: Result | Value | str | Path | None = None,
    *,
    column: str | None = None,
    unit: Literal["as_stated", "metre", "centimetre", "foot", "us_survey_foot", "fathom", "none"] = "as_stated",
    edge_value: float | None = None,
    longest: float = 0.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def use_class(
    cloud: Result | Value | str | Path,
    model: Result | Value | str | Path,
    *,
    classes: Sequence[int] = (),
    least: int = 5,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def variogram(
    points: Result | Value | str | Path,
    *,
    column: str | None = None,
    unit: Literal["as_stated", "metre", "centimetre", "foot", "us_survey_foot", "fathom", "none"] = "as_stated",
    shape: Literal["spherical", "exponential", "gaussian", "matern"] | None = None,
    lag: float | None = None,
    longest: float | None = None,
    directions: bool = False,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def viewshed(
    dem: Result | Value | str | Path,
    observers: Result | Value | str | Path | None = None,
    obstacles: Result | Value | str | Path | None = None,
    barriers: Result | Value | str | Path | None = None,
    weights: Result | Value | str | Path | None = None,
    *,
    at: Sequence[Sequence[float]] | str | None = None,
    observer_height: float = 1.7,
    target_height: float = 0.0,
    own: str | None = None,
    reach: float | None = None,
    near: float = 0.0,
    bearing_from: float = 0.0,
    bearing_to: float = 360.0,
    down: float = -90.0,
    up: float = 90.0,
    absolute: bool = False,
    curvature: bool = True,
    refraction: float = 0.13,
    barrier_height: float = 10.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def weigh(
    *,
    weights: Sequence[float] | None = None,
    comparisons: str | None = None,
    progress: Callable[[float, str], None] | None = None,
    **inputs: Result | Value | str | Path,
) -> Result: ...

def wetness(
    dem: Result | Value | str | Path,
    *,
    method: Literal["d8", "freeman", "dinf"] = "dinf",
    exponent: float = 1.1,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def which_see(
    dem: Result | Value | str | Path,
    observers: Result | Value | str | Path | None = None,
    obstacles: Result | Value | str | Path | None = None,
    barriers: Result | Value | str | Path | None = None,
    *,
    at: Sequence[Sequence[float]] | str | None = None,
    observer_height: float = 1.7,
    target_height: float = 0.0,
    own: str | None = None,
    reach: float | None = None,
    near: float = 0.0,
    bearing_from: float = 0.0,
    bearing_to: float = 360.0,
    down: float = -90.0,
    up: float = 90.0,
    absolute: bool = False,
    curvature: bool = True,
    refraction: float = 0.13,
    barrier_height: float = 10.0,
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def zone_classes(
    zones: Result | Value | str | Path,
    classes: Result | Value | str | Path,
    surface: Result | Value | str | Path | None = None,
    *,
    measure: Literal["area", "share"] = "area",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

def zone_statistics(
    zones: Result | Value | str | Path,
    surface: Result | Value | str | Path,
    *,
    statistics: Sequence[Literal["count", "sum", "mean", "median", "min", "max", "range", "std", "majority", "minority", "variety", "p10", "p25", "p75", "p90"]] = ('count', 'mean', 'min', 'max'),
    weighting: Literal["centre", "coverage"] = "centre",
    weigh: Literal["cells", "area"] = "cells",
    progress: Callable[[float, str], None] | None = None,
) -> Result: ...

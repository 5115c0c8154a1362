"""Statistics of a surface or class map in areas: cells by their centre, or weighed by how much of them an area covers."""

from __future__ import annotations

import itertools
from typing import Literal, get_args

import numba
import numpy as np
import shapely
from rasterio.features import rasterize

from moss_step.model.class_map import NO_CLASS, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.regrid import affine

Statistic = Literal[
    "count", "sum", "mean", "median", "min", "max", "range", "std", "majority", "minority", "variety", "p10", "p25", "p75", "p90",
]  # fmt: skip
Weighting = Literal["centre", "coverage"]
STATISTICS: tuple[str, ...] = get_args(Statistic)
_ORDERED = {"median": 50.0, "p10": 10.0, "p25": 25.0, "p75": 75.0, "p90": 90.0}
_POLYGONS = (int(shapely.GeometryType.POLYGON), int(shapely.GeometryType.MULTIPOLYGON))
_BY_VALUE = ("majority", "minority", "variety")


@numba.njit(cache=True, nogil=True, parallel=True)
def _accumulate(ids, values, count, total, square, low, high):  # type: ignore[no-untyped-def]  # numba infers the types
    """Count, sum, sum of squares, lowest and highest of the values of each zone (ids from 1), a row for each block."""
    blocks, rows = count.shape[0], ids.shape[0]
    for b in numba.prange(blocks):
        n, s, q, lo, hi = count[b], total[b], square[b], low[b], high[b]
        for r in range(b * rows // blocks, (b + 1) * rows // blocks):
            for c in range(ids.shape[1]):
                k, v = ids[r, c], values[r, c]
                if k > 0 and v == v:
                    n[k] += 1.0
                    s[k] += v
                    q[k] += np.float64(v) * np.float64(v)  # the square of a single is a single, and too coarse
                    lo[k] = min(lo[k], v)
                    hi[k] = max(hi[k], v)


def zone_statistics(
    zones: Shapes, surface: Surface, wanted: list[str], weighting: Weighting = "centre", progress: Progress | None = None
) -> dict[str, np.ndarray]:
    """One array of n values for each statistic wanted; zones without cells hold NaN (count 0).

    The zones must be in the surface's reference system. By centre a cell belongs to the zones that hold its centre; by
    coverage each cell is weighed by the share that a zone covers (exactextract). Raises AskedWronglyError for an unknown
    statistic, MossError when no zone meets the surface.
    """
    progress = progress or silent()
    unknown = [s for s in wanted if s not in STATISTICS]
    if unknown or not wanted:
        raise AskedWronglyError(f"'{(unknown or ['nothing'])[0]}' is not a statistic.", f"Statistics: {', '.join(STATISTICS)}.")
    if zones.kind != "areas":
        raise MossError(f"The zones are {zones.kind}, and statistics need areas.", "Choose areas.")
    geometry = np.asarray(shapely.make_valid(zones.geometry))
    _check_overlap(geometry, surface.frame)
    progress.at(0.05, "Laying zones on the grid")
    if weighting == "coverage":
        return _by_coverage(geometry, surface, wanted)
    if _disjoint(geometry, surface.frame):
        return _by_grid(geometry, surface, wanted, progress)
    return _one_by_one(geometry, surface, wanted, progress)


def class_areas(zones: Shapes, classes: ClassMap) -> dict[str, np.ndarray]:
    """Area in square metres of each class in each zone, cells by their centre; keys are the classes' names."""
    geometry = np.asarray(shapely.make_valid(zones.geometry))
    _check_overlap(geometry, classes.frame)
    n, frame = len(geometry), classes.frame
    table = np.zeros((n, 256))
    for k, g in enumerate(geometry):
        rows, cols, inside = _window(g, frame)
        if inside is not None:
            areas = np.broadcast_to(frame.row_areas[rows][:, None], inside.shape)
            table[k] = np.bincount(classes.codes[rows, cols][inside], areas[inside], minlength=256)
    return {c.name: table[:, c.code] for c in classes.classes if c.code != NO_CLASS}


def _by_grid(geometry: np.ndarray, surface: Surface, wanted: list[str], progress: Progress) -> dict[str, np.ndarray]:
    n, frame = len(geometry), surface.frame
    pairs = ((g, k) for k, g in enumerate(geometry, start=1))
    ids = rasterize(pairs, frame.shape, fill=0, transform=affine(frame), dtype="int32")
    progress.at(0.4, "Adding up")
    shape = (min(4, frame.rows), n + 1)
    count, total, square = np.zeros(shape), np.zeros(shape), np.zeros(shape)
    low, high = np.full(shape, np.inf), np.full(shape, -np.inf)
    _accumulate(ids, surface.values, count, total, square, low, high)
    sums = (count.sum(0)[1:], total.sum(0)[1:], square.sum(0)[1:])
    found = _moments(*sums, low.min(0)[1:], high.max(0)[1:])
    if any(s in _ORDERED or s in _BY_VALUE for s in wanted):
        progress.at(0.6, "Ordering values")
        inside = (ids > 0) & ~np.isnan(surface.values)
        order = np.lexsort((surface.values[inside], ids[inside]))
        which, values = ids[inside][order], surface.values[inside][order]
        cuts = np.searchsorted(which, np.arange(1, n + 2))
        groups = [values[a:b] for a, b in itertools.pairwise(cuts)]
        found |= _of_groups(groups, wanted)
    return {s: found[s] for s in wanted}


def _one_by_one(geometry: np.ndarray, surface: Surface, wanted: list[str], progress: Progress) -> dict[str, np.ndarray]:
    """Zones that share cells: each with its own mask."""
    groups = []
    for k, g in enumerate(geometry):
        progress.at(0.1 + 0.9 * k / len(geometry), "Zone by zone")
        rows, cols, inside = _window(g, surface.frame)
        values = surface.values[rows, cols][inside] if inside is not None else np.empty(0, np.float32)
        groups.append(np.sort(values[~np.isnan(values)]))
    count = np.array([float(len(g)) for g in groups])
    total = np.array([g.sum(dtype=np.float64) for g in groups])
    square = np.array([(g.astype(np.float64) ** 2).sum() for g in groups])
    low = np.array([g[0] if len(g) else np.inf for g in groups], np.float64)
    high = np.array([g[-1] if len(g) else -np.inf for g in groups], np.float64)
    found = _moments(count, total, square, low, high) | _of_groups(groups, wanted)
    return {s: found[s] for s in wanted}


def _by_coverage(geometry: np.ndarray, surface: Surface, wanted: list[str]) -> dict[str, np.ndarray]:
    import json

    from exactextract import exact_extract
    from exactextract.raster import NumPyRasterSource

    words = {"min": "min", "max": "max", "sum": "sum", "mean": "mean", "count": "count", "median": "median", "std": "stdev",
             "majority": "majority", "minority": "minority", "variety": "variety",
             "p10": "quantile(q=0.1)", "p25": "quantile(q=0.25)", "p75": "quantile(q=0.75)", "p90": "quantile(q=0.9)"}  # fmt: skip
    xmin, ymin, xmax, ymax = surface.frame.box
    source = NumPyRasterSource(np.asarray(surface.values, np.float64), xmin, ymin, xmax, ymax, nodata=np.nan)
    features = [{"type": "Feature", "properties": {}, "geometry": json.loads(shapely.to_geojson(g))} for g in geometry]
    asked = [s for s in wanted if s != "range"] + (["min", "max"] if "range" in wanted else [])
    operations = [f"{s}={words[s]}" for s in dict.fromkeys(asked)]
    rows = [f["properties"] for f in exact_extract(source, features, operations)]
    found = {s: np.array([np.nan if r[s] is None else r[s] for r in rows], np.float64) for s in dict.fromkeys(asked)}
    if "range" in wanted:
        found["range"] = found["max"] - found["min"]
    return {s: found[s] for s in wanted}


def _moments(count: np.ndarray, total: np.ndarray, square: np.ndarray, low: np.ndarray, high: np.ndarray) -> dict[str, np.ndarray]:
    empty = count == 0
    low, high = np.where(empty, np.nan, low), np.where(empty, np.nan, high)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = total / count
        std = np.sqrt(np.maximum(square / count - mean * mean, 0.0))
    return {
        "count": count,
        "sum": np.where(empty, np.nan, total),
        "mean": mean,
        "std": std,
        "min": low,
        "max": high,
        "range": high - low,
    }


def _of_groups(groups: list[np.ndarray], wanted: list[str]) -> dict[str, np.ndarray]:
    """Order statistics and statistics of distinct values, from the sorted values of each zone."""
    found: dict[str, np.ndarray] = {}
    for s, percent in _ORDERED.items():
        if s in wanted:
            found[s] = np.array([np.percentile(g, percent) if len(g) else np.nan for g in groups])
    for s in _BY_VALUE:
        if s in wanted:
            found[s] = np.array([_of_values(g, s) for g in groups])
    return found


def _of_values(values: np.ndarray, statistic: str) -> float:
    if len(values) == 0:
        return 0.0 if statistic == "variety" else float("nan")
    distinct, counts = np.unique(values, return_counts=True)
    if statistic == "variety":
        return float(len(distinct))
    return float(distinct[np.argmax(counts) if statistic == "majority" else np.argmin(counts)])


def _window(geometry: shapely.Geometry, frame: Frame) -> tuple[slice, slice, np.ndarray | None]:
    """Window of the grid around an area, and which of its cells' centres lie inside."""
    try:
        rows, cols = frame.window(tuple(shapely.bounds(geometry)))
    except MossError:
        return slice(0, 0), slice(0, 0), None
    part = frame.part(rows, cols)
    inside = rasterize([(geometry, 1)], part.shape, fill=0, transform=affine(part), dtype="uint8")
    return rows, cols, inside.astype(bool)


def _disjoint(geometry: np.ndarray, frame: Frame) -> bool:
    """Whether no two zones share more than their borders."""
    if len(geometry) > 200_000:
        return True  # a tessellation; testing a set of this size would take longer than the statistics
    if np.isin(shapely.get_type_id(geometry), _POLYGONS).all() and shapely.coverage_is_valid(geometry):
        return True  # areas that fit together edge by edge, as most do: told five times sooner than by looking at pairs
    tree = shapely.STRtree(geometry)
    for relation in ("overlaps", "contains"):
        a, b = tree.query(geometry, predicate=relation)
        pairs = a != b
        shared = shapely.area(shapely.intersection(geometry[a[pairs]], geometry[b[pairs]]))
        if (shared > 1e-6 * frame.dx * frame.dy).any():
            return False
    return True


def _check_overlap(geometry: np.ndarray, frame: Frame) -> None:
    if not shapely.intersects(geometry, shapely.box(*frame.box)).any():
        raise MossError("No zone meets the surface.", "Check that both lie on the same ground and state their reference system.")

"""Statistics of a surface or class map in areas: cells by their centre, or weighed by how much of them an
area covers.
"""

from __future__ import annotations

import itertools
from typing import Literal, NamedTuple, get_args

import numpy as np
import shapely

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, check_same_frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import NONE
from moss_step.science.algebra.bearings import bearing_of, spread, vectors
from moss_step.science.laying import laid
from moss_step.science.zones.coverage import covered
from moss_step.science.zones.kernels.statistics import accumulate, add_areas, by_zone
from moss_step.science.zones.ordering import distinct, in_order, weighed_quantiles

Statistic = Literal[
    "count",
    "sum",
    "mean",
    "median",
    "min",
    "max",
    "range",
    "std",
    "majority",
    "minority",
    "variety",
    "p10",
    "p25",
    "p75",
    "p90",
]
Weighting = Literal["centre", "coverage"]
Weigh = Literal["cells", "area"]
Pair = tuple[np.ndarray, np.ndarray]
"""Values, and what each weighs."""
STATISTICS: tuple[str, ...] = get_args(Statistic)
_ORDERED = {"median": 50.0, "p10": 10.0, "p25": 25.0, "p75": 75.0, "p90": 90.0}
_POLYGONS = (int(shapely.GeometryType.POLYGON), int(shapely.GeometryType.MULTIPOLYGON))
_AT_ONCE = 1 << 21
"""Cells between two reports."""
_BY_VALUE = ("majority", "minority", "variety")


def zone_statistics(
    zones: Shapes,
    surface: Surface,
    wanted: list[str],
    weighting: Weighting = "centre",
    progress: Progress | None = None,
    weigh: Weigh = "cells",
) -> dict[str, np.ndarray]:
    """One array of n values for each statistic wanted; zones without cells hold NaN (count 0).

    The zones must be in the surface's reference system. By centre a cell belongs to the zones that hold its
    centre; by coverage each cell is weighed by the share that a zone covers (exactextract). ``weigh`` counts
    cells alike, or by their ground area, in means and deviations. Bearings have a mean and a deviation around
    the circle (Mardia & Jupp 2000).

    Parameters
    ----------
    zones
        Areas in the reference system of the grid.
    surface
        Values of shape (rows, cols); NaN is no-data.
    wanted
        What is asked for.
    weighting
        Cells by their centre, or by the share covered.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.
    weigh
        What counts beside the direction, or how cells are weighed.

    Returns
    -------
    dict[str, np.ndarray]
        Arrays of n values by the name of the statistic.

    Raises
    ------
    AskedWronglyError
        For an unknown statistic, or one that bearings do not have.
    MossError
        When no zone meets the surface.

    Source
    ------
    Mardia & Jupp 2000, Directional Statistics, for bearings.

    Examples
    --------
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.statistics import zone_statistics
    >>> statistics = zone_statistics(box(0, 0, 4, 8), tilted(), ["mean", "count"])
    >>> statistics["mean"].tolist(), statistics["count"].tolist()
    ([1.0], [8.0])
    """
    progress = progress or silent()
    unknown = [s for s in wanted if s not in STATISTICS]
    if unknown or not wanted:
        raise AskedWronglyError(
            f"'{(unknown or ['nothing'])[0]}' is not a statistic.", f"Statistics: {', '.join(STATISTICS)}."
        )
    if zones.kind != "areas":
        raise MossError(f"The zones are {zones.kind}, and statistics need areas.", "Choose areas.")
    geometry = np.asarray(shapely.make_valid(zones.geometry))
    _check_overlap(geometry, surface.frame)
    progress.at(0.05, "Laying zones on the grid")
    if surface.cyclic:
        return _of_bearings(geometry, surface, wanted, weighting, weigh, progress)
    return _measured(geometry, surface, wanted, weighting, weigh, progress)


def _measured(
    geometry: np.ndarray,
    surface: Surface,
    wanted: list[str],
    weighting: Weighting,
    weigh: Weigh,
    progress: Progress,
) -> dict[str, np.ndarray]:
    if weighting == "coverage":
        return _by_coverage(geometry, surface, wanted, weigh, progress)
    weights = surface.frame.row_areas if weigh == "area" else np.ones(surface.frame.rows)
    if _disjoint(geometry, surface.frame):
        return _by_grid(geometry, surface, wanted, weights, progress)
    return _one_by_one(geometry, surface, wanted, weights, progress)


def _of_bearings(
    geometry: np.ndarray,
    surface: Surface,
    wanted: list[str],
    weighting: Weighting,
    weigh: Weigh,
    progress: Progress,
) -> dict[str, np.ndarray]:
    """Statistics of bearings: their mean direction and spread from the mean of their vectors, flat ones left
    out.
    """
    if senseless := [s for s in wanted if s not in ("mean", "std", "count", *_BY_VALUE)]:
        raise AskedWronglyError(
            f"Bearings have no {senseless[0]}: 350° lies beside 10°.",
            "Ask for mean, std, count, majority or variety.",
        )
    plain = [s for s in wanted if s not in ("mean", "std")]
    result = _measured(geometry, surface, plain, weighting, weigh, progress) if plain else {}
    if len(plain) < len(wanted):
        parts = [np.where(surface.values < 0, np.nan, part) for part in vectors(surface.values)]
        east, north = (
            _measured(
                geometry, Surface(part, surface.frame, NONE, "value"), ["mean"], weighting, weigh, progress
            )["mean"]
            for part in parts
        )
        mean = bearing_of(east, north).astype(np.float64)
        result |= {"mean": np.where(mean < 0, np.nan, mean), "std": spread(np.hypot(east, north))}
    return {s: result[s] for s in wanted}


def class_areas(zones: Shapes, classes: ClassMap) -> dict[str, np.ndarray]:
    """Area in square metres of each class in each zone, cells by their centre; keys are the classes' names,
    with the code where two share one.

    Parameters
    ----------
    zones
        Areas in the reference system of the grid.
    classes
        Codes of shape (rows, cols), uint8; 255 is no class.

    Returns
    -------
    dict[str, np.ndarray]
        Square metres (n) by class.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.statistics import class_areas
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> {name: areas.tolist() for name, areas in class_areas(box(0, 0, 6, 8), high).items()}
    {'not high': [32.0], 'high': [16.0]}
    """
    geometry = np.asarray(shapely.make_valid(zones.geometry))
    _check_overlap(geometry, classes.frame)
    n, frame = len(geometry), classes.frame
    table = np.zeros((n, 256))
    for k, g in enumerate(geometry):
        rows, cols, inside = _window(g, frame)
        if inside is not None:
            codes = np.ascontiguousarray(classes.codes[rows, cols])
            add_areas(codes, inside, frame.row_areas[rows], table[k])
    return {_column(classes, c): table[:, c.code] for c in classes.classes if c.code != NO_CLASS}


def class_means(zones: Shapes, classes: ClassMap, surface: Surface) -> dict[str, np.ndarray]:
    """Mean of a surface over the ground of each class in each zone, by the ground area of the cells; NaN
    where a zone has none of it.

    Parameters
    ----------
    zones
        Areas in the reference system of the grid.
    classes
        Codes of shape (rows, cols), uint8; 255 is no class.
    surface
        Values cell on cell with the classes; NaN is no-data.

    Returns
    -------
    dict[str, np.ndarray]
        Arrays of n means by the name of the class, in the unit of the surface.

    Raises
    ------
    MossError
        For a surface that does not lie cell on cell, or holds bearings.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.statistics import class_means
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> {name: means.tolist() for name, means in class_means(box(0, 0, 8, 8), high, tilted()).items()}
    {'not high': [1.0], 'high': [5.0]}
    """
    frame = classes.frame
    check_same_frame(frame, surface.frame, "The surface and the classes")
    if surface.cyclic:
        raise MossError("Bearings have no mean of this kind.", "Take their statistics by zones instead.")
    geometry = np.asarray(shapely.make_valid(zones.geometry))
    _check_overlap(geometry, frame)
    mass, total = np.zeros((len(geometry), 256)), np.zeros((len(geometry), 256))
    base = surface.summary.mean if surface.summary.count else 0.0
    for k, g in enumerate(geometry):
        rows, cols, inside = _window(g, frame)
        if inside is None:
            continue
        values = surface.values[rows, cols].astype(np.float64)
        counted = inside & ~np.isnan(values)
        areas = np.broadcast_to(frame.row_areas[rows][:, None], inside.shape)[counted]
        codes = classes.codes[rows, cols][counted]
        mass[k] = np.bincount(codes, areas, minlength=256)
        total[k] = np.bincount(codes, areas * (values[counted] - base), minlength=256)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = total / mass + base
    return {_column(classes, c): means[:, c.code] for c in classes.classes if c.code != NO_CLASS}


def _column(classes: ClassMap, entry: ClassEntry) -> str:
    """Name of a class in a table: with its code where several have one name."""
    alone = sum(c.name == entry.name for c in classes.classes) == 1
    return entry.name if alone else f"{entry.name} ({entry.code})"


def _by_grid(
    geometry: np.ndarray, surface: Surface, wanted: list[str], weights: np.ndarray, progress: Progress
) -> dict[str, np.ndarray]:
    n, frame = len(geometry), surface.frame
    ids = laid(geometry, np.arange(1, n + 1), frame, dtype="int32")
    shape = (min(4, frame.rows), n + 1)
    count, mass, total, moment, square = (np.zeros(shape) for _ in range(5))
    low, high = np.full(shape, np.inf), np.full(shape, -np.inf)
    base = _base(surface)
    for a, b in progress.part(0.4, 0.6).blocks(frame.rows, max(8, _AT_ONCE // frame.cols), "Adding up"):
        accumulate(
            ids[a:b], surface.values[a:b], base, weights[a:b], (count, mass, total, moment, square, low, high)
        )
    added = [v.sum(0)[1:] for v in (count, mass, total, moment, square)]
    sums = Sums(added[0], added[1], added[2], added[3], added[4], low.min(0)[1:], high.max(0)[1:])
    result = _moments(sums, base)
    if any(s in _ORDERED or s in _BY_VALUE for s in wanted):
        cuts = np.concatenate([[0], np.cumsum(sums.number.astype(np.int64))])
        values = np.empty(cuts[-1], surface.values.dtype)
        places = cuts[:-1].copy()
        for a, b in progress.part(0.6, 0.65).blocks(
            frame.rows, max(8, _AT_ONCE // frame.cols), "Ordering values"
        ):
            by_zone(ids[a:b], surface.values[a:b], places, values)
        groups = [values[a:b] for a, b in itertools.pairwise(cuts)]
        for k, group in enumerate(groups):
            groups[k] = in_order(progress.part(0.65 + 0.15 * k / n, 0.65 + 0.15 * (k + 1) / n), group)[0]
        result |= _of_groups(groups, wanted, progress.part(0.8, 1.0))
    return {s: result[s] for s in wanted}


def _one_by_one(
    geometry: np.ndarray, surface: Surface, wanted: list[str], weights: np.ndarray, progress: Progress
) -> dict[str, np.ndarray]:
    """Zones that share cells: each with its own mask."""
    groups, rows_of_sums, base = [], [], _base(surface)
    for k, g in enumerate(geometry):
        progress.at(0.1 + 0.9 * k / len(geometry), "Zone by zone")
        rows, cols, inside = _window(g, surface.frame)
        values, share = np.empty(0, surface.values.dtype), np.empty(0)
        if inside is not None:
            inside &= ~np.isnan(surface.values[rows, cols])
            values = surface.values[rows, cols][inside]
            share = np.broadcast_to(weights[rows][:, None], inside.shape)[inside]
        d = values.astype(np.float64) - base
        ends = (values.min(), values.max()) if len(values) else (np.inf, -np.inf)
        rows_of_sums.append(
            (float(len(d)), share.sum(), d.sum(), (share * d).sum(), (share * d * d).sum(), *map(float, ends))
        )
        groups.append(
            in_order(
                progress.part(0.1 + 0.9 * k / len(geometry), 0.1 + 0.9 * (k + 1) / len(geometry)), values
            )[0]
        )
    result = _moments(Sums(*np.array(rows_of_sums).T), base) | _of_groups(groups, wanted, progress)
    return {s: result[s] for s in wanted}


def _base(surface: Surface) -> float:
    return surface.summary.mean if surface.valid_count else 0.0


def _by_coverage(
    geometry: np.ndarray, surface: Surface, wanted: list[str], weigh: Weigh, progress: Progress
) -> dict[str, np.ndarray]:
    n, base, areas = len(geometry), _base(surface), surface.frame.row_areas if weigh == "area" else None
    number, mass, total, moment, square = np.zeros((5, n))
    low, high = np.full(n, np.inf), np.full(n, -np.inf)
    kept: list[list[Pair]] = [[] for _ in range(n)]
    by_order = any(s in _ORDERED or s in _BY_VALUE for s in wanted)
    for part in covered(geometry, surface, progress.part(0.1, 0.5 if by_order else 1.0)):
        k, d = part.zone, part.values - base
        weight = part.share if areas is None else part.share * areas[part.rows]
        number[k] += part.share.sum()
        mass[k] += weight.sum()
        total[k] += part.share @ d
        moment[k] += weight @ d
        square[k] += weight @ (d * d)
        if len(d):
            low[k], high[k] = min(low[k], part.values.min()), max(high[k], part.values.max())
        if by_order:  # in short form: all of a large zone are kept
            kept[k].append((part.values.astype(surface.values.dtype), part.share.astype(np.float32)))
    result = _moments(Sums(number, mass, total, moment, square, low, high), base)
    if by_order:
        result |= _of_covered(kept, wanted, progress.part(0.5, 1.0))
    return {s: result[s] for s in wanted}


def _of_covered(kept: list[list[Pair]], wanted: list[str], progress: Progress) -> dict[str, np.ndarray]:
    """Order statistics and statistics of distinct values, cells weighed by the share that is covered."""
    shares = {s: percent / 100.0 for s, percent in _ORDERED.items() if s in wanted}
    result = {s: np.full(len(kept), np.nan) for s in (*shares, *_BY_VALUE)}
    result["variety"][:] = 0.0
    for k, parts in enumerate(kept):
        progress.at(k / len(kept), "Ordering values")
        if not sum(len(v) for v, _ in parts):
            continue
        some = np.concatenate([v for v, _ in parts]), np.concatenate([w for _, w in parts])
        parts.clear()
        values, weights = in_order(progress.part(k / len(kept), (k + 1) / len(kept)), *some)
        progress.at((k + 0.99) / len(kept), "Reading values off")
        for s, quantile in zip(
            shares, weighed_quantiles(values, weights, list(shares.values())), strict=True
        ):
            result[s][k] = quantile
        if not any(s in wanted for s in _BY_VALUE):
            continue
        progress.at((k + 0.995) / len(kept), "Counting values")
        different, weighs = distinct(values, weights)
        result["variety"][k] = len(different)
        result["majority"][k], result["minority"][k] = (
            different[np.argmax(weighs)],
            different[np.argmin(weighs)],
        )
    return {s: v for s, v in result.items() if s in wanted}


class Sums(NamedTuple):
    """Sums of each zone: cells, weight, values less a base, weighted values and squares, lowest and highest
    value.
    """

    number: np.ndarray
    mass: np.ndarray
    total: np.ndarray
    moment: np.ndarray
    square: np.ndarray
    low: np.ndarray
    high: np.ndarray


def _moments(sums: Sums, base: float) -> dict[str, np.ndarray]:
    empty = sums.number == 0
    low, high = np.where(empty, np.nan, sums.low), np.where(empty, np.nan, sums.high)
    with np.errstate(invalid="ignore", divide="ignore"):
        above = sums.moment / sums.mass
        std = np.sqrt(np.maximum(sums.square / sums.mass - above * above, 0.0))
    return {
        "count": sums.number,
        "sum": np.where(empty, np.nan, sums.total + sums.number * base),
        "mean": above + base,
        "std": std,
        "min": low,
        "max": high,
        "range": high - low,
    }


def _of_groups(groups: list[np.ndarray], wanted: list[str], progress: Progress) -> dict[str, np.ndarray]:
    """Order statistics and statistics of distinct values, from the sorted values of each zone."""
    result: dict[str, np.ndarray] = {}
    for s, percent in _ORDERED.items():
        progress.at(0.0, "Reading values off")
        if s in wanted:
            result[s] = np.array([np.percentile(g, percent) if len(g) else np.nan for g in groups])
    for s in _BY_VALUE:
        progress.at(0.5, "Counting values")
        if s in wanted:
            result[s] = np.array([_of_values(g, s) for g in groups])
    return result


def _of_values(values: np.ndarray, statistic: str) -> float:
    if len(values) == 0:
        return 0.0 if statistic == "variety" else float("nan")
    different, counts = distinct(values)
    if statistic == "variety":
        return float(len(different))
    return float(different[np.argmax(counts) if statistic == "majority" else np.argmin(counts)])


def _window(geometry: shapely.Geometry, frame: Frame) -> tuple[slice, slice, np.ndarray | None]:
    """Window of the grid around an area, and which of its cells' centres lie inside."""
    try:
        rows, cols = frame.window(tuple(shapely.bounds(geometry)))
    except MossError:
        return slice(0, 0), slice(0, 0), None
    part = frame.part(rows, cols)
    return rows, cols, laid([geometry], 1, part).astype(bool)


def _disjoint(geometry: np.ndarray, frame: Frame) -> bool:
    """Whether no two zones share more than their borders."""
    if len(geometry) > 200_000:
        return True  # a tessellation; testing a set of this size would take longer than the statistics
    if np.isin(shapely.get_type_id(geometry), _POLYGONS).all() and shapely.coverage_is_valid(geometry):
        # areas that fit together edge by edge, as most do: told five times sooner than by looking at pairs
        return True
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
        raise MossError(
            "No zone meets the surface.",
            "Check that both lie on the same ground and state their reference system.",
        )

"""A line of sight along a line: the ground, the ray, what is seen of it and what stands in the way."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.model.chart import Chart
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.relief.profile import values_at
from moss_step.science.sight.observer import Sight


class Obstacle(NamedTuple):
    """A stretch that stands above the ray: where it begins, how far its top is over the ray, and the place of
    that top.
    """

    distance: float
    over: float
    x: float
    y: float
    peak: float
    """Distance of the top."""


@dataclass(frozen=True, eq=False)
class SightLine:
    """Points along a line: distance in metres, place, ground, what blocks (both less the earth's bend), and
    whether seen.

    ``fall`` is that bend. ``ray`` is the straight line from the eye to the top of the target; ``obstacles``
    lists the stretches that stand above it; ``clearance`` is the least height of the ray above what blocks.
    """

    distance: np.ndarray
    x: np.ndarray
    y: np.ndarray
    ground: np.ndarray
    top: np.ndarray
    ray: np.ndarray
    seen: np.ndarray
    fall: np.ndarray
    obstacles: list[Obstacle]
    clearance: float

    @property
    def open(self) -> bool:
        """Whether the target is seen."""
        return not self.obstacles

    def chart(self, crs: str | None = None) -> Chart:
        """Ground, what stands on it and the ray over the distance, with places and what is seen."""
        values = {
            "distance": self.distance,
            "x": self.x,
            "y": self.y,
            "ground": self.ground,
            "top": self.top,
            "ray": self.ray,
        }
        units = dict.fromkeys(("distance", "ground", "top", "ray"), METRE)
        values["seen"] = self.seen.astype(float)
        return Chart(values, units, "distance", ("ground", "top", "ray"), crs=crs)

    @property
    def stretches(self) -> list[tuple[int, int]]:
        """First and one past the last point of each seen or hidden stretch, in order; single points at the
        end are left out.
        """
        edges = np.flatnonzero(np.diff(self.seen.astype(np.int8))) + 1
        parts = itertools.pairwise([0, *edges.tolist(), len(self.seen)])
        return [(a, b) for a, b in parts if min(b + 1, len(self.seen)) - a > 1]

    @property
    def share_seen(self) -> float:
        """Share of the line's length whose ground is seen from its start."""
        steps = np.diff(self.distance)
        weights = 0.5 * (np.append(steps, 0.0) + np.append(0.0, steps))
        return float(weights[self.seen].sum() / weights.sum())


def sight_line(
    sight: Sight, start: tuple[float, float], end: tuple[float, float], eye: float, target: float
) -> SightLine:
    """Look along a line with heights in metres above the ground at its ends.

    Points stand at steps of at most half a cell, wherever the line crosses from one cell's centre line to the
    next, and between two of them where the ground comes nearest to the ray or rises highest from the eye: the
    bilinear ground has no other tops.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    start
        East and north of the observer.
    end
        East and north of the target.
    eye
        Metres of the eye above the ground.
    target
        Metres of the target above the ground.

    Returns
    -------
    SightLine
        Ground, ray and what stands at each point, in metres; obstacles and stretches.

    Raises
    ------
    MossError
        For a line without length or whose ends have no ground.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.line import sight_line
    >>> from moss_step.science.sight.observer import prepare_sight
    >>> sight_line(prepare_sight(tilted()), (1.0, 5.0), (9.0, 5.0), 1.7, 0.0).open  # up an even slope
    True
    """
    if start == end:
        raise MossError("The line of sight has no length.", "Give two different ends.")
    ends = np.array([start, end], np.float64)
    if any(
        sight.frame.cell_at(*place) is None for place in (start, end)
    ):  # before points are laid along it, which would never end
        raise MossError("An end of the line of sight has no ground.", "Draw it on the ground.")
    along = _even_and_crossing(sight.frame, ends)
    d, low, high = _read(sight, ends, along)
    if np.isnan(low[0]) or np.isnan(low[-1]):
        raise MossError("An end of the line of sight has no ground.", "Draw it on the ground.")
    more = _tops_between(sight, ends, along, d, (low[0] + eye, low[-1] + target))
    along = np.unique(np.concatenate([along, more]))
    d, low, high = _read(sight, ends, along)
    fall = sight.bend * d**2
    high[0], high[-1] = low[0], low[-1]
    from_eye, to_top = low[0] + eye, low[-1] + target
    ray = from_eye + (to_top - from_eye) * d / d[-1]
    with np.errstate(invalid="ignore", divide="ignore"):
        rise = np.where(d > 0, (high - from_eye) / d, -np.inf)
        before = np.concatenate([[-np.inf, -np.inf], np.maximum.accumulate(rise[1:-1])])
        seen = np.where(d > 0, (low - from_eye) / d >= before - 1e-12, True) & ~np.isnan(low)
    over = high - ray
    over[[0, -1]] = -np.inf
    xy = ends[0] + along[:, None] * (ends[1] - ends[0])
    obstacles = _stretches(d, over, xy[:, 0], xy[:, 1])
    inner = over[1:-1][np.isfinite(over[1:-1])]
    clearance = float(-inner.max()) if inner.size else float("inf")
    datum = sight.datum
    return SightLine(
        d, xy[:, 0], xy[:, 1], low + datum, high + datum, ray + datum, seen, fall, obstacles, clearance
    )


def _read(sight: Sight, ends: np.ndarray, along: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Distances, ground and what blocks at shares of a line, both less the earth's bend; -inf where nothing
    can block.
    """
    xy = ends[0] + along[:, None] * (ends[1] - ends[0])
    d = np.concatenate([[0.0], np.cumsum(sight.frame.distances(xy[:-1], xy[1:]))])
    fall = sight.bend * d**2
    low, high = (
        values_at(Surface(v, sight.frame, sight.dem.unit, "elevation"), xy[:, 0], xy[:, 1]).astype(np.float64)
        for v in (sight.ground, sight.top)
    )
    return d, low - fall, np.where(np.isnan(high), -np.inf, high - fall)


def _even_and_crossing(frame: Frame, ends: np.ndarray) -> np.ndarray:
    """Shares of a line at steps of at most half a cell, and where it crosses the lines between cell centres,
    and between cells.
    """
    cells = (ends - (frame.x0, frame.y0)) / (frame.dx, -frame.dy) - 0.5
    run = cells[1] - cells[0]
    steps = max(int(np.ceil(2.0 * np.abs(run).max())), 1)
    parts = [np.linspace(0.0, 1.0, steps + 1)]
    for first, length in zip(cells[0], run, strict=True):
        if length != 0.0:
            low, high = sorted((first, first + length))
            parts.append((np.arange(np.ceil(2.0 * low), np.floor(2.0 * high) + 1.0) / 2.0 - first) / length)
    result = np.unique(np.clip(np.concatenate(parts), 0.0, 1.0))
    apart = np.append(True, np.diff(result) > 1e-12)
    apart[-1] = True
    kept: np.ndarray = result[apart]
    return kept


def _tops_between(
    sight: Sight, ends: np.ndarray, along: np.ndarray, d: np.ndarray, heights: tuple[float, float]
) -> np.ndarray:
    """Shares of a line where, between two of its points, what blocks stands highest over the ray, or rises
    highest from the eye.

    Between the points the ground runs as a polynomial of second degree, which the heights at both and at the
    middle settle.
    """
    middle = 0.5 * (along[:-1] + along[1:])
    both = np.sort(np.concatenate([along, middle]))
    at, _, high = _read(sight, ends, both)
    a, m, b, near, length = high[:-2:2], high[1:-1:2], high[2::2], at[:-2:2], at[2::2] - at[:-2:2]
    eye, slope = heights[0], (heights[1] - heights[0]) / d[-1]
    with np.errstate(invalid="ignore", divide="ignore"):
        bow, run = 2.0 * (a + b - 2.0 * m) / length**2, (4.0 * m - 3.0 * a - b) / length
        over_ray = near + (slope - run) / (2.0 * bow)  # where the ground falls away from the ray again
        flat = a - run * near + bow * near**2 - eye
        rising = np.sqrt(flat / bow)  # the top of flat / d + ... + bow d
        result = []
        for place, top in ((over_ray, bow < 0.0), (rising, (flat < 0.0) & (bow < 0.0))):
            share = (place - near) / length
            inside = top & (share > 1e-9) & (share < 1.0 - 1e-9)
            result.append((along[:-1] + share * np.diff(along))[inside])
    return np.concatenate(result)


def runs_of(marks: np.ndarray) -> list[tuple[int, int]]:
    """First and one past the last index of each run of a boolean array that is true.

    Parameters
    ----------
    marks
        Marks of cells or points.

    Returns
    -------
    list[tuple[int, int]]
        Pairs of indices.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.line import runs_of
    >>> runs_of(np.array([True, True, False, True]))
    [(0, 2), (3, 4)]
    """
    edges = np.flatnonzero(np.diff(np.concatenate([[False], marks, [False]]).astype(np.int8))).tolist()
    return list(zip(edges[::2], edges[1::2], strict=True))


def _stretches(d: np.ndarray, over: np.ndarray, x: np.ndarray, y: np.ndarray) -> list[Obstacle]:
    """Where something stands above the ray: for each stretch distance, height above the ray and place of its
    highest point.
    """
    result = []
    for a, b in runs_of(over > 1e-9):
        k = a + int(np.argmax(over[a:b]))
        result.append(Obstacle(float(d[a]), float(over[k]), float(x[k]), float(y[k]), float(d[k])))
    return result

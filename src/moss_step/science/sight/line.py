"""A line of sight along a line: the ground, the ray, what is seen of it and what stands in the way."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.units import METRE
from moss_step.science.relief.profile import profile
from moss_step.science.sight.viewshed import Sight


class Obstacle(NamedTuple):
    """A stretch that stands above the ray: where it begins, how far its top is over the ray, and the place of that top."""

    distance: float
    over: float
    x: float
    y: float
    peak: float
    """Distance of the top."""


@dataclass(frozen=True, eq=False)
class SightLine:
    """Points along a line: distance in metres, place, ground, what blocks (both less the earth's bend), and whether seen.

    ``fall`` is that bend. ``ray`` is the straight line from the eye to the top of the target; ``obstacles`` lists the stretches
    that stand above it; ``clearance`` is the least height of the ray above what blocks.
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

    def table(self) -> Table:
        """All values along the line as columns."""
        values = {"distance": self.distance, "x": self.x, "y": self.y, "ground": self.ground, "top": self.top, "ray": self.ray}
        units = dict.fromkeys(("distance", "ground", "top", "ray"), METRE)
        return Table({**values, "seen": self.seen.astype(float)}, units, x="distance", y="ground")

    @property
    def stretches(self) -> list[tuple[int, int]]:
        """First and one past the last point of each seen or hidden stretch, in order; single points at the end are left out."""
        edges = np.flatnonzero(np.diff(self.seen.astype(np.int8))) + 1
        parts = itertools.pairwise([0, *edges.tolist(), len(self.seen)])
        return [(a, b) for a, b in parts if min(b + 1, len(self.seen)) - a > 1]

    @property
    def share_seen(self) -> float:
        """Share of the line whose ground is seen from its start."""
        return float(self.seen.mean())


def sight_line(sight: Sight, start: tuple[float, float], end: tuple[float, float], eye: float, target: float) -> SightLine:
    """Look along a line with heights in metres above the ground at its ends, at steps of half a cell.

    Raises MossError for a line without length or whose ends have no ground.
    """
    line = shapely.LineString([start, end])
    if line.length == 0:
        raise MossError("The line of sight has no length.", "Give two different ends.")
    step = min(sight.frame.dx, sight.frame.dy) / 2.0
    surfaces = {n: Surface(v, sight.frame, sight.dem.unit, "elevation") for n, v in (("ground", sight.ground), ("top", sight.top))}
    table = profile(surfaces, line, step)
    d, ground, top = (np.asarray(table.columns[n], np.float64) for n in ("distance", "ground", "top"))
    if np.isnan(ground[0]) or np.isnan(ground[-1]):
        raise MossError("An end of the line of sight has no ground.", "Draw it on the ground.")
    fall = sight.bend * d**2
    low, high = ground - fall, np.where(np.isnan(top), -np.inf, top - fall)
    high[0], high[-1] = low[0], low[-1]
    from_eye, to_top = low[0] + eye, low[-1] + target
    ray = from_eye + (to_top - from_eye) * d / d[-1]
    with np.errstate(invalid="ignore", divide="ignore"):
        rise = np.where(d > 0, (high - from_eye) / d, -np.inf)
        before = np.concatenate([[-np.inf, -np.inf], np.maximum.accumulate(rise[1:-1])])
        seen = np.where(d > 0, (low - from_eye) / d >= before - 1e-12, True) & ~np.isnan(low)
    over = high - ray
    over[[0, -1]] = -np.inf
    obstacles = _stretches(d, over, table.columns["x"], table.columns["y"])
    inner = over[1:-1][np.isfinite(over[1:-1])]
    clearance = float(-inner.max()) if inner.size else float("inf")
    return SightLine(d, table.columns["x"], table.columns["y"], low, high, ray, seen, fall, obstacles, clearance)


def runs_of(marks: np.ndarray) -> list[tuple[int, int]]:
    """First and one past the last index of each run of a boolean array that is true."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], marks, [False]]).astype(np.int8))).tolist()
    return list(zip(edges[::2], edges[1::2], strict=True))


def _stretches(d: np.ndarray, over: np.ndarray, x: np.ndarray, y: np.ndarray) -> list[Obstacle]:
    """Where something stands above the ray: for each stretch distance, height above the ray and place of its highest point."""
    found = []
    for a, b in runs_of(over > 1e-9):
        k = a + int(np.argmax(over[a:b]))
        found.append(Obstacle(float(d[a]), float(over[k]), float(x[k]), float(y[k]), float(d[k])))
    return found

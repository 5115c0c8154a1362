"""Segments by the points that are clicked: which one it is, and its outline."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from moss_step.model.cloud import Cloud
from moss_step.science.points.edits import in_outline
from moss_step.science.points.segments import SEGMENT

_DRAWN, _REACH = 5_000, 2.0
"""Points whose hull is drawn, and metres from a place within which its point lies."""


@dataclass(frozen=True, eq=False)
class Segmented:
    """The points of a cloud segment after segment: those of number k are ``order[ends[k]:ends[k + 1]]``."""

    cloud: Cloud
    numbers: np.ndarray
    order: np.ndarray
    ends: np.ndarray

    @classmethod
    def of(cls, cloud: Cloud) -> Segmented | None:
        """Lay the points of a cloud out by its attribute ``segment``; None without one."""
        held = cloud.attributes.get(SEGMENT)
        if held is None:
            return None
        numbers = np.asarray(held).astype(np.int64)
        order = np.argsort(numbers, kind="stable")
        ends = np.concatenate([[0], np.cumsum(np.bincount(numbers))])
        return cls(cloud, numbers, order, ends)

    def __len__(self) -> int:
        return len(self.ends) - 2

    def rows(self, segment: int) -> np.ndarray:
        """Numbers of the points of a segment."""
        if not 0 < segment <= len(self):
            return np.empty(0, np.int64)
        return self.order[self.ends[segment] : self.ends[segment + 1]]

    def at(self, place: Sequence[float]) -> int:
        """The segment of the point nearest to a place, with its height or without; 0 where none lies within
        two metres.
        """
        x, y, z = (np.asarray(v) for v in (self.cloud.x, self.cloud.y, self.cloud.z))
        east, north = self.cloud.plan_metres
        near = (np.abs(x - place[0]) * east <= _REACH) & (np.abs(y - place[1]) * north <= _REACH)
        rows = np.flatnonzero(near & (self.numbers > 0))
        off = np.hypot((x[rows] - place[0]) * east, (y[rows] - place[1]) * north)
        if len(place) > 2:
            off = np.hypot(off, (z[rows] - place[2]) * self.cloud.unit.metres)
        found = rows[off <= _REACH]
        return int(self.numbers[found[np.argmin(off[off <= _REACH])]]) if found.size else 0

    def place(self, segment: int) -> tuple[float, float, float]:
        """The point of a segment that lies nearest to its middle, which stands for it."""
        rows = self.rows(segment)
        x, y, z = (np.asarray(v)[rows] for v in (self.cloud.x, self.cloud.y, self.cloud.z))
        east, north = self.cloud.plan_metres
        nearest = int(np.argmin(np.hypot((x - x.mean()) * east, (y - y.mean()) * north)))
        return round(float(x[nearest]), 7), round(float(y[nearest]), 7), round(float(z[nearest]), 3)

    def outline(self, segment: int) -> np.ndarray:
        """Corners of the hull of a segment (m, 2), closed; empty for points that have none. Of very many
        points an even choice is taken: it is drawn, and not measured.
        """
        rows = self.rows(segment)
        rows = rows[:: max(len(rows) // _DRAWN, 1)]
        places = np.column_stack([self.cloud.x[rows], self.cloud.y[rows]])
        return np.asarray(shapely.get_coordinates(shapely.convex_hull(shapely.multipoints(places))))

    def inside(self, corners: np.ndarray) -> list[int]:
        """Segments most of whose points lie inside an outline on the plan."""
        held = in_outline(np.asarray(self.cloud.x), np.asarray(self.cloud.y), corners)
        count = np.bincount(self.numbers[held], minlength=len(self.ends) - 1)
        return [int(k) for k in np.flatnonzero(count > 0.5 * np.diff(self.ends)) if k > 0]

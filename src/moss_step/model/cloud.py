"""A point cloud: places with heights and attributes, in memory or mapped from a file, worked through in
chunks.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, Frame
from moss_step.model.units import UNKNOWN, Unit

POINTS_A_CELL, _LONGEST, _COARSE = 2.0, 4000, 256
"""Points for each cell of the frame that a cloud is drawn in, the most cells on a side of it, and on a
side of the grid that tells where there are points at all.
"""
CHUNK = 1_000_000
"""Points that are worked on at once."""
UNASSIGNED, GROUND, BUILDING, WATER, WIRE = 1, 2, 6, 9, 14
LOW_PLANTS, MEDIUM_PLANTS, HIGH_PLANTS = 3, 4, 5
LOW_NOISE, HIGH_NOISE = 7, 18
LYING = (GROUND, WATER, LOW_NOISE, HIGH_NOISE)
"""Classes whose points do not stand on the ground."""
FIRST_OWN = 64
"""Codes from here on are a survey's own."""
CLASSES = {
    0: "Never classified", 1: "Unassigned", 2: "Ground", 3: "Low vegetation", 4: "Medium vegetation",
    5: "High vegetation", 6: "Building", 7: "Low noise", 8: "Model key point", 9: "Water", 10: "Rail",
    11: "Road surface", 12: "Overlap", 13: "Wire guard", 14: "Wire conductor", 15: "Transmission tower",
    16: "Wire connector", 17: "Bridge deck", 18: "High noise", 19: "Overhead structure", 20: "Ignored ground",
    21: "Snow", 22: "Temporal exclusion",
}  # fmt: skip
"""Names of the classes of points (ASPRS, LAS specification 1.4 R15, table 17); codes from 64 are a survey's
own.
"""


def class_name(code: int) -> str:
    """The name of a class of points."""
    return CLASSES.get(code, f"Own class {code}" if code >= FIRST_OWN else f"Reserved {code}")


@dataclass(frozen=True)
class PointClass:
    """A class of points: code, name and colour (#RRGGBB; empty for the usual one of the code)."""

    code: int
    name: str
    color: str = ""


def of_returns(which: str, number: np.ndarray, of: np.ndarray) -> np.ndarray:
    """Which points are the ``first``, the ``last`` or the ``only`` return of their pulse, or any."""
    if which == "all":
        return np.ones(len(number), bool)
    return np.asarray({"first": number <= 1, "last": number >= of, "only": of <= 1}[which])


@dataclass(frozen=True)
class Record:
    """A record of a file's head that is kept as it came."""

    user: str
    number: int
    description: str
    content: bytes


@dataclass(frozen=True)
class ExtraField:
    """An attribute that a file has beyond those of its point format: name, NumPy type and what it says of
    itself.
    """

    name: str
    type: str
    description: str = ""
    scales: tuple[float, ...] | None = None
    offsets: tuple[float, ...] | None = None


@dataclass(frozen=True)
class CloudHead:
    """How the points stand in a file, so that they can be written as they came: version and point format of
    LAS, scales and offsets of the coordinates, records and extra attributes.
    """

    version: str
    point_format: int
    scales: tuple[float, float, float]
    offsets: tuple[float, float, float]
    records: tuple[Record, ...] = ()
    extra: tuple[ExtraField, ...] = ()
    crs: str | None = None
    """The system that the records state."""
    wkt: bool = False
    system: str = ""
    software: str = ""


@dataclass(frozen=True, eq=False)
class Cloud:
    """``x``, ``y`` and ``z`` of n points (float64) with named attributes of n values, in one reference
    system; heights in ``unit``.

    Arrays may be mapped from a file: nothing reads them whole but ``chunks`` by ``chunks``. Raises MossError
    for arrays of several lengths.
    """

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray
    attributes: Mapping[str, np.ndarray] = field(default_factory=dict)
    crs: str | None = None
    unit: Unit = UNKNOWN
    head: CloudHead | None = None
    own: tuple[PointClass, ...] = ()
    """Classes of its own, beside those of the specification."""
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def __post_init__(self) -> None:
        """Refuse arrays of several lengths."""
        for name, values in {"y": self.y, "z": self.z, **self.attributes}.items():
            if len(values) != len(self.x):
                raise MossError(f"{name} has {len(values):,} values for {len(self.x):,} points.")

    def __len__(self) -> int:
        return len(self.x)

    def class_name(self, code: int) -> str:
        """The name of a class of its points."""
        return next((c.name for c in self.own if c.code == code), class_name(code))

    def with_own(self, *classes: PointClass) -> Cloud:
        """The same points, with further classes of their own."""
        kept = tuple(c for c in self.own if c.code not in {new.code for new in classes})
        return replace(self, own=(*kept, *classes))

    @property
    def nbytes(self) -> int:
        """Size in memory: what is mapped from a file takes none."""
        return sum(
            int(a.nbytes)
            for a in (self.x, self.y, self.z, *self.attributes.values())
            if not isinstance(a, np.memmap)
        )

    @cached_property
    def frame(self) -> Frame | None:
        """The frame that it is drawn in, with a cell for about each two points; None without points, or for
        points in one place.
        """
        if self.bounds is None:
            return None
        xmin, ymin, xmax, ymax = self.bounds[0]
        across, up = xmax - xmin, ymax - ymin
        if not (np.isfinite([across, up]).all() and max(across, up) > 0.0):
            return None
        wide = max(across, max(across, up) / _LONGEST)
        high = max(up, max(across, up) / _LONGEST)
        held = self._covered(xmin, ymin, wide, high) * wide * high
        cell = max((held / max(len(self) / POINTS_A_CELL, 1.0)) ** 0.5, max(wide, high) / _LONGEST)
        cols, rows = int(across / cell) + 1, int(up / cell) + 1
        return Frame(rows, cols, xmin, ymin + rows * cell, cell, cell, self.crs)

    def _covered(self, west: float, south: float, wide: float, high: float) -> float:
        """Share of the extent that holds points, by a coarse grid."""
        side = int(min(max((len(self) / 8.0) ** 0.5, 1.0), _COARSE))
        taken = np.zeros(side * side, bool)
        for chunk in self.chunks():
            places = [
                np.clip(((values - low) / extent * side).astype(np.int64), 0, side - 1)
                for values, low, extent in ((chunk.x, west, wide), (chunk.y, south, high))
            ]
            taken[places[1] * side + places[0]] = True
        return float(taken.mean())

    @cached_property
    def plan_metres(self) -> tuple[float, float]:
        """Metres of one unit of the plan to the east and to the north, at its middle."""
        middle = 0.0 if self.bounds is None else (self.bounds[0][1] + self.bounds[0][3]) / 2.0
        step = 1e-4  # a degree is not the same at its ends: a small cell stands for the place
        wide, high = Frame(1, 1, 0.0, middle + step / 2.0, step, step, self.crs).cell_metres
        return round(wide / step, 9), round(high / step, 9)

    def part(self, which: slice | np.ndarray) -> Cloud:
        """Some of the points: a slice (without a copy), row numbers or a mask."""
        attributes = {n: v[which] for n, v in self.attributes.items()}
        return replace(self, x=self.x[which], y=self.y[which], z=self.z[which], attributes=attributes)

    def chunks(self, size: int = CHUNK) -> Iterator[Cloud]:
        """All points, some at a time and in their order."""
        for start in range(0, len(self), size):
            yield self.part(slice(start, start + size))

    @cached_property
    def bounds(self) -> tuple[Box, tuple[float, float]] | None:
        """Extent, and lowest and highest height; None without points. NaN counts for nothing."""
        if not len(self):
            return None
        low = np.full(3, np.inf)
        high = np.full(3, -np.inf)
        for chunk in self.chunks():
            for k, values in enumerate((chunk.x, chunk.y, chunk.z)):
                low[k] = np.fmin(low[k], np.fmin.reduce(values))
                high[k] = np.fmax(high[k], np.fmax.reduce(values))
        return (float(low[0]), float(low[1]), float(high[0]), float(high[1])), (float(low[2]), float(high[2]))


def joined(clouds: Sequence[Cloud]) -> Cloud:
    """The points of several clouds of one system and unit, with the attributes that all of them have."""
    first = clouds[0]
    shared = [n for n in first.attributes if all(n in c.attributes for c in clouds)]
    x, y, z = (np.concatenate([getattr(c, axis) for c in clouds]) for axis in "xyz")
    held = {n: np.concatenate([c.attributes[n] for c in clouds]) for n in shared}
    return replace(first, x=x, y=y, z=z, attributes=held)

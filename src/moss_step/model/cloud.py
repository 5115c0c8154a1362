"""A point cloud: places with heights and attributes, in memory or mapped from a file, worked through in
chunks.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.frame import Box
from moss_step.model.units import UNKNOWN, Unit

CHUNK = 1_000_000
"""Points that are worked on at once."""


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
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def __post_init__(self) -> None:
        """Refuse arrays of several lengths."""
        for name, values in {"y": self.y, "z": self.z, **self.attributes}.items():
            if len(values) != len(self.x):
                raise MossError(f"{name} has {len(values):,} values for {len(self.x):,} points.")

    def __len__(self) -> int:
        return len(self.x)

    @property
    def nbytes(self) -> int:
        """Size in memory: what is mapped from a file takes none."""
        return sum(
            int(a.nbytes)
            for a in (self.x, self.y, self.z, *self.attributes.values())
            if not isinstance(a, np.memmap)
        )

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

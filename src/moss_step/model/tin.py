"""A TIN: a surface of triangles between points, with the edges that it must have."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from moss_step.model.arrays import read_only
from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, Frame
from moss_step.model.units import UNKNOWN, Unit

_LEAST_SIDE = 1e-6


@dataclass(frozen=True, eq=False)
class Tin:
    """Points (x and y in units of ``crs``, z in ``unit``: n each, float64), and triangles as numbers of their
    corners (m, 3).

    ``lines`` (k, 2) are edges that had to be: break lines and outlines. Raises MossError for triangles
    without their points.
    """

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray
    triangles: np.ndarray
    lines: np.ndarray
    crs: str | None = None
    unit: Unit = UNKNOWN
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def __post_init__(self) -> None:
        """Refuse corners that are no points; hold all arrays read only."""
        for name in ("x", "y", "z"):
            object.__setattr__(self, name, read_only(getattr(self, name), np.dtype(np.float64)))
        for name, width in (("triangles", 3), ("lines", 2)):
            held = read_only(np.asarray(getattr(self, name)).reshape(-1, width), np.dtype(np.int32))
            if held.size and (held.min() < 0 or held.max() >= len(self.x)):
                raise MossError("A triangle has a corner that is no point.", "The file is damaged.")
            object.__setattr__(self, name, held)
        if not len(self.x) == len(self.y) == len(self.z):
            raise MossError("Points of a TIN need x, y and z each.")

    def __len__(self) -> int:
        return len(self.triangles)

    @property
    def nbytes(self) -> int:
        """Size in memory."""
        return int(sum(a.nbytes for a in (self.x, self.y, self.z, self.triangles, self.lines)))

    @cached_property
    def box(self) -> Box | None:
        """Extent of the corners of triangles, or None where there are none."""
        if not len(self):
            return None
        used = np.unique(self.triangles)
        x, y = self.x[used], self.y[used]
        return float(x.min()), float(y.min()), float(x.max()), float(y.max())

    @cached_property
    def range(self) -> tuple[float, float] | None:
        """Lowest and highest corner, or None where there are none."""
        if not len(self):
            return None
        z = self.z[np.unique(self.triangles)]
        return float(z.min()), float(z.max())

    @cached_property
    def frame(self) -> Frame | None:
        """One cell around all: metres of its units are those of the middle of the ground."""
        if self.box is None:
            return None
        xmin, ymin, xmax, ymax = self.box
        return Frame(1, 1, xmin, ymax, max(xmax - xmin, _LEAST_SIDE), max(ymax - ymin, _LEAST_SIDE), self.crs)

    @property
    def metres_per_height(self) -> float:
        """Metres in one unit of height; an unknown unit counts as metres."""
        return self.unit.metres

    @cached_property
    def edges(self) -> np.ndarray:
        """Every edge once, as numbers of its ends (e, 2), the lower first."""
        t = self.triangles
        ends = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]).astype(np.int64)
        low, high = ends.min(axis=1), ends.max(axis=1)
        key = np.unique(low * len(self.x) + high)
        return np.column_stack([key // len(self.x), key % len(self.x)])

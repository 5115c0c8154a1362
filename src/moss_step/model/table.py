"""A table: named columns with units."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.units import NONE, Unit


@dataclass(frozen=True, eq=False)
class Table:
    """Columns of one length, each with a unit."""

    columns: Mapping[str, np.ndarray]
    units: Mapping[str, Unit] = field(default_factory=dict)
    crs: str | None = field(default=None, kw_only=True)
    """Reference system of columns that hold coordinates."""
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def __post_init__(self) -> None:
        """Refuse columns of several lengths."""
        if len({len(v) for v in self.columns.values()}) > 1:
            raise MossError("The columns of a table must have one length.")

    def __len__(self) -> int:
        return len(next(iter(self.columns.values()), ()))

    @property
    def nbytes(self) -> int:
        """Size in memory."""
        return sum(int(v.nbytes) for v in self.columns.values())

    def unit(self, column: str) -> Unit:
        """Unit of a column."""
        return self.units.get(column, NONE)

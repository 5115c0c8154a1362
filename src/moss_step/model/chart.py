"""A chart: curves with units over one value, such as heights over distance, or storage over stage."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.table import Table


@dataclass(frozen=True, eq=False)
class Chart(Table):
    """A table with curves: ``across`` names the column that they run over, ``up`` those of the curves, the
    main one first, and ``dots`` those of them that are single values rather than curves.

    Other columns go with the points, such as the places they were read at. Raises MossError for curves
    without a column of numbers.
    """

    across: str = ""
    up: tuple[str, ...] = ()
    dots: tuple[str, ...] = ()
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def __post_init__(self) -> None:
        """Refuse curves that are not there."""
        super().__post_init__()
        for name in (self.across, *self.up):
            if name not in self.columns or self.columns[name].dtype.kind not in "biuf":
                raise MossError(
                    f"A chart needs numbers in '{name}'.",
                    f"There are: {', '.join(self.columns) or 'no columns'}.",
                )

    def curve(self, name: str) -> tuple[np.ndarray, np.ndarray]:
        """Points of a curve: the value that it runs over, and its own (float64)."""
        return np.asarray(self.columns[self.across], np.float64), np.asarray(self.columns[name], np.float64)

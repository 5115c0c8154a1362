"""A surface: a grid of measured values with frame and unit."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.summary import Summary, summarise
from moss_step.model.units import UNKNOWN, Unit

FLAT = -1.0
"""Aspect of a cell that faces nowhere, in memory and in files."""


@dataclass(frozen=True, eq=False)
class Surface:
    """A float32 grid of shape (rows, cols), north up, no-data as NaN.

    ``quantity`` says what is measured: elevation, slope, aspect, shade.
    """

    values: np.ndarray
    frame: Frame
    unit: Unit = UNKNOWN
    quantity: str = "elevation"

    def __post_init__(self) -> None:
        """Refuse values that do not fit the frame."""
        if self.values.shape != self.frame.shape:
            raise MossError(f"Values of shape {self.values.shape} do not fit a frame of {self.frame.shape}.")
        self.values.flags.writeable = False

    @property
    def nbytes(self) -> int:
        """Size in memory."""
        return int(self.values.nbytes)

    @cached_property
    def summary(self) -> Summary:
        """Count, range and mean of the values."""
        return summarise(self.values)

    @property
    def valid_count(self) -> int:
        """Number of cells with a value."""
        return self.summary.count

    @property
    def range(self) -> tuple[float, float] | None:
        """Lowest and highest value, or None when every cell is no-data."""
        return (self.summary.low, self.summary.high) if self.summary.count else None

    @property
    def cyclic(self) -> bool:
        """Whether 0 and 360 are the same (aspect)."""
        return self.quantity == "aspect"

    @property
    def metres_per_height(self) -> float:
        """Metres in one unit of height; an unknown unit counts as metres.

        Raises MossError for values that are no lengths.
        """
        if self.unit == UNKNOWN:
            return 1.0
        if self.unit.kind != "length":
            raise MossError(
                f"This needs heights, and the surface holds {self.quantity} in {self.unit.key}.",
                "Choose an elevation surface.",
            )
        return self.unit.factor

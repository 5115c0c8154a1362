"""A surface: a grid of measured values with frame and unit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from moss_step.model.arrays import read_only
from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, grid_beside, held_bytes, let_go, row_by_row
from moss_step.model.summary import Summary, summarise
from moss_step.model.units import BEARING, UNKNOWN, Unit

FLAT = -1.0
"""Aspect of a cell that faces nowhere, in memory and in files."""


def _held_as(dtype: np.dtype) -> np.dtype:
    """Single precision where it holds every value of a type, else double.

    Raises MossError for what holds no real numbers.
    """
    if dtype.kind not in "fiub":
        raise MossError(
            f"Values of type {dtype} are no real numbers.", "Give floating-point or whole numbers."
        )
    return np.dtype(np.float32 if dtype.itemsize <= (4 if dtype.kind == "f" else 2) else np.float64)


def _holds_any(values: np.ndarray) -> bool:
    """Whether there is a value: found in the first rows where there are many."""
    return any(not np.isnan(values[rows]).all() for rows in blocks_of(values, 100_000))


@dataclass(frozen=True, eq=False)
class Surface:
    """A grid of shape (rows, cols), north up, no-data as NaN: float32, or float64 where single precision
    would blur the relief.

    ``quantity`` says what is measured: elevation, slope, aspect, shade.
    """

    values: np.ndarray
    frame: Frame
    unit: Unit = UNKNOWN
    quantity: str = "elevation"
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def __post_init__(self) -> None:
        """Refuse values that do not fit the frame; hold them as kernels take them, and read only here: the
        caller's array stays as it is.
        """
        if self.values.shape != self.frame.shape:
            raise MossError(f"Values of shape {self.values.shape} do not fit a frame of {self.frame.shape}.")
        object.__setattr__(self, "values", read_only(self.values, _held_as(self.values.dtype)))

    @property
    def nbytes(self) -> int:
        """Size in memory, with that of the same heights above a base where these were made; what is mapped
        from a file takes none.
        """
        own = self.__dict__.get("_above_base")
        return held_bytes(self.values) + (0 if own is None else held_bytes(own[0].values))

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
        return self.quantity == "aspect" or self.unit == BEARING

    @property
    def whole(self) -> bool:
        """Whether values are counts, or yes and no: what lies between two of them means nothing."""
        return self.quantity in ("seen", "yes_no")

    @cached_property
    def area(self) -> float:
        """Ground area in square metres of the cells that have a value."""
        if self.valid_count == self.values.size:
            return self.frame.area
        known = [np.count_nonzero(~np.isnan(self.values[r]), axis=1) for r in blocks_of(self.values)]
        return float((np.concatenate(known) * self.frame.row_areas).sum())

    @property
    def levelled(self) -> tuple[Surface, float]:
        """The same heights above a base in single precision, and that base: itself and 0 where the values are
        single already.

        Small relief on a large base keeps its digits that way, and differences of heights are the same.
        """
        return (self, 0.0) if self.values.dtype == np.float32 else self._above_base

    @cached_property
    def _above_base(self) -> tuple[Surface, float]:
        base = self.base
        return replace(self, values=row_by_row(lambda v: v - base, np.float32, self.values)), base

    @property
    def base(self) -> float:
        """What it is levelled by: the whole number next to the mean of double values; 0 for single ones."""
        double = self.values.dtype != np.float32 and self.summary.count > 0
        return float(np.rint(self.summary.mean)) if double else 0.0

    def part_of(self, base: float) -> Surface:
        """The same values as a part of a larger surface: levelled as that one is, and not empty where only
        this part is.
        """
        part = replace(self)
        if self.values.dtype != np.float32:
            above = replace(self, values=(self.values - base).astype(np.float32))
            part.__dict__.update(_above_base=(above, base))
        if not _holds_any(self.values):
            part.__dict__.update(summary=Summary(1, 0.0, 0.0, 0.0))
        part.__dict__.update(_is_part=True)
        return part

    def by_rows(self, margin: int, kind: Any, make: Callable[[Surface], np.ndarray]) -> np.ndarray:
        """A grid of what is made of some rows at a time with so many around them: mapped where the values
        are.

        Raises MossError when the disk has no room.
        """
        out, cols = grid_beside(self.values, kind), slice(0, self.frame.cols)
        for rows in blocks_of(out, least=2 * margin):
            around = slice(max(rows.start - margin, 0), min(rows.stop + margin, self.frame.rows))
            part = replace(self, values=self.values[around], frame=self.frame.part(around, cols))
            made = make(part.part_of(self.base))
            out[rows] = made[rows.start - around.start :][: rows.stop - rows.start]
            let_go(out, self.values)
        return out

    @property
    def is_part(self) -> bool:
        """Whether it is worked on as a part of a larger one: then nothing may be left of it."""
        return bool(self.__dict__.get("_is_part", False))

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

"""A class map: a grid of classes with names and colours."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from moss_step.model.arrays import read_only
from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, held_bytes, let_go, row_by_row
from moss_step.model.surface import Surface
from moss_step.model.units import NONE

NO_CLASS = 255
"""Code of a cell without a class."""
_AT_ONCE = 1_000_000
"""Cells that are counted at a time."""


def code_counts(codes: np.ndarray) -> np.ndarray:
    """How many cells have each of the 256 codes (int64)."""
    counts = np.zeros(NO_CLASS + 1, np.int64)
    for rows in blocks_of(codes, _AT_ONCE):  # counting makes each code a number of eight bytes
        counts += np.bincount(codes[rows].reshape(-1), minlength=NO_CLASS + 1)
        let_go(codes)
    return counts


@dataclass(frozen=True)
class ClassEntry:
    """One class: its code in the grid (0 to 254), name and colour ``#RRGGBB``; ``text`` says its range.

    ``ranges`` are the bounds of the values that it was made from, None for an open end, in the unit whose key
    is ``unit``.
    """

    code: int
    name: str
    color: str
    text: str = ""
    ranges: tuple[tuple[float | None, float | None], ...] = ()
    unit: str = ""


@dataclass(frozen=True, eq=False)
class ClassMap:
    """A uint8 grid of class codes of shape (rows, cols), north up; 255 is no class."""

    codes: np.ndarray
    frame: Frame
    classes: tuple[ClassEntry, ...]
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def __post_init__(self) -> None:
        """Refuse codes that do not fit the frame."""
        if self.codes.shape != self.frame.shape:
            raise MossError(f"Codes of shape {self.codes.shape} do not fit a frame of {self.frame.shape}.")
        whole = self.codes.dtype.kind in "iu"
        if not whole or (
            self.codes.dtype != np.uint8
            and self.codes.size
            and not 0 <= self.codes.min() <= self.codes.max() <= NO_CLASS
        ):
            raise MossError(
                f"Codes of classes are whole numbers from 0 to {NO_CLASS}.", "Number the classes anew."
            )
        object.__setattr__(self, "codes", read_only(self.codes, np.dtype(np.uint8)))

    @property
    def valid_count(self) -> int:
        """Number of cells that have a class."""
        return int(code_counts(self.codes)[:NO_CLASS].sum())

    @property
    def nbytes(self) -> int:
        """Size in memory; what is mapped from a file takes none."""
        return held_bytes(self.codes)

    @property
    def quantity(self) -> str:
        """What its codes measure: ``yes_no`` where 1 is yes and 0 is no, or not what 1 is; else nothing."""
        names = {c.code: c.name for c in self.classes}
        no = names.get(0, "")
        return "yes_no" if names.keys() == {0, 1} and (no == "no" or no.startswith("not ")) else ""

    def as_surface(self) -> Surface:
        """The codes as numbers, NaN where there is no class: 1 and 0 of a map of yes and no."""

        def numbers(codes: np.ndarray) -> np.ndarray:
            return np.where(codes == NO_CLASS, np.float32(np.nan), codes.astype(np.float32))

        values = row_by_row(numbers, np.float32, self.codes)
        return Surface(values, self.frame, NONE, self.quantity)

    def entry(self, code: int) -> ClassEntry | None:
        """Give the class with a code, or None."""
        return next((c for c in self.classes if c.code == code), None)

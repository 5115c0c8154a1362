"""Shapes: points, lines or areas with a table."""

from __future__ import annotations

import itertools
from collections.abc import Container, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import shapely

from moss_step.model.derived import Derived
from moss_step.model.errors import MossError
from moss_step.model.frame import Box

_ENDINGS = (("_m3", "m³"), ("_m2", "m²"), ("_m", "m"))


@dataclass(frozen=True, eq=False)
class Shapes:
    """An array of n shapely geometries with named columns of n values, in one reference system."""

    geometry: np.ndarray
    columns: Mapping[str, np.ndarray] = field(default_factory=dict)
    crs: str | None = None
    symbols: Mapping[str, str] = field(default_factory=dict)
    """Unit symbols of columns; those whose names end in _m3, _m2 or _m need none."""
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    def symbol(self, column: str) -> str:
        """Unit symbol of a column; empty when it has none."""
        usual = next((s for ending, s in _ENDINGS if column.endswith(ending)), "")
        return self.symbols.get(column, usual)

    def __post_init__(self) -> None:
        """Refuse columns of another length than the geometry."""
        for name, values in self.columns.items():
            if len(values) != len(self.geometry):
                raise MossError(f"Column {name} has {len(values)} values for {len(self.geometry)} shapes.")

    def __len__(self) -> int:
        return len(self.geometry)

    @cached_property
    def nbytes(self) -> int:
        """Approximate size in memory."""
        return int(shapely.get_num_coordinates(self.geometry).sum() * 16 + 200 * len(self.geometry))

    @cached_property
    def kind(self) -> str:
        """What the shapes are: points, lines, areas or mixed."""
        result = {int(d) for d in np.unique(shapely.get_dimensions(self.geometry)) if d >= 0}
        return {0: "points", 1: "lines", 2: "areas"}[result.pop()] if len(result) == 1 else "mixed"

    @cached_property
    def box(self) -> Box | None:
        """Extent of all shapes, or None when there are none."""
        if len(self.geometry) == 0:
            return None
        bounds = shapely.total_bounds(self.geometry)
        return None if np.isnan(bounds).any() else (bounds[0], bounds[1], bounds[2], bounds[3])

    @property
    def count_text(self) -> str:
        """How many there are, in words."""
        n = len(self)
        if n == 0:
            return "no shapes"
        return f"{n:,} {self.kind}" if n != 1 or self.kind == "mixed" else f"1 {self.kind[:-1]}"

    def names(self) -> list[str]:
        """The shapes' own names, from a column called name (any case); empty where there is none."""
        column = next((c for c in self.columns if c.lower() == "name"), None)
        return [""] * len(self) if column is None else [str(v) for v in self.columns[column]]


def free_name(name: str, taken: Container[str]) -> str:
    """A name for a column that none has yet: itself, or with a number behind it."""
    return (
        name
        if name not in taken
        else next(f"{name}_{k}" for k in itertools.count(2) if f"{name}_{k}" not in taken)
    )

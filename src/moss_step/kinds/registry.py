"""All kinds of values, found in the modules of this package."""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache

import numpy as np

from moss_step import kinds
from moss_step.kinds.kind import Kind
from moss_step.model.errors import MossError
from moss_step.model.mapped import map_of
from moss_step.model.outcome import Value


@lru_cache(maxsize=1)
def all_kinds() -> dict[str, Kind]:
    """Every kind by its name."""
    modules = (
        importlib.import_module(f"{kinds.__name__}.{m.name}")
        for m in pkgutil.iter_modules(kinds.__path__)
        if m.name != "registry"
    )
    result = [v for module in modules for v in vars(module).values() if isinstance(v, Kind)]
    return {k.name: k for k in result}


def kind_named(name: str) -> Kind:
    """Give the kind of a name."""
    return all_kinds()[name]


def kind_of(value: Value) -> Kind:
    """Give the kind of a value."""
    return _by_type()[type(value)]


def cells_of(value: Value) -> np.ndarray:
    """The cells of a grid.

    Raises MossError for what is none.
    """
    array = kind_of(value).array
    if array is None:
        raise MossError("This is no grid.", "Choose a surface or a class map.")
    return array(value)


def is_mapped(value: Value) -> bool:
    """Whether a grid is mapped from a file, as memory could not hold it."""
    array = kind_of(value).array
    return array is not None and map_of(array(value)) is not None


def cut_to(value: Value, rows: slice, cols: slice) -> Value:
    """Rows and columns of a grid; what is none stays whole."""
    part = kind_of(value).part
    some: Value = value if part is None else part(value, rows, cols)
    return some


@lru_cache(maxsize=1)
def _by_type() -> dict[type, Kind]:
    return {k.type: k for k in all_kinds().values()}

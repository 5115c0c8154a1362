"""Columns of shapes and tables as plain data and arrays."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from moss_step.kinds.kind import NotPlainError, Parts


def column_parts(columns: Mapping[str, np.ndarray]) -> Parts:
    """Columns of text and mixed ones as lists, the others as arrays.

    Raises NotPlainError for columns of anything else.
    """
    lists, arrays, order = {}, [], []
    for name, values in columns.items():
        if values.dtype.kind in "biuf":
            order.append(name)
            arrays.append(values)
        elif values.dtype.kind in "OU":
            lists[name] = values.tolist()
        else:
            raise NotPlainError(f"column {name} of {values.dtype}")
    return {"names": list(columns), "lists": lists, "arrays": order}, arrays


def columns_from(about: Mapping[str, Any], arrays: list[np.ndarray]) -> dict[str, np.ndarray]:
    """Make columns of what ``column_parts`` gave."""
    found = dict(zip(about["arrays"], arrays, strict=True))
    for name, values in about["lists"].items():
        found[name] = np.empty(len(values), object)
        found[name][:] = values
    return {name: found[name] for name in about["names"]}

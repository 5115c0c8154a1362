"""What is done with the values of one kind, whatever step they come from."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.tiled import TiledFile
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress

Columns = tuple[dict[str, np.ndarray], dict[str, str]]
"""Columns by name, and the symbols of their units."""
Parts = tuple[dict[str, Any], list[np.ndarray]]
"""Plain data, and the arrays beside it."""


@dataclass(frozen=True)
class Kind:
    """A kind of value: its name in declarations, its type, and what to call one.

    ``read`` takes the path of a file as the command line writes it, and gives a value and remarks; ``write``
    takes an outcome, the name of the result and a path with one of the ``endings``. ``beside`` are endings
    that a whole run writes, too. ``describe`` says in a line what a value is. ``parts`` and ``restored``
    turn it into plain data and arrays and back, for the shelf; parts that plain data cannot hold raise
    NotPlainError.
    ``cells`` counts those of a grid, 0 for what has none; ``part`` cuts rows and columns out of one;
    ``columns`` are what it has to show in rows, ``array`` its values (rows, cols), and ``facts`` what it is,
    as titles and texts; none for what has none of these.
    """

    name: str
    type: type
    noun: str
    endings: tuple[str, ...]
    read: Callable[[str, Progress], tuple[Value, list[str]]]
    write: Callable[[Outcome, str, Path, Progress | None], None]
    describe: Callable[[Any], str]
    parts: Callable[[Any], Parts]
    restored: Callable[[Mapping[str, Any], list[np.ndarray]], Value]
    beside: tuple[str, ...] = ()
    cells: Callable[[Any], int] = lambda _: 0
    part: Callable[[Any, slice, slice], Any] | None = None
    columns: Callable[[Outcome], Columns] | None = None
    array: Callable[[Any], np.ndarray] | None = None
    facts: Callable[[Any], list[tuple[str, str]]] | None = None
    only_written: tuple[str, ...] = ()
    """Endings that it can be written under, too, and is not read from."""
    losses: Callable[[Path, Any], tuple[str, ...]] | None = None
    """What a file of an ending cannot say of a value."""
    streamed: str = ""
    """Ending of what standard output is given; empty where it cannot be written there."""
    sample: str = ""
    """Name of a file of this kind in examples."""
    layer: Callable[[Path, Any, str, str], bool] | None = None
    """Adds a value to a GeoPackage that is being written, as a layer of a name with words about it; tells
    whether a layer holds it as it is. None for what is no layer.
    """
    blank: float = math.nan
    """What stands in its array where there is no value."""
    tiled: Callable[[Path, Mapping[str, Any], Frame, np.dtype, str, str], TiledFile] | None = None
    """Lays out a file that is filled tile by tile: path, plain data as ``parts`` gives them, frame, type of
    the values, name and lineage. None for what is no grid.
    """
    sidecar: Callable[[Outcome], tuple[str, str]] | None = None
    """Ending and text of a file beside a tiled one, from its findings and a value like it."""
    stand_in: Callable[[str], tuple[Any, str]] | None = None
    """A value as large as that of a file, from its head, and its size in words."""

    @property
    def written_as(self) -> tuple[str, ...]:
        """All endings that it can be written under."""
        return (*self.endings, *self.only_written)


class NotPlainError(Exception):
    """A value that plain data cannot hold."""

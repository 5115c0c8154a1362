"""Columns as plain text, one below another, for people to read."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from moss_step.formats.whole import printable, write_text
from moss_step.model.typed import one_line

_WIDEST, _APART = 60, "  "
"""Letters that a column is widened to at the most, and what stands between two."""


def write_columns_text(path: Path, columns: Mapping[str, np.ndarray], name: str) -> None:
    """Write columns as text, whole or not at all: a heading, then a line a row; missing numbers are empty."""
    rows = [list(columns), *([_told(v) for v in row] for row in zip(*columns.values(), strict=True))]
    widths = [min(max(len(r[k]) for r in rows), _WIDEST) for k in range(len(columns))]
    lines = [_APART.join(text.ljust(w) for text, w in zip(row, widths, strict=True)).rstrip() for row in rows]
    write_text(path, "\n".join([_one_line(name), "", *lines]) + "\n")


def _told(value: object) -> str:
    if isinstance(value, float | np.floating):
        return "" if np.isnan(value) else f"{value:.10g}"
    return _one_line(value)


def _one_line(value: object) -> str:
    """What comes from outside, such as a name, makes no row of its own."""
    return printable(one_line(str(value)))

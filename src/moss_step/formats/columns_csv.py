"""Columns as CSV text."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

import numpy as np

from moss_step.formats.cells import harmless
from moss_step.formats.whole import read_text
from moss_step.model.errors import MossError


def table_text(columns: Mapping[str, np.ndarray]) -> str:
    """Give columns as CSV; missing numbers are empty."""
    return "".join(table_chunks([columns]))


def table_chunks(parts: Iterable[Mapping[str, np.ndarray]]) -> Iterator[str]:
    """Give the CSV of columns that come part by part, a text each; names stand in the first."""
    for number, columns in enumerate(parts):
        out = io.StringIO()
        table = csv.writer(out, lineterminator="\n")
        if number == 0:
            table.writerow([harmless(name) for name in columns])
        for row in zip(*columns.values(), strict=True):
            table.writerow(
                ["" if isinstance(v, float | np.floating) and np.isnan(v) else _plain(v) for v in row]
            )
        yield out.getvalue()


def read_numbers(path: Path) -> dict[str, np.ndarray]:
    """Columns of numbers (float64, NaN where empty) from a CSV file with a line of names.

    Raises MossError when it has no such columns, and names the line that is no row of numbers.
    """
    rows = list(csv.reader(read_text(path).splitlines()))
    if len(rows) < 2 or len(rows[0]) < 2 or len(set(rows[0])) < len(rows[0]):
        raise MossError(
            f"{path} has no columns with names of their own.",
            "Its first line names at least two columns, with commas.",
        )
    values = np.empty((len(rows) - 1, len(rows[0])))
    for number, row in enumerate(rows[1:]):
        try:
            result = [float(text) if text.strip() else np.nan for text in row]
        except ValueError:
            result = []
        if len(result) != len(rows[0]):
            raise MossError(
                f"Line {number + 2} of {path} is no row of {len(rows[0])} numbers.",
                "Mend it, or leave it out.",
            )
        values[number] = result
    return dict(zip(rows[0], values.T.copy(), strict=True))


def _plain(value: object) -> object:
    if isinstance(value, bool | np.bool_):
        return "true" if value else "false"
    return (
        f"{value:.10g}"
        if isinstance(value, float | np.floating)
        else harmless(value)
        if isinstance(value, str)
        else value
    )

"""Columns as CSV text."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping

import numpy as np

from moss_step.formats.cells import harmless


def table_text(columns: Mapping[str, np.ndarray]) -> str:
    """Give columns as CSV; missing numbers are empty."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow([harmless(name) for name in columns])
    for row in zip(*columns.values(), strict=True):
        table.writerow(["" if isinstance(v, float | np.floating) and np.isnan(v) else _plain(v) for v in row])
    return out.getvalue()


def _plain(value: object) -> object:
    return f"{value:.10g}" if isinstance(value, float | np.floating) else harmless(value) if isinstance(value, str) else value

"""How far a surface lies from heights that were measured otherwise."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from moss_step.model.table import Table
from moss_step.model.units import UNKNOWN, Unit

NORMAL_95 = 1.9600
"""Root mean square errors within which 95 of 100 lie, where they are normal and without bias (FGDC 1998)."""
ALL = "All"


def accuracy(off: np.ndarray, groups: np.ndarray | None = None, unit: Unit = UNKNOWN) -> Table:
    """Errors of all check points, and of each group such as a land cover.

    Parameters
    ----------
    off
        Height of the surface less that of the check point (n); NaN counts for nothing.
    groups
        Text of each (n), or None.
    unit
        Unit of the errors.

    Returns
    -------
    Table
        A row for all and one for each group: count, mean_error, median_error, spread (of a sample), rmse,
        nssda_95 (1.96 times the RMSE: FGDC 1998), percentile_95 of the absolute errors (ASPRS 2014, for
        ground under plants), least and greatest.

    Source
    ------
    FGDC-STD-007.3-1998, National Standard for Spatial Data Accuracy; ASPRS 2014 and 2023, Positional Accuracy
    Standards for Digital Geospatial Data: vertical accuracy is stated as RMSE.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.accuracy import accuracy
    >>> accuracy(np.array([0.1, -0.1])).columns["rmse"].tolist()
    [0.1]
    """
    known = np.isfinite(off)
    rows: dict[str, np.ndarray] = {ALL: off[known]}
    if groups is not None:
        for name in sorted({str(g) for g in groups[known]}):
            rows[name] = off[known & (groups.astype(str) == name)]
    held = list(rows.values())

    def each(of: Callable[[np.ndarray], Any]) -> np.ndarray:
        return np.array([float(of(v)) if v.size else np.nan for v in held])

    rmse = each(lambda v: np.sqrt(np.mean(v**2)))
    columns = {
        "group": np.array(list(rows), object),
        "count": np.array([v.size for v in held], np.int64),
        "mean_error": each(np.mean),
        "median_error": each(np.median),
        "spread": each(lambda v: np.std(v, ddof=1) if v.size > 1 else np.nan),
        "rmse": rmse,
        "nssda_95": NORMAL_95 * rmse,
        "percentile_95": each(lambda v: np.quantile(np.abs(v), 0.95)),
        "least": each(np.min),
        "greatest": each(np.max),
    }
    return Table(columns, {n: unit for n in columns if n not in ("group", "count")})

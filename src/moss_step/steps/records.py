"""Records of a reckoning: what was asked and found, row by row, with the time."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence

import numpy as np

from moss_step.model.findings import Finding
from moss_step.model.table import Table


def record_table(
    asked: Sequence[tuple[str, str, str]], findings: Iterable[Finding], said: Iterable[str]
) -> Table:
    """The time of the reckoning in local time with its zone, then what was asked (name, value and unit each),
    found and said.
    """
    rows = [("reckoned", time.strftime("%Y-%m-%d %H:%M:%S %z"), ""), *asked]
    rows += [(f.title.lower(), f"{float(f.value):.12g}", f.unit.symbol) for f in findings]
    rows += [("remark", text, "") for text in said]
    what, value, unit = (np.array(c, object) for c in zip(*rows, strict=True))
    return Table({"what": what, "value": value, "unit": unit})

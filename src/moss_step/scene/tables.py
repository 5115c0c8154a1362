"""Words of tables: heads of columns, and values with as many digits as their unit warrants."""

from __future__ import annotations

import re

import numpy as np

_UNIT_ENDS = re.compile("_(m|km|ha|m2|km2|m3|percent|deg)$")
_DIGITS = {"m": 2, "ft": 2, "ft (US)": 2, "m²": 1, "m³": 1, "°": 2, "%": 2}
"""Decimals that a unit warrants; others have up to four."""
_MANY = 10_000.0


def column_words(name: str, symbol: str = "") -> str:
    """The head of a column in words, its unit once: the one that it is told in."""
    words = (_UNIT_ENDS.sub("", name) if symbol else name).replace("_", " ").strip() or name
    head = words[:1].upper() + words[1:]
    return f"{head}, {symbol}" if symbol else head


def cell_text(value: object, symbol: str = "") -> str:
    """Write a value of a table with as many digits as its unit warrants; files hold all of them."""
    if isinstance(value, bool | np.bool_):
        return "yes" if value else "no"
    if isinstance(value, float | np.floating):
        if np.isnan(value):
            return ""
        large = abs(float(value)) >= _MANY and symbol in ("m²", "m³")
        digits = 0 if large else _DIGITS.get(symbol, 4)
        text = f"{value:,.{digits}f}"
        return (text.rstrip("0").rstrip(".") if "." in text else text).replace(",", " ")
    if isinstance(value, int | np.integer):
        return f"{int(value):,}".replace(",", " ")
    return str(value)

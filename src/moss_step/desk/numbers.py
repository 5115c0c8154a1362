"""Numbers in fields: read as people type them, with decimal point or comma, and shown with the sign of the
locale.
"""

from __future__ import annotations

import re

from PySide6.QtCore import QLocale

_GROUPED = re.compile(r"[+-]?[1-9][0-9]{0,2}([.,][0-9]{3})+")
_SPACES = re.compile("[\\s\u00a0\u2009\u202f'\u2019]")


def decimal_sign() -> str:
    """What stands before the decimals in the person's locale."""
    return QLocale().decimalPoint()


def shown(text: str) -> str:
    """A number's text, with a point, as a field shows it."""
    return text.replace(".", decimal_sign())


def listed(texts: list[str]) -> str:
    """Several of them in one field: parted by commas, or by semicolons where the comma is
    the decimal sign.
    """
    return ("; " if decimal_sign() == "," else ", ").join(map(shown, texts))


def typed_number(text: str) -> float:
    """A number as it was typed: 1234.5, 1234,5, 1 234,5, 1.234,5 and 1,234.5 are all the same.

    Raises ValueError for what is no number, and for what could be two: 1,234 where the point is the decimal
    sign, and 1.234 where it is the comma.
    """
    bare = _SPACES.sub("", text.replace("\u2212", "-"))
    signs = {c for c in bare if c in ".,"}
    if len(signs) == 2:
        decimal = max(signs, key=bare.rindex)
        (group,) = signs - {decimal}
        if bare.count(decimal) > 1 or not _GROUPED.fullmatch(bare.partition(decimal)[0]):
            raise ValueError(text)
        bare = bare.replace(group, "").replace(decimal, ".")
    elif signs:
        (sign,) = signs
        if bare.count(sign) > 1:
            if not _GROUPED.fullmatch(bare):
                raise ValueError(text)
            bare = bare.replace(sign, "")
        elif sign != decimal_sign() and _GROUPED.fullmatch(bare):
            raise ValueError(text)
        else:
            bare = bare.replace(",", ".")
    return float(bare)


def typed_numbers(text: str) -> list[float]:
    """Numbers parted by semicolons, spaces, or commas.

    Raises ValueError where a part is no number.
    """
    clean = text.strip()
    marks = (";", r",\s+", r"\s+", ",")
    by = next((mark for mark in marks if re.search(mark, clean)), ",")
    return [typed_number(part) for part in re.split(by, clean) if part.strip()]

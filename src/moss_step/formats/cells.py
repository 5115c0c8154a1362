"""Texts in the cells of a table file, so that a spreadsheet takes them as text and never runs them."""

from __future__ import annotations

import re

_BEGINS_A_FORMULA = "=+-@\t\r"
_NUMBER = re.compile(r"[-+]?\d+(\.\d*)?([eE][-+]?\d+)?")


def harmless(text: str) -> str:
    """A text as it is written: one that begins like a formula, also behind apostrophes, gets an apostrophe
    before it. A number below 0 is none.
    """
    if _NUMBER.fullmatch(text):
        return text
    bare = text.lstrip("'")
    return f"'{text}" if bare and bare[0] in _BEGINS_A_FORMULA else text


def as_meant(text: str) -> str:
    """A text that ``harmless`` wrote, as it was."""
    bare = text.lstrip("'")
    return text[1:] if text.startswith("'") and bare and bare[0] in _BEGINS_A_FORMULA else text

"""Values whose kind is settled by a declaration elsewhere."""

from __future__ import annotations

from typing import TypeVar

Kind = TypeVar("Kind")


def as_whole(text: str) -> int | None:
    """A whole number of at most nine digits, as one types it; None for any other text."""
    digits = text.strip()
    return int(digits) if digits.isascii() and digits.isdecimal() and len(digits) < 10 else None


def is_text(value: str) -> bool:
    """Whether a text can be shown and written: no unpaired surrogates, no nulls."""
    return "\0" not in value and not any("\ud800" <= c <= "\udfff" for c in value)


def one_line(text: str) -> str:
    """A text without line breaks and control characters, for where each line says one thing."""
    return "".join(c if c.isprintable() else " " for c in text)


def of_kind(value: object, kind: type[Kind]) -> Kind | None:
    """Give a value when it is of a kind: for what may be one of several, or not be there."""
    return value if isinstance(value, kind) else None


def as_kind(value: object, kind: type[Kind]) -> Kind:
    """Give a value as the kind that it was declared to be.

    Raises TypeError when it is another: then the declaration and the code part.
    """
    if not isinstance(value, kind):
        raise TypeError(f"{kind.__name__} was declared, and {type(value).__name__} came.")
    return value

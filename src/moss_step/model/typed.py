"""Values whose kind is settled by a declaration elsewhere."""

from __future__ import annotations

from typing import TypeVar

Kind = TypeVar("Kind")


def as_kind(value: object, kind: type[Kind]) -> Kind:
    """Give a value as the kind that it was declared to be.

    Raises TypeError when it is another: then the declaration and the code part.
    """
    if not isinstance(value, kind):
        raise TypeError(f"{kind.__name__} was declared, and {type(value).__name__} came.")
    return value

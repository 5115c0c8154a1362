"""Kinds of setting values that several steps use: boxes and reference systems, from text or numbers."""

from __future__ import annotations

import math
from collections.abc import Mapping
from datetime import date
from pathlib import Path
from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator

from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import reference_system
from moss_step.model.typed import as_whole


def _numbers(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    parts = [part.strip() for part in value.split(",")]
    if len(parts) != 4:
        raise ValueError("four numbers: xmin,ymin,xmax,ymax")
    return parts


def _known_system(value: str) -> str:
    try:
        reference_system(value)
    except AskedWronglyError as error:
        raise ValueError(f"a reference system such as EPSG:32628, and '{value[:60]}' names none") from error
    return value


def _places(value: Any) -> Any:
    """Places written as x,y;x,y, or one place as a pair of numbers."""
    if isinstance(value, str):
        value = [part.split(",") for part in value.split(";") if part.strip()]
        if not value or any(len(p) != 2 for p in value):
            raise ValueError("places as x,y or x,y;x,y")
        return value
    if isinstance(value, tuple | list) and len(value) == 2 and all(isinstance(v, int | float) for v in value):
        return [value]
    return value


PointsField = Annotated[tuple[tuple[float, float], ...], BeforeValidator(_places)]
"""Places; from text as x,y;x,y."""


def names_of(text: str | None) -> dict[int, str]:
    """Names by number, from text such as ``1=Upper Gill; 3=Long Slack``.

    Raises ValueError with the part that cannot be read.
    """
    result = {}
    for part in filter(None, (p.strip() for p in (text or "").split(";"))):
        before, mark, name = part.partition("=")
        number = as_whole(before)
        if not mark or number is None:
            raise ValueError(part)
        result[number] = name.strip()
    return result


def names_text(names: Mapping[int, str]) -> str:
    """Write names by number as ``names_of`` reads them."""
    return "; ".join(f"{number}={name.replace(';', ',')}" for number, name in sorted(names.items()) if name)


BoxField = Annotated[tuple[float, float, float, float], BeforeValidator(_numbers)]
"""xmin, ymin, xmax, ymax; from text with commas."""

SystemField = Annotated[str, AfterValidator(_known_system)]
"""A reference system by EPSG code or WKT."""


def _a_day(text: str | None) -> str | None:
    """A date as year-month-day.

    Raises ValueError for what is none.
    """
    if text:
        try:
            date.fromisoformat(text)
        except ValueError as error:
            raise ValueError(f"'{text}' is no date: write it as 2026-04-30") from error
    return text or None


DayField = Annotated[str | None, AfterValidator(_a_day)]
"""A day as year-month-day; empty is none."""

_MOST_HEIGHTS = 1000


def heights_in(text: str) -> tuple[float, ...]:
    """Heights from text such as ``0.5, 1, 2, 5``.

    Raises ValueError for what is no number.
    """
    return tuple(float(part) for part in text.replace(";", ",").split(",") if part.strip())


def checked_heights(text: str) -> str:
    """Text that ``heights_in`` reads, of heights that any ground may have."""
    try:
        held = heights_in(text)
    except ValueError as error:
        raise ValueError("heights such as 0.5, 1, 2, 5") from error
    if len(held) > _MOST_HEIGHTS or any(abs(v) > 1e9 for v in held):
        raise ValueError(f"up to {_MOST_HEIGHTS} heights such as 0.5, 1, 2, 5")
    return text


HeightsField = Annotated[str, AfterValidator(checked_heights)]
"""Heights as text, such as 0.5, 1, 2, 5."""


def stations_in(text: str) -> list[tuple[float, float]]:
    """Metres along a line and heights from text such as ``0,240; 300,252``, in their order along it.

    Raises ValueError for anything else.
    """
    pairs = [tuple(float(v) for v in part.split(",")) for part in text.split(";") if part.strip()]
    if any(len(p) != 2 for p in pairs):
        raise ValueError("pairs")
    return sorted((a, b) for a, b in pairs)


def _checked_stations(text: str | None) -> str | None:
    if not text:
        return None
    try:
        held = stations_in(text)
    except ValueError as error:
        raise ValueError("metres along the line and heights, such as 0,240; 300,252") from error
    if not 2 <= len(held) <= _MOST_HEIGHTS or len({a for a, _ in held}) < len(held):
        raise ValueError(f"2 to {_MOST_HEIGHTS} heights, each at a place of its own, such as 0,240; 300,252")
    if any(not math.isfinite(v) or abs(v) > 1e9 for pair in held for v in pair):
        raise ValueError("metres and heights that a ground may have")
    return text


StationsField = Annotated[str | None, AfterValidator(_checked_stations)]
"""Heights along a line as text, such as 0,240; 300,252."""


def title_of(source: str) -> str:
    """What a result that comes from a file is called: its name without ending, as words; of a pattern the
    name of its folder.
    """
    path = Path(source)
    named = path.parent.name if any(sign in path.name for sign in "*?") else path.stem
    text = named.replace("_", " ").strip()
    return text[:1].upper() + text[1:]

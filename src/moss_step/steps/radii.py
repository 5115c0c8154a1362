"""Radii around points, and names of measures, as settings."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator

from moss_step.model.cloud import Cloud
from moss_step.science.points.cells import density

LEAST, MOST, _MANY = 0.01, 500.0, 6
_USUAL, _SMALLEST = 2.5, 0.7
"""Spacings of points in the usual radius, which holds about twenty on level ground; and the share of it that
the smallest of several radii is.
"""


def radii_in(text: str) -> tuple[float, ...]:
    """Radii from text such as ``1, 2, 4``, rising.

    Raises ValueError for what is no number.
    """
    return tuple(sorted({float(part) for part in text.replace(";", ",").split(",") if part.strip()}))


def _checked(text: str | None) -> str | None:
    if not text:
        return None
    try:
        held = radii_in(text)
    except ValueError as error:
        raise ValueError("metres such as 1, 2, 4") from error
    if not 1 <= len(held) <= _MANY or not all(LEAST <= r <= MOST for r in held):
        raise ValueError(f"1 to {_MANY} radii from {LEAST:g} to {MOST:g} m, such as 1, 2, 4")
    if len({round(r * 100) for r in held}) < len(held):
        raise ValueError("radii that differ by a centimetre or more")
    return text


def _text(value: Any) -> Any:
    return f"{value:g}" if isinstance(value, (int, float)) and not isinstance(value, bool) else value


RadiiField = Annotated[str | None, BeforeValidator(_text), AfterValidator(_checked)]
"""Metres as text, such as 1, 2, 4; none for what the spacing of the points suggests."""


def radii_of(text: str | None, cloud: Cloud, count: int = 1) -> tuple[float, ...]:
    """Radii as stated, or by the spacing of the points: the usual one and, doubled, so many in all."""
    if text:
        return radii_in(text)
    first = usual_radius(cloud) * (1.0 if count == 1 else _SMALLEST)
    return tuple(round(first * 2.0**k, 2) for k in range(count))


def usual_radius(cloud: Cloud) -> float:
    """Metres within which about twenty points lie on level ground, to two digits."""
    radius = min(max(_USUAL * spacing_of(cloud), LEAST), MOST)
    return float(f"{radius:.2g}")


def spacing_of(cloud: Cloud) -> float:
    """Metres from point to point."""
    held = density(cloud)
    return float(held**-0.5) if held > 0.0 else 1.0

"""Kinds of setting values that several steps use: boxes and reference systems, from text or numbers."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator

from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import reference_system


def _numbers(value: Any) -> Any:
    return [part.strip() for part in value.split(",")] if isinstance(value, str) else value


def _known_system(value: str) -> str:
    try:
        reference_system(value)
    except AskedWronglyError as error:
        raise ValueError(f"a reference system such as EPSG:32628, and '{value[:60]}' names none") from error
    return value


BoxField = Annotated[tuple[float, float, float, float], BeforeValidator(_numbers)]
"""xmin, ymin, xmax, ymax; from text with commas."""

SystemField = Annotated[str, AfterValidator(_known_system)]
"""A reference system by EPSG code or WKT."""

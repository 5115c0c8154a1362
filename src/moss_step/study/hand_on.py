"""Handing results on: which open formats each kind of result can be written in, and writing them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from moss_step.formats.source import members
from moss_step.formats.vector import split_layer
from moss_step.kinds.kind import Kind
from moss_step.kinds.registry import kind_of
from moss_step.model.errors import AskedWronglyError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress


def check_ending(path: Path, kind: Kind) -> None:
    """Raise AskedWronglyError when a kind of value cannot be written under this ending."""
    if path.suffix.lower() not in kind.written_as:
        raise AskedWronglyError(
            f"{kind.noun.capitalize()} cannot be written as '{path.name}'.",
            f"End it in {', '.join(kind.written_as)}.",
        )


def check_not_a_source(path: Path, sources: Iterable[str]) -> None:
    """Raise AskedWronglyError when a file to write is one that is read: it would be gone afterwards."""
    for source in sources:
        read = members(split_layer(source)[0])
        if path.exists() and any(one.exists() and path.samefile(one) for one in read):
            raise AskedWronglyError(
                f"{path} is read for this, and would be replaced by the result.",
                "Give the result another name.",
            )


def hand_on(outcome: Outcome, name: str, path: Path, progress: Progress | None = None) -> tuple[str, ...]:
    """Write a result in the format of the ending, whole or not at all; gives what the file cannot say."""
    kind = kind_of(outcome.value)
    check_ending(path, kind)
    kind.write(outcome, name, path, progress)
    return kind.losses(path, outcome.value) if kind.losses is not None else ()

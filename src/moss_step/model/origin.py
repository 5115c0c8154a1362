"""Where the inputs of a run came from: what each is called, and the files behind it with their digests."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from moss_step.model.outcome import Value


@dataclass(frozen=True)
class Origin:
    """What an input is called, and the files that it was worked out from, each with the digest of its content
    (BLAKE3).
    """

    name: str
    files: tuple[tuple[str, str], ...] = ()


class Given(dict[str, Value]):
    """Inputs by name, with where each came from, as far as that is known."""

    def __init__(self, values: Mapping[str, Value], origins: Mapping[str, Origin]) -> None:
        super().__init__(values)
        self.origins = dict(origins)


V = TypeVar("V")


class Came(dict[str, V]):
    """Inputs by name that tell where each came from once somebody asks: that may take a while."""

    def __init__(self, values: Mapping[str, V], tell: Callable[[str], Origin | None]) -> None:
        super().__init__(values)
        self._tell = tell

    @property
    def origins(self) -> dict[str, Origin]:
        """Where each came from."""
        return {name: came for name in self if (came := self._tell(name)) is not None}


def origins_of(inputs: Mapping[str, Any]) -> Mapping[str, Origin]:
    """Where inputs came from, by their names, as far as that is known."""
    origins: Mapping[str, Origin] = getattr(inputs, "origins", {})
    return origins


def origin_of(inputs: Mapping[str, Any], name: str) -> Origin | None:
    """Where an input came from; None where that is not known."""
    return origins_of(inputs).get(name)

"""Errors that a person reads: what is wrong, and what to do about it.

A text holds names of steps, settings and choices in backticks: they are typed so on the command
line, and the window says them in its own words.
"""

import re
from collections.abc import Callable

_NAME = re.compile(r"`(\w+)`")


class MossError(Exception):
    """Something that could not be done; the text says what, and what to do (exit code 1)."""

    exit_code = 1

    def __init__(self, what: str, do: str = "", typed: str = "") -> None:
        """``typed`` is what to do instead where settings are typed, as on the command line."""
        self.what, self.do, self.typed = what, do, typed
        super().__init__(f"{what} {typed or do}".strip().replace("`", ""))

    def on_screen(self, words: Callable[[str], str]) -> str:
        """The text as the window says it; ``words`` turns a name into words."""
        said = _NAME.sub(lambda m: words(m[1]), f"{self.what} {self.do}".strip())
        return said[:1].upper() + said[1:]


class AskedWronglyError(MossError):
    """The request itself is wrong: an unknown name, a value out of range (exit code 2)."""

    exit_code = 2


class StoppedError(MossError):
    """The person stopped the run."""

    def __init__(self) -> None:
        super().__init__("Stopped before it was done.", "Nothing was changed.")


def fault_text(error: BaseException) -> str:
    """Say in one sentence or two that memory ran out, or that a fault of our own came up."""
    if isinstance(error, MemoryError):
        return "This does not fit in the memory that is free. Crop the ground, or close other programs."
    lines = str(error).strip().splitlines()
    return (
        f"This went wrong inside Moss Step ({type(error).__name__}: "
        f"{lines[0][:300] if lines else 'no more is known'}). Nothing else is touched."
    )

"""Results that go to an address: made on this machine, and put there one after another, whole."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from moss_step.formats.address import HALF, Address
from moss_step.formats.source import side_names
from moss_step.line.tiles import take_lock
from moss_step.model.errors import MossError

_LONG = 1 << 24
"""Bytes that are read of what an earlier run said."""


class Afar:
    """A folder at an address, and the one of this machine for what goes there: the same one for each run, so
    that one that was killed goes on.
    """

    def __init__(self, address: Address) -> None:
        name = hashlib.blake2b(address.text.encode(), digest_size=8).hexdigest()
        self.address, self.here = address, _folder() / name
        self._lock: int | None = None

    def begin(self) -> set[str]:
        """Have the folder be there, without what a kill left half-written. Gives the names of its files.

        Raises MossError when it cannot be reached, or another run of this machine writes there.
        """
        self.here.mkdir(parents=True, exist_ok=True)
        self._lock = _opened(self.here)
        take_lock(self._lock, self.address)
        self.address.make()
        names = set(self.address.names())
        left = {n for n in names if n.startswith(HALF)}
        for name in left:
            (self.address / name).remove()
        return names - left

    def read(self, name: str) -> bytes:
        """What a small file holds.

        Raises MossError when it is not there.
        """
        return (self.address / name).read(0, _LONG)

    def put(self, file: Path, there: set[str]) -> Address:
        """Put a finished file; of the files that are ``there`` those go that speak of its older content.

        Raises MossError when it cannot be written.
        """
        for name in there.intersection(side_names(file.name)):
            (self.address / name).remove()
        target = self.address / file.name
        target.put(file)
        return target

    def end(self) -> None:
        """Let go of the folder of this machine."""
        shutil.rmtree(self.here, ignore_errors=True)

    def close(self) -> None:
        """Let others write there."""
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None


def left_of_runs() -> list[tuple[Path, int]]:
    """The folders of runs that did not end well, with their bytes; not those that go on."""
    return [(f, sum(p.stat().st_size for p in f.rglob("*") if p.is_file())) for f in _idle()]


def clear_runs() -> None:
    """Remove them."""
    for folder in _idle():
        shutil.rmtree(folder, ignore_errors=True)


def _folder() -> Path:
    from platformdirs import user_cache_path

    return user_cache_path("moss-step") / "runs"


def _opened(folder: Path) -> int:
    return os.open(folder.with_suffix(".lock"), os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600)


def _idle() -> Iterator[Path]:
    for folder in sorted(_folder().glob("*/")):
        with suppress(MossError), _locked(folder):
            yield folder


@contextmanager
def _locked(folder: Path) -> Iterator[None]:
    lock = _opened(folder)
    try:
        take_lock(lock, folder)
        yield
    finally:
        os.close(lock)

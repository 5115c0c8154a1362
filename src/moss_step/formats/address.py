"""Folders that are reached over a network, by addresses of fsspec such as ``s3://bucket/folder``: what each
file holds is written and read as a whole, or in parts. Nothing is reached but what a person gave as such an
address.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Literal
from urllib.request import url2pathname

from moss_step.formats.whole import first_line, printable
from moss_step.model.errors import AskedWronglyError, MossError

_FORM = re.compile(r"([a-z][a-z0-9+.:-]*)://.*", re.IGNORECASE | re.DOTALL)
_HERE = ("file", "local")
"""Words for what lies on this machine."""
HALF = ".moss-half-"
"""How names of files begin that are being put somewhere."""


@dataclass(frozen=True)
class Address:
    """A folder or a file behind an address."""

    text: str

    def __truediv__(self, name: str) -> Address:
        """Something in a folder."""
        return Address(f"{self.text.rstrip('/')}/{name}")

    def __str__(self) -> str:
        """The address without the name and the word that lead in."""
        return _without_words(self.text)

    @property
    def name(self) -> str:
        """What it is called in its folder."""
        return self.text.rstrip("/").rpartition("/")[2]

    @property
    def folder(self) -> Address:
        """The folder that it lies in."""
        return Address(self.text.rstrip("/").rpartition("/")[0])

    @cached_property
    def _place(self) -> str:
        from fsspec.core import strip_protocol

        return str(strip_protocol(self.text))

    @property
    def _store(self) -> Any:
        """What reaches it, one for each thread: few stores answer two at a time."""
        from fsspec.core import url_to_fs

        return url_to_fs(self.text)[0]

    def make(self) -> None:
        """Have the folder be there, in stores that know folders.

        Raises MossError when it cannot be.
        """
        with _told(self, "reached"):
            self._store.makedirs(self._place, exist_ok=True)

    def is_there(self) -> bool:
        """Whether there is a file or a folder.

        Raises MossError when nothing answers.
        """
        with _told(self, "reached"):
            return bool(self._store.exists(self._place))

    def names(self, kind: Literal["file", "directory"] = "file") -> list[str]:
        """Names of the files in the folder, or of the folders in it, as they are now.

        Raises MossError when nothing answers.
        """
        with _told(self, "read"):
            store = self._store
            store.invalidate_cache()
            try:
                found = store.ls(self._place, detail=True)
            except FileNotFoundError:
                return []
            names = (str(f["name"]).rstrip("/").rpartition("/")[2] for f in found if f["type"] == kind)
            return sorted(names)

    def read(self, start: int | None = None, stop: int | None = None) -> bytes:
        """All bytes of a file, or some.

        Raises MossError when it is not there, or cannot be read.
        """
        with _told(self, "read"):
            return bytes(self._store.cat_file(self._place, start=start, end=stop))

    def write(self, data: bytes) -> None:
        """Have a file hold these bytes.

        Raises MossError when it cannot be written.
        """
        with _told(self, "written"):
            self._store.pipe_file(self._place, data)

    def put(self, file: Path) -> None:
        """Have a file hold what one of this machine holds: the old content, or all of the new one. What a
        kill leaves beside it begins with ``HALF``; at a store that moves nothing onto a file that is there, a
        kill in that moment leaves the new one under that name alone.

        Raises MossError when it cannot be written.
        """
        half = self.folder / f"{HALF}{self.name}"
        with _told(self, "written"):
            self._store.put_file(str(file), half._place)
            try:
                self._store.mv(half._place, self._place)
            except Exception:  # some stores move nothing onto a file, and each says so in its own way
                if not self._store.exists(self._place) or not self._store.exists(half._place):
                    raise
                self._store.rm_file(self._place)
                self._store.mv(half._place, self._place)

    def write_some(self, files: Mapping[str, bytes]) -> None:
        """Write some files of the folder; many stores take them at once.

        Raises MossError when one cannot be written.
        """
        with _told(self, "written"):
            self._store.pipe({f"{self._place}/{name}": data for name, data in files.items()})

    def read_some(self, names: list[str]) -> list[bytes]:
        """What some files of the folder hold, in their order; many stores give them at once.

        Raises MossError when one is not there, or cannot be read.
        """
        with _told(self, "read"):
            paths = [f"{self._place}/{name}" for name in names]
            found = self._store.cat_ranges(paths, None, None, on_error="raise")
            return [bytes(data) for data in found]

    def remove(self) -> None:
        """Remove a file, where it is there.

        Raises MossError when it cannot be removed.
        """
        with _told(self, "removed"), suppress(FileNotFoundError):
            self._store.rm_file(self._place)

    def clear(self) -> None:
        """Remove a folder with all that is in it, where it is there.

        Raises MossError when it cannot be removed.
        """
        with _told(self, "removed"), suppress(FileNotFoundError):
            store = self._store
            store.invalidate_cache()
            store.rm(self._place, recursive=True)


Place = Path | Address


def place_of(text: str) -> Place:
    """A path of this machine, or an address.

    Raises AskedWronglyError for an address that nothing here reaches.
    """
    form = _FORM.fullmatch(text)
    if form is None:
        return Path(text)
    kind = form[1].lower()
    if kind in _HERE:
        return Path(url2pathname(text.split("://", 1)[1]))
    address = Address(text)
    from fsspec import available_protocols, get_filesystem_class

    if "::" in text or kind not in available_protocols():
        raise AskedWronglyError(
            f"'{address}' is no address that can be reached.", "Give one like s3://BUCKET."
        )
    try:
        get_filesystem_class(kind)
    except ImportError as error:
        raise MossError(
            f"Addresses that begin with {kind}:// need a library that is not installed: {first_line(error)}",
            "Install it.",
        ) from error
    return address


def _without_words(text: str) -> str:
    """Text in which no address has a name and a word that lead in."""
    return re.sub(r"://[^/\s]*@", "://", text)


@contextmanager
def _told(address: Address, doing: str) -> Iterator[None]:
    """Turn whatever a store throws into one sentence."""
    try:
        yield
    except (MossError, MemoryError):
        raise
    except FileNotFoundError as error:
        raise MossError(f"{printable(str(address))} is not there.", "It may have been removed.") from error
    except Exception as error:  # each kind of store has its own
        raise MossError(
            f"{printable(str(address))} could not be {doing}: {_without_words(first_line(error))}",
            "Check the address, and whether it can be reached and written to from here.",
        ) from error

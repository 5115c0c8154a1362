"""What is known of a study's source files: a digest of each with all its side files, read outside the
window's thread.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Iterable
from pathlib import Path

from moss_step.formats.source import files_of, members
from moss_step.formats.vector import split_layer
from moss_step.model.errors import MossError
from moss_step.model.origin import Origin
from moss_step.model.progress import Progress, silent

_PIECE = 8 * 1024 * 1024


class Sources:
    """Digests of sources by their names; asking for one that was looked at never touches a file."""

    def __init__(self) -> None:
        self._known: dict[str, str | None] = {}
        self._contents: dict[tuple[str, int, int], str] = {}
        self._lock = threading.Lock()
        self.version = 0
        """Grows whenever a source is found to be another."""

    def digest(self, source: str) -> str | None:
        """Digest of a source, with the layer that it names, as it was when it was looked at last; None when
        it was not, or could not be read.
        """
        with self._lock:
            return self._known.get(source)

    def look(self, source: str, progress: Progress | None = None) -> str | None:
        """Look at a source's files and give its digest; reads those that are new. Not for the window's own
        thread.

        Raises StoppedError when stopped.
        """
        result = self._look(source, progress or silent())
        with self._lock:
            if source not in self._known or self._known[source] != result:
                self._known[source] = result
                self.version += 1
        return result

    def _look(self, source: str, progress: Progress) -> str | None:
        path, layer = split_layer(source)
        whole = hashlib.blake2b(f"{layer}\n".encode("utf-8", "backslashreplace"), digest_size=32)
        try:
            files, named = files_of(path), members(path)
            if not named or named[0] not in files:
                return None
            for file in files:
                whole.update(
                    f"{file.name}\0{self._content(file, progress)}\n".encode("utf-8", "backslashreplace")
                )
        except (OSError, MossError):
            return None  # the run itself says what is wrong with the file
        return whole.hexdigest()

    def _content(self, file: Path, progress: Progress) -> str:
        about = file.stat()
        at = (str(file), about.st_size, about.st_mtime_ns)
        with self._lock:
            known = self._contents.get(at)
        if known is not None:
            return known
        digest = hashlib.blake2b(digest_size=32)
        with file.open("rb") as opened:
            done = 0
            while piece := opened.read(_PIECE):
                digest.update(piece)
                done += len(piece)
                progress.at(0.0, f"Looking at {file.name}, {done / 1e6:,.0f} MB")
        with self._lock:
            self._contents[at] = digest.hexdigest()
        return digest.hexdigest()


def origin_of_files(name: str, files: Iterable[str]) -> Origin:
    """Where an input that was read from files came from."""
    looked = Sources()
    return Origin(name, tuple((split_layer(f)[0].name, looked.look(f) or "") for f in files))

"""What is known of a study's source files: a digest of each with all its side files, read outside the
window's thread.
"""

from __future__ import annotations

import json
import logging
import threading
from collections.abc import Iterable
from pathlib import Path

from blake3 import blake3
from platformdirs import user_cache_path

from moss_step.formats.source import files_of, members
from moss_step.formats.vector import split_layer
from moss_step.formats.whole import write_text
from moss_step.model.errors import MossError
from moss_step.model.origin import Origin
from moss_step.model.progress import Progress, silent

_PIECE = 8 * 1024 * 1024
LARGE, KEPT = 256_000_000, 500
"""Bytes from which the digest of a file is kept for later runs, and how many are kept."""
_log = logging.getLogger(__name__)


def digests_file() -> Path:
    """Where digests of large files are kept on this machine."""
    return user_cache_path("moss-step") / "blake3.json"


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
        whole = blake3(f"{layer}\n".encode("utf-8", "backslashreplace"))
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
        # Whoever writes into a file changes its time of change, which cannot be set back.
        mark = f"{file.resolve()} {about.st_size} {about.st_mtime_ns} {about.st_ctime_ns} {about.st_ino}"
        if known is None and about.st_size >= LARGE:
            known = _kept().get(mark)
        if known is not None:
            return known
        digest = blake3()
        with file.open("rb") as opened:
            done = 0
            while piece := opened.read(_PIECE):
                digest.update(piece)
                done += len(piece)
                progress.at(0.0, f"Looking at {file.name}, {done / 1e6:,.0f} MB")
        with self._lock:
            self._contents[at] = digest.hexdigest()
        after = file.stat()
        if about.st_size >= LARGE and after.st_ctime_ns == about.st_ctime_ns:
            _keep(mark, digest.hexdigest())
        return digest.hexdigest()


def _kept() -> dict[str, str]:
    """Digests of large files by what was known of the file when it was read."""
    try:
        found = json.loads(digests_file().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    plain = isinstance(found, dict) and all(isinstance(v, str) and len(v) == 64 for v in found.values())
    return found if plain else {}


def _keep(mark: str, digest: str) -> None:
    """Keep a digest. Without a cache the next run reads the file again."""
    kept = {**_kept(), mark: digest}
    try:
        digests_file().parent.mkdir(parents=True, exist_ok=True)
        write_text(digests_file(), json.dumps(dict(list(kept.items())[-KEPT:])))
    except (OSError, MossError):
        _log.warning("a digest was not kept in %s", digests_file(), exc_info=True)


def origin_of_files(name: str, files: Iterable[str]) -> Origin:
    """Where an input that was read from files came from."""
    looked = Sources()
    return Origin(name, tuple((split_layer(f)[0].name, looked.look(f) or "") for f in files))

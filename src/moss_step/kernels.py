"""Where compiled kernels are kept: by what they are made of, wherever the program itself lies.

The compiler's own cache looks at the file of a kernel alone: one that calls a helper in another file would be
served as it was before the helper changed. Here a folder is named by the digest of a file and of all that it
imports, and of the compiler: it is never stale, and a program that is moved, copied or brought up to date
compiles only what is new.
"""

from __future__ import annotations

import atexit
import hashlib
import importlib
import os
import re
import shutil
import sys
import tempfile
import time
import uuid
from functools import cache
from importlib.metadata import version
from pathlib import Path
from types import FunctionType
from typing import Any

PACKAGE = Path(__file__).parent
_NAMED = re.compile(r"^from ([\w.]+) import (\([^)]*\)|[^\n#]*)|^import ([\w.]+)", re.MULTILINE)
_OTHERS = (
    "UserProvidedCacheLocator,InTreeCacheLocator,UserWideCacheLocator,IPythonCacheLocator,ZipCacheLocator"
)
_KEPT_DAYS = 90.0
_ALL = "all-"


def digest(file: Path, package: Path = PACKAGE) -> str:
    """Digest of a source, of all sources of its package that it and these import, and of the versions that
    it is compiled by.
    """
    found, due = set[Path](), [file]
    while due:
        one = due.pop()
        if one not in found:
            found.add(one)
            due += _imported(one, package)
    return digest_of(sorted(found), package)


def digest_of(files: list[Path], package: Path = PACKAGE) -> str:
    """Digest of sources of a package, in the order given, and of the versions that they are compiled by."""
    whole = hashlib.blake2b(digest_size=10)
    for file in files:
        whole.update(f"{file.relative_to(package)}\0".encode() + file.read_bytes() + b"\0")
    whole.update(_compiled_by())
    return whole.hexdigest()


@cache
def _compiled_by() -> bytes:
    return "\0".join((sys.version, *(version(name) for name in ("numba", "llvmlite", "numpy")))).encode()


@cache
def _imported(file: Path, package: Path) -> list[Path]:
    """Sources of its package that one imports when it is loaded."""
    found = []
    for whence, names, whole in _NAMED.findall(file.read_text(encoding="utf-8")):
        for module in (whole, whence, *(f"{whence}.{name}" for name in re.findall(r"\w+", names))):
            if module.split(".")[0] == package.name:
                place = package.parent.joinpath(*module.split("."))
                found += [p for p in (place.with_suffix(".py"), place / "__init__.py") if p.is_file()]
    return found


def folder() -> Path:
    """The folder for kernels: in the user's cache, or beside the program where that cannot be written; where
    neither can, one that ends with this process.
    """
    from platformdirs import user_cache_path

    for kept in (user_cache_path("moss-step") / "kernels", PACKAGE / "__pycache__" / "kernels"):
        if _can_write(kept):
            return kept
    passing = tempfile.mkdtemp(prefix="moss-step-")
    atexit.register(shutil.rmtree, passing, ignore_errors=True)
    return Path(passing)


@cache
def _can_write(place: Path) -> bool:
    """Whether a folder can be made, and files in it; it is marked as asked for now."""
    try:
        place.mkdir(parents=True, exist_ok=True)
        tempfile.TemporaryFile(dir=place).close()
        os.utime(place)
    except OSError:
        return False
    return True


def use_folder() -> None:
    """Have the compiler keep kernels there, unless the environment says where. To be called before kernels
    are defined; a compiler that was imported before looks at the environment again.
    """
    os.environ.setdefault("NUMBA_CACHE_DIR", str(folder()))
    others = os.environ.get("NUMBA_CACHE_LOCATOR_CLASSES") or _OTHERS
    if ByContent.__qualname__ not in others:
        others = f"{__name__}.{ByContent.__qualname__},{others}"
    os.environ["NUMBA_CACHE_LOCATOR_CLASSES"] = others
    if "numba.core.config" in sys.modules:
        sys.modules["numba.core.config"].reload_config()


class ByContent:
    """Tells the compiler where kernels of one source of this program are kept."""

    def __init__(self, file: Path, line: int) -> None:
        self._py_file, self._line = str(file), line  # the first is the compiler's name, for its warnings
        self._digest = _digest_once(file, PACKAGE)
        self._place = Path(os.environ["NUMBA_CACHE_DIR"]) / f"{file.stem}-{self._digest}"

    @classmethod
    def from_function(cls, function: FunctionType, file: str) -> ByContent | None:
        """One for a function of this program, if its folder can be written."""
        if PACKAGE not in Path(file).parents:
            return None
        _name_apart()
        made = cls(Path(file), function.__code__.co_firstlineno)
        return made if _can_write(made._place) else None

    def ensure_cache_path(self) -> None:
        """Make the folder again, should it have been removed since."""
        self._place.mkdir(parents=True, exist_ok=True)

    def get_cache_path(self) -> str:
        """Where the kernels are kept."""
        return str(self._place)

    def get_source_stamp(self) -> str:
        """What they were made of."""
        return self._digest

    def get_disambiguator(self) -> str:
        """What tells a function from others of its name in the same source."""
        return str(self._line)


_digest_once = cache(digest)


@cache
def _name_apart() -> None:
    """Have the compiler name the file of each variant of a kernel at random. By numbers, as it does, two
    processes that save variants of one kernel in the same moment can name them alike, and who asks for one is
    served the other.
    """
    caching: Any = importlib.import_module("numba.core.caching")

    class Apart(caching.IndexDataCacheFile):
        def _data_name(self, number: int) -> str:
            return f"{self._index_name.removesuffix('.nbi')}.{uuid.uuid4().hex}.nbc"

    caching.IndexDataCacheFile = Apart


def mark() -> Path:
    """The file that says that all kernels that this program runs were compiled for this processor."""
    from llvmlite.binding import get_host_cpu_features, get_host_cpu_name

    processor = f"{get_host_cpu_name()} {get_host_cpu_features().flatten()}"
    what = digest_of(sorted(PACKAGE.rglob("*.py"))) + processor
    name = hashlib.blake2b(what.encode(), digest_size=10).hexdigest()
    return Path(os.environ["NUMBA_CACHE_DIR"]) / f"{_ALL}{name}"


def sweep(now: float | None = None) -> None:
    """Remove kernels that no start has asked for in three months, and marks of other programs as old."""
    oldest = (time.time() if now is None else now) - _KEPT_DAYS * 86_400.0
    for kept in Path(os.environ["NUMBA_CACHE_DIR"]).iterdir():
        if kept.stat().st_mtime < oldest:
            kept.unlink() if kept.name.startswith(_ALL) else shutil.rmtree(kept, ignore_errors=True)

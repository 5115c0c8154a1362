"""Where compiled kernels are kept: a folder named by all that they are made of.

The compiler's own cache looks at the file of a kernel alone: one that calls a helper in another file would be
served as it was before the helper changed. A folder named by the digest of every source with a kernel, and of
the compiler, is never stale.
"""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import sys
from importlib.metadata import version
from pathlib import Path

PACKAGE = Path(__file__).parent
_NAME = "kernels-"


def digest(package: Path = PACKAGE) -> str:
    """Digest of all sources of a package that have kernels or that these import from, and of the versions
    that they are compiled by.
    """
    whole, sources = (
        hashlib.blake2b(digest_size=10),
        {file: file.read_text(encoding="utf-8") for file in package.rglob("*.py")},
    )
    with_kernels = {file for file, source in sources.items() if "numba.njit" in source}
    named = {
        name
        for file in with_kernels
        for name in re.findall(rf"^from ({package.name}[\w.]*) import", sources[file], re.MULTILINE)
    }
    read = {package.parent.joinpath(*name.split(".")).with_suffix(".py") for name in named} & sources.keys()
    for file in sorted(with_kernels | read):
        whole.update(f"{file.relative_to(package)}\0{sources[file]}".encode())
    for part in (sys.version, *(version(name) for name in ("numba", "llvmlite", "numpy"))):
        whole.update(part.encode())
    return whole.hexdigest()


def folder() -> Path:
    """The folder for kernels as they are now: beside the program where that can be written, else in the
    user's cache.
    """
    own = PACKAGE / "__pycache__"
    if os.access(own if own.is_dir() else PACKAGE, os.W_OK):
        return own / f"{_NAME}{digest()}"
    from platformdirs import user_cache_path

    return user_cache_path("moss-step") / f"{_NAME}{digest()}"


def use_folder() -> None:
    """Have the compiler keep kernels there, unless the environment says where. To be called before kernels
    are defined; a compiler that was imported before looks at the environment again.
    """
    os.environ.setdefault("NUMBA_CACHE_DIR", str(folder()))
    if "numba.core.config" in sys.modules:
        sys.modules["numba.core.config"].reload_config()


def sweep() -> None:
    """Remove kernels of older sources."""
    now = folder()
    for older in now.parent.glob(f"{_NAME}*"):
        if older != now:
            shutil.rmtree(older, ignore_errors=True)

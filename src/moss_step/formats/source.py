"""All the files that a source consists of, so that a change in any of them is a change of the source."""

from __future__ import annotations

from pathlib import Path

from moss_step.formats import virtual
from moss_step.formats.whole import in_words
from moss_step.model.errors import MossError

_BESIDE = (
    ".prj",
    ".dbf",
    ".shx",
    ".cpg",
    ".qix",
    ".tfw",
    ".tifw",
    ".wld",
    ".hdr",
    ".csvt",
    ".aux",
    ".ige",
    ".rrd",
    ".ovr",
    ".stx",
)
"""Endings that take the place of the file's own."""
_AFTER = (".aux.xml", ".msk", ".ovr", "-wal", "-journal")
"""Endings that follow the file's own."""


MANY = (".laz", ".las")
"""Endings of clouds, of which a folder or a pattern may name several as one source."""
GRID_FILES = (".tif", ".tiff", ".asc", ".img", ".bil", ".flt", ".hgt", ".dt0", ".dt1", ".dt2", ".dem")
"""Endings of grids, of which it may, too."""


def members(path: Path) -> list[Path]:
    """The files that a folder, or a pattern such as ``tiles/*.laz``, stands for, by their names: the clouds
    of a folder, or its grids where it has none; else the file itself.

    Raises MossError for a folder that may not be read.
    """
    with in_words(path, "read"):
        if path.is_dir():
            files = sorted(
                f for f in path.iterdir() if f.suffix.lower() in (*MANY, *GRID_FILES) and f.is_file()
            )
            return [f for f in files if f.suffix.lower() in MANY] or files
        if any(sign in path.name for sign in "*?") and not path.exists():
            return sorted(f for f in path.parent.glob(path.name) if f.is_file())
    return [path]


def files_of(path: Path) -> list[Path]:
    """The file, those beside it that a reader looks at, and what a virtual grid is made of; those that are
    there.
    """
    if not path.name:
        return []
    named = members(path)
    if named != [path]:
        return [f for one in named for f in files_of(one)]
    beside = [path.with_suffix(e) for e in _BESIDE if e != path.suffix.lower()] + [
        path.with_suffix(e.upper()) for e in _BESIDE
    ]
    result = [path, *beside, *(Path(f"{path}{e}") for e in _AFTER)]
    if path.suffix.lower() == virtual.ENDING:
        try:
            sources = virtual.sources_of(path)
        except MossError:
            sources = []  # its card says why it cannot be opened
        result += [
            f for source in sources for f in files_of(source) if source.suffix.lower() != virtual.ENDING
        ]
    return [f for f in dict.fromkeys(result) if f.is_file()]


def side_files(path: Path) -> list[Path]:
    """Files that belong to one by its whole name and would speak of an older content of it."""
    return [f for n in side_names(path.name) if (f := path.with_name(n)).is_file()]


def side_names(name: str) -> list[str]:
    """What such files of a file of some name may be called."""
    return [f"{name}{e}" for e in (*_AFTER, "-shm")]

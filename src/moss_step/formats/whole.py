"""Files that are written whole or not at all, and plain words for what the system says about files."""

from __future__ import annotations

import errno
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from moss_step.model.errors import AskedWronglyError, MossError


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """Give a temporary path beside ``path``; when the block ends well, it is flushed and takes the place of ``path``.

    Raises MossError in plain words when the folder is missing, not writable or full; nothing is left behind then.
    """
    if path.is_dir():
        raise AskedWronglyError(f"{path} is a folder.", "Give the name of a file in it.")
    if not path.parent.is_dir():
        raise MossError(f"The folder {path.parent} does not exist.", "Make it, or choose another.")
    with _named(path, "written"):
        handle, name = tempfile.mkstemp(prefix=".moss-", suffix=path.suffix, dir=path.parent)
        os.close(handle)
        temporary = Path(name)
        try:
            yield temporary
            with temporary.open("rb+") as file:
                os.fsync(file.fileno())
            temporary.chmod(0o666 & ~_umask())
            temporary.replace(path)
        finally:
            for left in (temporary, Path(f"{name}.aux.xml")):
                with suppress(FileNotFoundError):
                    left.unlink()


def write_text(path: Path, text: str) -> None:
    """Write a text file whole or not at all."""
    with whole_file(path) as temporary:
        temporary.write_text(text, encoding="utf-8")


def check_readable(path: Path) -> None:
    """Refuse, in plain words, what cannot be opened for reading: missing, a folder, empty, not permitted."""
    if "://" in str(path) or str(path).startswith("/vsi"):
        raise AskedWronglyError(f"{path} is not a file on this machine.", "Give the path of a file.")
    with _named(path, "read"):
        if path.is_dir():
            raise AskedWronglyError(f"{path} is a folder.", "Give the name of a file in it.")
        with path.open("rb") as file:
            if not file.read(1):
                raise MossError(f"{path} is empty (0 bytes).", "Fetch or copy the file again.")


def read_text(path: Path) -> str:
    """Read a UTF-8 text file.

    Raises MossError in plain words when it cannot be read or is not text.
    """
    check_readable(path)
    try:
        with _named(path, "read"):
            return path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError:
        raise MossError(f"{path} is not a text file.", "Choose another file.") from None


@contextmanager
def _named(path: Path, doing: str) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise MossError(*_system_words(error, path, doing)) from error


def _system_words(error: OSError, path: Path, doing: str) -> tuple[str, str]:
    if isinstance(error, FileNotFoundError):
        return f"{path} was not found.", "Check the name, or find where the file went."
    if isinstance(error, PermissionError):
        where = path.parent if doing == "written" else path
        return (
            f"{path} could not be {doing}: no permission for {where}.",
            "Choose another place, or ask for access.",
        )
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return f"{path} could not be written: the disk is full.", "Free some space, or choose another disk."
    return f"{path} could not be {doing}: {error.strerror or error}.", "Check the path and the disk."


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask

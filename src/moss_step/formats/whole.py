"""Files that are written whole or not at all, and plain words for what the system says about files."""

from __future__ import annotations

import errno
import os
import platform
import shutil
import stat
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.typed import as_whole

_HALF, _ASIDE = ".moss-", "~"
"""How names of half-written files begin, before the number of their process; and what parts them from the own
name of a side file put aside.
"""


@contextmanager
def whole_file(path: Path, side_files: Callable[[Path], list[Path]] = lambda _: []) -> Iterator[Path]:
    """Give a temporary path beside ``path``; when the block ends well, it is flushed and takes the place of
    ``path``.

    A link stays a link, and the file's mode stays; ``side_files`` name those that speak of the older content:
    they are put aside before, and go once the new file stands there, or come back. What programs that were
    killed left half-written in the folder is swept. Raises MossError in plain words when the folder is
    missing, not writable or full; nothing is left behind then.
    """
    if "\0" in str(path):
        raise AskedWronglyError(f"{printable(path)} is no name of a file.", "Give another.")
    path = path.resolve() if path.is_symlink() else path
    if path.is_dir():
        raise AskedWronglyError(f"{path} is a folder.", "Give the name of a file in it.")
    if path.exists() and not path.is_file():
        raise AskedWronglyError(f"{path} is a pipe or a device, and no file.", "Give the name of a file.")
    if not path.parent.is_dir():
        raise MossError(f"The folder {path.parent} does not exist.", "Make it, or choose another.")
    with _named(path, "written"):
        sweep(path.parent)
        mode = stat.S_IMODE(path.stat().st_mode) if path.exists() else 0o666 & ~_umask()
        handle, name = tempfile.mkstemp(
            prefix=f"{_HALF}{os.getpid()}-", suffix=path.suffix[:20].replace(_ASIDE, ""), dir=path.parent
        )
        os.close(handle)
        temporary = Path(name)
        try:
            yield temporary
            with temporary.open("rb+") as file:
                os.fsync(file.fileno())
            temporary.chmod(mode)
            for old in side_files(path):
                old.replace(path.with_name(f"{temporary.name}{_ASIDE}{old.name}"))
            temporary.replace(path)
        finally:
            _clear(list(path.parent.glob(f"{temporary.stem}*")))


@contextmanager
def half_folder(path: Path) -> Iterator[Path]:
    """Give a temporary folder beside ``path``; it goes when the block ends, or is swept after a kill.

    Raises MossError in plain words where none can be made.
    """
    with _named(path, "written"):
        sweep(path.parent)
        part = Path(tempfile.mkdtemp(prefix=f"{_HALF}{os.getpid()}-", dir=path.parent))
    try:
        yield part
    finally:
        _clear([part])


@contextmanager
def passing_folder(place: Path) -> Iterator[Path]:
    """A folder for files on the way, which goes when the block ends; those of programs that were killed go
    first.

    They lie in a folder of this person on this machine, as a number of a program says nothing elsewhere.
    Raises MossError where that cannot be made, or is somebody else's.
    """
    own = place / f"moss-step-{os.getuid()}-{platform.node()}"
    with _named(own, "written"):
        own.mkdir(mode=0o700, exist_ok=True)
    if own.is_symlink() or not own.is_dir() or own.stat().st_uid != os.getuid():
        raise MossError(f"{own} is not a folder of yours.", "Remove it, or choose another folder.")
    sweep(own)
    with _named(own, "written"):
        made = tempfile.mkdtemp(prefix=f"{_HALF}{os.getpid()}-", dir=own)
    try:
        yield Path(made)
    finally:
        shutil.rmtree(made, ignore_errors=True)


def sweep(folder: Path) -> None:
    """Remove what programs that no longer run left half-written in a folder; side files of a file that was
    not replaced come back.
    """
    _clear([left for left in folder.glob(f"{_HALF}*") if not _still_written(left)])


def _still_written(left: Path) -> bool:
    pid = as_whole(left.name.removeprefix(_HALF).partition("-")[0])
    return pid is None or Path(f"/proc/{pid}").exists()


def _clear(leftovers: list[Path]) -> None:
    """Remove half-written files, after side files that were put aside for one that never took its place."""
    for left in sorted(leftovers, key=lambda p: _ASIDE not in p.name):
        half, aside, own_name = left.name.partition(_ASIDE)
        with suppress(OSError):
            if aside and left.with_name(half).exists() and not left.with_name(own_name).exists():
                left.replace(left.with_name(own_name))
            elif left.is_dir() and not left.is_symlink():
                shutil.rmtree(left)
            else:
                left.unlink()


def write_text(path: Path, text: str, side_files: Callable[[Path], list[Path]] = lambda _: []) -> None:
    """Write a text file whole or not at all; ``side_files`` speak of its older content, and go with it."""
    write_chunks(path, [text], side_files)


def write_chunks(
    path: Path, texts: Iterable[str], side_files: Callable[[Path], list[Path]] = lambda _: []
) -> None:
    """Write a text file that comes part by part, whole or not at all."""
    with (
        whole_file(path, side_files) as temporary,
        temporary.open("w", encoding="utf-8", errors="backslashreplace") as file,
    ):
        file.writelines(texts)


def make_folder(path: Path) -> None:
    """Make the folder that a file goes to.

    Raises MossError where it cannot be made.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        said = f"The folder {printable(path.parent)} cannot be made: {error.strerror}."
        raise MossError(said, "Write somewhere else.") from error


def check_readable(path: Path) -> None:
    """Refuse, in plain words, what cannot be opened for reading: missing, a folder, empty, not permitted."""
    if "://" in str(path) or str(path).startswith("/vsi") or "\0" in str(path):
        raise AskedWronglyError(
            f"{printable(path)} is not a file on this machine.", "Give the path of a file."
        )
    check_name(path)
    with _named(path, "read"):
        if path.is_dir():
            raise AskedWronglyError(f"{path} is a folder.", "Give the name of a file in it.")
        if path.exists() and not path.is_file():
            raise AskedWronglyError(
                f"{path} is a pipe or a device, and no file.", "Write what it gives into a file first."
            )
        with path.open("rb") as file:
            if not file.read(1):
                raise MossError(f"{path} is empty (0 bytes).", "Fetch or copy the file again.")


def check_name(path: Path) -> None:
    """Refuse a name that is not UTF-8: the libraries that read and write files cannot take it.

    Raises AskedWronglyError.
    """
    try:
        str(path).encode("utf-8")
    except UnicodeEncodeError as error:
        raise AskedWronglyError(
            f"The name {printable(path)} is not UTF-8 text.", "Rename the file."
        ) from error


def printable(path: Path | str) -> str:
    """A path as text that can be written anywhere: what is no character is spelled out."""
    return str(path).replace("\0", "\\0").encode("utf-8", "backslashreplace").decode()


@contextmanager
def in_words(
    path: Path, doing: str, do: str = "It may be cut short or of another kind. Fetch or copy it again."
) -> Iterator[None]:
    """Turn whatever a library throws into one sentence, while a file is ``read as shapes`` or the like; our
    own refusals pass as they are.
    """
    try:
        yield
    except MossError:
        raise
    except MemoryError as error:
        raise MossError(
            f"{printable(path)} does not fit in the memory that is free.",
            "Close other programs, or read a part of it.",
        ) from error
    except OSError as error:
        if error.errno is not None:
            raise MossError(*_system_words(error, path, doing.partition(" ")[0])) from error
        raise MossError(f"{printable(path)} could not be {doing}: {first_line(error)}", do) from error
    except Exception as error:
        raise MossError(f"{printable(path)} could not be {doing}: {first_line(error)}", do) from error


def first_line(error: BaseException) -> str:
    """The first line of what an error says, as a sentence; that of its cause where it says only that reading
    failed.
    """
    lines = str(error).strip().splitlines()
    text = lines[0] if lines else type(error).__name__
    if text.startswith("Read failed") and error.__cause__ is not None:
        return first_line(error.__cause__)
    return printable(text[:300]).rstrip(".") + "."


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

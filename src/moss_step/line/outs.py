"""Where results go: checked before the work starts, and never over what is not this program's own."""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from moss_step.folders import state_path
from moss_step.formats.whole import check_name, make_folder, write_text
from moss_step.line.stored import Described
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.nearest import meant

STANDARD = "-"


@dataclass(frozen=True)
class Out:
    """Where one result goes: a file, or standard output where there is none."""

    result: str
    path: Path | None

    def __str__(self) -> str:
        return "standard output" if self.path is None else str(self.path)


def targets(step: Described, words: Sequence[str], names: Mapping[str, str] | None = None) -> list[Out]:
    """Where each result goes, of ``OUT`` for the main one and ``name=OUT`` for another; ``{name}`` in a path
    stands for the name of the input.

    A result may go to several files of different endings. Raises AskedWronglyError for a result that the step
    does not give or that is asked for twice in one format, and for two that would share a file.
    """
    outs: dict[tuple[str, str], Out] = {}
    for text in words:
        name, mark, path = text.partition("=")
        name, path = (name, path) if mark and name.isidentifier() else ("", text)
        if name not in step["endings"]:
            known = [n for n in step["endings"] if n]
            raise AskedWronglyError(
                f"{step['kind']} gives no '{name}'.",
                meant(name, known) or f"Beside its main result it gives: {', '.join(known) or 'nothing'}.",
            )
        key = (name, Path(path).suffix.lower())
        if key in outs:
            raise AskedWronglyError(
                f"-o {text}: {name or 'the main result'} goes to {outs[key]} already.",
                "Write each result once in a format.",
            )
        for part, value in (names or {}).items():
            path = path.replace("{" + part + "}", value)
        outs[key] = Out(name, None if path == STANDARD else Path(path))
    paths = [o.path.resolve() for o in outs.values() if o.path is not None]
    if len(set(paths)) < len(paths) or len(outs) - len(paths) > 1:
        raise AskedWronglyError("Two results would be one file.", "Give each a name of its own.")
    return list(outs.values())


def check_endings(step: Described, outs: Sequence[Out], gives: str) -> None:
    """Raise AskedWronglyError for a file that its result cannot be written as; ``gives`` is the kind of the
    main result, which the run itself checks where its settings make it another than usual.
    """
    for out in outs:
        if out.result == "" and gives != step["gives"]:
            continue
        noun, endings = step["nouns"][out.result].capitalize(), step["endings"][out.result]
        if out.path is None:
            check_streamed(noun, step["streamed"][out.result], endings)
        elif out.path.suffix.lower() not in endings:
            raise AskedWronglyError(
                f"{noun} cannot be written as '{out.path.name}'.", f"End it in {', '.join(endings)}."
            )


def check_streamed(noun: str, ending: str, endings: Sequence[str]) -> None:
    """Raise AskedWronglyError for what standard output cannot take."""
    if not ending:
        raise AskedWronglyError(
            f"{noun} cannot be written to standard output.", f"Name a file that ends in {', '.join(endings)}."
        )


def make_ready(outs: Sequence[Out], overwrite: bool) -> None:
    """See that each file may be written; its folder is made when it is.

    Raises MossError where it may not, and for a file that is there and is not an earlier result of this
    program as it wrote it, unless that is to be replaced.
    """
    for out in outs:
        if out.path is None:
            continue
        folder = next(p for p in (out.path.parent, *out.path.resolve().parents) if p.exists())
        if not folder.is_dir():
            raise AskedWronglyError(f"{folder} is no folder.", "Write somewhere else.")
        if not os.access(folder, os.W_OK | os.X_OK):
            raise MossError(f"Nothing can be written in {folder}.", "Write somewhere else.")
        check_name(out.path)
        if out.path.is_dir():
            raise AskedWronglyError(f"{out.path} is a folder.", "Name a file in it.")
        if out.path.exists() and not overwrite and not is_own(out.path):
            raise AskedWronglyError(
                f"{out.path} is there already, and this program did not write it as it is.",
                "Give --overwrite to replace it, or another name.",
            )


# --- what this program wrote


def _mark(path: Path) -> Path:
    digest = hashlib.sha256(os.fsencode(path.resolve())).hexdigest()[:32]
    return state_path() / "written" / digest


def _stamp(path: Path) -> str:
    state = path.stat()
    return f"{state.st_size} {state.st_mtime_ns}"


def is_own(path: Path) -> bool:
    """Whether a file is as this program wrote it."""
    try:
        return _mark(path).read_text(encoding="ascii") == _stamp(path)
    except (OSError, ValueError):
        return False


def remember(path: Path) -> None:
    """Know again a file that was just written; where nothing can be kept it will be asked about."""
    with suppress(OSError, MossError):
        make_folder(_mark(path))
        write_text(_mark(path), _stamp(path))


def stream(ending: str, write: Callable[[Path], object]) -> None:
    """Write a result to standard output: ``write`` is given the file of an ending that it goes through."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / f"result{ending}"
        write(path)
        sys.stdout.flush()
        sys.stdout.buffer.write(path.read_bytes())
        sys.stdout.buffer.flush()

"""``moss-step run`` on grounds larger than memory, or with workers: tile by tile, from files to files."""

from __future__ import annotations

import argparse
import fcntl
import os
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from moss_step.formats.address import Address, Place
from moss_step.formats.source import members, side_files
from moss_step.formats.whole import whole_file, write_text
from moss_step.model.errors import AskedWronglyError, MossError, StoppedError
from moss_step.model.memory import keep_freed

if TYPE_CHECKING:
    from moss_step.large.crew import Cluster, Crew
    from moss_step.large.held import OnDisk
    from moss_step.large.running import LargeRun, Written
    from moss_step.line.running import Run
    from moss_step.model.progress import Progress

WORK = ".moss-work"
"""Folder beside the results for tiles that are done, while a run goes on."""
OVER = "over"
"""What marks work that is no longer needed."""
LEAST, MOST = 65_536, 1_000_000_000


def grids_on_disk(runner: Run, asked: argparse.Namespace) -> dict[str, OnDisk]:
    """The grids of a study that stay on the disk: what is too large for memory, what is done sooner so, and
    all of them for workers.
    """
    from moss_step.large.jobs import left_on_disk

    if asked.tile_cells is not None and not LEAST <= asked.tile_cells <= MOST:
        raise AskedWronglyError(
            f"--tile-cells {asked.tile_cells} is not possible.", f"It is {LEAST:,} to {MOST:,}."
        )
    return left_on_disk(runner.study, runner.study.needs(runner.refs), _is_asked(asked))


def goes_in_tiles(runner: Run, grids: Mapping[str, OnDisk], asked: argparse.Namespace) -> bool:
    """Whether a run goes tile by tile: with grids that stay on the disk, or where that is asked for, with
    steps that do so without one.
    """
    from moss_step.large.works import way_of

    others = any(way_of(s.kind).gridless for s in runner.study.needs(runner.refs))
    return bool(grids) or (_is_asked(asked) and others)


def _is_asked(asked: argparse.Namespace) -> bool:
    return any(v is not None for v in (asked.workers, asked.scheduler, asked.tile_cells))


def in_tiles(
    runner: Run,
    grids: Mapping[str, OnDisk],
    asked: argparse.Namespace,
    here: Callable[[], Cluster] | None,
    progress: Progress,
) -> None:
    """Work out the results of a run tile by tile. Tiles that are done are kept: the same run goes on where
    it ended.

    Raises MossError for what cannot be done so, and at the end where parts of a source could not be read.
    """
    from moss_step.large.jobs import identity
    from moss_step.large.running import LargeRun
    from moss_step.large.tiling import CELLS
    from moss_step.line.running import not_written

    if asked.own:
        keep_freed()
    cells = asked.tile_cells or CELLS
    name = identity(runner.study, runner.refs, cells)
    with _alone_in(runner.folder.resolve() / WORK) as folder:
        work, at = _folder_for(name, folder), None
        if isinstance(runner.out, Address) and asked.scheduler is not None:
            at = place_for(name, runner.out / WORK)
        sources = [one for g in grids.values() for one in members(g.source.path)[:1]]
        needed: list[Place] = [*sources, work] if at is None else [at]
        with _crew(asked, needed, here) as crew:
            large = LargeRun(runner.study, runner.engine, crew, work, grids, cells, at)
            try:
                for written in large.results(runner.refs, progress):
                    _take(runner, large, written, progress)
            except StoppedError:
                raise
            except MossError as why:
                raise runner.failed(why) from why
            for ref, error in large.refused.items():
                if ref in runner.refs:
                    runner.warnings.append(not_written(runner.study, ref, error))
        if identity(runner.study, runner.refs, cells) != name:
            raise MossError("A source changed while it was read.", "Run it again: it begins anew.")
        _remove(folder, work)
        if at is not None:
            (at / OVER).write(b"")
            at.folder.clear()
    if large.wrong:
        told = list(large.wrong)
        raise MossError(
            f"{' '.join(told[:5])}{f' And {len(told) - 5} more.' if len(told) > 5 else ''} Nothing stands "
            f"there in the results in {runner.out}; all else was done.",
            "Fetch the file again, and run it anew.",
        )


def _remove(folder: Path, work: Path) -> None:
    """Remove the folder for work. What was worked on goes aside in one stroke: half of it, after a kill,
    would say that tiles are there which are not.
    """
    work.rename(work.with_name(f"{OVER}-{work.name}"))
    shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def _alone_in(folder: Path) -> Iterator[Path]:
    """Have the folder for work to ourselves.

    Raises MossError where it cannot be made, is a link to somewhere else, or another run has it.
    """
    if folder.is_symlink():
        raise MossError(f"{folder} is a link.", "Remove it: nothing is written or removed where it leads.")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        lock = os.open(folder / "lock", os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600)
    except OSError as error:
        raise MossError(
            f"The folder {folder.parent} cannot be written to: {error.strerror}.", "Give another with -o."
        ) from error
    try:
        take_lock(lock, folder.parent)
        yield folder
    finally:
        os.close(lock)


def take_lock(lock: int, place: Place) -> None:
    """Take a lock on the results in a place, which the system lets go if we are killed.

    Raises MossError where another run has it.
    """
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        raise MossError(
            f"{place} is written into by another run.", "Wait for it, or give another with -o."
        ) from error


def _folder_for(name: str, folder: Path) -> Path:
    """The folder of the work of a run, as it was left; what is of another run goes, and what has links in
    it.
    """
    work = folder / name
    for other in folder.iterdir():
        strange = other.is_symlink() or any(p.is_symlink() for p in other.rglob("*"))
        if other.is_dir() and not other.is_symlink() and (other != work or strange):
            shutil.rmtree(other, ignore_errors=True)
        elif other.is_symlink():
            other.unlink()
    work.mkdir(exist_ok=True)
    return work


def place_for(name: str, folder: Address) -> Address:
    """The same where workers meet at an address."""
    work = folder / name
    if (work / OVER).is_there():  # a run ended while it was removed
        work.clear()
    work.make()
    for other in folder.names("directory"):
        if other != name:
            (folder / other).clear()
    return work


@contextmanager
def begun(asked: argparse.Namespace) -> Iterator[Callable[[], Cluster] | None]:
    """Workers of this machine, where some are asked for, begun while the study is read; None for none."""
    if asked.workers is None or asked.dry_run or not asked.study.is_file():
        yield None
        return
    from moss_step.large.hands import workers_ahead

    with workers_ahead(asked.workers) as some:
        yield some


@contextmanager
def _crew(
    asked: argparse.Namespace, files: Sequence[Place], here: Callable[[], Cluster] | None
) -> Iterator[Crew]:
    from moss_step.large.crew import Ahead, Alone, workers_of

    if here is not None:
        yield Ahead(here)
    elif asked.scheduler is not None:
        with workers_of(asked.scheduler, files) as others:
            yield others
    else:
        yield Alone()


def _take(runner: Run, large: LargeRun, written: Written, progress: Progress) -> None:
    """Put a result where it belongs, with what is written beside it."""
    from moss_step.kinds.registry import kind_of
    from moss_step.model.outcome import Outcome
    from moss_step.study.hand_on import check_not_a_source
    from moss_step.study.record import lineage

    large.tell(written)
    if written.outcome is not None:
        said = replace(written.outcome, findings=written.findings, warnings=written.warnings)
        runner.take(written.ref, said, progress)
        return
    name = runner.study.name_of(written.ref)
    runner.findings += [{"step": written.ref, **f.as_json()} for f in written.findings]
    runner.warnings += [f"{name}: {w}" for w in written.warnings]
    if written.file is None:
        return
    like, (path, *beside) = (
        Outcome(large.like(written.ref), "", written.findings),
        runner.paths_of(written.ref),
    )
    check_not_a_source(path, runner.study.source_files)
    _put(written.file, path)
    sidecar = kind_of(like.value).sidecar
    if sidecar is not None:
        ending, text = sidecar(like)
        write_text(Path(f"{path}{ending}"), text)
    for other in beside[:-1]:
        kind_of(like.value).write(like, name, other, None)
    write_text(beside[-1], lineage(runner.study, written.ref, runner.engine))
    for one in (path, *beside):
        runner.wrote(one)


def _put(made: Path, target: Path) -> None:
    """Have a finished file stand at its place, whole, too: as a second name of the same bytes, or a copy."""
    with whole_file(target, side_files) as half:
        half.unlink()
        try:
            os.link(made, half)
        except OSError:  # a file system without second names
            shutil.copyfile(made, half)

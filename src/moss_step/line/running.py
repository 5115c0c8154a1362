"""``moss-step run``: a whole study without a screen."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from moss_step.formats.address import Address, Place
from moss_step.line.afar import Afar
from moss_step.line.bar import Bar
from moss_step.line.outs import remember
from moss_step.line.prepare import tell_of_compiling
from moss_step.model.errors import MossError, StoppedError

if TYPE_CHECKING:
    from moss_step.large.crew import Cluster
    from moss_step.model.outcome import Outcome
    from moss_step.model.progress import Progress
    from moss_step.study.engine import Engine
    from moss_step.study.graph import Study

STATE = "results.json"


class Run:
    """One run of a study into a folder: what it wrote, found, and has to remark."""

    def __init__(self, study: Study, file: Path, out: Place, only: Sequence[str] = ()) -> None:
        from moss_step.study.engine import Engine

        self.study, self.file, self.out = study, file, out
        self.afar: Afar | None = None
        if isinstance(out, Address):
            self.afar = Afar(out)
            out = self.afar.here
        self.folder: Path = out
        self._there: set[str] = set()
        for ref in only:
            study.result(ref)
        self.refs = [r for r in study.refs(asked=bool(only)) if not only or r in only]
        self.engine: Engine = Engine()
        self.outputs: list[str] = []
        self.findings: list[dict[str, Any]] = []
        self.warnings: list[str] = []
        self._before: set[str] = set()

    def begin(self) -> None:
        """Mark the folder as not complete, and remark what an earlier run left there that this one does not
        write.
        """
        from moss_step.formats.whole import sweep

        self.folder.mkdir(parents=True, exist_ok=True)
        sweep(self.folder)
        self._there = {p.name for p in self.folder.iterdir()} if self.afar is None else self.afar.begin()
        self._before = earlier = self._earlier()
        self._write_state(False)
        planned = {p.name for ref in self.refs for p in self.paths_of(ref)}
        left = sorted(earlier & self._there - planned)
        if left:
            self.warnings.append(
                f"Left of an earlier run, and not written now: {', '.join(left[:8])}"
                f"{f' and {len(left) - 8} more' if len(left) > 8 else ''}."
            )

    def all_steps(self, progress: Progress) -> None:
        """Work out and write every result; one of several that a step cannot give is remarked.

        Raises MossError that names the step that failed and what was written before it.
        """
        for k, ref in enumerate(self.refs):
            part = progress.part(k / len(self.refs), (k + 1) / len(self.refs))
            try:
                outcome = self.engine.run_or_raise(self.study, ref, part)
            except StoppedError:
                raise
            except MossError as error:
                if not self._main_is_there(ref):
                    raise self.failed(error) from error
                self.warnings.append(not_written(self.study, ref, error))
                continue
            self.take(ref, outcome, part)

    def end(self) -> None:
        """Mark the folder as complete."""
        self._write_state(True)
        if self.afar is not None:
            self.afar.end()

    def close(self) -> None:
        """Let others write into the folder."""
        if self.afar is not None:
            self.afar.close()

    def take(self, ref: str, outcome: Outcome, progress: Progress) -> None:
        from moss_step.formats.whole import write_text
        from moss_step.study.hand_on import check_not_a_source, hand_on
        from moss_step.study.record import lineage

        name = self.study.name_of(ref)
        self.findings += [{"step": ref, **f.as_json()} for f in outcome.findings]
        self.warnings += [f"{name}: {w}" for w in outcome.warnings]
        files, text = list(self._written_as(ref, outcome)), lineage(self.study, ref, self.engine)
        for target in files[:-1]:
            check_not_a_source(target, self.study.source_files)
            hand_on(replace(outcome, lineage=text), name, target, progress)
            self.wrote(target)
        for record in files[-1:]:
            write_text(record, text)
            self.wrote(record)

    def wrote(self, path: Path) -> None:
        remember(path)
        self.outputs.append(str(path if self.afar is None else self.afar.put(path, self._there)))

    def _written_as(self, ref: str, outcome: Outcome) -> Iterator[Path]:
        """Files of a result, its record last; none of what was only opened."""
        from moss_step.kinds.registry import kind_of

        if not self.study.step(ref).inputs:
            return
        kind, base = kind_of(outcome.value), self._base(ref)
        for ending in (kind.endings[0], *kind.beside, ".txt"):
            yield base.with_name(base.name + ending)

    def paths_of(self, ref: str) -> list[Path]:
        """Files that a result may be written as, before there is one."""
        from moss_step.kinds.registry import kind_named

        if not self.study.step(ref).inputs:
            return []
        kind, base = kind_named(self.study.result(ref).gives), self._base(ref)
        return [base.with_name(base.name + e) for e in (kind.endings[0], *kind.beside, ".txt")]

    def _base(self, ref: str) -> Path:
        from moss_step.study.graph import file_name

        base = self.folder / f"{ref.replace('.', '_')}_{file_name(self.study.name_of(ref))}"
        if not base.resolve().is_relative_to(self.folder.resolve()):
            raise MossError(
                f"The result '{ref}' would lie outside {self.folder}.", "Give the step another id."
            )
        return base

    def _main_is_there(self, ref: str) -> bool:
        """Whether only one of several results failed, and its step has its main one all the same."""
        from moss_step.study.graph import step_of

        there = self.engine.said(self.study, step_of(ref)) is not None
        return there and self.engine.failure(self.study, ref) is not None

    def failed(self, error: MossError) -> MossError:
        """What ended a run, with what was written before."""
        if not self.outputs:
            return error
        written = f"Written before it: {len(self.outputs)} files in {self.out}."
        return type(error)(error.what, f"{error.typed or error.do} {written}".strip())

    def _earlier(self) -> set[str]:
        """Names of files that the last run into this folder said it wrote."""
        if STATE not in self._there:
            return set()
        try:
            text = (self.folder / STATE).read_bytes() if self.afar is None else self.afar.read(STATE)
            data = json.loads(text)
            return {str(name) for name in data["outputs"]}
        except (OSError, ValueError, TypeError, KeyError):
            return set()

    def _write_state(self, complete: bool) -> None:
        from moss_step.formats.whole import write_text

        names = {Path(o).name for o in self.outputs}
        state = {
            "study": str(self.file),
            "complete": complete,
            "outputs": sorted(names if complete else names | self._before),
        }
        write_text(self.folder / STATE, json.dumps(state, indent=1) + "\n")
        if self.afar is not None:
            self.afar.put(self.folder / STATE, set())


def not_written(study: Study, ref: str, error: MossError) -> str:
    """What is remarked where a step gave its main result, and another one it could not."""
    return f"{study.name_of(ref)} was not written. {error}"


def run(asked: argparse.Namespace) -> None:
    """Run a study, or say what would run.

    Raises MossError for a study that cannot be read and for a step that fails.
    """
    from moss_step.line.tiles import begun

    with begun(asked) as workers:
        from moss_step.study.saving import load_study  # takes a while, in which workers load, too

        study = load_study(asked.study)
        out = asked.out or asked.study.resolve().parent / f"{asked.study.stem}-results"
        with closing(Run(study, asked.study, out, asked.only or ())) as runner:
            if asked.dry_run:
                _tell_plan(runner)
            else:
                _carry_out(runner, asked, workers)


def _carry_out(runner: Run, asked: argparse.Namespace, workers: Callable[[], Cluster] | None) -> None:
    from moss_step.line.tiles import goes_in_tiles, grids_on_disk, in_tiles
    from moss_step.study.held import Held

    runner.begin()
    if Held.elsewhere(asked.study):
        print(
            f"moss-step: {asked.study} is open in a window; what its file holds now is run.", file=sys.stderr
        )
    if not asked.quiet:
        tell_of_compiling()
    with Bar(asked.quiet) as progress:
        grids = grids_on_disk(runner, asked)
        if goes_in_tiles(runner, grids, asked):
            in_tiles(runner, grids, asked, workers, progress)
        else:
            runner.all_steps(progress)
    runner.end()
    if asked.json:
        said = {"outputs": runner.outputs, "findings": runner.findings, "warnings": runner.warnings}
        print(json.dumps({"kind": "run", **said}))
    elif not asked.quiet:
        print("\n".join([*runner.outputs, *(f"  note: {w}" for w in runner.warnings)]))


def _tell_plan(runner: Run) -> None:
    """Say each step in the order in which it would run, and the files that it would write."""
    for ref in runner.refs:
        step = runner.study.step(ref)
        print(f"{runner.study.name_of(ref)} ({step.kind})")
        for path in runner.paths_of(ref)[:1]:
            print(f"  -> {runner.out / path.name}")

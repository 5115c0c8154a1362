"""Running a study whose grounds stay on the disk: chains of local steps, and works on the whole ground, one
after another, each tile by tile; what fits in memory runs as it always does.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.address import Address, Place
from moss_step.formats.tiled import TiledFile, note_of, reopened
from moss_step.formats.whole import write_text
from moss_step.formats.windows import GridReader
from moss_step.kinds.registry import cells_of, kind_of
from moss_step.large.chain import Chain, ChainWork, Link, read, worked_out
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk, source_of, taken_over
from moss_step.large.jobs import Chained, feeds, next_chain, taken_once
from moss_step.large.journal import Journal
from moss_step.large.look import Looked, look_at
from moss_step.large.meeting import brought, seen_here, written_at
from moss_step.large.passing import Passing
from moss_step.large.scratch import begin_or_go_on
from moss_step.large.telling import described, like, opened
from moss_step.large.tiling import Tile, bands
from moss_step.large.whole import NotInTilesError, Whole
from moss_step.large.works import way_of, work_of
from moss_step.model.errors import MossError, StoppedError
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.mapped import too_large
from moss_step.model.memory import check_memory
from moss_step.model.origin import Came, Origin
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.summary import Summary
from moss_step.study.declared import common_frame, run_declared, said_of_part, taken_of, window_of
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study, file_name, split
from moss_step.study.store import Said
from moss_step.study.told import merged


@dataclass(frozen=True)
class Written:
    """A result of a run: what it says of itself; its value where it fits in memory, else the file that holds
    it.
    """

    ref: str
    findings: tuple[Finding, ...]
    warnings: tuple[str, ...]
    outcome: Outcome | None = None
    file: Path | None = None


class LargeRun:
    """One run: the study, who works, the folder for files on the way, and how many cells a tile has. Where
    not all who work see that folder, they meet ``at`` an address.
    """

    def __init__(
        self,
        study: Study,
        engine: Engine,
        crew: Crew,
        work: Path,
        grids: Mapping[str, OnDisk],
        cells: int,
        at: Address | None = None,
    ) -> None:
        self._at = at
        self._study, self._engine, self._crew, self._work, self._cells = study, engine, crew, work, cells
        self._held: dict[str, OnDisk] = dict(grids)
        self._passing: dict[str, Passing] = {}
        self._untold: set[str] = set()
        self._begun: set[Place] = set()
        # The record names the content of the sources, which takes as long as reading them.
        self._hashing = Progress()
        every = [s.id for s in study.steps]
        self._looking = ThreadPoolExecutor(1).submit(engine.look, study, every, self._hashing)
        self._there: dict[str, Outcome] = {}
        self.wrong: dict[str, None] = {}
        """Parts of sources that could not be read, in words: nothing stands there in what came of them."""
        self.refused: dict[str, MossError] = {}
        """Those of several results of a step that it cannot give, though its main one is there."""

    def results(self, wanted: Collection[str], progress: Progress) -> Iterator[Written]:
        """Work out results and give each as soon as its file is there.

        Raises MossError that names a step that looks at all of a ground that is too large for memory.
        """
        try:
            yield from self._results(wanted, progress)
        except BaseException:
            self._hashing.stop()  # else the program would end only when all was looked at
            raise

    def _results(self, wanted: Collection[str], progress: Progress) -> Iterator[Written]:
        steps = feeds(self._study.in_order(), wanted)
        left = [s for s in steps if s.id not in self._held]
        total, done = len(left) or 1, 0
        sources = [s for s in steps if s.id in self._held]
        self._untold = {s.id for s in sources if s.id in wanted}
        self._bring(sources, progress.part(0.0, 0.04))
        self._settle(sources, progress.part(0.04, 0.05))
        while left:
            part = progress.part(0.05 + 0.95 * done / total, 0.05 + 0.95 * (done + 1) / total)
            chained = next_chain(left, self._held, self._there, wanted)
            first = self._fed_beside(chained, left, wanted)
            if first is not None:
                yield from (w for w in self._named(first, left, wanted, part) if w.ref in wanted)
                gone = {first.id}
            elif chained is not None:
                chained = self._cut_at_doubles(chained)
                gone = {s.id for s in chained.steps}
                chained = self._let_pass(chained, left, wanted)
                if chained.wanted:
                    yield from (w for w in self._chain(chained, part) if w.ref in wanted)
            else:
                step = self._next(left)
                yield from (w for w in self._named(step, left, wanted, part) if w.ref in wanted)
                gone = {step.id}
            left = [s for s in left if s.id not in gone]
            done = total - len(left)
        for ref in sorted(self._untold):
            tiling = bands(self._held[ref].frame.shape, self._cells)
            looked = look_at(self._held[ref], self._crew, tiling, progress.part(0.99, 1.0))
            yield Written(ref, *opened(self._held[ref], looked))

    def like(self, ref: str) -> Value:
        """A value of a single cell such as a result on the disk is."""
        return like(self._held[ref])

    def tell(self, written: Written) -> None:
        """Have the engine know what a result says of itself, for the record."""
        self._looking.result()
        key, value = self._engine.key(self._study, written.ref), None
        if key is None:
            return
        if written.outcome is None:
            value, said = self.like(written.ref), described(self._held[written.ref])
        else:
            value = written.outcome.value
            said = kind_of(value).describe(value)
        quantity = getattr(value, "quantity", "")
        self._engine.store.tell(
            key, Said("", written.findings, written.warnings, type(value), quantity, said)
        )

    def _settle(self, steps: list[Step], progress: Progress) -> None:
        """Look at what has to be known of all of a source before any part of it is worked on."""
        n = len(steps)
        for k, step in enumerate(steps):
            held = self._held[step.id]
            if not held.source.facts.exact and held.source.double is None:
                looked = look_at(
                    held, self._crew, bands(held.frame.shape, self._cells), progress.part(k / n, (k + 1) / n)
                )
                source = replace(held.source, double=looked.blurred)
                self._held[step.id] = replace(held, source=source, base=looked.base)

    def _bring(self, steps: list[Step], progress: Progress) -> None:
        """Bring grids to where those meet who work on them."""
        if self._at is None:
            return
        for k, step in enumerate(steps):
            held, part = self._held[step.id], progress.part(k / len(steps), (k + 1) / len(steps))
            source = brought(held.source, self._at / _grid_name(step.id), self._cells, part)
            self._held[step.id] = replace(held, source=source)

    def _next(self, left: list[Step]) -> Step:
        """The first step all of whose inputs are there."""
        for step in left:
            if all(r in self._held or r in self._passing or r in self._there for r in step.inputs.values()):
                return step
            for refused in (r for r in step.inputs.values() if r in self.refused):
                raise self.refused[refused]
        raise MossError(f"{left[0].declared.title} waits for a result that is not there.")

    def _fed_beside(self, chained: Chained | None, left: list[Step], wanted: Collection[str]) -> Step | None:
        """A step that a work needs beside what can pass to it, and that can be worked out now in memory."""
        for taker in taken_once(chained, left, wanted).values():
            for step in left:
                if step.id in taker.sources and all(r in self._there for r in step.inputs.values()):
                    return step
        return None

    def _let_pass(self, chained: Chained, left: list[Step], wanted: Collection[str]) -> Chained:
        """A chain without those of its results that can pass to a work as they are worked out."""
        for ref, taker in taken_once(chained, left, wanted).items():
            upto = feeds(chained.steps, [ref])
            chain = self._as_chain(Chained(tuple(upto), (ref,)))
            sample = self._few_cells(chain)[ref].value
            if cells_of(sample).dtype == np.float64:
                continue  # it is levelled by the mean of all of it
            self._passing[ref] = Passing(chain, kind_of(sample).name, _about(sample))
            if self._job(taker) is None:
                del self._passing[ref]
        kept = tuple(r for r in chained.wanted if r not in self._passing)
        return Chained(tuple(feeds(chained.steps, kept)), kept)

    def _chain(self, chained: Chained, progress: Progress) -> Iterator[Written]:
        chain = self._as_chain(chained)
        shape = chain.shape
        tiling = bands(shape, self._cells)
        frame = next(iter(chain.sources.values())).frame
        tried = self._few_cells(chain)
        targets = {ref: self.begin(ref, tried[ref].value, frame) for ref in chain.wanted}
        told = tuple(r for r in chain.sources if r in self._untold)
        self._untold.difference_update(told)
        work = ChainWork(replace(chain, targets=targets, told=told))
        name = _plain_name("-".join(s.id for s in chained.steps))
        tiles = {t.name: t for t in tiling}
        journal = Journal(self._work / f"{name}.done")
        done = journal.done(targets, tiles)
        titles = ", ".join(s.declared.title for s in chained.steps)
        waiting = [t for t in tiles.values() if t.name not in done]
        working, gathering = progress.part(0.0, 0.9), progress.part(0.9, 1.0)
        for tile, result in self._crew.each(work, waiting, working, titles):
            journal.add(tile, result)
            done[tile.name] = result
        self.wrong.update(dict.fromkeys(w for d in done.values() for w in d.wrong))
        infinite = {ref for d in done.values() for ref in d.infinite}
        for ref in told:
            summary = merged([d.said[ref] for d in done.values()])[2]
            yield Written(ref, *opened(self._held[ref], Looked(summary, ref in infinite)))
        for ref, target in targets.items():
            findings, warnings, summary = merged([d.said[ref] for d in done.values()])
            self._level(ref, summary)
            target.gather(gathering)
            yield Written(ref, findings, warnings, file=target.path)

    def _level(self, ref: str, summary: Summary) -> None:
        """Double values are levelled by their mean, which is known now, where they are worked on."""
        held = self._held[ref]
        double = held.source.dtype == np.float64 and summary.count > 0
        self._held[ref] = replace(held, base=float(np.rint(summary.mean)) if double else 0.0)

    def _as_chain(self, chained: Chained) -> Chain:
        ids = {s.id for s in chained.steps}
        outer = [r for s in chained.steps for r in s.inputs.values() if r not in ids]
        sources = {r: self._held[r] for r in outer if r in self._held}
        frame = next(iter(sources.values())).frame
        links = tuple(
            Link(s.id, s.kind, dict(s.inputs), dict(s.settings), self._reach(s, frame)) for s in chained.steps
        )
        given = {r: self._there[r].value for r in outer if r in self._there}
        return Chain(sources, given, links, chained.wanted)

    @staticmethod
    def _reach(step: Step, frame: Frame) -> tuple[int, int]:
        margin = step.declared.reach.margin(step.declared.checked(step.settings), frame)
        return (0, 0) if margin is None else margin

    def _few_cells(self, chain: Chain) -> dict[str, Outcome]:
        """All results of a chain in a few cells, to learn what they hold."""
        rows, cols = chain.shape
        few = Tile(0, 0, 0, min(rows, 64), 0, min(cols, 64))
        readers = {ref: GridReader(held.source) for ref, held in chain.sources.items()}
        try:
            every = replace(chain, wanted=tuple(link.ref for link in chain.links))
            return worked_out(every, few, read(every, few, readers))
        finally:
            for reader in readers.values():
                reader.close()

    def _cut_at_doubles(self, chained: Chained) -> Chained:
        """A chain without what works on double values of its own: these are levelled by the mean of all of
        them, which is known only once they are there.
        """
        fed = {r for s in chained.steps for r in s.inputs.values()}
        if not fed.intersection(s.id for s in chained.steps):
            return chained
        found = self._few_cells(self._as_chain(chained))
        double = {r for r, o in found.items() if r in fed and cells_of(o.value).dtype == np.float64}
        kept, late = list[Step](), set(double)
        for step in chained.steps:
            if late.isdisjoint(step.inputs.values()):
                kept.append(step)
            else:
                late.add(step.id)
        wanted = {*chained.wanted, *double}
        return Chained(tuple(kept), tuple(s.id for s in kept if s.id in wanted))

    def _named(
        self, step: Step, left: Collection[Step], wanted: Collection[str], progress: Progress
    ) -> Iterator[Written]:
        """Work out a step; what is wrong is said with its name."""
        try:
            yield from self._one(step, left, wanted, progress)
        except StoppedError:
            raise
        except MossError as error:
            name = self._study.name_of(step.id)
            if error.what.startswith(f"{name}: "):
                raise
            raise type(error)(f"{name}: {error.what}", error.do, error.typed) from error

    def _one(
        self, step: Step, left: Collection[Step], wanted: Collection[str], progress: Progress
    ) -> Iterator[Written]:
        """Work out a step that is not local, or whose inputs fit in memory."""
        asked = {*wanted, *(r for s in left for r in s.inputs.values())}
        beside = [r for r in step.refs[1:] if r in asked]
        job = self._job(step)
        if job is not None and (job.besides or not beside):
            try:
                yield from self._whole(step, job, beside, progress)
                return
            except NotInTilesError:
                self._held.pop(step.id, None)
        for ref, find in self._in_memory(step, [step.id, *beside], progress):
            yield from self._given(ref, find)

    def _given(
        self, ref: str, find: Callable[[], Outcome], warnings: tuple[str, ...] | None = None
    ) -> Iterator[Written]:
        """A result in memory, with its own warnings where no others are given; none where it stands beside a
        main one and is refused.
        """
        try:
            outcome = find()
        except StoppedError:
            raise
        except MossError as error:
            if not split(ref)[1]:
                raise
            self.refused[ref] = error
            return
        self._there[ref] = replace(outcome, beside={})
        told = outcome.warnings if warnings is None else warnings
        yield Written(ref, outcome.findings, told, outcome)

    @property
    def _tiled(self) -> dict[str, OnDisk | Passing]:
        """Grids that lie on the disk, and those that pass."""
        return {**self._held, **self._passing}

    def _job(self, step: Step) -> Whole | None:
        """The work in tiles on the whole ground that answers a step; None where there is no such way."""
        make, tiled = work_of(step.kind), self._tiled
        gridless = way_of(step.kind).gridless
        if make is None or not (gridless or any(r in tiled for r in step.inputs.values())):
            return None
        if not all(r in tiled or r in self._there for r in step.inputs.values()):
            return None
        fed = {n: tiled[r] if r in tiled else self._there[r].value for n, r in step.inputs.items()}
        came = Came(fed, lambda n: self._origin(step.inputs[n]))
        return make(came, step.declared.checked(step.settings))

    def _whole(
        self, step: Step, job: Whole, beside: Collection[str], progress: Progress
    ) -> Iterator[Written]:
        tiled = self._tiled
        ground = next((r for r in step.inputs.values() if r in tiled), step.id)
        folder = (self._at or self._work) / _plain_name(f"at {ground}")
        if folder not in self._begun:
            self._begun.add(folder)
            begin_or_go_on(folder)
        target = self.begin(step.id, job.like, job.frame) if job.like is not None else None
        told = job.run(self._crew, target, folder, self._cells, progress.part(0.0, 0.9))
        if told.outcome is not None:
            self._there[step.id] = replace(told.outcome, beside={})
        if told.summary is not None:
            self._level(step.id, told.summary)
        if target is not None:
            target.gather(progress.part(0.9, 1.0))
        self.wrong.update(dict.fromkeys(told.wrong))
        file = None if target is None else target.path
        likes = {n: like(tiled[r]) for n, r in step.inputs.items() if r in tiled}
        warnings = (*told.warnings, *taken_of(step.declared, likes))
        yield Written(step.id, told.findings, warnings, told.outcome, file)
        for ref in beside:
            name = split(ref)[1]
            if told.outcome is not None:
                yield from self._given(ref, partial(step.declared.outcome_of, told.outcome, name), warnings)
            elif name in told.beside:
                yield from self._given(ref, told.beside[name])

    def _in_memory(
        self, step: Step, refs: Collection[str], progress: Progress
    ) -> Iterator[tuple[str, Callable[[], Outcome]]]:
        """Run a step as it always runs; what lies on the disk is read as a whole, where that fits."""
        if not any(s.id in self._held for s in self._study.needs([step.id])):
            run = self._engine.run_or_raise
            yield from ((ref, partial(run, self._study, ref, progress)) for ref in refs)
            return
        held = {n: seen_here(self._held[r]) for n, r in step.inputs.items() if r in self._held}
        inputs = {n: self._there[r].value for n, r in step.inputs.items() if r in self._there}
        checked = step.declared.checked(step.settings)
        windows = {n: window_of(step.declared, checked, inputs, h.frame) for n, h in held.items()}
        maps = {n for n, h in held.items() if step.declared.maps and too_large(_bytes_of(h, windows[n]))}
        check_memory(
            sum(_bytes_of(h, windows[n]) for n, h in held.items() if n not in maps),
            f"{step.declared.title} looks at all of the ground at once, which",
            "Crop the ground, or resample it to larger cells, before this step.",
        )
        reading, working = progress.part(0.0, 0.1), progress.part(0.1, 1.0)
        inputs |= {n: taken_over(h, windows[n], n in maps, reading) for n, h in held.items()}

        origins = {n: self._origin(r) for n, r in step.inputs.items()} if step.declared.records else {}
        outcome = run_declared(step.declared, step.settings, inputs, working, origins)
        if any(common_frame({"grid": inputs[n]}) != h.frame for n, h in held.items()):
            outcome = said_of_part(step.declared, outcome)
        yield from ((ref, partial(step.declared.outcome_of, outcome, split(ref)[1])) for ref in refs)

    def _origin(self, ref: str) -> Origin:
        self._looking.result()
        return self._engine.origin(self._study, ref)

    def begin(self, ref: str, sample: Value, frame: Frame) -> TiledFile:
        """The file of a result that is filled in tile by tile: the one of an earlier run, or one laid out
        now. ``sample`` is a value such as it will hold.
        """
        kind = kind_of(sample)
        plain = _about(sample)
        path, note = self._work / f"{_plain_name(ref)}.tif", self._work / f"{_plain_name(ref)}.json"
        if kind.tiled is None:
            raise MossError(f"{self._study.name_of(ref)} is no grid, and has no tiles.")
        dtype = cells_of(sample).dtype
        target = reopened(note, path, frame, dtype)
        if target is None:
            path.unlink(missing_ok=True)
            target = kind.tiled(path, plain, frame, dtype, self._study.name_of(ref), "")
            write_text(note, note_of(target))
        if self._at is not None:
            target = written_at(target, self._at / _grid_name(ref))
        self._held[ref] = OnDisk(source_of(target), kind.name, plain)
        return target


def _about(sample: Value) -> dict[str, Any]:
    """What is known of a grid but its cells and its frame."""
    return {n: v for n, v in kind_of(sample).parts(sample)[0].items() if n != "frame"}


def _plain_name(ref: str) -> str:
    return file_name(ref.replace(".", "_"))


def _grid_name(ref: str) -> str:
    """The folder of a grid at an address, beside those for arrays."""
    return f"grid-{_plain_name(ref)}"


def _bytes_of(held: OnDisk, window: tuple[slice, slice]) -> int:
    rows, cols = window
    return int((rows.stop - rows.start) * (cols.stop - cols.start) * held.source.dtype.itemsize)

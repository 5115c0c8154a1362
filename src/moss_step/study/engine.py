"""Running a study: results kept under the hash of all that they came from, so that nothing is worked out
twice.
"""

from __future__ import annotations

import hashlib
import json
import logging
import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from typing import Literal, NamedTuple

from moss_step.formats.source import members
from moss_step.formats.vector import split_layer
from moss_step.formats.whole import check_readable
from moss_step.model.errors import MossError, StoppedError, fault_text
from moss_step.model.memory import give_back
from moss_step.model.origin import Origin
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress, silent
from moss_step.study.declared import InTiles, run_declared
from moss_step.study.graph import Step, Study, split, step_of
from moss_step.study.shelf import Shelf
from moss_step.study.sources import Sources
from moss_step.study.store import Said, Store

State = Literal["done", "waiting", "failed"]
RESULT_VERSION = "6"
"""Part of every hash; raise it when a method changes its numbers."""

_KEPT_STUDIES = 6
WORTH_SHELVING, SHELF_SPEED = 0.2, 3e8
"""Results that took more seconds than these, and longer than a disk of so many bytes a second takes to write
and read them, go to the shelf.
"""


_log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Failure:
    """Why a step has no result."""

    reason: str
    on_screen: str
    """The same in the words of the window."""
    missing_source: str = ""


class Run(NamedTuple):
    """What is asked of one run; see ``Engine.run``."""

    study: Study
    targets: set[str]
    wanted: set[str]
    passing: set[str]
    began: Callable[[str], None] | None
    ready: Callable[[str, Outcome], None] | None

    @property
    def steps(self) -> list[Step]:
        """All steps that targets need, in the order in which they feed one another."""
        return self.study.needs(self.targets)


class Engine:
    """Keeps results by hash, in memory and on a shelf where there is one, and runs what is missing. Safe to
    ask from several threads.
    """

    def __init__(
        self, most_bytes: int | None = None, shelf: Shelf | None = None, in_tiles: InTiles | None = None
    ) -> None:
        """``in_tiles`` works out steps on grounds that are too large for memory."""
        self._in_tiles = in_tiles
        self.store, self._shelf = Store(most_bytes), shelf
        self._shelving = ThreadPoolExecutor(1)
        self._failures: dict[str, Failure] = {}
        self.sources = Sources()
        self._in_use: dict[int, set[str]] = {}
        self._keys: OrderedDict[int, tuple[Study, int, dict[str, str | None]]] = OrderedDict()
        self._hashed: dict[str, tuple[Step, tuple[object, ...], str]] = {}
        self._lock = threading.Lock()
        self._running: set[str] = set()
        self._ended = threading.Condition()

    def key(self, study: Study, ref: str) -> str | None:
        """Hash of a result with all that feeds it, as its sources were looked at last; None while one was
        not, or cannot be read.
        """
        return _key_in(self._keys_of(study), ref)

    def prepare(self, study: Study) -> None:
        """Work out what the window asks for at every turn: keys and names of all steps. For another thread,
        where there are many.
        """
        if self._keys_of(study):
            study.name_of(study.steps[0].id)  # all names are made with the first
            study.refs(asked=False)

    def look(self, study: Study, targets: Iterable[str], progress: Progress | None = None) -> bool:
        """Look at the source files that targets need; tells whether one is another than before. Not for the
        window's own thread.
        """
        before = self.sources.version
        for step in study.needs(targets):
            for file in step.files:
                self.sources.look(file, progress)
        return self.sources.version != before

    def _keys_of(self, study: Study) -> dict[str, str | None]:
        """Keys of all steps, worked out once a study in the order in which they feed one another."""
        with self._lock:
            kept = self._keys.get(id(study))
        if kept is not None and kept[0] is study and kept[1] == self.sources.version:
            return kept[2]
        version, keys = self.sources.version, dict[str, str | None]()
        for step in study.in_order():
            keys[step.id] = self._key(step, keys, _names_told(study, step))
        with self._lock:
            self._keys[id(study)] = (study, version, keys)
            self._keys.move_to_end(id(study))
            while len(self._keys) > _KEPT_STUDIES:
                self._keys.popitem(last=False)
        return keys

    def _key(self, step: Step, keys: Mapping[str, str | None], names: list[str]) -> str | None:
        fed = [
            (name, _key_in(keys, ref)) for name, ref in step.inputs.items()
        ]  # in their order: of grids to merge the first one counts
        files = {n: self.sources.digest(str(step.settings.get(n, ""))) for n in step.declared.file_settings}
        if any(part is None for _, part in fed) or None in files.values():
            return None
        last = self._hashed.get(step.id)
        if last is not None and last[0] is step and last[1] == (fed, files, names):
            return last[2]  # of thousands of steps a change leaves most as they are
        settings = {n: v for n, v in step.settings.items() if n not in files}
        parts = [RESULT_VERSION, step.kind, settings, files, fed, *([names] if names else [])]
        text = json.dumps(parts, sort_keys=True)
        key = hashlib.blake2b(text.encode("utf-8", "backslashreplace"), digest_size=16).hexdigest()
        self._hashed[step.id] = step, (fed, files, names), key
        return key

    def outcome(self, study: Study, ref: str) -> Outcome | None:
        """Give a result when it is up to date and in memory."""
        return self.store.get(self.key(study, ref))

    def said(self, study: Study, ref: str) -> Said | None:
        """What a result says of itself when it is up to date, whether its value is in memory or not."""
        return self.store.said(self.key(study, ref))

    def all_said(self, study: Study) -> dict[str, Said | None]:
        """What all results say of themselves."""
        keys = self._keys_of(study)
        return {ref: self.store.said(_key_in(keys, ref)) for ref in study.refs()}

    def away(self, study: Study, ref: str) -> bool:
        """Whether a result is up to date and its value was let go."""
        key = self.key(study, ref)
        return key not in self.store and self.store.said(key) is not None

    def failure(self, study: Study, ref: str) -> Failure | None:
        """Say why there is no such result, when it was tried; a step that is no more never was."""
        if not study.has(ref):
            return None
        return self._failures.get(self._place(study, ref)) or self._failures.get(
            self._place(study, step_of(ref))
        )

    def failures(self, study: Study, refs: Iterable[str]) -> dict[str, Failure]:
        """The failures among some results."""
        if not self._failures:
            return {}
        result = {ref: self.failure(study, ref) for ref in refs}
        return {ref: failed for ref, failed in result.items() if failed is not None}

    def state(self, study: Study, ref: str) -> State:
        """Whether a result is done, waiting to be run, or failed."""
        if self.said(study, ref) is not None:
            return "done"
        return "failed" if self.failure(study, ref) else "waiting"

    def run(
        self,
        study: Study,
        targets: Iterable[str],
        progress: Progress | None = None,
        began: Callable[[str], None] | None = None,
        ready: Callable[[str, Outcome], None] | None = None,
        wanted: Collection[str] | None = None,
        passing: Collection[str] = (),
    ) -> None:
        """Bring results up to date with all that they need; what is up to date is left alone, what failed is
        kept as a failure.

        ``began`` hears the id of each step before it runs, ``ready`` gets each target that is in memory then,
        whether it is new or not. ``wanted`` are those whose values are to be in memory at the end, all
        targets when left out; others may lie on the shelf. ``passing`` are steps whose results go first when
        memory is short. Raises StoppedError when stopped.
        """
        progress = progress or silent()
        in_use = self._in_use.setdefault(threading.get_ident(), set())
        targets = list(targets)
        wanted = set(targets if wanted is None else wanted)
        try:
            self.look(study, targets, progress)
            while not self._run_as_planned(
                Run(study, set(targets), wanted, set(passing), began, ready), progress, in_use
            ):
                pass  # a result on the shelf was damaged, and is gone: it is worked out
        finally:
            in_use.clear()
            self.store.trim(self._all_in_use())

    def _plan(self, run: Run) -> tuple[dict[str, set[str]], set[str]]:
        """Steps to be run with the results that are asked of each, and results that are to be read from the
        shelf.
        """
        to_run, to_read, needed, targets = (
            dict[str, set[str]](),
            set[str](),
            set(run.wanted),
            set(run.targets),
        )
        for step in reversed(run.steps):
            for ref in step.refs:
                key = self.key(run.study, ref)
                if key in self.store or not (ref in needed or ref in targets):
                    continue
                size = self._shelf.size_of(key) if self._shelf is not None else None
                if size is not None and (
                    ref in needed or self.store.said(key) is None or self.store.room_for(size)
                ):
                    to_read.add(ref)
                elif ref in needed or self.store.said(key) is None:
                    to_run.setdefault(step.id, set()).add(ref)
            if step.id in to_run:
                needed.update(step.inputs.values())
        return to_run, to_read

    def _run_as_planned(self, run: Run, progress: Progress, in_use: set[str]) -> bool:
        """Run and read what is missing; says whether all that was to be read could be."""
        in_use.update(
            filter(None, (self.key(run.study, ref) for step in run.steps for ref in step.refs))
        )  # nothing goes while it is planned
        to_run, to_read = self._plan(run)
        waiting = Counter(ref for step in run.steps if step.id in to_run for ref in step.inputs.values())
        waiting.update(i for i in run.wanted if run.study.has(i))
        in_use.intersection_update(filter(None, (self.key(run.study, i) for i in waiting)))
        for step in run.steps:
            asked, passing = to_run.get(step.id, set()), step.id in run.passing
            reads = [ref for ref in step.refs if ref in to_read]
            with self._alone(self.key(run.study, step.id) if asked or reads else None, progress):
                for ref in reads:
                    if self.outcome(run.study, ref) is None and not self._take_from_shelf(
                        self.key(run.study, ref), passing, progress
                    ):
                        return False
                if any(self.outcome(run.study, ref) is None for ref in asked):
                    if run.began:
                        run.began(step.id)
                    self._run_one(run.study, step, asked, progress, passing)
            self._hand_over(run, step, passing)
            if asked:
                self._done_with(run.study, step, waiting, in_use)
        return True

    def _hand_over(self, run: Run, step: Step, passing: bool) -> None:
        """Hand the results of a step on that are in memory now."""
        for ref in step.refs:
            if not passing:
                self.store.settle(self.key(run.study, ref))
            outcome = self.outcome(run.study, ref) if run.ready and ref in run.targets else None
            if run.ready and outcome is not None:
                run.ready(ref, outcome)

    def _done_with(self, study: Study, step: Step, waiting: Counter[str], in_use: set[str]) -> None:
        """Inputs that no further step of a run waits for may go when memory is short."""
        for ref in step.inputs.values():
            waiting[ref] -= 1
            if waiting[ref] <= 0:
                in_use.discard(self.key(study, ref) or "")
        self.store.trim(self._all_in_use())

    def _take_from_shelf(self, key: str | None, passing: bool, progress: Progress) -> bool:
        start = time.monotonic()
        progress.at(0.0, "Fetching a result that was kept")
        outcome = self._shelf.read(key) if self._shelf is not None and key is not None else None
        if outcome is None or key is None:
            return False
        self.store.put(key, outcome, time.monotonic() - start, passing)
        self.store.trim(self._all_in_use() | {key})
        return True

    def _all_in_use(self) -> set[str]:
        return set().union(*self._in_use.values())

    @contextmanager
    def _alone(self, key: str | None, progress: Progress) -> Iterator[None]:
        """Work out one result in one thread at a time: who asks for it meanwhile waits, and finds it done.

        Raises StoppedError when stopped while it waits.
        """
        if key is None:
            yield
            return
        with self._ended:
            while key in self._running:
                self._ended.wait(0.1)
                progress.at(0.0, "Waiting for the same result")
            self._running.add(key)
        try:
            yield
        finally:
            with self._ended:
                self._running.discard(key)
                self._ended.notify_all()

    def run_or_raise(self, study: Study, target: str, progress: Progress | None = None) -> Outcome:
        """Run one target and give its result.

        Raises MossError with the reason when it or something it needs failed.
        """
        self.run(study, [target], progress)
        outcome = self.outcome(study, target)
        if outcome is not None:
            return outcome
        for ref in dict.fromkeys((*(step.id for step in study.needs([target])), target)):
            failed = self.failure(study, ref)
            if failed:
                raise MossError(f"{study.name_of(ref)}: {failed.reason}")
        raise MossError(f"{study.name_of(target)} has no result.", "Free some memory and try again.")

    def forget_failures(self) -> None:
        """Let failed steps be tried again."""
        self._failures.clear()

    def _run_one(
        self, study: Study, step: Step, asked: Collection[str], progress: Progress, passing: bool
    ) -> None:
        """Run a step, and work out its results beside the main one: those that are usual, and those that are
        asked for.
        """
        start = time.monotonic()
        main = self._tried(study, step.id, lambda: self._main_result(study, step, progress))
        if main is None:
            return
        self._keep(study, step.id, main, time.monotonic() - start, passing)
        for spec in step.declared.beside:
            ref = f"{step.id}.{spec.name}"
            if not spec.asked or ref in asked:
                outcome = self._tried(study, ref, partial(step.declared.outcome_of, main, spec.name))
                if outcome is not None:
                    self._keep(study, ref, outcome, time.monotonic() - start, passing)

    def _main_result(self, study: Study, step: Step, progress: Progress) -> Outcome:
        if self.key(study, step.id) is None:
            self._check_sources(study, step)
        inputs = {n: self._value(study, ref) for n, ref in step.inputs.items()}
        before = [self.sources.digest(f) for f in step.files]
        origins = {n: self.origin(study, ref) for n, ref in step.inputs.items() if step.declared.records}
        result = run_declared(step.declared, step.settings, inputs, progress, origins, self._in_tiles)
        if before != [self.sources.look(f, progress) for f in step.files]:
            raise MossError(f"{step.files[0]} changed while it was read.", "Run the step again.")
        return result

    def origin(self, study: Study, ref: str) -> Origin:
        """What a result is called, and the files that it came from."""
        files = dict.fromkeys(f for step in study.needs([ref]) for f in step.files)
        held = tuple((split_layer(f)[0].name, self.sources.digest(f) or "") for f in files)
        return Origin(study.name_of(ref), held)

    def _tried(self, study: Study, ref: str, work: Callable[[], Outcome]) -> Outcome | None:
        """What some work gives; None when it failed, and why is kept in the place of its result."""
        at, step = self._place(study, ref), study.step(ref)
        try:
            result = work()
        except StoppedError:
            raise
        except MossError as error:
            missing = (
                str(step.settings.get("source", ""))
                if self.key(study, ref) is None and step.declared.file_settings
                else ""
            )
            self._failures[at] = Failure(str(error), error.on_screen(step.declared.words_of), missing)
        except Exception as error:  # a fault of our own must show on its card, not end the window
            _log.exception("step %s failed", step.kind)
            self._failures[at] = Failure(fault_text(error), fault_text(error))
        else:
            self._failures.pop(at, None)
            return result
        return None

    def _value(self, study: Study, ref: str) -> Value:
        outcome = self.outcome(study, ref)
        if outcome is None:
            raise MossError(f"'{study.name_of(ref)}' has no result to work from.", "See its card.")
        return outcome.value

    def _check_sources(self, study: Study, step: Step) -> None:
        for file in step.files:
            path = split_layer(file)[0]
            for one in members(path) or [path]:
                check_readable(one)
        for ref in step.inputs.values():
            self._value(study, ref)

    def _keep(self, study: Study, ref: str, outcome: Outcome, seconds: float, passing: bool) -> None:
        key = self.key(study, ref)
        if key is None or key in self.store:
            return
        outcome = replace(outcome, beside={}, lying={})  # they hold on to all that they are made of
        self.store.put(key, outcome, seconds, passing)
        if (
            self._shelf is not None
            and not passing
            and seconds > max(WORTH_SHELVING, outcome.value.nbytes / SHELF_SPEED)
        ):
            self._shelving.submit(self._shelf.write, key, outcome)
        self.store.trim(self._all_in_use() | {key})

    def close(self) -> None:
        """Wait for what is being written to the shelf; nothing else is begun."""
        self._shelving.shutdown(wait=True, cancel_futures=True)

    def file_hash(self, source: str) -> str | None:
        """Give the digest of a source's files when they were looked at."""
        return self.sources.digest(source)

    def keep_only(self, study: Study) -> None:
        """Let go of all results that a study does not hold, and give their memory back."""
        keys = self._keys_of(study)
        kept = {k for ref in study.refs() if (k := _key_in(keys, ref)) is not None}
        self._hashed = {i: last for i, last in self._hashed.items() if study.has(i)}
        self.store.keep_only(kept)
        give_back()

    def fail(self, study: Study, ref: str, reason: str) -> None:
        """Keep a failure that came after a step's own work, such as while its picture was made."""
        at = self._place(study, ref)
        self.store.drop(at)
        self._failures[at] = Failure(reason, reason)

    def _place(self, study: Study, ref: str) -> str:
        """Where the failure of a result is kept: under its key, or under its step's settings while its
        sources have none.
        """
        return self.key(study, ref) or f"{ref}:{study.step(ref).settings}"


def _key_in(keys: Mapping[str, str | None], ref: str) -> str | None:
    """The key of a result among those of the steps."""
    step_id, name = split(ref)
    key = keys.get(step_id)
    return f"{key}.{name}" if key is not None and name else key


def _names_told(study: Study, step: Step) -> list[str]:
    """What the inputs of a step are called, where its results say so."""
    return [study.name_of(ref) for ref in step.inputs.values()] if step.declared.records else []

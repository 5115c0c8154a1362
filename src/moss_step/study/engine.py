"""Running a study: results kept under the hash of all that they came from, so that nothing is worked out twice."""

from __future__ import annotations

import hashlib
import json
import logging
import os
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

from moss_step.formats.vector import split_layer
from moss_step.formats.whole import check_readable
from moss_step.model.errors import AskedWronglyError, MossError, StoppedError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import UNKNOWN
from moss_step.steps.declare import Outcome, Settings, StepKind, Value
from moss_step.study.graph import Step, Study

State = Literal["done", "waiting", "failed"]
RESULT_VERSION = "2"
"""Part of every hash; raise it when a method changes its numbers."""

METRES_TAKEN = "The height unit is not stated: metres are taken."

_ASK_AGAIN = 0.2
"""Seconds for which a source file is taken as unchanged on the disk."""

_log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Failure:
    """Why a step has no result."""

    reason: str
    missing_source: str = ""


class Engine:
    """Keeps results by hash, up to a number of bytes, and runs what is missing. Safe to ask from several threads."""

    def __init__(self, most_bytes: int = 4_000_000_000) -> None:
        self._most_bytes = most_bytes
        self._results: OrderedDict[str, Outcome] = OrderedDict()
        self._failures: dict[str, Failure] = {}
        self._file_hashes: dict[tuple[str, int, int], str] = {}
        self._in_use: dict[int, set[str]] = {}
        self._asked: tuple[Study | None, float, dict[str, str]] = (None, 0.0, {})
        self._lock = threading.Lock()

    def key(self, study: Study, step_id: str, hash_files: bool = False) -> str | None:
        """Hash of a step with all that feeds it; None while a source file was not hashed yet or cannot be read.

        ``hash_files`` reads the files that are new: not for the window's own thread.
        """
        known = self._known_keys(study)
        if not hash_files and step_id in known:
            return known[step_id]
        step = study.step(step_id)
        fed = {}
        for name, source in step.inputs.items():
            part = self.key(study, source, hash_files)
            if part is None:
                return None
            fed[name] = part
        files = {}
        for name in step.declared.file_settings:
            digest = self._file_hash(str(step.settings.get(name, "")), hash_files)
            if digest is None:
                return None
            files[name] = digest
        settings = {n: v for n, v in step.settings.items() if n not in files}
        layers = {n: split_layer(str(step.settings[n]))[1] for n in files}
        text = json.dumps([RESULT_VERSION, step.kind, settings, files, layers, fed], sort_keys=True)
        known[step_id] = hashlib.blake2b(text.encode(), digest_size=16).hexdigest()
        return known[step_id]

    def _known_keys(self, study: Study) -> dict[str, str]:
        """Keys worked out a moment ago: the window asks for all of them many times at every change."""
        asked, since, known = self._asked
        now = time.monotonic()
        if asked is not study or now - since > _ASK_AGAIN:
            known = {}
            self._asked = (study, now, known)
        return known

    def outcome(self, study: Study, step_id: str) -> Outcome | None:
        """Give a step's result when it is there and up to date."""
        key = self.key(study, step_id)
        with self._lock:
            if key is None or key not in self._results:
                return None
            self._results.move_to_end(key)
            return self._results[key]

    def failure(self, study: Study, step_id: str) -> Failure | None:
        """Say why a step has no result, when it was tried."""
        key = self.key(study, step_id) or f"{step_id}:{study.step(step_id).settings}"
        return self._failures.get(key)

    def state(self, study: Study, step_id: str) -> State:
        """Whether a step is done, waiting to be run, or failed."""
        if self.outcome(study, step_id) is not None:
            return "done"
        return "failed" if self.failure(study, step_id) else "waiting"

    def run(
        self,
        study: Study,
        targets: Iterable[str],
        progress: Progress | None = None,
        told: Callable[[str], None] | None = None,
        made: Callable[[Outcome], None] | None = None,
    ) -> None:
        """Run targets and all that they need; what is up to date is left alone, what failed is kept as a failure.

        ``told`` hears the id of each step before it runs, ``made`` gets each result, whether it is new or not.
        Raises StoppedError when stopped.
        """
        progress = progress or silent()
        in_use = self._in_use.setdefault(threading.get_ident(), set())
        try:
            for step in study.needs(targets):
                key = self.key(study, step.id, hash_files=True)
                if key is not None:
                    in_use.add(key)
                with self._lock:
                    known = key is not None and key in self._results
                if not known:
                    if told:
                        told(step.id)
                    self._run_one(study, step, key, progress)
                outcome = self.outcome(study, step.id)
                if made and outcome is not None:
                    made(outcome)
        finally:
            in_use.clear()
            self._trim()

    def run_or_raise(self, study: Study, target: str, progress: Progress | None = None) -> Outcome:
        """Run one target and give its result.

        Raises MossError with the reason when it or something it needs failed.
        """
        self.run(study, [target], progress)
        outcome = self.outcome(study, target)
        if outcome is not None:
            return outcome
        for step in study.needs([target]):
            failed = self.failure(study, step.id)
            if failed:
                raise MossError(f"{study.name_of(step.id)}: {failed.reason}")
        raise MossError(f"{study.name_of(target)} has no result.", "Free some memory and try again.")

    def forget_failures(self) -> None:
        """Let failed steps be tried again."""
        self._failures.clear()

    def _run_one(self, study: Study, step: Step, key: str | None, progress: Progress) -> None:
        at = key or f"{step.id}:{step.settings}"
        try:
            if key is None:
                self._check_sources(study, step)
            inputs = {n: self._value(study, source) for n, source in step.inputs.items()}
            result = run_declared(step.declared, step.settings, inputs, progress)
        except StoppedError:
            raise
        except MossError as error:
            missing = str(step.settings.get("source", "")) if key is None and step.declared.file_settings else ""
            self._failures[at] = Failure(str(error), missing)
        except Exception as error:  # a fault of our own must show on its card, not end the window
            _log.exception("step %s failed", step.kind)
            reason = f"This went wrong inside Moss Step ({type(error).__name__}: {error}). Other steps are not touched."
            self._failures[at] = Failure(reason)
        else:
            self._failures.pop(at, None)
            if key is not None:
                self._keep(key, result)

    def _value(self, study: Study, step_id: str) -> Value:
        outcome = self.outcome(study, step_id)
        if outcome is None:
            raise MossError(f"'{study.name_of(step_id)}' has no result to work from.", "See its card.")
        return outcome.value

    def _check_sources(self, study: Study, step: Step) -> None:
        for name in step.declared.file_settings:
            check_readable(split_layer(str(step.settings.get(name, "")))[0])
        for source in step.inputs.values():
            if self.outcome(study, source) is None:
                raise MossError(f"'{study.name_of(source)}' has no result to work from.", "See its card.")

    def _keep(self, key: str, outcome: Outcome) -> None:
        with self._lock:
            self._results[key] = outcome
        self._trim()

    def _trim(self) -> None:
        """Drop the results used longest ago until the rest fits; never those of a run that still goes on."""
        with self._lock:
            needed = set().union(*self._in_use.values())
            size = sum(o.value.nbytes for o in self._results.values())
            for key in [k for k in self._results if k not in needed]:
                if size <= self._most_bytes or len(self._results) == 1:
                    break
                size -= self._results.pop(key).value.nbytes

    def _file_hash(self, source: str, read: bool) -> str | None:
        path = source if os.path.exists(source) else str(split_layer(source)[0])  # noqa: PTH110 - asked very often
        try:
            about = os.stat(path)  # noqa: PTH116
            at = (path, about.st_size, about.st_mtime_ns)
            if at not in self._file_hashes and read:
                with open(path, "rb") as file:  # noqa: PTH123
                    self._file_hashes[at] = hashlib.file_digest(file, "blake2b").hexdigest()
        except OSError:
            return None  # the run itself says what is wrong with the file
        return self._file_hashes.get(at)

    def file_hash(self, source: str) -> str | None:
        """Give the hash of a source's content when it was read."""
        return self._file_hash(source, read=False)


def run_declared(step: StepKind, settings: Mapping[str, Any] | Settings, inputs: dict[str, Value], progress: Progress) -> Outcome:
    """Check settings and inputs against a declaration, then run it.

    Raises AskedWronglyError when an input is missing or of another kind.
    """
    checked = step.checked(dict(settings))
    for spec in step.inputs:
        value = inputs.get(spec.name)
        if value is None and not spec.optional:
            raise AskedWronglyError(f"{step.kind} needs {spec.name}.", f"Give {spec.name}=...")
        if value is not None and not spec.takes(value):
            what = getattr(value, "quantity", type(value).__name__.lower())
            wanted = spec.quantity or spec.accepts
            raise AskedWronglyError(f"{spec.name} must be {wanted}, and this is {what}.", "Choose another input.")
    if step.further is not None:
        declared = {i.name for i in step.inputs}
        for name in [n for n in inputs if n not in declared]:
            if not step.further.takes(inputs[name]):
                raise AskedWronglyError(f"{name} must be {step.further.accepts}.", "Choose another input.")
    for name, why in step.idle(checked, inputs).items():
        raise AskedWronglyError(f"{name} counts {why}.", f"Leave {name} out, or change the other.")
    outcome = step.run(checked, inputs, progress)
    return replace(outcome, warnings=tuple(dict.fromkeys((*outcome.warnings, *_taken(step, inputs)))))


def _taken(step: StepKind, inputs: Mapping[str, Value]) -> tuple[str, ...]:
    """What is taken of heights whose unit is not stated: said on every result that is worked out from them."""
    heights = [s.name for s in step.inputs if s.quantity == "elevation"]
    unknown = any(isinstance(v := inputs.get(n), Surface) and v.unit == UNKNOWN for n in heights)
    return (METRES_TAKEN,) if unknown else ()

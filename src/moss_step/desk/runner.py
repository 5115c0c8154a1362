"""Running steps outside the window's thread, newest wish first, with progress, time left and stop."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Collection
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import wait as wait_for
from typing import NamedTuple, TypeVar

from PySide6.QtCore import QEventLoop, QObject, QTimer, Signal

from moss_step.desk.plan.paths import packer
from moss_step.desk.worker import NewestWins
from moss_step.model.errors import MossError, StoppedError, fault_text
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.scene.pictures import prepared_picture, ready_picture
from moss_step.study.engine import Engine
from moss_step.study.graph import Study

T = TypeVar("T")
_log = logging.getLogger(__name__)
_TELL_EVERY, _SHOW_EVERY, _WORK_BETWEEN = 0.05, 1.0, 4.0
"""Seconds between two reports, and between two pictures of what there is so far; and how many times longer
than a picture took is worked before the next.
"""
_LONGEST_LOOK, _LONGEST_TURN = 0.3, 0.05
_LONGEST_WAIT = 0.02
"""Seconds that the window waits for a thread without painting."""


class Helper(QObject):
    """One thread that does one thing after another: questions whose answers a panel waits for, or all that
    touches files.
    """

    _answered = Signal(object)
    _ended = Signal()
    moved = Signal(float, str)
    """How far a long question is, and what it does."""
    rests = Signal()
    """A long question has its answer."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1)
        self._long: Progress | None = None
        self._closed = False
        self.waiting = 0
        self._answered.connect(self._deliver)

    def ask(self, question: Callable[[], T], then: Callable[[T | MossError], object]) -> None:
        """Work a question out; ``then`` gets the answer, or the refusal, in the window's thread.

        After the end nothing is answered any more.
        """
        if self._closed:
            return
        self.waiting += 1

        def work() -> None:
            answer = _answer_of(question)
            self._answered.emit(lambda: then(answer))

        self._pool.submit(work)

    def ask_long(self, question: Callable[[Progress], T], then: Callable[[T | MossError], object]) -> None:
        """Work a long question out: it reports, and ends when it is stopped."""
        progress = self._long = Progress(self.moved.emit)

        def told(answer: T | MossError) -> None:
            self.rests.emit()
            then(answer)

        self.ask(lambda: question(progress), told)

    def stop(self) -> None:
        """Stop the long question."""
        if self._long is not None:
            self._long.stop()

    def now(self, question: Callable[[], T]) -> T:
        """Give the answer of a question when it is there: the window is painted meanwhile, and what the
        person does waits its turn.

        Raises MossError where the question is refused.
        """
        self.waiting += 1
        future = self._pool.submit(_answer_of, question)
        wait_for([future], _LONGEST_WAIT)
        loop = QEventLoop()
        self._ended.connect(loop.quit)
        future.add_done_callback(lambda _: self._ended.emit())
        while not future.done():
            loop.exec(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)
        self.waiting -= 1
        answer = future.result()
        if isinstance(answer, MossError):
            raise answer
        return answer

    def close(self, forget: bool = True) -> None:
        """Wait for the thread to end; ``forget`` what it has not begun."""
        self._closed = True
        self._pool.shutdown(wait=True, cancel_futures=forget)

    def _deliver(self, answer: Callable[[], object]) -> None:
        self.waiting -= 1
        answer()


def _answer_of(question: Callable[[], T]) -> T | MossError:
    try:
        return question()
    except MossError as error:
        return error
    except Exception as error:
        _log.exception("a question failed")
        return MossError(fault_text(error))


class Wish(NamedTuple):
    """Results of a study that are to be up to date, and those whose values are wanted in memory."""

    study: Study
    targets: list[str]
    wanted: Collection[str]


class Lane(QObject):
    """One thread that runs the newest wish; a wish that no longer needs what is running stops it."""

    began = Signal(str)
    moved = Signal(str, float, str, float)
    ended = Signal()
    _waiting = Signal()

    def __init__(
        self,
        engine: Engine,
        parent: QObject | None = None,
        passing: Collection[str] = (),
        look: Callable[[Study, Progress], bool] | None = None,
        take: Callable[[str, Value], None] | None = None,
    ) -> None:
        """``look`` is called in the thread before a wish is run, and says whether there is something to be
        drawn already; ``take`` gets what the step that runs has so far.
        """
        super().__init__(parent)
        self._engine, self._passing, self._look, self._take = engine, passing, look, take
        self._worker: NewestWins[Wish] = NewestWins(self._answer, self._failed, self.ended.emit)
        self._lock = threading.Lock()
        self._progress: Progress | None = None
        self._running: tuple[Study, str] | None = None
        self._seen = threading.Event()
        self._waiting.connect(lambda: QTimer.singleShot(0, self._seen.set))

    @property
    def busy(self) -> bool:
        """Whether something runs or waits to."""
        return self._worker.busy

    @property
    def running_step(self) -> str:
        """Id of the step that runs now; empty when none does."""
        running = self._running
        return running[1] if running else ""

    def wish(self, study: Study, targets: list[str], wanted: Collection[str] = ()) -> None:
        """Ask for targets of a study, and for the values of those that are ``wanted``; replaces what was
        asked before.
        """
        with self._lock:
            if self._progress is not None and not self._still_wanted(study, targets):
                self._progress.stop()
        self._worker.wish(Wish(study, targets, wanted))

    def stop(self) -> None:
        """Stop what runs and forget what waits."""
        self._worker.forget()
        with self._lock:
            if self._progress is not None:
                self._progress.stop()

    def close(self) -> None:
        """Stop and wait for the thread to end."""
        self.stop()
        self._worker.close()

    def _still_wanted(self, study: Study, targets: list[str]) -> bool:
        if self._running is None:
            return True
        old, step_id = self._running
        if not study.has(step_id) or all(s.id != step_id for s in study.needs(targets)):
            return False
        return self._engine.key(study, step_id) == self._engine.key(old, step_id)

    def _answer(self, wish: Wish) -> None:
        with self._lock:
            self._progress = progress = Progress(self._teller(), self._shower())
        try:
            self._run(wish, progress)
        except StoppedError:
            pass  # a stopped step simply waits again; its card says so
        finally:
            with self._lock:
                self._progress, self._running = None, None
        self.ended.emit()

    def _failed(self, wish: Wish, error: BaseException) -> None:
        """A fault outside a step: the cards of what was to be run say so, unless they have a result."""
        study = wish.study
        for ref in wish.targets:
            if study.has(ref) and self._engine.said(study, ref) is None:
                self._engine.fail(study, ref, fault_text(error))
        self.ended.emit()

    def _run(self, wish: Wish, progress: Progress) -> None:
        def began(step_id: str) -> None:
            self._running = (wish.study, step_id)
            self.began.emit(step_id)

        def ready(ref: str, outcome: Outcome) -> None:
            if ready_picture(outcome.value) is not None:
                return
            try:
                prepared_picture(outcome.value)
                packer()
            except Exception as error:
                _log.exception("a picture could not be made")
                self._engine.fail(wish.study, ref, fault_text(error))
            self.ended.emit()  # it can be drawn at once, whatever else is to be run
            self._give_way(_LONGEST_LOOK)

        if self._look is not None and self._look(wish.study, progress.part(0.0, 0.0)):
            self.ended.emit()
        self._engine.run(wish.study, wish.targets, progress, began, ready, wish.wanted, self._passing)

    def _give_way(self, at_most: float) -> None:
        """Wait until the window has done what it has to do: it shares the interpreter with this thread."""
        self._seen.clear()
        self._waiting.emit()
        self._seen.wait(at_most)

    def _shower(self) -> Callable[[Callable[[], Value]], None]:
        due = [0.0]

        def show(make: Callable[[], Value]) -> None:
            running, start = self.running_step, time.monotonic()
            if self._take is None or not running or start < due[0]:
                return
            self._take(running, make())
            self.ended.emit()
            self._give_way(_LONGEST_TURN)
            now = time.monotonic()
            due[0] = now + max(_SHOW_EVERY, _WORK_BETWEEN * (now - start))

        return show

    def _teller(self) -> Callable[[float, str], None]:
        start, last = time.monotonic(), [0.0]

        def tell(fraction: float, doing: str) -> None:
            now = time.monotonic()
            if now - last[0] >= _TELL_EVERY or fraction >= 1.0:
                last[0] = now
                left = (now - start) * (1.0 - fraction) / fraction if fraction > 0.02 else -1.0
                self.moved.emit(self.running_step, fraction, doing, left)
                self._give_way(_LONGEST_TURN)

        return tell

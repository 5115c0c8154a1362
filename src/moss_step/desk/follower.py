"""Answers to what follows the pointer or a slider: small ones at once, larger ones in a thread, the newest
question first.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar

from PySide6.QtCore import QObject, Signal

from moss_step.desk.worker import NewestWins
from moss_step.model.errors import MossError, fault_text

T = TypeVar("T")
LARGE = 200_000
"""Cells that are worth a thread: the window must not wait for more than a picture of the screen takes, 33 ms.
"""
_log = logging.getLogger(__name__)


class _Question(NamedTuple):
    number: int
    work: Callable[[], Any]
    then: Callable[[Any], object]


class Follower(QObject):
    """Keeps the window free while the pointer moves over a large ground; an answer that comes late is still
    shown until a newer one is there.
    """

    _answered = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._worker: NewestWins[_Question] = NewestWins(self._answer, lambda *_: None)
        self._asked = self._shown = 0
        self._answered.connect(self._deliver)
        self._waiting = 0

    @property
    def busy(self) -> bool:
        """Whether an answer is under way."""
        return self._worker.busy or self._waiting > 0

    def ask(self, work: Callable[[], T], then: Callable[[T | MossError], object], cells: int) -> None:
        """Work an answer out that takes some cells to look at; ``then`` gets it, or the refusal, in the
        window's thread.
        """
        self._asked += 1
        question = _Question(self._asked, work, then)
        if cells <= LARGE and not self.busy:
            self._shown = self._asked
            then(_answered(work))
        else:
            self._worker.wish(question)

    def drop(self) -> None:
        """Let go of all questions: the pointer left, or the panel did."""
        self._worker.forget()
        self._shown = self._asked

    def close(self) -> None:
        """Wait for the thread to end."""
        self._worker.close()

    def _answer(self, question: _Question) -> None:
        self._waiting += 1
        self._answered.emit((question, _answered(question.work)))

    def _deliver(self, delivered: tuple[_Question, Any]) -> None:
        self._waiting -= 1
        question, answer = delivered
        if question.number > self._shown:
            self._shown = question.number
            question.then(answer)


def _answered(work: Callable[[], T]) -> T | MossError:
    try:
        return work()
    except MossError as error:
        return error
    except (MemoryError, ArithmeticError, LookupError, ValueError) as error:
        _log.exception("an answer could not be worked out")
        return MossError(fault_text(error))

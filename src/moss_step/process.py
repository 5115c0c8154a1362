"""What the program does with signals and with standard error, on which only its own lines may come."""

from __future__ import annotations

import logging
import os
import signal
import sys
import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from types import TracebackType
from typing import Any, NoReturn

from moss_step.model.errors import MossError

_log = logging.getLogger("moss_step")


class EndedError(BaseException):
    """The program was asked to end by a signal.

    Not Python's own KeyboardInterrupt: one that comes while a library is made out of text ends the program
    without its exit code.
    """

    def __init__(self, number: int) -> None:
        super().__init__(number)
        self.number = number


def end_by_word() -> None:
    """Have signals that ask the program to end raise EndedError, unless they are to be ignored. Only the main
    thread gets signals.
    """
    if threading.current_thread() is not threading.main_thread():
        return
    for number in (signal.SIGTERM, signal.SIGINT):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _end)


class Noted:
    """Signals that ask the program to end, while they are noted only: what is told of them ends at its next
    report.
    """

    def __init__(self) -> None:
        self.number = 0
        self._stops: list[Callable[[], object]] = []

    def note(self, number: int, _frame: object) -> None:
        """Take a signal; a second one ends the program at once."""
        if self.number:
            signal.signal(number, signal.SIG_DFL)
            signal.raise_signal(number)
        self.number = number
        for stop in self._stops:
            stop()

    def tell(self, stop: Callable[[], object]) -> None:
        """Have something called when a signal comes, or at once if one came."""
        self._stops.append(stop)
        if self.number:
            stop()


@contextmanager
def noting_signals() -> Iterator[Noted]:
    """Have the signals of ``end_by_word`` noted alone, and raise EndedError at the end of the block, however
    it ends: the library of the window ends the program where an exception comes up while it begins.
    """
    noted, before = Noted(), dict[int, Any]()
    if threading.current_thread() is threading.main_thread():
        for number in (signal.SIGTERM, signal.SIGINT):
            if signal.getsignal(number) is _end:
                before[number] = signal.signal(number, noted.note)
    try:
        yield noted
    except MossError:
        if not noted.number:
            raise
    finally:
        for one, usual in before.items():
            signal.signal(one, usual)
    if noted.number:
        raise EndedError(noted.number)


def end_at_once() -> None:
    """Have such signals end the program at once, as for a window: an exception cannot pass through its
    events.
    """
    for number in (signal.SIGTERM, signal.SIGINT):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, signal.SIG_DFL)


def _end(number: int, _frame: object) -> NoReturn:
    raise EndedError(number)


def stand_in_for_closed() -> None:
    """Where standard output or error was closed by the caller, have what is written there go nowhere.

    Else the next file that is opened would take its number, and be written into.
    """
    for number, name in ((1, "stdout"), (2, "stderr")):
        try:
            os.fstat(number)
        except OSError:
            nowhere = os.open(os.devnull, os.O_WRONLY)
            if nowhere != number:
                os.dup2(nowhere, number)
                os.close(nowhere)
            setattr(sys, name, os.fdopen(number, "w", encoding="utf-8", closefd=False))


def keep_to_ourselves() -> None:
    """Standard error is ours alone: what code of the libraries writes there by itself, such as on a full
    disk, goes nowhere.
    """
    ours = os.dup(2)
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    sys.stderr = os.fdopen(ours, "w", buffering=1, encoding=sys.stderr.encoding, errors="backslashreplace")


def hush_libraries() -> None:
    """Keep remarks of the libraries off standard error: what matters of them comes as errors, and is said in
    our words.
    """
    warnings.simplefilter("ignore")
    usual = sys.excepthook

    def remark(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        """A raster library's log stumbles over damaged text in its own messages; everything else is shown as
        ever.
        """
        if kind is UnicodeDecodeError:
            _log.debug("a library could not say: %s", error)
        else:
            usual(kind, error, trace)

    sys.excepthook = remark
    sys.unraisablehook = lambda about: _log.debug("a library could not say: %s", about.exc_value)

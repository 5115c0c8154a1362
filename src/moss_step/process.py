"""What the program does with signals and with standard error, on which only its own lines may come."""

from __future__ import annotations

import ctypes
import logging
import os
import signal
import sys
import threading
import warnings
from collections.abc import Callable
from types import TracebackType
from typing import NamedTuple, NoReturn

_DIE_WITH_PARENT = 1  # PR_SET_PDEATHSIG of prctl(2)
_log = logging.getLogger("moss_step")


class EndedError(BaseException):
    """The program was asked to end by a signal.

    Not Python's own KeyboardInterrupt: one that comes while a library is made out of text ends the program without its exit code.
    """

    def __init__(self, number: int) -> None:
        super().__init__(number)
        self.number = number


def end_by_word() -> None:
    """Have signals that ask the program to end raise EndedError, unless they are to be ignored. Only the main thread gets signals."""
    if threading.current_thread() is not threading.main_thread():
        return
    for number in (signal.SIGTERM, signal.SIGINT):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _end)


def end_at_once() -> None:
    """Have such signals end the program at once, as for a window: an exception cannot pass through its events."""
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


class Watched(NamedTuple):
    """How watched work ended: as the child itself, that has done it, or as the one who watched; ``ended_by`` is the signal that ended the child."""

    is_child: bool
    code: int
    ended_by: int = 0


def watched(work: Callable[[], int]) -> Watched:
    """Do work in a child process and wait for its end, so that one that native code ends for want of memory can be told.

    Signals that ask the program to end go on to the child, which ends with this process in any case.
    """
    child = os.fork()  # before any library has begun threads of its own that count
    if child == 0:
        os.setpgid(0, 0)  # what is typed on a terminal reaches it by way of the one who watches
        ctypes.CDLL(None).prctl(_DIE_WITH_PARENT, signal.SIGKILL)
        return Watched(True, work())
    for number in (signal.SIGTERM, signal.SIGINT):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, lambda n, _: os.kill(child, n))
    _, status = os.waitpid(child, 0)
    if os.WIFSIGNALED(status):
        return Watched(False, -os.WTERMSIG(status), os.WTERMSIG(status))
    return Watched(False, os.waitstatus_to_exitcode(status))


def keep_to_ourselves() -> None:
    """Standard error is ours alone: what code of the libraries writes there by itself, such as on a full disk, goes nowhere."""
    ours = os.dup(2)
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    sys.stderr = os.fdopen(ours, "w", buffering=1, encoding=sys.stderr.encoding, errors="backslashreplace")


def hush_libraries() -> None:
    """Keep remarks of the libraries off standard error: what matters of them comes as errors, and is said in our words."""
    warnings.simplefilter("ignore")
    usual = sys.excepthook

    def remark(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        """A raster library's log stumbles over damaged text in its own messages; everything else is shown as ever."""
        if kind is UnicodeDecodeError:
            _log.debug("a library could not say: %s", error)
        else:
            usual(kind, error, trace)

    sys.excepthook = remark
    sys.unraisablehook = lambda about: _log.debug("a library could not say: %s", about.exc_value)

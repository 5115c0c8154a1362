"""When a window has come to rest: for what drives one without a person."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PySide6.QtCore import QAbstractEventDispatcher, QCoreApplication, QEvent, QEventLoop, QObject
from shiboken6 import isValid

from moss_step.desk.parts import Later

if TYPE_CHECKING:
    from moss_step.desk.window import MainWindow

_LONGEST = 600.0
_TURNS = 3
"""Turns without work after which a window rests."""
_MOST = 100
"""Looks for events in a turn: what asks for itself again and again has no end."""


def settle(window: MainWindow, longest: float = _LONGEST) -> bool:
    """Let a window work until nothing runs, and all of it shows what there is; tells whether it came to rest
    within some seconds.
    """
    end = time.monotonic() + longest
    calm, asked = 0, _asked_of(window, window.work)
    while calm < _TURNS and time.monotonic() < end:
        _turn()
        time.sleep(0.002)  # a wait of the test library would keep the threads from running
        left = any(isValid(later) and later.isActive() for later in asked)
        calm = 0 if window.work.busy or left else calm + 1
        if calm == _TURNS and (asked := _asked_of(window, window.work)):
            calm = 0
    return calm == _TURNS


def _turn() -> None:
    """Handle what is due, and what that asks for: a part that changed has those around make room for it only
    then.
    """
    loop = QAbstractEventDispatcher.instance()
    for _ in range(_MOST):
        if not loop.processEvents(QEventLoop.ProcessEventsFlag.AllEvents):
            break
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)  # panels that were left


def _asked_of(*owners: QObject) -> list[Later]:
    """What parts of some owners have asked for that has not come yet. To look through a window takes far
    longer than a turn of it.
    """
    return [later for owner in owners for later in owner.findChildren(Later) if later.isActive()]

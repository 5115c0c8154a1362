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
"""Turns without work and without an event after which a window rests."""


def settle(window: MainWindow, longest: float = _LONGEST) -> bool:
    """Let a window work until nothing runs, and all of it shows what there is; tells whether it came to rest
    within some seconds.
    """
    end = time.monotonic() + longest
    calm, asked = 0, _asked_of(window, window.work)
    while calm < _TURNS and time.monotonic() < end:
        went_on = _turn()
        time.sleep(0.002)  # a wait of the test library would keep the threads from running
        left = any(isValid(later) and later.isActive() for later in asked)
        calm = 0 if went_on or window.work.busy or left else calm + 1
        if calm == _TURNS and (asked := _asked_of(window, window.work)):
            calm = 0
    return calm == _TURNS


def _turn() -> bool:
    """Handle what is due; tells whether anything was: a part that changed may ask those around to make room
    for it only then.
    """
    went_on = QAbstractEventDispatcher.instance().processEvents(QEventLoop.ProcessEventsFlag.AllEvents)
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)  # panels that were left
    return went_on


def _asked_of(*owners: QObject) -> list[Later]:
    """What parts of some owners have asked for that has not come yet. To look through a window takes far
    longer than a turn of it.
    """
    return [later for owner in owners for later in owner.findChildren(Later) if later.isActive()]

"""Looking for garbage in the window's thread alone.

Python looks for it in whichever thread makes the next object. What it lets go of there may be parts of the
window. Fonts, icons and pictures of Qt may be let go of in the window's thread alone: another one ends the
program.
"""

from __future__ import annotations

import gc
import threading

from PySide6.QtCore import QObject, QTimer

_EVERY = 500
"""Milliseconds between two looks."""


class Collector(QObject):
    """Looks from time to time for what Python would have looked for by itself."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self, interval=_EVERY)
        self._timer.timeout.connect(collect_due)
        self._timer.start()


def collect_due() -> None:
    """Look through as many generations of objects as are due, by the thresholds of the interpreter; in other
    threads than the window's nothing is done.
    """
    if gc.isenabled() or threading.current_thread() is not threading.main_thread():
        return
    made, most = gc.get_count(), gc.get_threshold()
    due = [n for n in range(len(most)) if most[n] and made[n] > most[n]]
    if due:
        gc.collect(due[-1])

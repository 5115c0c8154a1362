"""Starting the window."""

from __future__ import annotations

import logging
import os
import sys
from importlib import import_module
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from moss_step.desk import theme
from moss_step.desk.benches.registry import bench_types
from moss_step.desk.collector import Collector
from moss_step.desk.looks.registry import all_looks
from moss_step.desk.plan.tools.registry import tool_types
from moss_step.desk.preferences import Preferences, load
from moss_step.desk.window import MainWindow
from moss_step.desk.window_place import take_place
from moss_step.desk.work import Work
from moss_step.kinds.registry import all_kinds
from moss_step.model.errors import MossError
from moss_step.process import end_at_once
from moss_step.scene.pictures import picture_types
from moss_step.scene.ramps import ramp_names
from moss_step.study.autosave import state_folder


def make_app(dark: bool = False) -> QApplication:
    """Give the application with our look, light or dark, making it when there is none yet."""
    result = QApplication.instance()
    app = result if isinstance(result, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("moss-step")
    app.setApplicationDisplayName("Moss Step")
    app.setDesktopFileName("moss-step")
    app.setWindowIcon(QIcon(str(theme.ASSETS / "moss-step.svg")))
    theme.apply(app, dark)
    if app.findChild(Collector) is None:
        Collector(app)
    for read in (ramp_names, all_looks, all_kinds, picture_types, bench_types, tool_types):
        read()  # here: the window's thread touches no file later
    return app


_LOOK_AHEAD_AFTER = 2000
SCALE = "QT_SCALE_FACTOR"
"""Environment variable that says how much larger than usual all of the window is drawn."""


def scale_text(percent: int) -> None:
    """Have text, and all that must grow with it, drawn larger: before there is an application."""
    if percent != 100:
        os.environ[SCALE] = f"{float(os.environ.get(SCALE) or 1.0) * percent / 100.0:g}"


def _preferred() -> tuple[Preferences, str]:
    """What the person prefers, and why it could not be read."""
    try:
        return load(), ""
    except MossError as error:
        return Preferences(), str(error)


def run(paths: list[Path], demo: bool = False, waits: bool = False) -> int:
    """Open the window on files or the demo; returns when it is closed. A study that ``waits`` is opened with
    nothing run.
    """
    logging.basicConfig(filename=state_folder() / "moss-step.log", level=logging.WARNING)
    # A step's thread then hands over to the window's within a millisecond.
    sys.setswitchinterval(0.001)
    end_at_once()  # the autosave holds what was not saved
    preferences, wrong = _preferred()
    scale_text(preferences.text)
    app = make_app(preferences.window == "dark")
    window = MainWindow(Work(preferences=preferences))
    take_place(window)
    window.show()

    def begin() -> None:
        if demo:
            window.files.open_demo()
        for path in paths:
            window.files.open_path(path, waits)
        window.files.offer_recovery()
        if wrong:
            window.work.message.emit(wrong, True)

    def look_ahead() -> None:
        """Load what the first chart needs, so that the window need not wait for it then."""
        window.work.helper.ask(lambda: import_module("pyqtgraph"), lambda _: None)

    QTimer.singleShot(0, begin)
    QTimer.singleShot(_LOOK_AHEAD_AFTER, look_ahead)
    return app.exec()

"""Compiles every kernel once, by driving the real window off screen: ``python -m moss_step.desk.warm``."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

from moss_step.study.autosave import Autosave

_LONGEST = 600.0


def main() -> None:
    """Open the demo, draw and derive each thing once; what is compiled stays in the cache."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QPointF

    from moss_step.desk.app import make_app
    from moss_step.desk.window import MainWindow
    from moss_step.desk.work import Work
    from moss_step.steps.catalogue import catalogue

    app = make_app()
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"] = folder
        window = MainWindow(Work(autosave=Autosave(Path(folder))))
        window.show()
        window.open_demo()
        settle(app, window)
        window.plan.view.pin(QPointF(300, 300))
        for step_id in [s.id for s in window.work.study.steps]:
            window.work.choose(step_id)
            settle(app, window)
            window.grab()
        for bench in ("shape", "classes"):
            window.work.choose("")
            window.go_to_bench(bench)
        for kind in [k for k, declared in catalogue().items() if not declared.file_settings]:
            window.work.choose("")
            settle(app, window)
            window.begin_step(kind)
            settle(app, window)
            window.grab()
        window.work.close()
    sys.stdout.write("Kernels are compiled.\n")


def settle(app: object, window: object) -> None:
    """Let the window work until nothing runs."""
    end = time.monotonic() + _LONGEST
    calm = 0
    while calm < 5 and time.monotonic() < end:
        app.processEvents()  # type: ignore[attr-defined]
        time.sleep(0.02)
        calm = 0 if window.work.busy else calm + 1  # type: ignore[attr-defined]


if __name__ == "__main__":
    main()

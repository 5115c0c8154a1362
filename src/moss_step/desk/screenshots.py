"""Makes the documentation's pictures from the demo: ``python -m moss_step.desk.screenshots FOLDER``."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from moss_step.desk.warm import settle


def main() -> None:
    """Write one PNG of each main view at 1280 x 800."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as state:
        os.environ["XDG_STATE_HOME"] = state
        from PySide6.QtCore import QPoint, QPointF
        from PySide6.QtTest import QTest

        from moss_step.desk.app import make_app
        from moss_step.desk.window import MainWindow

        app = make_app()
        window = MainWindow()
        window.show()
        work = window.work

        def take(name: str, *actions: Callable[[], object]) -> None:
            for action in actions:
                action()
                settle(app, window)
            window.grab().save(str(folder / f"{name}.png"))

        take("start")
        take("classes", window.open_demo, lambda: QTest.mouseMove(window.plan.view, QPoint(520, 240)))
        take("gather", lambda: work.choose("ground"))
        take("shape", lambda: work.choose(""), lambda: window.begin_step("slope"))
        take("aspect-sectors", lambda: work.choose("sectors"), lambda: window.plan.view.pin(QPointF(360, 300)))
        take("search", lambda: window.search_box.begin(), lambda: window.search_box.setText("steep"))
        take(
            "sheet",
            window.search_box.leave,
            work.undo,
            lambda: work.choose("classes"),
            lambda: window.go_to_bench("sheet"),
        )
        take("keys", window.keys.open)
        work.close()


if __name__ == "__main__":
    main()

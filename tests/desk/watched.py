"""The window used for a while in a process of its own, with every file access and every compilation in the window's thread written down.

``python -m tests.desk.watched FILE`` writes them as JSON: by the interpreter's own audit events (PEP 578) and numba's compiler events.
"""

from __future__ import annotations

import json
import os
import sys
import threading
import traceback
from pathlib import Path

import numba.core.event as compiler

FILES = {
    "open",
    "os.listdir",
    "os.scandir",
    "os.rename",
    "os.remove",
    "os.mkdir",
    "os.rmdir",
    "os.truncate",
    "os.chmod",
    "os.link",
}
ROOT = str(Path(__file__).parents[2])


class Watch(compiler.Listener):
    """Writes down what touches a file, or compiles, in the thread that it was made in, while it is on."""

    def __init__(self) -> None:
        self.on, self.seen = False, []
        self._window = threading.get_ident()
        sys.addaudithook(self._heard)
        compiler.register("numba:compile", self)
        plain = os.stat
        os.stat = lambda *a, **k: self._note("os.stat", str(a[0])) or plain(*a, **k)

    def _heard(self, event: str, args: tuple) -> None:
        if self.on and event in FILES:
            self._note(event, str(args[0]))

    def on_start(self, event) -> None:
        """Of the compiler."""
        self._note("compile", str(event.data["dispatcher"]))

    def on_end(self, event) -> None:
        """Of the compiler."""

    def _note(self, what: str, of: str) -> None:
        if self.on and of and threading.get_ident() == self._window:
            self.on = False
            stack = traceback.extract_stack()
            places = [
                f"{f.filename.removeprefix(ROOT)}:{f.lineno}" for f in stack if "moss_step" in f.filename
            ]
            if all(
                f.name != "feature_imported" for f in stack
            ):  # PySide looks once at the source of each library that is imported
                self.seen.append({"what": what, "of": of, "by": places[-4:]})
            self.on = True


def use(window, app, settle, rest, folder: Path) -> None:
    """What a person does in a while: every step looked at and begun, the block, the section, the table, undo, saving and opening again."""
    from PySide6.QtCore import QPoint, QPointF
    from PySide6.QtTest import QTest

    from moss_step.demo import DATA
    from moss_step.steps.catalogue import catalogue

    window.files.open_demo()
    settle(window)
    window.plan.view.pin(QPointF(300, 300))
    for step_id in [s.id for s in window.work.study.steps]:
        window.work.choose(step_id)
        settle(window)
        QTest.mouseMove(window.plan.view, QPoint(400 + len(step_id), 300))
        window.grab()
    for bench in window.benches:
        window.work.choose("")
        window.go_to_bench(bench)
        settle(window)
        window.grab()
    window.files.new()
    for file in (folder / "coarse.tif", DATA / "harrow_boundary.gpkg", DATA / "harrow_places.gpkg"):
        window.files.open_path(file)
        settle(window)
    for kind in [k for k, declared in catalogue().items() if not declared.file_settings]:
        window.work.choose("")
        window.begin_step(kind)
        settle(window)
        window.grab()
    window.work.set_draft(None)
    window.files.open_demo()
    settle(window)
    window.go_to_bench("sheet")
    pages = window.benches["sheet"].pages
    for layout in ("plan_key", "plan_table", "compared", "figures"):
        pages.begin(layout)
        settle(window)
        window.grab()
    for kind in ("north", "picture", "trail", "section", "chart"):
        pages.add(kind)
        settle(window)
        window.grab()
    pages._set(pages.page.parts[-5].id, "magnetic", True)
    pages._set(pages.page.parts[-4].id, "file", str(folder / "none.png"))
    settle(window)
    window.grab()
    window.work.rename("slope", "Steepness")
    window.work.undo()
    window.work.rename("slope", "Steepness again")
    rest(app, window, 2.5)  # until it is kept
    window.files.save_to(folder / "a.moss")
    window.benches["sheet"].choose("slope")
    window.benches["sheet"].write(folder / "slope.tif")
    window.benches["sheet"].write_record(folder / "slope.txt")
    window.benches["sheet"].write_picture(folder / "plan.png")
    settle(window)
    window.files.new()
    settle(window)
    window.files.open_path(folder / "a.moss")
    settle(window)
    window.files.open_path(folder / "slope.tif")
    settle(window)
    window.search_box.setFocus()
    window.grab()


def main() -> None:
    """Use the window in a folder, and write what was seen."""
    import time

    from moss_step.demo.samples import coarse_ground
    from moss_step.desk.app import make_app
    from moss_step.desk.rest import settle
    from moss_step.desk.window import MainWindow
    from moss_step.formats.raster_write import write_surface

    out = Path(sys.argv[1])
    write_surface(out.parent / "coarse.tif", coarse_ground(8), "Coarse")
    app = make_app()
    window = MainWindow()
    window.files.may_leave = lambda: True
    window.show()
    settle(window)
    watch = Watch()

    def rest(app, window, seconds: float) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            app.processEvents()
            time.sleep(0.01)

    watch.on = True
    use(window, app, settle, rest, out.parent)
    watch.on = False
    window.work.close()
    out.write_text(json.dumps(watch.seen, indent=1))


if __name__ == "__main__":
    main()

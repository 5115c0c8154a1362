"""Makes the documentation's pictures from the demo: ``python tools/screenshots.py FOLDER``."""

from __future__ import annotations

import os
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QApplication

from moss_step.demo import DATA
from moss_step.demo.earth import ERROR
from moss_step.demo.lidar import SOUTH, WEST
from moss_step.demo.sounder import Sounder
from moss_step.demo.surroundings import Tiles
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.benches.sheet import SheetBench
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.picks import PicksControl
from moss_step.desk.rest import settle
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.practice.elevation import Faults, Server
from moss_step.science.water.drainage import prepare
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.window import MainWindow

_PATIENCE, _HEARD = 60.0, 400
"""Seconds for what a picture waits for, and soundings of the one that hears a sounder."""


def main() -> None:
    """Write one PNG of each main view at 1280 x 800."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as state:
        for home in ("STATE", "CACHE", "CONFIG"):
            os.environ[f"XDG_{home}_HOME"] = state
        from PySide6.QtCore import QPoint
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
                settle(window)
            window.grab().save(str(folder / f"{name}.png"))

        take("classes", window.files.open_demo, lambda: QTest.mouseMove(window.plan.view, QPoint(520, 240)))
        take("gather", lambda: work.choose("ground"))
        take("service", lambda: list_tiles(window, Path(state) / "tiles"))
        work.undo()
        take(
            "preferences",
            lambda: work.choose("classes"),
            lambda: work.prefer(workers=2),
            window.preferences.open,
        )
        window.preferences.hide()
        take("shape", lambda: work.choose(""), lambda: window.begin_step("slope"))
        take(
            "compare",
            lambda: work.choose("sectors"),
            lambda: window.views.begin_comparing(),
            lambda: QTest.mouseMove(window.plan.view, QPoint(560, 420)),
        )
        take("hazard", window.views.end_comparing, lambda: work.choose(""), lambda: ask_hazard(window))
        take(
            "sheet",
            lambda: work.choose("classes"),
            lambda: window.go_to_bench("sheet"),
            lambda: lay_page(window),
        )
        work.undo()
        take("earthwork", lambda: work.choose(""), lambda: compare_surveys(window))
        for _ in range(3):  # grids and outline of the slip
            work.undo()
        settle(window)
        take(
            "section",
            lambda: work.choose(""),
            lambda: window.show_drawer("section"),
            lambda: level_pad(window),
        )
        work.undo()
        settle(window)
        window.plan.view.fit()
        take(
            "water",
            lambda: window.show_drawer("plan"),
            lambda: work.choose(""),
            lambda: follow_water(window),
        )
        take(
            "basins",
            lambda: divide_ground(window),
            lambda: window.show_drawer("table"),
            lambda: window.table.select(1),
        )
        take("sight", lambda: window.show_drawer("plan"), lambda: work.choose(""), lambda: look_out(window))
        take("block", lambda: show_block(window))
        take(
            "sight-line",
            lambda: window.show_drawer("plan"),
            lambda: work.choose(""),
            lambda: draw_sight_line(window),
        )
        take("draw", lambda: window.show_drawer("plan"), lambda: draw_outlines(window))
        take(
            "points",
            lambda: work.choose(""),
            lambda: find_ground(window),
            lambda: teach_walls(window),
        )
        take(
            "listening",
            lambda: window.show_drawer("plan"),
            lambda: hear_sounder(app, window, Path(state) / "run.nmea"),
        )
        work.ear.stop()
        take("surface", lambda: sound_tarn(window))
        window.block.stage.close()
        work.close()


def list_tiles(window: MainWindow, folder: Path) -> None:
    """What an elevation service holds around the estate, with one tile at hand."""
    folder.mkdir()
    bench: Any = window.benches["gather"]
    window.go_to_bench("gather")
    with Server(Tiles(folder), Faults()) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()

        def ask() -> None:
            bench.show_start()
            bench.show_service()
            bench.service.address.setText(server.address)
            bench.service.ask()
            settle(window)

        ask()
        bench.service.fetch()
        settle(window)
        window.work.choose("")
        settle(window)
        ask()
        server.shutdown()
    window.plan.view.fit()


def hear_sounder(app: QApplication, window: MainWindow, told: Path) -> None:
    """A boat half way over the tarn, heard from a file."""
    window.work.new()
    settle(window)
    window.files.open_path(DATA / "harrow_tarn.gpkg")
    settle(window)
    sentences = ["".join(made) for made in Sounder().sentences()]
    told.write_text("".join(sentences[: len(sentences) * 2 // 3]), encoding="ascii")
    window.begin_step("open_recording")
    bench: Any = window.benches["gather"]
    panel = bench.panel
    panel.device.show_some(("way", "file", "spacing"), {"way": "file", "file": str(told), "spacing": 3.0})
    panel.listen()
    end = time.monotonic() + _PATIENCE
    while window.plan.view.live is None or panel.heard is None or len(panel.heard.depths) < _HEARD:
        if time.monotonic() > end:
            raise RuntimeError("the sounder was not heard")
        app.processEvents()
        time.sleep(0.02)


def sound_tarn(window: MainWindow) -> None:
    """The bed of the tarn between its soundings, with the curve of its variogram below."""
    window.work.new()
    settle(window)
    for name in ("harrow_tarn.gpkg", "harrow_soundings.csv"):
        window.files.open_path(DATA / name)
        settle(window)
    window.begin_step("lake_volume")
    settle(window)


def find_ground(window: MainWindow) -> None:
    """The survey, and which of its points are ground."""
    window.files.open_path(DATA / "harrow_survey.laz")
    settle(window)
    window.begin_step("ground_points")
    settle(window)
    window.plan.view.show_box((412_860.0, 5_870_470.0, 413_230.0, 5_870_810.0))


def teach_walls(window: MainWindow) -> None:
    """Segments of what stands on the ground; two walls, a barn and trees picked as examples."""
    bench = as_kind(window.benches["points"], StepBench)
    window.work.keep_draft()
    settle(window)
    window.begin_step("segments")
    settle(window)
    bench.take_settings({"method": "distance"})
    settle(window)
    window.work.keep_draft()
    settle(window)
    window.begin_step("train_class")
    settle(window)
    bench.take_settings({"name": "Dry-stone wall"})
    form = as_kind(bench.panel, StepPanel).form
    for name, places in (("yes", ((142.29, 266.39), (145.0, 164.5))), ("no", ((70.0, 60.0), (190.0, 198.0)))):
        pick = form.control(name, PicksControl).pick
        if not pick.isChecked():
            pick.click()
        for x, y in places:
            bench.use_point(WEST + x, SOUTH + y)
            settle(window)


def ask_hazard(window: MainWindow) -> None:
    """Criteria laid over one another, with the bogs as one of them."""
    window.begin_step("hazard")
    bench: Any = window.benches["classes"]
    box = bench.panel._inputs["inside"]
    box.setCurrentIndex(box.findText("Bogs"))


def draw_outlines(window: MainWindow) -> None:
    """Two areas being drawn over the ground and its bogs: one is whole, one is not yet."""
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest

    work, view = window.work, window.plan.view
    work.choose("")
    work.do(work.study.model_copy(update={"key": (KeyRow(step="places"), KeyRow(step="bogs"))}), "Key")
    window.begin_step("draw")
    QTest.qWait(60)

    def click(x: int, y: int) -> None:
        QTest.mouseMove(view, QPoint(x, y))
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(x, y))

    for x, y in ((300, 150), (420, 130), (470, 240), (380, 300), (290, 260)):
        click(x, y)
    QTest.keyClick(view, Qt.Key.Key_Return)
    for x, y in ((520, 380), (600, 360), (640, 430)):
        click(x, y)
    QTest.mouseMove(view, QPoint(560, 470))


def show_block(window: MainWindow) -> None:
    """The block beside the plan, drawn at rest."""
    bench: Any = window.benches["sight"]
    bench.panel.keep()
    window.show_drawer("block")
    end = time.monotonic() + 30.0
    quiet = time.monotonic() + 2.5
    while time.monotonic() < end and (
        time.monotonic() < quiet or window.block.stage.busy or window.work.busy
    ):
        QApplication.processEvents()
        time.sleep(0.02)


def look_out(window: MainWindow) -> None:
    """What two masts see."""
    window.work.do(window.work.study.model_copy(update={"key": (KeyRow(step="places"),)}), "Key")
    window.begin_step("viewshed")
    bench: Any = window.benches["sight"]
    bench.panel.form.set_values(
        {"observer_height": 12.0, "at": ((413_330.0, 5_871_520.0), (412_880.0, 5_870_360.0))},
        bench.panel.kind.settings,
    )
    bench.panel.update_draft()


def draw_sight_line(window: MainWindow) -> None:
    """A sight line over two valleys with its section, pointed at."""
    window.work.do(window.work.study.model_copy(update={"key": (KeyRow(step="places"),)}), "Key")
    window.begin_step("sight_line")
    line = (412_420.0, 5_871_750.0, 413_600.0, 5_870_500.0)
    window.benches["sight"].pull_line(line)
    window.benches["sight"].use_line(line)
    window.section.chart.point_at(420)
    window.section.chart.pointed.emit(420)


def follow_water(window: MainWindow) -> None:
    """The path of the water from a place pointed at."""
    prepare(as_kind(as_kind(window.work.outcome("ground"), Outcome).value, Surface))
    window.work.do(window.work.study.model_copy(update={"key": (KeyRow(step="places"),)}), "Key")
    window.begin_step("flow_path")
    view = window.plan.view
    view.pointed.emit((412_620.0, 5_871_520.0))


def lay_page(window: MainWindow) -> None:
    """A page of the slope classes with its key chosen, and how what it shows came about."""
    pages: Any = as_kind(window.benches["sheet"], SheetBench).pages
    pages.begin("plan_key")
    pages.view.pick(["key"])
    pages.view.followed.emit("classes")


def divide_ground(window: MainWindow) -> None:
    """Basins of two hectares and more, and the streams."""
    work = window.work
    work.add_step("streams", {"dem": "ground"}, {})
    work.choose(work.add_step("basins", {"dem": "ground"}, {"min_area": 20_000.0}))


def compare_surveys(window: MainWindow) -> None:
    """What the spring slip moved, with both surveys in the section."""
    for name in ("harrow_slip_before.tif", "harrow_slip_after.tif", "harrow_slip.gpkg"):
        window.files.open_path(DATA / name)
        settle(window)
    window.work.choose("")
    window.begin_step("survey_change")
    settle(window)
    bench: Any = window.benches["earthwork"]
    bench.take_inputs({"area": window.work.study.steps[-1].id})
    bench.take_settings(
        {"error_before": ERROR, "error_after": ERROR, "offset": "shift", "stayed": "proposed"}
    )
    settle(window)
    x, y = WEST + 290.0, SOUTH + 70.0
    window.plan.view.show_box((x - 45.0, y - 50.0, x + 45.0, y + 50.0))
    window.show_drawer("section")
    settle(window)
    window.views.cut.pull((x - 20.0, y + 40.0, x + 15.0, y - 35.0))


def level_pad(window: MainWindow) -> None:
    """The pad for the new barn, balanced, with the ground as it is and as it will be in the section."""
    window.files.open_path(DATA / "harrow_barn.gpkg")
    settle(window)
    window.work.choose("")
    window.begin_step("pad")
    settle(window)
    bench: Any = window.benches["earthwork"]
    bench.take_inputs({"surface": "ground", "area": window.work.study.steps[-1].id})
    settle(window)
    x, y = 413_241.0, 5_871_099.0
    window.plan.view.show_box((x - 36.0, y - 30.0, x + 36.0, y + 30.0))
    settle(window)
    window.views.cut.pull((x - 28.0, y - 16.0, x + 28.0, y + 14.0))
    settle(window)
    window.section.chart.point_at(600)
    window.section.chart.pointed.emit(600)


if __name__ == "__main__":
    main()

"""The main window: header, bench, plan and trail, and what ties them together."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import shapely
from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from moss_step.demo import DATA
from moss_step.desk.benches.bench import Bench
from moss_step.desk.benches.classes import ClassesBench
from moss_step.desk.benches.gather import GatherBench
from moss_step.desk.benches.place import PlaceBench, PlacePanel
from moss_step.desk.benches.sheet import SheetBench
from moss_step.desk.benches.sight import SightBench
from moss_step.desk.benches.water import WaterBench
from moss_step.desk.block.view import BlockView
from moss_step.desk.header import Header
from moss_step.desk.keys import KeysSheet
from moss_step.desk.parts import Later
from moss_step.desk.plain import Answer, ask, set_tip
from moss_step.desk.plan.live import Live
from moss_step.desk.plan.pane import PlanPane
from moss_step.desk.search import Search, SearchBox
from moss_step.desk.section.drawer import SectionDrawer
from moss_step.desk.table.drawer import TableDrawer
from moss_step.desk.theme import PANEL_WIDTH
from moss_step.desk.trail.trail import Trail
from moss_step.desk.work import Work
from moss_step.formats.vector import DRIVERS, layers
from moss_step.model.errors import MossError
from moss_step.science.sight.line import SightLine
from moss_step.steps.catalogue import BENCHES, catalogue, step_kind
from moss_step.study.graph import file_name
from moss_step.study.saving import ENDING

VECTOR_ENDINGS = (*DRIVERS, ".csv", ".shp", ".json", ".kml", ".gml")


class MainWindow(QMainWindow):
    """One study in one window."""

    def __init__(self, work: Work | None = None) -> None:
        super().__init__()
        self.work = work or Work()
        self.setMinimumSize(1024, 640)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.plan = PlanPane(self.work)
        self.trail = Trail(self.work)
        self.search = Search(self.work, self._actions())
        self.search_box = SearchBox(self.search, self)
        self.header = Header(self.work, self.search_box)
        self.benches = self._make_benches()
        self._stack = QStackedWidget()
        self._stack.setObjectName("panel")
        self._stack.setFixedWidth(PANEL_WIDTH)
        for bench in self.benches.values():
            self._stack.addWidget(bench)
        self.keys = KeysSheet(self)
        self.table = TableDrawer(self.work)
        self.middle = QSplitter(Qt.Orientation.Vertical)
        self.middle.setChildrenCollapsible(False)
        self.block = BlockView(self.work, self.plan.view)
        self.ground_views = QSplitter(Qt.Orientation.Horizontal)
        self.ground_views.setChildrenCollapsible(False)
        self.ground_views.addWidget(self.plan)
        self.ground_views.addWidget(self.block)
        self.block.hide()
        self.middle.addWidget(self.ground_views)
        self.section = SectionDrawer(self.work)
        self.drawers = {"table": self.table, "section": self.section}
        for drawer in self.drawers.values():
            self.middle.addWidget(drawer)
            drawer.hide()
        self.middle.setSizes([420, 200, 200])
        self._chosen_later = Later(self._on_chosen, self)
        self._lay_out()
        self._connect()
        self.show_bench("gather")
        self._title()
        self.plan.view.setFocus()

    # --- building

    def _make_benches(self) -> dict[str, QWidget]:
        made: dict[str, QWidget] = {}
        own: dict[str, Callable[[], QWidget]] = {
            "gather": lambda: GatherBench(self.work),
            "classes": lambda: ClassesBench(self.work),
            "water": lambda: WaterBench(self.work),
            "sight": lambda: SightBench(self.work),
            "sheet": lambda: SheetBench(self.work, self.plan.view),
        }
        filled = {k.bench for k in catalogue().values()}
        for name in BENCHES:
            if name in own:
                made[name] = own[name]()
            elif name in filled:
                made[name] = Bench(self.work, name)
        return made

    def _lay_out(self) -> None:
        middle = QWidget()
        across = QHBoxLayout(middle)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self._stack)
        across.addWidget(self.middle, 1)
        body = QWidget()
        down = QVBoxLayout(body)
        down.setContentsMargins(0, 0, 0, 0)
        down.setSpacing(0)
        down.addWidget(self.header)
        down.addWidget(middle, 1)
        down.addWidget(self.trail)
        self.setCentralWidget(body)

    def _connect(self) -> None:
        work = self.work
        self.header.bench_wanted.connect(self.go_to_bench)
        self.header.menu_wanted.connect(lambda: self.study_menu().exec(self.header.mapToGlobal(self.header.study.geometry().bottomLeft())))
        self.trail.next_wanted.connect(self.search_box.begin)
        self.trail.export_wanted.connect(self._hand_on)
        self.trail.record_wanted.connect(self._record)
        self.search.step_wanted.connect(self.begin_step)
        self.search.place_wanted.connect(self.plan.view.show_place)
        self.search.result_wanted.connect(work.choose)
        self.plan.welcome.open_wanted.connect(self.ask_open)
        self.plan.welcome.demo_wanted.connect(self.open_demo)
        self.plan.welcome.recent_wanted.connect(lambda p: self.open_path(p))
        self.plan.view.boxed.connect(self._use_box)
        self.plan.view.clicked.connect(self._on_plan_clicked)
        self.plan.views.picked.connect(self.show_drawer)
        self.table.marked.connect(self.plan.view.mark)
        self.plan.view.pointed.connect(self._follow)
        self.block.pointed.connect(self._point_in_block)
        self.plan.view.pointed.connect(self.block.mark_place)
        self.plan.view.line_ended.connect(self._use_line)
        self.plan.view.lined.connect(self._pull_line)
        self.plan.view.handle_moved.connect(self._drag_handle)
        self.section.marked.connect(self.plan.view.mark)
        self.section.line_wanted.connect(lambda: self.plan.view.set_tool("line"))
        self.table.box_wanted.connect(self.plan.view.show_box)
        work.chosen.connect(self._chosen_later.ask)
        work.changed.connect(self._title)
        for bench in self.benches.values():
            if isinstance(bench, Bench):
                bench.box_wanted.connect(lambda: self.plan.view.set_tool("box"))
            if isinstance(bench, PlaceBench):
                bench.live.connect(self._show_live)
                bench.handles.connect(self.plan.view.set_handles)
                bench.tool_wanted.connect(self.plan.view.set_tool)
                bench.catchment_wanted.connect(self._begin_catchment)
                bench.section.connect(self._show_sight)
            if isinstance(bench, GatherBench):
                bench.open_wanted.connect(self.ask_open)
        keys: list[tuple[str, Callable[[], object]]] = [
            ("Ctrl+K", self.search_box.begin),
            ("Ctrl+O", self.ask_open),
            ("Ctrl+S", self.save),
            ("Ctrl+Shift+S", self.save_as),
            ("Ctrl+N", self.new),
            ("Ctrl+Z", work.undo),
            ("Ctrl+Shift+Z", work.redo),
            ("Ctrl+Y", work.redo),
            ("F5", work.run),
            ("Ctrl+.", work.stop),
            ("F1", self.keys.open),
            ("Ctrl+L", lambda: self.show_drawer("plan" if self.section.isVisible() else "section")),
            ("Ctrl+B", lambda: self.show_drawer("plan" if self.block.isVisible() else "block")),
            ("Ctrl+T", lambda: self.show_drawer("plan" if self.table.isVisible() else "table")),
            ("Ctrl+Q", self.close),
            ("Escape", self._escape),
        ]
        for n, name in enumerate(BENCHES, start=1):
            if name in self.benches:
                keys.append((f"Ctrl+{n}", partial(self.go_to_bench, name)))
        for key, run in keys:
            QShortcut(QKeySequence(key), self).activated.connect(run)

    def _actions(self) -> dict[str, Callable[[], object]]:
        return {
            "Open a file": self.ask_open,
            "Save the study": self.save,
            "New study": self.new,
            "Undo": self.work.undo,
            "Redo": self.work.redo,
            "Open the demo": self.open_demo,
            "Hand on a result": lambda: self.go_to_bench("sheet"),
            "Show all of the ground": lambda: self.plan.view.fit(),
            "Keys": lambda: self.keys.open(),
        }

    def study_menu(self) -> QMenu:
        """Menu of the study."""
        menu, history = QMenu(self), self.work.history
        menu.addAction("New study\tCtrl+N", self.new)
        menu.addAction("Open …\tCtrl+O", self.ask_open)
        older = menu.addMenu("Recent")
        for path in self.work.recent:
            set_tip(older.addAction(path.name, partial(self.open_path, path)), str(path))
        older.setEnabled(not older.isEmpty())
        menu.addAction("Open the demo", self.open_demo)
        menu.addSeparator()
        menu.addAction("Save\tCtrl+S", self.save)
        menu.addAction("Save as …\tCtrl+Shift+S", self.save_as)
        menu.addSeparator()
        undo = menu.addAction(f"Undo {history.undo_text.lower()}\tCtrl+Z", self.work.undo)
        undo.setEnabled(bool(history.undo_text))
        redo = menu.addAction(f"Redo {history.redo_text.lower()}\tCtrl+Shift+Z", self.work.redo)
        redo.setEnabled(bool(history.redo_text))
        menu.addSeparator()
        menu.addAction("Keys\tF1", self.keys.open)
        return menu

    # --- benches and steps

    def show_bench(self, name: str) -> None:
        """Show a bench as it stands."""
        left = self._stack.currentWidget()
        if isinstance(left, Bench) and left is not self.benches[name]:
            left.show_start()  # a bench that is not seen follows nothing
        self._stack.setCurrentWidget(self.benches[name])
        self.header.mark_bench(name)

    @property
    def bench(self) -> str:
        """Name of the bench that is shown."""
        return next(n for n, b in self.benches.items() if b is self._stack.currentWidget())

    def go_to_bench(self, name: str) -> None:
        """Turn to a bench for something new."""
        self._chosen_later.stop()
        chosen = self.work.chosen_id
        bench = self.benches[name]
        self.work.set_draft(None)
        self.show_bench(name)
        if isinstance(bench, SheetBench):
            bench.choose(self.work.chosen_ref)
        elif isinstance(bench, Bench):
            if chosen and self.work.study.step(chosen).declared.bench == name:
                bench.change(chosen)
            elif bench.main and self.work.surfaces():
                bench.make(step_kind(bench.main))
            else:
                bench.show_start()

    def begin_step(self, kind: str) -> None:
        """Begin a new step of a kind on its bench."""
        if kind in ("open_grid", "open_shapes"):
            self.ask_open()
            return
        self._chosen_later.stop()
        declared = step_kind(kind)
        bench = self.benches[declared.bench]
        self.show_bench(declared.bench)
        if isinstance(bench, Bench):
            bench.make(declared)

    def _begin_catchment(self, x: float, y: float) -> None:
        self.begin_step("catchment")
        bench = self.benches["water"]
        if isinstance(bench, PlaceBench) and bench.place_panel is not None:
            bench.place_panel.use_point(x, y)

    def _on_chosen(self) -> None:
        chosen = self.work.chosen_id
        self.work.set_draft(None)
        if not chosen:
            current = self._stack.currentWidget()
            if isinstance(current, Bench):
                current.show_start()
            return
        if self.bench == "sheet":
            sheet = self.benches["sheet"]
            if isinstance(sheet, SheetBench):
                sheet.choose(self.work.chosen_ref)
            return
        name = self.work.study.step(chosen).declared.bench
        bench = self.benches[name]
        self.show_bench(name)
        if isinstance(bench, Bench):
            bench.change(chosen)

    def show_drawer(self, name: str) -> None:
        """Open a drawer under the plan, or close it with ``plan``."""
        for key, drawer in self.drawers.items():
            drawer.setVisible(key == name)
        if name in ("plan", "block"):
            self.block.setVisible(name == "block")
        if name == "block":
            half = self.ground_views.width() // 2
            self.ground_views.setSizes([half, half])
        self.plan.views.set(name)
        self.table.refresh()
        view = self.plan.view
        view.mark(None)
        view.line = None
        view.set_tool("line" if name == "section" else "look")
        if name != "section":
            self.section.chart.show_table(None, [])

    def _on_plan_clicked(self, x: float, y: float) -> None:
        """A bench may want the place; else a click on a shape selects its row while the table is open."""
        bench = self._stack.currentWidget()
        if isinstance(bench, PlaceBench) and bench.place_panel is not None and bench.place_panel.use_point(x, y):
            return
        if self.table.isVisible():
            self.table.select_at(x, y, 8.0 / self.plan.view.camera.scale)

    def _follow(self, place: tuple[float, float] | None) -> None:
        panel = self._place_panel()
        if panel is not None:
            panel.follow(place)

    def _point_in_block(self, place: tuple[float, float] | None) -> None:
        """What is under the pointer of the block is read as on the plan, and marked there."""
        self.plan.read(place)
        self.plan.view.mark(None if place is None else [shapely.Point(place)])

    def _place_panel(self) -> PlacePanel | None:
        """The panel that takes places from the plan, when one is shown."""
        bench = self._stack.currentWidget()
        return bench.place_panel if isinstance(bench, PlaceBench) else None

    def _drag_handle(self, number: int, x: float, y: float, ended: bool) -> None:
        panel = self._place_panel()
        if panel is not None:
            panel.drag_handle(number, x, y, ended)

    def _pull_line(self, line: tuple[float, float, float, float]) -> None:
        panel = self._place_panel()
        if panel is not None and (panel.cuts or not self.section.isVisible()):
            panel.pull_line(line)
        elif self.section.isVisible():
            self.section.show_line(line, self.plan.view.scene)

    def _use_line(self, line: tuple[float, float, float, float]) -> None:
        panel = self._place_panel()
        if panel is not None and (panel.cuts or not self.section.isVisible()):
            if panel.cuts:
                self.show_drawer("section")
            panel.use_line(line)
            self.plan.view.line = None
            self.plan.view.set_tool("look")

    def _show_live(self, live: Live | None) -> None:
        """Draw what follows the pointer; along a path the section follows too."""
        self.plan.view.show_live(live)
        panel = self._place_panel()
        if live is not None and len(live.lines) == 1 and self.section.isVisible() and not (panel is not None and panel.cuts):
            self.section.show_path(live.lines[0][0], self.plan.view.scene)

    def _show_sight(self, seen: SightLine) -> None:
        """Show a sight line in the section while that is open."""
        if self.section.isVisible():
            self.section.show_sight(seen)

    def _use_box(self, box: tuple[float, float, float, float]) -> None:
        bench = self._stack.currentWidget()
        if isinstance(bench, Bench):
            bench.use_box(box)

    def _escape(self) -> None:
        if self.plan.view.tool != "look":
            self.plan.view.set_tool("look")
        elif self.search_box.popup.isVisible():
            self.search_box.leave()
        elif self.work.draft is not None:
            bench = self._stack.currentWidget()
            if isinstance(bench, Bench) and bench.panel is not None:
                bench.panel.drop()
        else:
            self.work.choose("")

    def _hand_on(self, step_id: str) -> None:
        self.work.choose(step_id)
        self.go_to_bench("sheet")

    def _record(self, step_id: str) -> None:
        self._hand_on(step_id)
        sheet = self.benches["sheet"]
        if isinstance(sheet, SheetBench):
            sheet.ask_record()

    # --- files

    def ask_open(self) -> None:
        """Ask for files and open them."""
        names, _ = QFileDialog.getOpenFileNames(self, "Open a grid, shapes or a study", self._folder())
        for name in names:
            self.open_path(Path(name))

    def open_path(self, path: Path, waits: bool = False) -> None:
        """Open a study (``waits``: with nothing run), or add a grid or shapes to this one."""
        try:
            if path.suffix.lower() == ENDING:
                if self.may_leave():
                    self.work.open(path, waits=waits)
                return
            if path.suffix.lower() in VECTOR_ENDINGS:
                names = self.work.files.now(lambda: layers(path))
                several = len(names) > 1
                for layer in names:
                    self.work.add_step("open_shapes", {}, {"source": f"{path}#{layer}" if several else str(path)})
            else:
                self.work.add_step("open_grid", {}, {"source": str(path)})
            self.work.remember(path)
        except MossError as error:
            self.work.told.emit(str(error), True)

    def open_demo(self) -> None:
        """Open the invented estate as a new study."""
        if not self.may_leave():
            return
        try:
            self.work.open(DATA / "harrow_moss.moss", as_copy=True)
        except MossError as error:
            self.work.told.emit(str(error), True)
            return
        self.work.choose("classes")

    def new(self) -> None:
        """Begin an empty study."""
        if self.may_leave():
            self.work.new()

    def save(self) -> bool:
        """Save the study where it is, or ask where."""
        return self.save_to(self.work.path) if self.work.path is not None else self.save_as()

    def save_as(self) -> bool:
        """Ask where, and save the study there."""
        proposal = str(Path(self._folder()) / (file_name(self.work.study.name) + ENDING))
        name, _ = QFileDialog.getSaveFileName(self, "Save the study", proposal, f"Moss Step study (*{ENDING})")
        if not name:
            return False
        path = Path(name)
        return self.save_to(path if path.suffix == ENDING else path.with_name(path.name + ENDING))

    def save_to(self, path: Path) -> bool:
        """Save the study in a file; asks before a newer one is replaced, and tells when it fails."""
        newer = f"{path.name} was changed by another program since it was opened here. Replace it?"
        if (
            self.work.path == path
            and self.work.is_newer(path)
            and ask(self, "Newer file", newer, Answer.Yes | Answer.Cancel, Answer.Cancel) != Answer.Yes
        ):
            return False
        try:
            self.work.save(path)
        except MossError as error:
            self.work.told.emit(str(error), True)
            return False
        self.work.told.emit(f"Saved in {path.name}.", False)
        return True

    def may_leave(self) -> bool:
        """Ask about unsaved changes; whether to go on."""
        if not self.work.unsaved:
            return True
        choices = Answer.Save | Answer.Discard | Answer.Cancel
        answer = ask(self, "Unsaved changes", f"Save the changes to {self.work.study.name}?", choices, Answer.Save)
        if answer == Answer.Save:
            return self.save()
        return answer == Answer.Discard

    def offer_recovery(self) -> None:
        """Offer unsaved work of a run that ended badly; whatever the answer, nothing of it is lost."""
        for left in self.work.files.now(self.work.autosaves.left_behind):
            answer = ask(
                self, "Unsaved work found",
                f"'{left.study.name}' with {len(left.study.steps)} steps was not saved when Moss Step last ended. Take it up again, "
                "without running it? Discard puts it among the old copies, Cancel asks again at the next start.",
                Answer.Yes | Answer.Discard | Answer.Cancel, Answer.Yes,
            )  # fmt: skip
            if answer == Answer.Yes:
                if self.may_leave():
                    self.work.recover(left)
                return
            if answer == Answer.Discard:
                self.work.files.now(partial(self.work.autosaves.retire, left.file))

    def _folder(self) -> str:
        return str(self.work.path.parent if self.work.path else Path.home())

    def _title(self) -> None:
        mark = " (not saved)" if self.work.unsaved else ""
        self.setWindowTitle(f"{self.work.study.name}{mark} – Moss Step")

    # --- events

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take files."""
        if any(u.isLocalFile() for u in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open dropped files."""
        for url in event.mimeData().urls():
            if url.isLocalFile():
                self.open_path(Path(url.toLocalFile()))
        event.acceptProposedAction()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Close what floats over the window."""
        self.search_box.popup.hide()
        self.keys.hide()
        super().resizeEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Ask about unsaved changes."""
        if not self.may_leave():
            event.ignore()
            return
        self.block.stage.close()
        self.work.close()
        event.accept()

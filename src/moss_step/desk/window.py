"""The main window: header, bench, views and trail, and what ties them together."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QMenu, QStackedWidget, QVBoxLayout, QWidget

from moss_step.desk.benches.bench import Bench
from moss_step.desk.benches.registry import make_benches
from moss_step.desk.header import Header
from moss_step.desk.keys import KeysSheet
from moss_step.desk.pages import open_page
from moss_step.desk.parts import Later
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.pane import PlanPane
from moss_step.desk.preference_sheet import PreferenceSheet
from moss_step.desk.search import Search, SearchBox
from moss_step.desk.study_files import StudyFiles
from moss_step.desk.theme import PANEL_WIDTH, unstyled
from moss_step.desk.trail.trail import Trail
from moss_step.desk.views import Views
from moss_step.desk.walks import WALKS, Walk, WalkCard
from moss_step.desk.window_place import keep_place, place_of
from moss_step.desk.work import Work
from moss_step.steps.catalogue import BENCHES, keeper, step_kind

_LOW = 520
"""Height below which the cards of the trail are folded away."""
_PICTURE = (240, 150)
"""Pixels of the picture of a study in the list of recent ones."""


class MainWindow(QMainWindow):
    """One study in one window."""

    def __init__(self, work: Work | None = None) -> None:
        super().__init__()
        self.work: Work = work or Work()
        self.files: StudyFiles = StudyFiles(self.work, self)
        self.setMinimumSize(640, 400)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        with unstyled():
            self.trail: Trail = Trail(self.work)
            self.search = Search(self.work, self._actions(), self)
            self.search_box = SearchBox(self.search, self)
            self.header: Header = Header(self.work, self.search_box)
            self.benches: dict[str, Bench] = make_benches(self.work)
            self._stack = QStackedWidget()
            self._stack.setObjectName("panel")
            self._stack.setFixedWidth(PANEL_WIDTH)
            for bench in self.benches.values():
                self._stack.addWidget(bench)
            self.keys, self.walk = KeysSheet(self), WalkCard(self)
            self.preferences = PreferenceSheet(self.work, self)
            self.views: Views = Views(self.work, lambda: self.benches[self.bench])
            self.plan: PlanPane = self.views.plan
            self.table, self.section, self.block = self.views.table, self.views.section, self.views.block
            self._chosen_later = Later(self._on_chosen, self)
            self._lay_out()
            self._connect()
            self._make_shortcuts()
        self.views.fit()
        self.work.setParent(self)  # last: it ends after all that shows it
        self.show_bench("gather")
        self._title()
        self.plan.view.setFocus()

    # --- building

    def _lay_out(self) -> None:
        middle = QWidget()
        across = QHBoxLayout(middle)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self._stack)
        across.addWidget(self.views, 1)
        body = QWidget()
        down = QVBoxLayout(body)
        down.setContentsMargins(0, 0, 0, 0)
        down.setSpacing(0)
        down.addWidget(self.header)
        down.addWidget(middle, 1)
        down.addWidget(self.trail)
        self.setCentralWidget(body)

    def _connect(self) -> None:
        work, files = self.work, self.files
        self.header.bench_wanted.connect(self.go_to_bench)
        self.header.menu_wanted.connect(
            lambda: self.study_menu().exec(self.header.mapToGlobal(self.header.study.geometry().bottomLeft()))
        )
        self.trail.next_wanted.connect(self.search_box.begin)
        self.trail.export_wanted.connect(self._hand_on)
        self.trail.record_wanted.connect(self._record)
        self.search.step_wanted.connect(self.begin_step)
        self.search.place_wanted.connect(self.plan.view.show_place)
        self.search.result_wanted.connect(work.choose)
        self.plan.welcome.open_wanted.connect(files.ask_open)
        self.plan.welcome.demo_wanted.connect(files.open_demo)
        self.plan.welcome.offer([(f"{walk.title}: {walk.question}", walk) for walk in WALKS])
        self.plan.welcome.walk_wanted.connect(self.take_walk)
        self.plan.welcome.recent_wanted.connect(lambda p: files.open_path(p))
        files.saved.connect(self._keep_picture)
        self.views.difference_wanted.connect(self._tell_difference)
        self.views.classes_wanted.connect(self._set_classes)
        work.chosen.connect(self._chosen_later.ask)
        work.changed.connect(self._title)
        for bench in self.benches.values():
            self.views.attach(bench)
            bench.open_wanted.connect(files.ask_open)
            bench.step_wanted.connect(self.begin_step)

    def _make_shortcuts(self) -> None:
        work, files, views = self.work, self.files, self.views
        keys: list[tuple[str, Callable[[], object]]] = [
            ("Ctrl+K", self.search_box.begin),
            ("Ctrl+O", files.ask_open),
            ("Ctrl+S", files.save),
            ("Ctrl+Shift+S", files.save_as),
            ("Ctrl+N", files.new),
            ("Ctrl+Z", work.undo),
            ("Ctrl+Shift+Z", work.redo),
            ("Ctrl+Y", work.redo),
            ("F5", work.run),
            ("Ctrl+.", work.stop),
            ("F1", self.open_page),
            ("Shift+F1", self.keys.open),
            ("Ctrl+,", self.preferences.open),
            ("Ctrl+L", partial(views.toggle, "section")),
            ("Ctrl+B", partial(views.toggle, "block")),
            ("Ctrl+T", partial(views.toggle, "table")),
            ("Ctrl+D", self._toggle_compare),
            ("Ctrl+E", self._hand_on_now),
            ("Ctrl+Shift+C", self.views.copy_picture),
            ("Ctrl+Q", self.close),
            ("Escape", self._escape),
        ]
        keys += [
            (f"Ctrl+{n}", partial(self.go_to_bench, name))
            for n, name in enumerate(BENCHES, start=1)
            if name in self.benches
        ]
        for key, run in keys:
            QShortcut(QKeySequence(key), self).activated.connect(run)

    def _actions(self) -> dict[str, Callable[[], object]]:
        return {
            "Open a file": self.files.ask_open,
            "Save the study": self.files.save,
            "New study": self.files.new,
            "Undo": self.work.undo,
            "Redo": self.work.redo,
            "Open the demo": self.files.open_demo,
            "Copy the plan as a picture": lambda: self.views.copy_picture(),
            "Hand on a result": lambda: self.go_to_bench("sheet"),
            "Make a page": lambda: self._to_sheet("pages"),
            "Pack the study as a parcel": lambda: self._to_sheet("study"),
            "Compare two results": lambda: self.views.begin_comparing(),
            **{f"Walk: {walk.title.lower()}": partial(self.take_walk, walk) for walk in WALKS},
            "Show all of the ground": lambda: self.plan.view.fit(),
            "Keys": lambda: self.keys.open(),
            "Help: the page of what is shown": lambda: self.open_page(),
            "Preferences": lambda: self.preferences.open(),
        }

    def open_page(self) -> None:
        """Open the page of the step that is shown, or of the bench."""
        panel = getattr(self.benches[self.bench], "panel", None)
        wrong = open_page(self.bench, panel.kind.kind if panel is not None else "")
        if wrong:
            self.work.message.emit(wrong, True)

    def take_walk(self, walk: Walk) -> None:
        """Open the demo anew, and lead through it; a study that is not saved is asked about first."""
        self.walk.leave()
        if not self.files.open_demo():
            return
        self.work.choose("")
        self.show_drawer("plan")
        self.go_to_bench("gather")
        self.walk.begin(walk)

    def study_menu(self) -> QMenu:
        """Menu of the study."""
        menu, history, files = QMenu(self), self.work.history, self.files
        menu.addAction("New study\tCtrl+N", files.new)
        menu.addAction("Open …\tCtrl+O", files.ask_open)
        older = menu.addMenu("Recent")
        for known in self.work.recents.listed:
            set_tip(older.addAction(known.path.name, partial(files.open_path, known.path)), str(known.path))
        older.setEnabled(not older.isEmpty())
        menu.addAction("Open the demo", files.open_demo)
        menu.addSeparator()
        menu.addAction("Save\tCtrl+S", files.save)
        menu.addAction("Save as …\tCtrl+Shift+S", files.save_as)
        menu.addSeparator()
        undo = menu.addAction(f"Undo {history.undo_text.lower()}\tCtrl+Z", self.work.undo)
        undo.setEnabled(bool(history.undo_text))
        redo = menu.addAction(f"Redo {history.redo_text.lower()}\tCtrl+Shift+Z", self.work.redo)
        redo.setEnabled(bool(history.redo_text))
        menu.addSeparator()
        menu.addAction("Preferences …\tCtrl+,", self.preferences.open)
        menu.addAction("Help\tF1", self.open_page)
        menu.addAction("Keys\tShift+F1", self.keys.open)
        return menu

    # --- benches and steps

    @property
    def bench(self) -> str:
        """Name of the bench that is shown."""
        return next(n for n, b in self.benches.items() if b is self._stack.currentWidget())

    def show_bench(self, name: str) -> Bench:
        """Show a bench as it stands, and give it."""
        left, bench = self.benches[self.bench], self.benches[name]
        if left is not bench:
            left.show_start()  # a bench that is not seen follows nothing
            left.leave()
        bench.fill()
        self._stack.setCurrentWidget(bench)
        if left is not bench:
            bench.arrive()
        self.header.mark_bench(name)
        return bench

    def go_to_bench(self, name: str) -> None:
        """Turn to a bench for something new."""
        self._chosen_later.stop()
        self.work.set_draft(None)
        self.show_bench(name).enter(self.work.chosen_ref)

    def begin_step(self, kind: str, place: tuple[float, float] | None = None) -> None:
        """Begin a new step of a kind on its bench, at a place where one is given."""
        declared = step_kind(kind)
        if declared.opens and not declared.hears:
            self.files.ask_open()
            return
        self._chosen_later.stop()
        bench = self.show_bench(declared.bench)
        bench.begin(kind, place)
        bench.focus_first()

    def _on_chosen(self) -> None:
        chosen, current = self.work.chosen_ref, self.benches[self.bench]
        self.work.set_draft(None)
        if not chosen:
            current.show_start()
        elif current.takes(chosen):
            current.change(chosen)
        else:
            self.show_bench(self.work.study.step(chosen).declared.bench).change(chosen)

    def show_drawer(self, name: str) -> None:
        """Open a view beside the plan, or close them with ``plan``."""
        self.views.show_view(name)

    def _escape(self) -> None:
        if not self.preferences.isHidden():
            self.preferences.hide()
            return
        if self.plan.view.go_back():
            return
        if self.search_box.popup.isVisible():
            self.search_box.leave()
        elif self.views.comparing:
            self.views.end_comparing()
        elif self.work.draft is not None:
            self.benches[self.bench].drop()
        else:
            self.work.choose("")

    def _keep_picture(self) -> None:
        """Keep how the plan looks with the study that was saved."""
        if self.work.path is not None:
            self.work.recents.keep_picture(self.work.path, self.plan.view.render_image(*_PICTURE))

    def _toggle_compare(self) -> None:
        (self.views.end_comparing if self.views.comparing else self.views.begin_comparing)()

    def _tell_difference(self, kind: str, inputs: dict[str, str]) -> None:
        """Begin the step that tells what two results differ by."""
        self.begin_step(kind)
        self.benches[self.bench].take_inputs(inputs)

    def _set_classes(self, ref: str, settings: dict[str, Any]) -> None:
        """Begin the step that gives another class to points that were drawn around."""
        kind = keeper("lasso")
        self.begin_step(kind.kind)
        bench = self.benches[self.bench]
        bench.take_settings(settings)
        bench.take_inputs({kind.inputs[0].name: ref})

    def _to_sheet(self, way: str) -> None:
        """Turn to one of the ways of handing on."""
        self.go_to_bench("sheet")
        self.benches["sheet"].show_way(way)

    def _hand_on(self, ref: str) -> None:
        self.work.choose(ref)
        self.go_to_bench("sheet")
        self.benches["sheet"].offer(ref)

    def _hand_on_now(self) -> None:
        """Ask where the chosen result goes, whatever the bench."""
        sheet = self.benches["sheet"]
        sheet.change(self.work.chosen_ref)
        sheet.ask_any()

    def _record(self, ref: str) -> None:
        self._hand_on(ref)
        self.benches["sheet"].ask_record()

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
                self.files.open_path(Path(url.toLocalFile()))
        event.acceptProposedAction()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Close what floats over the window."""
        self.search_box.popup.hide()
        self.keys.hide()
        self.preferences.hide()
        self.trail.give_room(self.height() < _LOW)
        super().resizeEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Ask about unsaved changes."""
        if not self.files.may_leave():
            event.ignore()
            return
        self.block.stage.close()
        place = place_of(self)
        self.work.files.ask(lambda: keep_place(place), lambda _: None)
        self.work.close()
        event.accept()

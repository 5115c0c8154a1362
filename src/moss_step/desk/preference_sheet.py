"""Preferences: units of the study, size of text, colours, memory and copies."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QLineEdit, QWidget

from moss_step.desk.overlay import Overlay
from moss_step.desk.parts import button, label
from moss_step.desk.plain import set_tip
from moss_step.desk.preferences import LONGEST
from moss_step.desk.work import Work
from moss_step.desk.workers import CLUSTER
from moss_step.model.errors import MossError
from moss_step.scene.ramps import ramp_names

_NEXT_START = "Holds from the next start on."
_LENGTHS = (("As measured", ""), ("Metres", "metre"), ("Feet", "foot"), ("US survey feet", "us_survey_foot"))
_AREAS = (
    ("By their size", ""),
    ("Square metres", "m2"),
    ("Hectares", "ha"),
    ("Square kilometres", "km2"),
    ("Acres", "acre"),
)
_TEXT = tuple((f"{n} %", n) for n in (100, 125, 150, 175, 200))
_WINDOW = (("Light", "light"), ("Dark", "dark"))
_MEMORY = (
    ("Half of what is free", 0.0),
    *((f"{n} GB", float(n)) for n in (1, 2, 4, 8, 16, 32, 64)),
)
_COPIES = (
    ("1.5 seconds after a change", 1.5),
    ("5 seconds after a change", 5.0),
    ("30 seconds after a change", 30.0),
    ("2 minutes after a change", 120.0),
)

_WORKERS = (
    ("This program", 0),
    *((f"{n} workers of this machine", n) for n in (2, 4, 8, 16)),
    ("A cluster that runs", CLUSTER),
)

Options = Sequence[tuple[str, object]]


class PreferenceSheet(Overlay):
    """An overlay of all that is preferred; what is chosen holds at once, or says when it does."""

    def __init__(self, work: Work, parent: QWidget) -> None:
        body = QWidget()
        super().__init__(parent, "Preferences", body)
        self.work = work
        self._grid = QGridLayout(body)
        self._grid.setContentsMargins(24, 18, 24, 18)
        self._grid.setHorizontalSpacing(20)
        self._grid.setVerticalSpacing(8)
        self.boxes: dict[str, QComboBox] = {}
        self._head("This study")
        self._add("length_unit", "Lengths and heights", _LENGTHS, self._set_unit)
        self._add("area_unit", "Areas", _AREAS, self._set_unit)
        self._head("The window")
        self._add("text", "Size of text", _TEXT, self._prefer, _NEXT_START)
        self._add("window", "Colours", _WINDOW, self._prefer, _NEXT_START)
        ramps = (("Those of the set", ""), *((n.capitalize(), n) for n in ramp_names()))
        self._add("class_ramp", "Colours of new class sets", ramps, self._prefer)
        self._head("Memory and copies")
        self._add("gigabytes", "Memory for results", _MEMORY, self._prefer)
        self._add("copy_after", "Unsaved work is copied", _COPIES, self._prefer)
        self._head("Grounds too large for memory")
        self._add("workers", "Tiles are worked on by", _WORKERS, self._prefer_workers)
        self.scheduler = self._line("scheduler", "Scheduler", "tcp://HOST:PORT")
        self.shared = self._line("shared", "Folder that all workers see", "such as /shared/work")
        self.workers = label("", "muted")
        self.workers.setWordWrap(True)
        self.workers.setMinimumHeight(3 * self.workers.fontMetrics().lineSpacing())
        self.look = button("Ask the workers", "Ask the workers of the cluster who they are", self._look)
        row = self._grid.rowCount()
        self._grid.addWidget(self.look, row, 0, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        self._grid.addWidget(self.workers, row, 1)
        work.workers.changed.connect(self._show_workers)
        done = button("Done", "Close the preferences (Escape)", self.hide, "main")
        self._grid.addWidget(done, self._grid.rowCount(), 1, Qt.AlignmentFlag.AlignRight)
        work.changed.connect(self.refresh)

    def _head(self, text: str) -> None:
        row = self._grid.rowCount()
        self._grid.addWidget(label(text, "head" if row > 1 else "title"), row, 0, 1, 2)

    def _add(
        self, name: str, title: str, options: Options, chosen: Callable[[str], None], note: str = ""
    ) -> None:
        row, box, said = self._grid.rowCount(), QComboBox(), QLabel(title)
        for text, value in options:
            box.addItem(text, value)
        box.setAccessibleName(title)
        box.setMinimumWidth(220)
        set_tip(box, f"{title}. {note}".strip(". ") + ".")
        said.setBuddy(box)
        box.activated.connect(lambda _: chosen(name))
        self.boxes[name] = box
        self._grid.addWidget(said, row, 0)
        self._grid.addWidget(box, row, 1)
        if note:
            self._grid.addWidget(label(note, "muted"), row + 1, 1)

    def _line(self, name: str, title: str, example: str) -> QLineEdit:
        row, line, said = self._grid.rowCount(), QLineEdit(), QLabel(title)
        line.setPlaceholderText(example)
        line.setMaxLength(LONGEST[name])
        line.setAccessibleName(title)
        said.setBuddy(line)
        line.editingFinished.connect(lambda: self._take_line(name, line.text().strip()))
        self._grid.addWidget(said, row, 0)
        self._grid.addWidget(line, row, 1)
        return line

    # --- showing and taking

    def open(self) -> None:
        """Show it in the middle of the window."""
        self.refresh()
        super().open()
        self.boxes["length_unit"].setFocus()

    def refresh(self) -> None:
        """Show what holds; a value that is none of the usual ones gets a line of its own."""
        held = {
            **self.work.preferences.model_dump(),
            "length_unit": self.work.study.length_unit,
            "area_unit": self.work.study.area_unit,
        }
        for name, box in self.boxes.items():
            at = box.findData(held[name])
            if at < 0:
                box.addItem(str(held[name]), held[name])
                at = box.count() - 1
            box.setCurrentIndex(at)
        for line, text in ((self.scheduler, held["scheduler"]), (self.shared, held["shared"])):
            if not line.hasFocus():
                line.setText(str(text))
        self._show_workers()

    def _show_workers(self) -> None:
        elsewhere = self.work.preferences.workers == CLUSTER
        for widget in (self.scheduler, self.shared, self.look):
            widget.setEnabled(elsewhere)
        self.workers.setText(self.work.workers.state)

    def _prefer_workers(self, name: str) -> None:
        self.work.workers.found("")
        self._prefer(name)
        self._show_workers()

    def _take_line(self, name: str, text: str) -> None:
        if getattr(self.work.preferences, name) != text:
            self.work.workers.found("")
            self.work.prefer(**{name: text})
            self._show_workers()

    def _look(self) -> None:
        """Ask the workers, in another thread."""
        workers = self.work.workers
        workers.found("They are being asked.")
        self.work.helper.ask(lambda: workers.look(workers.place()), self._told)

    def _told(self, answer: str | MossError) -> None:
        self.work.workers.found(str(answer))

    def _set_unit(self, name: str) -> None:
        study, value = self.work.study, self.boxes[name].currentData()
        if getattr(study, name) != value:
            self.work.do(study.model_copy(update={name: value}), "Change the units")

    def _prefer(self, name: str) -> None:
        self.work.prefer(**{name: self.boxes[name].currentData()})

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes."""
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)

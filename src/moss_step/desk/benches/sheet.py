"""The Sheet bench: pages to hand on, results in open formats, and the study as a whole."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from moss_step.desk.benches.bench import Bench
from moss_step.desk.benches.panel import heading
from moss_step.desk.benches.sheet_data import DataPanel
from moss_step.desk.benches.sheet_pages import PagesPanel
from moss_step.desk.benches.sheet_study import StudyPanel
from moss_step.desk.parts import Choices
from moss_step.desk.work import Work

PAGES, DATA, STUDY = "pages", "data", "study"


class SheetBench(Bench):
    """Shows the page over the plan, or offers results to be written."""

    name = "sheet"

    def __init__(self, work: Work, name: str) -> None:
        super().__init__(work, name)
        self.pages, self.data, self.whole = PagesPanel(work), DataPanel(work), StudyPanel(work)
        self.parts: dict[str, QWidget] = {PAGES: self.pages, DATA: self.data, STUDY: self.whole}
        ways = [
            (PAGES, "Page", "A page with plan, key, figures and lineage"),
            (DATA, "Data", "Results in open formats"),
            (STUDY, "Study", "The study as a parcel, as a script, and its lineage"),
        ]
        self.ways = Choices(ways, per_row=len(ways), name="What is handed on")
        self.ways.picked.connect(self.show_way)
        self._stack = QStackedWidget()
        for part in self.parts.values():
            self._stack.addWidget(part)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 14, 18, 14)
        layout.setSpacing(10)
        layout.addWidget(heading("What do you hand on?", ""))
        layout.addWidget(self.ways)
        layout.addWidget(self._stack, 1)
        self.pages.page_wanted.connect(self.page_wanted)
        self.data.picture_wanted.connect(self.picture_wanted)
        self.ways.set(PAGES)

    def show_way(self, way: str) -> None:
        """Show pages, or data."""
        self.ways.set(way)
        self._stack.setCurrentWidget(self.parts[way])
        self.pages.turn_on(way == PAGES)

    def enter(self, chosen: str) -> None:
        """Show what was shown last, with the chosen result."""
        self.data.choose(chosen)
        self.show_way(self.ways.value or PAGES)

    def arrive(self) -> None:
        """Lay the page over the plan again."""
        self.pages.turn_on(self.ways.value == PAGES)

    def leave(self) -> None:
        """Another bench is shown: the plan comes back."""
        self.pages.turn_on(False)

    def takes(self, ref: str) -> bool:
        """It hands on the results of all benches."""
        return True

    def change(self, ref: str) -> None:
        """Offer a result."""
        self.data.choose(ref)

    def offer(self, ref: str) -> None:
        """Offer a result in open formats."""
        self.data.choose(ref)
        self.show_way(DATA)

    def ask_any(self) -> None:
        """Ask where the chosen result goes, in any of its formats, and write it."""
        self.data.ask_any()

    def ask_record(self) -> None:
        """Ask where the lineage goes, and write it."""
        self.data.ask_record()

    # --- what is handed on, for those who have the bench

    @property
    def ref(self) -> str:
        """The chosen result."""
        return self.data.ref

    def choose(self, ref: str) -> None:
        """Choose the result to hand on."""
        self.data.choose(ref)

    def write(self, path: Path) -> None:
        """Write the chosen result in the format of the ending."""
        self.data.write(path)

    def write_record(self, path: Path) -> None:
        """Write the chosen result's lineage."""
        self.data.write_record(path)

    def write_picture(self, path: Path) -> None:
        """Write the plan's picture."""
        self.data.write_picture(path)

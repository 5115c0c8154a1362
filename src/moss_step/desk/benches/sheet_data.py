"""Data on the Sheet bench: results in open formats, their record, and the plan as a picture."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QScrollArea, QVBoxLayout, QWidget

from moss_step.desk.parts import Facts, Later, button, clear, label, line
from moss_step.desk.work import Work
from moss_step.formats.whole import write_text
from moss_step.kinds.registry import kind_of
from moss_step.study.graph import file_name
from moss_step.study.record import lineage

_FORMATS = {
    ".tif": "GeoTIFF",
    ".asc": "ASCII grid",
    ".nc": "NetCDF",
    ".csv": "Table, CSV",
    ".gpkg": "GeoPackage",
    ".geojson": "GeoJSON",
    ".fgb": "FlatGeobuf",
}


class DataPanel(QWidget):
    """Chooses a result and writes it, its record, or the plan."""

    picture_wanted = Signal(object)
    """A picture of the plan is to be written to a path."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        body = QWidget()
        self._layout = QVBoxLayout(body)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(10)
        self.result = QComboBox()
        self.result.setAccessibleName("Result to hand on")
        self.result.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.result.currentIndexChanged.connect(lambda _: self._show_formats())
        self._facts = Facts()
        self._formats = QWidget()
        self._formats_layout = QVBoxLayout(self._formats)
        self._formats_layout.setContentsMargins(0, 0, 0, 0)
        self._formats_layout.setSpacing(6)
        for part in (
            self.result,
            self._facts,
            self._formats,
            line(),
            label("The plan as it is shown", "head"),
            button(
                "Picture of the plan, PNG", "With name, key and scale bar", self._ask_picture, "main", "image"
            ),
        ):
            self._layout.addWidget(part)
        self._layout.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(body)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scroll)
        later = Later(lambda: self.refresh() if self.isVisible() else None, self, after=45)
        work.published.connect(later.ask)
        self.refresh()

    def refresh(self) -> None:
        """List the results that are there."""
        done = [ref for step in self.work.study.steps for ref in step.refs if self.work.said(ref) is not None]
        names = [self.work.study.name_of(i) for i in done]
        listed = [(self.result.itemData(i), self.result.itemText(i)) for i in range(self.result.count())]
        if listed == list(zip(done, names, strict=True)):
            return
        current = self.result.currentData()
        self.result.blockSignals(True)
        self.result.clear()
        for ref, name in zip(done, names, strict=True):
            self.result.addItem(name, ref)
        self.result.setCurrentIndex(max(self.result.findData(current), 0))
        self.result.blockSignals(False)
        self._show_formats()

    def choose(self, ref: str) -> None:
        """Choose the result to hand on."""
        self.refresh()
        self.result.setCurrentIndex(max(self.result.findData(ref), 0))

    @property
    def ref(self) -> str:
        """The chosen result."""
        return str(self.result.currentData() or "")

    def write(self, path: Path) -> None:
        """Write the chosen result in the format of the ending."""
        self.work.hand_on(self.ref, path)

    def write_record(self, path: Path) -> None:
        """Write the chosen result's lineage."""
        study, ref, engine = self.work.study, self.ref, self.work.engine
        self.work.write(lambda: write_text(path, lineage(study, ref, engine)), path)

    def write_picture(self, path: Path) -> None:
        """Write the plan's picture."""
        self.picture_wanted.emit(path)

    def ask_record(self) -> None:
        """Ask where the record goes, and write it."""
        path = self.work.folder.ask_save(
            self, "Write the lineage", self._proposal(".txt"), "Text (*.txt *.md)", ".txt"
        )
        if path is not None:
            self.write_record(path)

    def _show_formats(self) -> None:
        clear(self._formats_layout)
        outcome = self.work.outcome(self.ref) if self.ref else None
        if outcome is None:
            self._facts.show_rows([])
            self._formats_layout.addWidget(
                label("Nothing to hand on yet. Open a grid in Gather first.", "muted", wrap=True)
            )
            return
        self._facts.show_rows([("Figure", self.work.study.telling.figure(outcome.figure))])
        for ending in kind_of(outcome.value).endings:
            if ending in _FORMATS:
                text = _FORMATS[ending]
                self._formats_layout.addWidget(
                    button(
                        text, f"Write it as {ending}", partial(self._ask, ending), picture="download-simple"
                    )
                )
        self._formats_layout.addWidget(
            button(
                "Its lineage, text",
                "How it came about: steps, settings, sources",
                self.ask_record,
                picture="file-text",
            )
        )

    def ask_any(self) -> None:
        """Ask where the chosen result goes, in any of its formats, and write it."""
        outcome = self.work.outcome(self.ref) if self.ref else None
        if outcome is None:
            self.work.message.emit("Choose a result to hand on first.", True)
            return
        endings = kind_of(outcome.value).endings
        kinds = ";;".join(f"{_FORMATS.get(e, e[1:].upper())} (*{e})" for e in endings)
        self._ask_kinds(endings[0], kinds)

    def _ask(self, ending: str) -> None:
        self._ask_kinds(ending, f"*{ending}")

    def _ask_kinds(self, ending: str, kinds: str) -> None:
        path = self.work.folder.ask_save(self, "Hand on", self._proposal(ending), kinds, ending)
        if path is not None:
            self.write(path)

    def _ask_picture(self) -> None:
        proposal = f"{file_name(self.work.study.name)}.png"
        path = self.work.folder.ask_save(self, "Picture of the plan", proposal, "PNG (*.png)", ".png")
        if path is not None:
            self.write_picture(path)

    def _proposal(self, ending: str) -> str:
        return file_name(self.work.study.name_of(self.ref)) + ending

"""Data on the Sheet bench: results in open formats, their record, and the plan as a picture."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from moss_step.desk.parts import Facts, Later, button, clear, label, line, row, scrolled, tool_menu
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.drawing import shape_color
from moss_step.desk.work import Work
from moss_step.formats.whole import write_text
from moss_step.kinds.registry import kind_named, kind_of
from moss_step.scene.bundle import Entry, hand_on_several
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
    ".shp": "Shapefile",
    ".parquet": "Parquet",
    ".xlsx": "Spreadsheet",
    ".laz": "LAZ",
    ".las": "LAS",
    ".ply": "Mesh, PLY",
    ".obj": "Mesh, OBJ",
    ".glb": "Mesh, glTF",
    ".xml": "LandXML",
    ".txt": "Text",
}
_USUAL, _LIST = 4, 128
"""Formats of a result that have a button of their own; the others are chosen in one
list; and pixels of the list of several results.
"""


class DataPanel(QWidget):
    """Chooses a result and writes it, its record, or the plan."""

    picture_wanted = Signal(object)
    """A picture of the plan is to be written to a path."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        body = QWidget()
        self._layout = QVBoxLayout(body)
        self._layout.setContentsMargins(0, 0, 6, 0)
        self._layout.setSpacing(9)
        self.result = QComboBox()
        self.result.setAccessibleName("Result to hand on")
        self.result.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.result.currentIndexChanged.connect(lambda _: self._show_formats())
        self._facts = Facts()
        self.several = QListWidget()
        self.several.setAccessibleName("Results to hand on together")
        self.several.setFixedHeight(_LIST)
        set_tip(
            self.several, "Tick the results that go together: into a folder, or one GeoPackage, with an index"
        )
        self.all_button = button("All", "Tick all results, or none", self.tick_all)
        self.chosen_formats: dict[str, str] = {}
        self.formats_button = tool_menu("Formats", "The format of each kind of result", [])
        self.formats_button.menu().aboutToShow.connect(self._fill_formats)
        self.folder_button = button(
            "Into a folder",
            "A file for each, with styles, lineage and an index",
            self.ask_folder,
            picture="download-simple",
        )
        self.package_button = button(
            "Into one GeoPackage",
            "Shapes, tables and grids as its layers",
            self.ask_package,
            picture="download-simple",
        )
        self._formats = QWidget()
        self._formats_layout = QGridLayout(self._formats)
        self._formats_layout.setContentsMargins(0, 0, 0, 0)
        self._formats_layout.setSpacing(6)
        for part in (
            self.result,
            self._facts,
            self._formats,
            line(),
            label("Several at once", "head"),
            self.several,
            row(self.all_button, self.formats_button, self.folder_button, gap=4, grows=self.folder_button),
            self.package_button,
            line(),
            label("The plan as it is shown", "head"),
            button(
                "Picture of the plan, PNG", "With name, key and scale bar", self._ask_picture, "main", "image"
            ),
        ):
            self._layout.addWidget(part)
        self._layout.addStretch(1)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scrolled(body))
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
        self._list_several(done, names)
        current = self.result.currentData()
        self.result.blockSignals(True)
        self.result.clear()
        for ref, name in zip(done, names, strict=True):
            self.result.addItem(name, ref)
        self.result.setCurrentIndex(max(self.result.findData(current), 0))
        self.result.blockSignals(False)
        self._show_formats()

    def _list_several(self, refs: list[str], names: list[str]) -> None:
        """List the results that can go together; what is ticked stays so."""
        ticked = set(self.ticked)
        self.several.clear()
        for ref, name in zip(refs, names, strict=True):
            item = QListWidgetItem(name)
            item.setData(Qt.ItemDataRole.UserRole, ref)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if ref in ticked else Qt.CheckState.Unchecked)
            self.several.addItem(item)

    def _fill_formats(self) -> None:
        """Offer the formats of each kind of result that is ticked."""
        menu = self.formats_button.menu()
        menu.clear()
        study = self.work.study
        for name in sorted({study.result(ref).gives for ref in self.ticked}):
            kind, of = kind_named(name), menu.addMenu(kind_named(name).noun.split(" ", 1)[-1].capitalize())
            held = self.chosen_formats.get(name, kind.endings[0])
            for ending in kind.written_as:
                action = of.addAction(f"{_FORMATS.get(ending, ending[1:].upper())} ({ending})")
                action.setCheckable(True)
                action.setChecked(ending == held)
                action.triggered.connect(partial(self.chosen_formats.__setitem__, name, ending))
        if menu.isEmpty():
            menu.addAction("Tick results first").setEnabled(False)

    @property
    def ticked(self) -> list[str]:
        """The results that are ticked, in the order of the steps."""
        items = [self.several.item(k) for k in range(self.several.count())]
        return [
            str(i.data(Qt.ItemDataRole.UserRole)) for i in items if i.checkState() == Qt.CheckState.Checked
        ]

    def tick_all(self) -> None:
        """Tick all results, or none where all are."""
        whole = len(self.ticked) == self.several.count()
        for k in range(self.several.count()):
            self.several.item(k).setCheckState(Qt.CheckState.Unchecked if whole else Qt.CheckState.Checked)

    def ask_folder(self) -> None:
        """Ask for the name of a folder, and hand the ticked results on into it."""
        proposal = file_name(self.work.study.name)
        path = self.work.folder.ask_save(self, "Name of the folder", proposal, "Folder (*)", "")
        if path is not None:
            self.write_several(path)

    def ask_package(self) -> None:
        """Ask where the GeoPackage goes, and hand the ticked results on into it."""
        proposal = f"{file_name(self.work.study.name)}.gpkg"
        path = self.work.folder.ask_save(self, "Hand on", proposal, "GeoPackage (*.gpkg)", ".gpkg")
        if path is not None:
            self.write_several(path)

    def write_several(self, path: Path) -> None:
        """Hand the ticked results on, beside the window's thread."""
        work, study, refs = self.work, self.work.study, self.ticked
        order, formats = work.now.shape_order, dict(self.chosen_formats)
        colors = {ref: shape_color(order.get(ref, 0)) for ref in refs}

        def tell(answer: list[Entry]) -> None:
            said = sum(bool(e.remarks) for e in answer)
            more = f" {said} with a note: see the index." if said else ""
            work.message.emit(f"Written: {len(answer)} results, with their index, in {path}.{more}", False)

        work.ask_long(
            lambda progress: hand_on_several(study, refs, path, work.engine, formats, colors, progress),
            tell,
        )

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
            said = "Nothing to hand on yet. Open a grid in Gather first."
            self._formats_layout.addWidget(label(said, "muted", wrap=True), 0, 0)
            return
        self._facts.show_rows([("Figure", self.work.study.telling.figure(outcome.figure))])
        endings = [e for e in kind_of(outcome.value).written_as if e in _FORMATS]
        parts: list[QWidget] = [
            button(_FORMATS[e], f"Write it as {e}", partial(self._ask, e), picture="download-simple")
            for e in endings[:_USUAL]
        ]
        if endings[_USUAL:]:
            more = [(f"{_FORMATS[e]} ({e})", partial(self._ask, e)) for e in endings[_USUAL:]]
            parts.append(tool_menu("More formats", "Other open formats it is written in", more))
        said = "How it came about: steps, settings, sources"
        parts.append(button("Its lineage, text", said, self.ask_record, picture="file-text"))
        for k, part in enumerate(parts):
            self._formats_layout.addWidget(part, k // 2, k % 2)

    def ask_any(self) -> None:
        """Ask where the chosen result goes, in any of its formats, and write it."""
        outcome = self.work.outcome(self.ref) if self.ref else None
        if outcome is None:
            self.work.message.emit("Choose a result to hand on first.", True)
            return
        endings = kind_of(outcome.value).written_as
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

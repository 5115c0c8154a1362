"""The table drawer under the plan: sort, filter, select, go to, copy, hand on."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import shapely
from PySide6.QtCore import QItemSelection, QItemSelectionModel, QModelIndex, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QColorDialog,
    QHBoxLayout,
    QLineEdit,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from moss_step.desk.chart import LineChart
from moss_step.desk.parts import Elided, Later, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.table.curves import CurvesView
from moss_step.desk.table.model import RowsModel
from moss_step.desk.work import Work
from moss_step.formats.dictionary import write_columns
from moss_step.formats.vector import in_system, write_shapes
from moss_step.kinds.registry import kind_of
from moss_step.model.chart import Chart
from moss_step.model.frame import Box
from moss_step.model.shapes import Shapes
from moss_step.model.telling import USUAL
from moss_step.scene.colors import MOSS
from moss_step.science.zones.choose import numbers_text
from moss_step.steps.catalogue import keeper
from moss_step.steps.fields import names_of, names_text
from moss_step.study.graph import KeyRow

_MOST_MARKED = 5000


class Rows(QTableView):
    """A table view that copies its selection."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Copy by the usual key."""
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        else:
            super().keyPressEvent(event)

    def copy(self) -> None:
        """Put the selected rows on the clipboard, with tabs."""
        model = self.model()
        rows = sorted({i.row() for i in self.selectedIndexes()})
        lines = ["\t".join(str(model.index(r, c).data()) for c in range(model.columnCount())) for r in rows]
        QApplication.clipboard().setText("\n".join(lines))


class TableDrawer(QWidget):
    """Shows the rows of the chosen result; what is selected is marked on the plan."""

    marked = Signal(object)
    """Shapes that are selected, as an array of geometries."""
    box_wanted = Signal(object)
    """A part of the plan to show."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.setObjectName("panel")
        self.setAccessibleName("Table")
        self.model, self.rows = RowsModel(self), Rows()
        self._shapes: Shapes | None = None
        self._curves: Chart | None = None
        self._shown: tuple[object, object] = (None, USUAL)
        self.title, self.summary = Elided("", "head"), Elided("", "muted")
        self.filter_edit = QLineEdit()
        self.filter_edit.setPlaceholderText("Filter: a text, or a condition such as mean > 20")
        self.filter_edit.setAccessibleName("Filter rows")
        self.filter_edit.setMinimumWidth(60)
        self.filter_edit.setMaximumWidth(290)
        self.filter_edit.returnPressed.connect(self._filter)
        self._set_up_rows()
        head = QHBoxLayout()
        head.setContentsMargins(14, 6, 10, 4)
        head.addWidget(self.title, 2)
        head.addWidget(self.summary, 4)
        head.addWidget(self.filter_edit, 2)
        for part in (
            tool("crosshair", "Show the selected rows on the plan", self.go_to),
            tool("chart-line", "Chart of the column, or the curves of a chart", self._toggle_chart),
            tool("polygon", "Keep the selected shapes as a step of their own", self.keep_selected),
            tool("eye", "Hide the selected shapes on the plan, or show them again", self.hide_selected),
            tool("sun", "Give the selected shapes a colour of their own", self._ask_color),
            tool("copy", "Copy the selected rows", self.rows.copy),
            tool("download-simple", "Hand on the rows that are shown", self._ask),
        ):
            head.addWidget(part)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        self._body = QHBoxLayout()
        self._body.addWidget(self.rows, 1)
        layout.addLayout(self._body, 1)
        self.chart: LineChart | None = None
        self.curves: CurvesView | None = None
        later = Later(self.refresh, self, after=20)
        work.published.connect(later.ask)

    def _set_up_rows(self) -> None:
        self.rows.setModel(self.model)
        self.rows.setSortingEnabled(True)
        self.rows.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.rows.setEditTriggers(
            QAbstractItemView.EditTrigger.EditKeyPressed | QAbstractItemView.EditTrigger.SelectedClicked
        )
        self.model.renamed.connect(self._rename)
        self.rows.setWordWrap(False)
        self.rows.verticalHeader().setDefaultSectionSize(24)
        self.rows.horizontalHeader().setDefaultSectionSize(120)
        self.rows.doubleClicked.connect(self._on_double)
        self.rows.selectionModel().selectionChanged.connect(lambda *_: self._on_selected())

    def refresh(self) -> None:
        """Show the rows of the chosen result, or of the topmost shapes of the Key."""
        if not self.isVisible():
            return
        step_id = self._source()
        outcome, telling = self.work.outcome(step_id) if step_id else None, self.work.study.telling
        if (outcome, telling) == self._shown:
            return
        self._shown = (outcome, telling)
        self._shapes = outcome.of(Shapes) if outcome else None
        self._curves = outcome.of(Chart) if outcome else None
        listed = kind_of(outcome.value).columns if outcome else None
        columns, symbols = listed(outcome) if outcome and listed else ({}, {})
        self.model.names_can_change = (
            bool(step_id) and "names" in self.work.study.step(step_id).declared.settings.model_fields
        )
        self.model.show_columns(columns, symbols, telling)
        self.title.setText(self.work.study.name_of(step_id) if step_id else "Choose a result that has rows")
        self.filter_edit.clear()
        self._say()
        self._show_curves()
        self._draw_chart()

    def _source(self) -> str:
        ids = [self.work.chosen_ref, *(k.step for k in self.work.study.key)]
        for ref in ids:
            outcome = self.work.outcome(ref) if ref else None
            if outcome is not None and kind_of(outcome.value).columns is not None:
                return ref
        return ""

    # --- selection

    @property
    def selected(self) -> np.ndarray:
        """Rows of the columns that are selected."""
        places = [i.row() for i in self.rows.selectionModel().selectedRows()]
        return self.model.order[places] if places else np.empty(0, np.int64)

    def select(self, row: int) -> None:
        """Select a row of the columns, and show it."""
        place = self.model.place_of(row)
        if place is None:
            return
        whole = QItemSelection(
            self.model.index(place, 0), self.model.index(place, self.model.columnCount() - 1)
        )
        self.rows.selectionModel().select(whole, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        self.rows.scrollTo(self.model.index(place, 0))

    def select_at(self, x: float, y: float, reach: float) -> None:
        """Select the shape at a place of the plan; the nearest within ``reach`` when none holds it."""
        if self._shapes is None or not len(self._shapes):
            return
        frame = self.work.frame
        geometry = in_system(self._shapes, frame.crs if frame else None).geometry
        distances = shapely.distance(geometry, shapely.Point(x, y))
        nearest = int(np.argmin(distances))
        if distances[nearest] <= reach:
            self.select(nearest)

    def _on_double(self, index: QModelIndex) -> None:
        """Show the row on the plan; a cell that can be typed in is for typing."""
        if not self.model.flags(index) & Qt.ItemFlag.ItemIsEditable:
            self.go_to()

    def go_to(self) -> None:
        """Show the selected shapes on the plan."""
        geometry = self._geometry()
        if geometry is not None and len(geometry):
            xmin, ymin, xmax, ymax = shapely.total_bounds(geometry)
            pad = max(xmax - xmin, ymax - ymin) * 0.2 or 50.0
            box: Box = (xmin - pad, ymin - pad, xmax + pad, ymax + pad)
            self.box_wanted.emit(box)

    def _geometry(self) -> np.ndarray | None:
        if self._shapes is None:
            return None
        frame = self.work.frame
        moved = in_system(self._shapes, frame.crs if frame else None)
        return np.asarray(moved.geometry[self.selected[:_MOST_MARKED]])

    def _on_selected(self) -> None:
        self._say()
        self._draw_chart()
        self.marked.emit(self._geometry())

    def _say(self) -> None:
        """Number of rows, and sum and mean of the selection in the current column."""
        rows, total = self.model.rowCount(), len(next(iter(self.model.columns.values()), ()))
        parts = (
            [f"{rows:,} of {total:,} rows".replace(",", " ")]
            if rows != total
            else [f"{total:,} row{'s' if total != 1 else ''}".replace(",", " ")]
        )
        chosen = self.selected
        if chosen.size:
            parts.append(f"{chosen.size:,} selected")
            name = self._column()
            values = self.model.columns[name][chosen].astype(np.float64) if name else np.empty(0)
            known = values[~np.isnan(values)]
            if known.size:
                sum_text, mean_text = (self.model.text(name, v) for v in (known.sum(), known.mean()))
                parts.append(f"{self.model.head(name)}: sum {sum_text}, mean {mean_text}")
        self.summary.setText(" · ".join(parts))

    # --- chart and keeping

    def _show_curves(self) -> None:
        """Curves are drawn beside the rows of a chart at once."""
        if self._curves is None:
            if self.curves is not None:
                self.curves.hide()
            return
        if self.curves is None:
            self.curves = CurvesView(self.work)
            self._body.addWidget(self.curves, 2)
        if self.chart is not None:
            self.chart.hide()
        self.curves.show_chart(self._curves, self.work.study.telling)
        self.curves.show()

    def _toggle_chart(self) -> None:
        if self.curves is not None and self._curves is not None:
            self.curves.setVisible(self.curves.isHidden())
            return
        if self.chart is None:
            self.chart = LineChart("value", "rows")
            self.chart.offer(self.work, "column", self.chart.held)
            self.chart.setFixedWidth(420)
            self._body.addWidget(self.chart)
            self.chart.show()
        else:
            self.chart.setVisible(self.chart.isHidden())
        self._draw_chart()

    def _draw_chart(self) -> None:
        """Draw how often values of the current column occur among the rows shown."""
        if self.chart is None or self.chart.isHidden():
            return
        name = self._column()
        values = self.model.columns[name][self.model.order].astype(np.float64) if name else np.empty(0)
        known = values[np.isfinite(values)]
        counts, edges = np.histogram(known, bins=min(40, max(5, int(np.sqrt(known.size)))))
        self.chart.show_bars(edges, counts)
        self.chart.show_titles(name.replace("_", " ") or "no column of numbers", "rows")

    def _column(self) -> str:
        """The current column when it holds numbers, else the last that does; empty when none does."""
        numeric = [n for n, v in self.model.columns.items() if v.dtype.kind in "iuf"]
        at = self.rows.currentIndex().column()
        current = self.model.column_name(at) if at >= 0 else ""
        return current if current in numeric else (numeric[-1] if numeric else "")

    def hide_selected(self) -> None:
        """Hide the selected shapes on the plan; show them again when all of them are hidden."""
        row, chosen = self._key_row(), {int(k) for k in self.selected}
        if row is not None:
            hidden = set(row.hidden) - chosen if chosen <= set(row.hidden) else set(row.hidden) | chosen
            self._set_row(row.model_copy(update={"hidden": tuple(sorted(hidden))}), "Show or hide shapes")

    def paint_selected(self, color: str) -> None:
        """Give the selected shapes a colour of their own."""
        row, chosen = self._key_row(), {int(k) for k in self.selected}
        if row is not None:
            kept = [(k, c) for k, c in row.paint if k not in chosen]
            self._set_row(
                row.model_copy(update={"paint": (*kept, *((k, color) for k in sorted(chosen)))}),
                "Colour shapes",
            )

    def _key_row(self) -> KeyRow | None:
        """The row of the Key that draws the shapes whose rows are selected; says so when there is none."""
        if self._shapes is None or not self.selected.size:
            self.work.message.emit("Select rows of shapes first.", True)
            return None
        return self.work.study.key_row(self._source()) or self.work.study.first_row(self._source())

    def _set_row(self, row: KeyRow, what: str) -> None:
        self.work.do(self.work.study.with_key_row(row), what)

    def _ask_color(self) -> None:
        if self._key_row() is not None:
            color = QColorDialog.getColor(QColor(MOSS), self, "Colour of the selected shapes")
            if color.isValid():
                self.paint_selected(color.name().upper())

    def keep_selected(self) -> None:
        """Add a step that holds the shapes whose rows are selected."""
        if self._shapes is None or not self.selected.size:
            self.work.message.emit("Select rows of shapes first.", True)
            return
        kind = keeper("rows")
        rows: dict[str, object] = {kind.setting_by("rows"): numbers_text(self.selected)}
        self.work.choose(self.work.add_step(kind.kind, {kind.inputs[0].name: self._source()}, rows))

    def _rename(self, row: int, name: str) -> None:
        """Give a basin a name: a setting of its step, so that it goes wherever the figures go."""
        step = self.work.study.step(self._source())
        names = names_text(names_of(str(step.settings.get("names") or "")) | {row + 1: name})
        self.work.do(
            self.work.study.changing(
                step.id, lambda s: s.model_copy(update={"settings": {**s.settings, "names": names}})
            ),
            "Name a basin",
        )

    # --- filter and files

    def _filter(self) -> None:
        wrong = self.model.filter(self.filter_edit.text())
        self.filter_edit.setProperty("wrong", bool(wrong))
        set_tip(self.filter_edit, wrong or "Rows that hold a text, or meet a condition")
        if wrong:
            self.work.message.emit(wrong, True)
        self._say()
        self._draw_chart()

    def _ask(self) -> None:
        kinds = "CSV, GeoPackage, GeoJSON (*.csv *.gpkg *.geojson)"
        path = self.work.folder.ask_save(self, "Hand on the rows", "rows.csv", kinds, ".csv")
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the rows that are shown, in their order; the ending chooses CSV, GeoPackage or GeoJSON."""
        order = self.model.order
        columns = {n: v[order] for n, v in self.model.columns.items()}
        shapes, symbols = self._shapes, dict(self.model.symbols)

        def write() -> None:
            if path.suffix.lower() == ".csv" or shapes is None:
                write_columns(path, columns, symbols, crs=None if shapes is None else shapes.crs)
            else:
                write_shapes(path, Shapes(shapes.geometry[order], columns, shapes.crs))

        self.work.write(write, path)

"""The panel of drawn shapes: what is drawn on the plan is listed with its vertices, and every change is kept
at once.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QVBoxLayout

from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.numbers import typed_number
from moss_step.desk.parts import Choices, button, label, row
from moss_step.desk.plan.tools.vertices import VertexTool
from moss_step.model.table import Table
from moss_step.model.words import value_text
from moss_step.scene.sketch import Sketch, Spot
from moss_step.steps.drawn import LEAST, DrawnSettings

_MOST_SNAPS, _MOST_ROWS, _ROW = 20_000, 500, 24
_HOW = {
    "points": "Click on the plan to set points.",
    "lines": "Click from vertex to vertex; double click, or Return, ends a line.",
    "areas": "Click from corner to corner; double click, Return, or the first corner ends an area.",
}
_EDIT = (
    "Pull a vertex to move it, a ring between two to bend the edge. Del takes the chosen one away; Alt "
    "does not snap."
)


class DrawPanel(StepPanel):
    """Draws and edits shapes; the first one makes the step."""

    goes_on = True

    def build(self, layout: QVBoxLayout) -> None:
        """Kind, what to do, shapes and the vertices of the chosen one."""
        self.tool: VertexTool | None = None
        self.sketch = Sketch("areas")
        self._crs: str | None = None
        self.kinds = Choices([(k, k.capitalize(), f"Draw {k}") for k in LEAST], name="Kind of shapes")
        self.kinds.picked.connect(self._use_kind)
        self.said = label("", "muted", wrap=True)
        self.said.setAccessibleName("How to draw")
        self.another = button(
            "Draw another", "Add shapes by clicks on the plan", lambda: self._take_tool(True)
        )
        self.edit = button("Edit on the plan", "Pull vertices", lambda: self._take_tool(False))
        self.names = _table("Shapes", ["Name", "Size"])
        self.names.itemSelectionChanged.connect(self._show_vertices)
        self.names.itemChanged.connect(self._rename)
        self.vertices = _table("Vertices", ["East", "North", "Height"])
        for column in (0, 1):
            self.vertices.horizontalHeader().setSectionResizeMode(
                column, QHeaderView.ResizeMode.ResizeToContents
            )
        self.vertices.itemSelectionChanged.connect(self._choose_vertex)
        self.vertices.itemChanged.connect(self._type_coordinate)
        for table, away in ((self.names, self._shape_away), (self.vertices, self._vertex_away)):
            QShortcut(
                QKeySequence(Qt.Key.Key_Delete), table, context=Qt.ShortcutContext.WidgetShortcut
            ).activated.connect(away)
        for part in (self.kinds, self.said, row(self.another, self.edit), self.names, self.vertices):
            layout.addWidget(part)

    # --- loading and keeping

    def load_settings(self, settings: dict[str, Any]) -> None:
        """Show the shapes of a step; a new one begins with areas in the plan's system."""
        checked = DrawnSettings.model_validate(settings) if settings else None
        self.sketch = Sketch(checked.kind, checked.shapes) if checked is not None else Sketch("areas")
        frame = self.work.frame
        self._crs = checked.crs if checked is not None else frame.crs if frame is not None else None
        if not settings and (ground := self.work.study.shading.ground):
            box = self._inputs["dem"]
            box.blockSignals(True)
            box.setCurrentIndex(max(box.findData(ground), 0))
            box.blockSignals(False)
        self._fill()

    def settings(self) -> dict[str, Any]:
        """Kind, shapes and system as they are now."""
        shapes = [s.model_dump(mode="json") for s in self.sketch.shapes]
        return {"kind": self.sketch.kind, "shapes": shapes, "crs": self._crs}

    def use_inputs(self, names: object) -> None:
        """The shapes count with and without a ground."""

    def show_settings(self, names: object, values: object) -> None:
        """The shapes are compared with those of the study at every turn."""

    def update_draft(self) -> None:
        """Nothing is made on trial: another ground is a change like any other."""
        self.keep_button.hide()
        self.drop_button.hide()
        if self.step_id:
            inputs = {n: str(b.currentData()) for n, b in self._inputs.items() if b.currentData()}
            if dict(self.work.study.step(self.step_id).inputs) != inputs:
                self._change("Ground of drawn shapes", inputs)
            self.show_outcome()
        else:
            self.note.show_lines("Every change is kept at once; Ctrl+Z takes it back.")

    def _keep(self, sketch: Sketch, what: str) -> None:
        """Take a change of the shapes into the study."""
        if sketch == self.sketch:
            return
        self.sketch = sketch
        if self.step_id:
            self._change(what)
        else:
            inputs = {n: str(b.currentData()) for n, b in self._inputs.items() if b.currentData()}
            self.step_id = self.work.add_step(self.kind.kind, inputs, self._plain(), choose=not self._left)
        self._fill()

    def _change(self, what: str, inputs: dict[str, str] | None = None) -> None:
        update: dict[str, Any] = {"settings": self._plain()} if inputs is None else {"inputs": inputs}
        self.work.do(self.work.study.changing(self.step_id, lambda s: s.model_copy(update=update)), what)

    def _plain(self) -> dict[str, Any]:
        return {n: v for n, v in self.settings().items() if v is not None}

    def show_outcome(self) -> None:
        """Show figures, and the shapes as the study holds them: after an undo these are others."""
        super().show_outcome()
        self.keep_button.hide()
        self.drop_button.hide()
        if not self.step_id or self._left or not self.work.study.has(self.step_id):
            return
        stored = DrawnSettings.model_validate(dict(self.work.study.step(self.step_id).settings))
        held = Sketch(stored.kind, stored.shapes)
        if held != self.sketch:
            self.sketch = held
            if self.tool is not None:
                self.tool.show(held)
            self._fill()
        else:
            self._show_heights()

    def leave(self) -> None:
        """Lay the tool down: a shape that is whole is kept."""
        self._left = True
        self.tool_wanted.emit(None)
        super().leave()

    # --- the tool

    def show_places(self) -> None:
        """Take the tool at once: a new step draws, a step of the study is edited."""
        self._take_tool(not self.step_id)

    def _take_tool(self, adding: bool) -> None:
        frame = self.work.frame
        if frame is not None and self._crs != frame.crs and self.sketch.shapes:
            self.said.setText(
                "These shapes lie in another reference system than the plan: type their coordinates."
            )
            return
        self.tool = VertexTool(self.sketch, self._snaps, self.rounded, adding, self)
        self.tool.result.connect(lambda sketch: self._keep(sketch, "Draw on the plan"))
        self.tool.drawing.connect(self._say)
        self.tool.chosen.connect(self._mark_vertex)
        self.tool_wanted.emit(self.tool)
        self._say(())

    def _snaps(self) -> np.ndarray:
        """Vertices of the other shapes on the plan, as far as they are not too many to look through."""
        result = [np.empty((0, 2))]
        for layer in self.work.now.scene.layers:
            shapes = layer.picture.shapes
            if shapes is not None and layer.step != self.step_id and shapes.value.nbytes < _MOST_SNAPS * 16:
                result.append(shapely.get_coordinates(shapes.value.geometry))
        return np.concatenate(result)

    def _use_kind(self, kind: str) -> None:
        if not self.sketch.shapes:
            self.sketch = Sketch(kind)
            self._take_tool(True)

    def _say(self, begun: tuple[tuple[float, float], ...]) -> None:
        """What to do; of a shape that is drawn, how long it is so far."""
        adding = self.tool is not None and self.tool.adding
        text, frame = _HOW[self.sketch.kind] if adding else _EDIT, self.work.frame
        if len(begun) > 1 and frame is not None:
            length = float(frame.lengths(np.array([shapely.LineString(begun)], object))[0])
            text = f"{len(begun)} vertices, {self.work.study.telling.length_text(length)} so far. {text}"
        self.said.setText(text)

    # --- shapes and vertices as tables

    def _fill(self) -> None:
        self.kinds.set(self.sketch.kind)
        self.kinds.setEnabled(not self.sketch.shapes)
        self.edit.setEnabled(bool(self.sketch.shapes))
        shown = self.sketch.shapes[:_MOST_ROWS]
        chosen = max(self.names.currentRow(), 0)
        self.names.blockSignals(True)
        self.names.setRowCount(len(shown))
        for k, shape in enumerate(shown):
            self.names.setItem(k, 0, QTableWidgetItem(shape.name))
            self.names.setItem(k, 1, _fixed(self._size(shape.vertices)))
        self.names.selectRow(min(chosen, len(shown) - 1))
        self.names.blockSignals(False)
        _fit(self.names, 5)
        self._show_vertices()

    def _size(self, vertices: tuple[tuple[float, float], ...]) -> str:
        frame = self.work.frame
        if self.sketch.kind == "points" or frame is None or len(vertices) < LEAST[self.sketch.kind]:
            return ""
        if self.sketch.kind == "areas":
            area = float(frame.areas(np.array([shapely.Polygon(vertices)], object))[0])
            return self.work.study.telling.area_text(area)
        length = frame.lengths(np.array([shapely.LineString(vertices)], object))[0]
        return self.work.study.telling.length_text(float(length))

    def _show_vertices(self) -> None:
        k = self.names.currentRow()
        vertices = self.sketch.shapes[k].vertices[:_MOST_ROWS] if 0 <= k < len(self.sketch.shapes) else ()
        chosen = self.vertices.currentRow()
        self.vertices.blockSignals(True)
        self.vertices.setRowCount(len(vertices))
        for n, (x, y) in enumerate(vertices):
            for column, value in enumerate((x, y)):
                self.vertices.setItem(n, column, QTableWidgetItem(f"{value:.10g}"))
            self.vertices.setItem(n, 2, _fixed(""))
        if 0 <= chosen < len(vertices):
            self.vertices.selectRow(chosen)
        self.vertices.blockSignals(False)
        _fit(self.vertices, 7)
        self._show_heights()

    def _show_heights(self) -> None:
        """Write the heights of the ground into the table, when they are there for the shapes as they
        are now.
        """
        outcome = self.work.outcome(f"{self.step_id}.vertices") if self.step_id else None
        table, k = outcome.of(Table) if outcome is not None else None, self.names.currentRow()
        if (
            table is None
            or "z" not in table.columns
            or len(table) != sum(len(s.vertices) for s in self.sketch.shapes)
        ):
            return
        first = sum(len(s.vertices) for s in self.sketch.shapes[:k])
        self.vertices.blockSignals(True)
        for n in range(self.vertices.rowCount()):
            self.vertices.setItem(
                n, 2, _fixed(value_text(float(table.columns["z"][first + n]), table.unit("z")))
            )
        self.vertices.blockSignals(False)

    def _spot(self) -> Spot | None:
        spot = Spot(self.names.currentRow(), self.vertices.currentRow())
        return spot if min(spot[:2]) >= 0 and self.sketch.has(spot) else None

    def _choose_vertex(self) -> None:
        if self.tool is not None:
            self.tool.choose(self._spot())

    def _mark_vertex(self, spot: Spot | None) -> None:
        """Show the row of a vertex that was chosen on the plan."""
        if spot is None or spot.between or not self.sketch.has(spot):
            return
        for table, number in ((self.names, spot.shape), (self.vertices, spot.vertex)):
            if table.currentRow() != number and number < table.rowCount():
                table.selectRow(number)

    def _rename(self, item: QTableWidgetItem) -> None:
        if item.column() == 0:
            self._edited(self.sketch.naming(item.row(), item.text().strip()[:200]), "Name a shape")

    def _type_coordinate(self, item: QTableWidgetItem) -> None:
        """Take a typed coordinate; what is no number is put back."""
        spot = Spot(self.names.currentRow(), item.row())
        try:
            value = typed_number(item.text())
        except ValueError:
            self.work.message.emit(f"'{item.text()}' is no coordinate: write a number.", True)
            self._show_vertices()
            return
        x, y = self.sketch.place(spot)
        self._edited(
            self.sketch.moving(spot, (value, y) if item.column() == 0 else (x, value)), "Type a coordinate"
        )

    def _shape_away(self) -> None:
        if 0 <= self.names.currentRow() < len(self.sketch.shapes):
            self._edited(self.sketch.without(self.names.currentRow()), "Remove a shape")

    def _vertex_away(self) -> None:
        if (spot := self._spot()) is not None:
            self._edited(self.sketch.removing(spot), "Remove a vertex")

    def _edited(self, sketch: Sketch, what: str) -> None:
        """Take a change that was made in a table; the tool shows it."""
        self._keep(sketch, what)
        if self.tool is not None:
            self.tool.show(sketch)


def _table(name: str, heads: list[str]) -> QTableWidget:
    table = QTableWidget(0, len(heads))
    table.setHorizontalHeaderLabels(heads)
    table.setAccessibleName(name)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    table.verticalHeader().hide()
    table.verticalHeader().setDefaultSectionSize(_ROW)
    table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
    table.setShowGrid(False)
    table.hide()
    return table


def _fixed(text: str) -> QTableWidgetItem:
    """A cell that cannot be typed into."""
    item = QTableWidgetItem(text)
    item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
    return item


def _fit(table: QTableWidget, most: int) -> None:
    """As high as its rows, up to some; hidden without rows."""
    table.setVisible(table.rowCount() > 0)
    table.setFixedHeight(_ROW * min(table.rowCount(), most) + 34)

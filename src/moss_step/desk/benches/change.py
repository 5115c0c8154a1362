"""The panel of a change of classes: its table of which class became which, whose cells show where."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractItemView, QTableWidget, QTableWidgetItem, QVBoxLayout

from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.parts import button, column, label, lent_by
from moss_step.desk.plan.live import Live, mask_veil
from moss_step.model.class_map import ClassMap
from moss_step.model.outcome import Outcome
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.scene.colors import DEEP
from moss_step.study.draft import DRAFT

_ALPHA = 190


class ChangePanel(StepPanel):
    """Shows the change table in the drawer; a click on one of its cells shows that change alone."""

    def build(self, layout: QVBoxLayout) -> None:
        """A button that opens the table, which opens by itself when there is one."""
        super().build(layout)
        self._outcome: Outcome | None = None
        self._code: dict[tuple[str, str], int] = {}
        self.table = QTableWidget()
        self.table.setAccessibleName("Change table")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.currentCellChanged.connect(lambda *_: self._show_change())
        head = label("Rows: before. Columns: after. Click a cell to see where.", "muted")
        self.whole = lent_by(self, column([head, self.table], gap=4, margins=(14, 6, 10, 6)))
        layout.addWidget(
            button("Change table", "Open it below the plan", lambda: self.drawer_wanted.emit(self.whole))
        )

    def show_remarks(self, outcome: Outcome) -> None:
        """Fill the table."""
        super().show_remarks(outcome)
        if outcome is self._outcome:
            return
        table = self.work.outcome(f"{DRAFT if self.work.draft else self.step_id}.table")
        if table is None:
            return
        self._outcome = outcome
        self._fill(as_kind(table.value, Table), as_kind(outcome.value, ClassMap))
        if not self.whole.isVisible():
            self.drawer_wanted.emit(self.whole)

    def _fill(self, changes: Table, classes: ClassMap) -> None:
        before, after = (self._order(name, changes) for name in ("before", "after"))
        pairs = list(zip(changes.columns["before"].tolist(), changes.columns["after"].tolist(), strict=True))
        self._code = {pair: entry.code for pair, entry in zip(pairs, classes.classes, strict=True)}
        self.table.blockSignals(True)
        self.table.clear()
        self.table.setRowCount(len(before))
        self.table.setColumnCount(len(after))
        self.table.setVerticalHeaderLabels(before)
        self.table.setHorizontalHeaderLabels(after)
        sizes = zip(
            pairs, changes.columns["area_m2"].tolist(), changes.columns["share"].tolist(), strict=True
        )
        for pair, area, share in sizes:
            item = QTableWidgetItem(f"{area / 1e4:,.2f} ha · {share:.1%}".replace(",", " "))
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.table.setItem(before.index(pair[0]), after.index(pair[1]), item)
        self.table.setCurrentCell(-1, -1)
        self.table.blockSignals(False)
        self.table.resizeColumnsToContents()

    def _order(self, side: str, changes: Table) -> list[str]:
        """Classes of a side that occur, in the order of their map."""
        there = set(changes.columns[side].tolist())
        outcome = self.work.outcome(str(self._inputs[side].currentData() or ""))
        classes = outcome.of(ClassMap) if outcome is not None else None
        names = [] if classes is None else [c.name for c in classes.classes]
        return [n for n in dict.fromkeys(names) if n in there] + sorted(there - set(names))

    def _show_change(self) -> None:
        """Veil the cells of the change that is chosen."""
        row, at = self.table.currentRow(), self.table.currentColumn()
        heads = self.table.verticalHeaderItem(row), self.table.horizontalHeaderItem(at)
        if self._outcome is None or heads[0] is None or heads[1] is None:
            self.live.emit(None)
            return
        code = self._code.get((heads[0].text(), heads[1].text()))
        classes = as_kind(self._outcome.value, ClassMap)
        cells = np.zeros(classes.frame.shape, bool) if code is None else classes.codes == code
        self.live.emit(Live((), mask_veil(cells, classes.frame, DEEP, _ALPHA)))

    def leave(self) -> None:
        """Veil nothing any more."""
        self.live.emit(None)
        super().leave()

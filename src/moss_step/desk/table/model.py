"""Rows of named columns for a table view: sorted and filtered by index arrays, so that half a million rows
are no burden.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, Qt, Signal

from moss_step.model.errors import MossError
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.tables import cell_text, column_words
from moss_step.science.zones.choose import rows_matching

Index = QModelIndex | QPersistentModelIndex
_WHERE = QModelIndex()


class RowsModel(QAbstractTableModel):
    """Shows columns of one length; ``order`` holds the rows that are shown, in their order."""

    renamed = Signal(int, str)
    """A row of the columns was given a name."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.columns: dict[str, np.ndarray] = {}
        self._names: list[str] = []
        self._symbols: dict[str, str] = {}
        self._conversions: dict[str, tuple[float, str]] = {}
        self._sorted: tuple[int, bool] | None = None
        self.names_can_change = False
        self._kept = np.empty(0, np.int64)
        self.order = np.empty(0, np.int64)

    def show_columns(
        self, columns: Mapping[str, np.ndarray], symbols: Mapping[str, str], telling: Telling = USUAL
    ) -> None:
        """Show other columns; ``symbols`` are their units, and ``telling`` those that they are told in."""
        self.beginResetModel()
        self._conversions = {n: telling.column(s) for n, s in symbols.items()}
        self.columns, self._symbols = dict(columns), dict(symbols)
        self._names, self._sorted = list(columns), None
        self._kept = self.order = np.arange(len(next(iter(columns.values()), ())))
        self.endResetModel()

    @property
    def symbols(self) -> Mapping[str, str]:
        """Units of the columns, as they are kept."""
        return self._symbols

    def filter(self, text: str) -> str:
        """Keep the rows that hold a text, or that meet a condition such as ``max > 500 and cells >= 9``; says
        what is wrong.
        """
        try:
            kept = rows_matching(self.columns, text)
        except MossError as error:
            return str(error)
        self.beginResetModel()
        self._kept = kept
        self._arrange()
        self.endResetModel()
        return ""

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Sort by a column; missing numbers come last."""
        if not 0 <= column < len(self._names):
            return
        self.layoutAboutToBeChanged.emit()
        self._sorted = (column, order == Qt.SortOrder.DescendingOrder)
        self._arrange()
        self.layoutChanged.emit()

    def rowCount(self, parent: Index = _WHERE) -> int:
        """Number of rows shown."""
        return 0 if parent.isValid() else len(self.order)

    def columnCount(self, parent: Index = _WHERE) -> int:
        """Number of columns."""
        return 0 if parent.isValid() else len(self._names)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        """Names of columns with unit; numbers of rows."""
        if role == Qt.ItemDataRole.ToolTipRole and orientation == Qt.Orientation.Horizontal:
            return f"In files and conditions: {self._names[section]}"
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if orientation == Qt.Orientation.Vertical:
            return str(int(self.order[section]) + 1) if section < len(self.order) else None
        return self.head(self._names[section])

    def head(self, column: str) -> str:
        """The head of a column, with its unit."""
        return column_words(column, self._conversions.get(column, _AS_IT_IS)[1])

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Text of a cell; numbers stand at the right."""
        if role not in (
            Qt.ItemDataRole.DisplayRole,
            Qt.ItemDataRole.EditRole,
            Qt.ItemDataRole.TextAlignmentRole,
        ):
            return None
        value = self.columns[self._names[index.column()]][self.order[index.row()]]
        number = isinstance(value, int | float | np.number)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if number else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return self.text(self._names[index.column()], value)

    def text(self, column: str, value: Any) -> str:
        """Say a value of a column."""
        factor, symbol = self._conversions.get(column, _AS_IT_IS)
        return cell_text(value if factor == 1.0 else value * factor, symbol)

    def flags(self, index: Index) -> Qt.ItemFlag:
        """Names can be typed where the step takes them."""
        usual = super().flags(index)
        named = self.names_can_change and self._names[index.column()] == "name"
        return usual | Qt.ItemFlag.ItemIsEditable if named else usual

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        """Tell a name that was typed."""
        text = str(value).strip()
        if role != Qt.ItemDataRole.EditRole or not text or text == self.data(index):
            return False
        self.renamed.emit(int(self.order[index.row()]), text)
        return True

    def column_name(self, column: int) -> str:
        """Name of a column."""
        return self._names[column]

    def place_of(self, row: int) -> int | None:
        """Where a row of the columns is shown, or None when it is filtered out."""
        result = np.flatnonzero(self.order == row)
        return int(result[0]) if result.size else None

    def _arrange(self) -> None:
        self.order = self._kept
        if self._sorted is None:
            return
        column, down = self._sorted
        values = self.columns[self._names[column]][self._kept]
        if values.dtype.kind not in "iuf":
            places = np.argsort(values.astype(str), kind="stable")
            self.order = self._kept[places[::-1] if down else places]
            return
        missing = np.isnan(values) if values.dtype.kind == "f" else np.zeros(len(values), bool)
        known = np.flatnonzero(~missing)
        places = known[
            np.argsort(-values[known].astype(np.float64) if down else values[known], kind="stable")
        ]
        self.order = self._kept[np.concatenate([places, np.flatnonzero(missing)])]


_AS_IT_IS = (1.0, "")

"""The table of observers in a form: what each has of its own, and which are switched on."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QBrush, QFont
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QVBoxLayout

from moss_step.desk.controls import Control, plain_number
from moss_step.desk.numbers import shown, typed_number
from moss_step.desk.parts import button, column, label, lent_by, row
from moss_step.desk.place_rows import PlaceRow, PlaceRows
from moss_step.desk.plain import set_tip
from moss_step.desk.theme import font
from moss_step.desk.tones import shade
from moss_step.scene.colors import INK, MUTED
from moss_step.science.sight.observer import Observer
from moss_step.steps.observers import own_text, own_values

_COLUMNS = {
    "name": "Name", "height": "Above ground", "target": "Target", "reach": "Reach", "near": "Nearest",
    "bearing_from": "From °", "bearing_to": "To °", "down": "Lowest °", "up": "Highest °",
}  # fmt: skip
_WORDS = list(_COLUMNS)
_MOST_ROWS = 500
_ROW = 24


class ObserversControl(Control):
    """Gives the text of own values; a cell in ink is the observer's own, a muted one is shared by all."""

    chosen = Signal(int)
    """Number of the observer whose row was chosen, from 0."""
    take_away = Signal(int)
    clear_wanted = Signal()
    shown = Signal(float, float)
    """A place is to be shown on the plan."""
    table_wanted = Signal(object)
    """The whole table is to be shown where there is room for it."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._own: dict[int, dict[str, str | float]] = {}
        self._observers: Sequence[Observer] = ()
        self.table = QTableWidget(0, len(_COLUMNS))
        self.table.setHorizontalHeaderLabels(list(_COLUMNS.values()))
        self.table.setAccessibleName(title)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.verticalHeader().setDefaultSectionSize(_ROW)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.setShowGrid(False)
        self.table.itemChanged.connect(self._edited)
        self.table.itemSelectionChanged.connect(self._select)
        self.said = label("", "warn", wrap=True)
        self.said.hide()
        self._away = button(
            "Take this one away",
            "Remove the observer whose row is chosen; one of a file is switched off",
            self._take_away,
        )
        self.whole = lent_by(self, column([self.table, row(self._away, 1)], gap=4, margins=(12, 8, 12, 8)))
        """The whole table, for the drawer."""
        self.rows = PlaceRows("Observer", lambda v: f"{v:.2f}")
        self.rows.named.connect(lambda k, text: self._take(k, "name", text))
        self.rows.raised.connect(lambda k, text: self._take(k, "height", text.removesuffix("m").strip()))
        self.rows.switched.connect(self._switch)
        self.rows.removed.connect(self.take_away)
        self.rows.looked_at.connect(self._look)
        self._open = button(
            "Whole table",
            "Open the table below the plan: reach, bearings and angles of each",
            self._show_whole,
            "plain",
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        every = button("Take all away", "Begin anew with no observer", self.clear_wanted.emit, "plain")
        every.setAccessibleName("Take all observers away")
        for part in (self.rows, self.said, row(self._open, 1, every)):
            layout.addWidget(part)
        self.show_observers(())

    def _show_whole(self) -> None:
        self.table_wanted.emit(self.whole)

    def _look(self, number: int) -> None:
        self.chosen.emit(number)
        self.shown.emit(self._observers[number].x, self._observers[number].y)

    def _switch(self, number: int, on: bool) -> None:
        own = dict(self._own.get(number + 1, {}))
        own.pop("off", None)
        self._keep(number, own if on else {**own, "off": 1.0})

    def value(self) -> str | None:
        """Own values as text, or None when there are none."""
        return own_text(self._own) or None

    def set_value(self, value: Any) -> None:
        """Show own values."""
        self._own = own_values(value)
        self._fill()

    def show_observers(self, observers: Sequence[Observer]) -> None:
        """Show the observers with the values that count for them, those that are off included."""
        if observers != self._observers or not observers:
            self._observers = observers
            self._fill()

    def forget(self, number: int) -> None:
        """Observer ``number`` (from 0) is gone: those after it move up, with what they have of their own."""
        self._own = {n - (n > number + 1): own for n, own in self._own.items() if n != number + 1}

    def switch_off(self, number: int) -> None:
        """Leave observer ``number`` (from 0) out, and tell."""
        self._own.setdefault(number + 1, {})["off"] = 1.0
        self._fill()
        self.changed.emit()

    def _fill(self) -> None:
        shown = self._observers[:_MOST_ROWS]
        self.setVisible(bool(shown))
        self.table.blockSignals(True)
        self.table.setRowCount(len(shown))
        for k, observer in enumerate(shown):
            own = self._own.get(k + 1, {})
            for at, word in enumerate(_WORDS):
                item = QTableWidgetItem(_text(getattr(observer, word)))
                item.setForeground(QBrush(shade(INK if word in own and "off" not in own else MUTED)))
                item.setFont(font(12, QFont.Weight.DemiBold if word in own else QFont.Weight.Normal))
                if at == 0:
                    item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                    item.setCheckState(Qt.CheckState.Unchecked if "off" in own else Qt.CheckState.Checked)
                    set_tip(item, f"{observer.x:.2f}, {observer.y:.2f}. Take the tick away to switch it off.")
                self.table.setItem(k, at, item)
        self.table.blockSignals(False)
        self.rows.show_rows(())
        self.rows.show_rows([self._place(k, o) for k, o in enumerate(self._observers, start=1)])
        self._away.setEnabled(False)
        self._tell(
            f"{len(self._observers) - _MOST_ROWS:,} more are not listed."
            if len(self._observers) > _MOST_ROWS
            else ""
        )

    def _tell(self, text: str) -> None:
        self.said.setText(text)
        self.said.setVisible(bool(text))

    def _edited(self, item: QTableWidgetItem) -> None:
        """Take over a cell; an empty one is shared again."""
        row_, word = item.row(), _WORDS[item.column()]
        if item.column() == 0 and (item.checkState() == Qt.CheckState.Unchecked) != (
            "off" in self._own.get(row_ + 1, {})
        ):
            self._switch(row_, item.checkState() == Qt.CheckState.Checked)
            return
        text = item.text().strip()
        if text != _text(getattr(self._observers[row_], word)):
            self._take(row_, word, text)

    def _take(self, row_: int, word: str, text: str) -> None:
        """Take over one value as typed; an empty one is shared again."""
        own = dict(self._own.get(row_ + 1, {}))
        own.pop(word, None)
        try:
            said = text if word == "name" or not text else plain_number(typed_number(text))
            own |= own_values(f"{row_ + 1}: {word}={said}")[row_ + 1] if said else {}
        except ValueError:
            self._fill()
            self._tell(
                f"'{text}' is no {_COLUMNS[word].lower()}."
                + (" A name has no comma and no semicolon." if word == "name" else "")
            )
            return
        self._keep(row_, own)

    def _keep(self, row_: int, own: dict[str, str | float]) -> None:
        if own == self._own.get(row_ + 1, {}):
            return
        self._own[row_ + 1] = own
        if not own:
            del self._own[row_ + 1]
        self.changed.emit()

    def _place(self, number: int, observer: Observer) -> PlaceRow:
        own = self._own.get(number, {})
        return PlaceRow(
            observer.x,
            observer.y,
            observer.name,
            shown(f"{observer.height:g} m"),
            "off" not in own,
            "height" in own,
        )

    def _select(self) -> None:
        rows = {i.row() for i in self.table.selectedItems()}
        self._away.setEnabled(bool(rows))
        if rows:
            self.chosen.emit(min(rows))

    def _take_away(self) -> None:
        if (row := self.table.currentRow()) >= 0:
            self.take_away.emit(row)


def _text(value: str | float) -> str:
    if isinstance(value, str):
        return value
    return "all" if math.isinf(value) else f"{value:g}"

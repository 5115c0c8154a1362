"""Rows of criteria in a form: what is asked, over or under a bound or between two, and what it weighs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from PySide6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from moss_step.desk.controls import Control, plain_number
from moss_step.desk.numbers import shown, typed_number
from moss_step.desk.parts import button, clear, column, row, tool
from moss_step.desk.plain import set_tip

SIDES = {
    "above": "over",
    "at_least": "at least",
    "below": "under",
    "at_most": "at most",
    "between": "between",
}
_MOST = 7


@dataclass(frozen=True)
class Choice:
    """What a criterion may ask: a surface by the name that it has here, what is derived of it, and words and
    unit.
    """

    of: str
    measure: str
    words: str
    unit: str = ""


class CriteriaControl(Control):
    """Gives criteria as plain data; each row is a choice, a side and a bound."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._title = title
        self._choices: tuple[Choice, ...] = ()
        self._rows: list[dict[str, Any]] = []
        self._weighed = False
        self._list = column(gap=4)
        self._add = button("Add a criterion", "Another row", self._new, "plain", "plus")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(self._list)
        layout.addWidget(row(self._add, 1))

    def value(self) -> Any:
        """The criteria, or None without any."""
        return tuple(dict(r) for r in self._rows) or None

    def set_value(self, value: Any) -> None:
        """Show criteria."""
        self._rows = [dict(r) for r in value or () if isinstance(r, Mapping)]
        self._fill()

    def show_choices(self, choices: Sequence[Choice], weighed: bool = False) -> None:
        """Say what can be asked, and whether rows have weights."""
        if (tuple(choices), weighed) != (self._choices, self._weighed):
            self._choices, self._weighed = tuple(choices), weighed
            self._fill()

    def _fill(self) -> None:
        inner = self._list.layout()
        if inner is None:
            return
        clear(inner)
        for number, criterion in enumerate(self._rows):
            inner.addWidget(self._row(number, criterion))
        self._add.setVisible(bool(self._choices) and len(self._rows) < _MOST)

    def _row(self, number: int, criterion: dict[str, Any]) -> QWidget:
        who = f"Criterion {number + 1}"
        what = QComboBox()
        what.setAccessibleName(f"{who}: what")
        what.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        what.setMinimumContentsLength(8)
        for choice in self._choices:
            unit = f" ({choice.unit})" if choice.unit else ""
            what.addItem(f"{choice.words}{unit}", (choice.of, choice.measure))
        keys = [(c.of, c.measure) for c in self._choices]
        asked = (criterion["of"], criterion.get("measure", "value"))
        what.setCurrentIndex(keys.index(asked) if asked in keys else -1)
        set_tip(what, what.currentText())
        what.activated.connect(partial(self._take_what, number))
        side = QComboBox()
        side.setAccessibleName(f"{who}: side")
        for key, words in SIDES.items():
            side.addItem(words, key)
        side.setCurrentIndex(side.findData(criterion.get("side", "above")))
        side.activated.connect(lambda i: self._take(number, "side", str(side.itemData(i))))
        parts: list[QWidget | int] = [side, self._field(number, "bound", f"{who}: bound")]
        if criterion.get("side") == "between":
            parts.append(self._field(number, "upper", f"{who}: to"))
        if self._weighed:
            parts.append(self._field(number, "weight", f"{who}: weight"))
        away = tool("x", f"Take criterion {number + 1} away", partial(self._remove, number))
        first = row(what, away, gap=3, grows=what)
        return column([first, row(*parts, 1, gap=4)], gap=2)

    def _field(self, number: int, name: str, title: str) -> QLineEdit:
        value = float(self._rows[number].get(name, 1.0 if name == "weight" else 0.0))
        result = QLineEdit(shown(plain_number(value)))
        result.setAccessibleName(title)
        set_tip(result, title)
        result.setFixedWidth(64)
        result.editingFinished.connect(lambda: self._typed(number, name, result))
        return result

    def _typed(self, number: int, name: str, field: QLineEdit) -> None:
        try:
            value = typed_number(field.text())
        except ValueError:
            field.setText(shown(plain_number(float(self._rows[number].get(name, 0.0)))))
            return
        if value != self._rows[number].get(name, 1.0 if name == "weight" else 0.0):
            self._rows[number][name] = value
            self.changed.emit()

    def _take_what(self, number: int, at: int) -> None:
        choice = self._choices[at]
        self._rows[number] |= {"of": choice.of, "measure": choice.measure}
        if choice.measure == "facing":
            self._rows[number] |= {"side": "between", "bound": 45.0, "upper": 135.0}
        self._fill()
        self.changed.emit()

    def _take(self, number: int, name: str, value: object) -> None:
        self._rows[number][name] = value
        self._fill()
        self.changed.emit()

    def _remove(self, number: int) -> None:
        del self._rows[number]
        self._fill()
        self.changed.emit()

    def _new(self) -> None:
        choice = self._choices[0]
        self._rows.append({"of": choice.of, "measure": choice.measure, "side": "above", "bound": 0.0})
        self._fill()
        self.changed.emit()

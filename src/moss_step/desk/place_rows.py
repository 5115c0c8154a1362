"""A list of places: number, name, coordinates or height, look at it, take it away."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from moss_step.desk.numbers import listed
from moss_step.desk.parts import Snug, clear, column, label, row, tool
from moss_step.desk.plain import set_tip

_MOST = 60
_HEIGHT = 170
_HEIGHT_TIP = "Metres above the ground; emptied, it is that of all"


@dataclass(frozen=True)
class PlaceRow:
    """One place as it is listed; what is None is not listed."""

    x: float
    y: float
    name: str | None = None
    height: str | None = None
    on: bool | None = None
    own: bool = True
    """Whether its height is its own; one that all share is drawn pale."""


class PlaceRows(QWidget):
    """Shows places, and tells what the person changes; numbers count from 0."""

    named = Signal(int, str)
    moved = Signal(int, str)
    raised = Signal(int, str)
    switched = Signal(int, bool)
    removed = Signal(int)
    looked_at = Signal(int)

    def __init__(self, title: str, written: Callable[[float], str]) -> None:
        """``written`` writes a coordinate."""
        super().__init__()
        self._title, self._written = title, written
        self._shown: tuple[PlaceRow, ...] = ()
        self._list = column(gap=1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(Snug(self._list, _HEIGHT))
        self.setAccessibleName(title)

    def show_rows(self, rows: Sequence[PlaceRow]) -> None:
        """Show places; a field that has the keyboard keeps it."""
        rows, inner = tuple(rows), self._list.layout()
        if rows == self._shown or inner is None:
            return
        self._shown = rows
        focused = self.focusWidget()
        held = focused.accessibleName() if focused is not None and focused.hasFocus() else ""
        clear(inner)
        for number, place in enumerate(rows[:_MOST]):
            inner.addWidget(self._row(number, place))
        if len(rows) > _MOST:
            inner.addWidget(label(f"and {len(rows) - _MOST:,} more".replace(",", " "), "muted"))
        if held:
            next((w.setFocus() for w in self.findChildren(QLineEdit) if w.accessibleName() == held), None)

    def _row(self, number: int, place: PlaceRow) -> QWidget:
        who = f"{self._title.removesuffix('s')} {number + 1}"
        badge = label(str(number + 1), "badge")
        badge.setAlignment(Qt.AlignmentFlag.AlignCenter)
        badge.setMinimumWidth(22)
        parts: list[QWidget] = [badge]
        if place.on is not None:
            tick = QCheckBox()
            tick.setAccessibleName(f"{who}: counts")
            set_tip(tick, "Take the tick away to leave it out")
            tick.setChecked(place.on)
            tick.toggled.connect(partial(self.switched.emit, number))
            parts.append(tick)
        at = listed([self._written(place.x), self._written(place.y)])
        fields = []
        if place.name is not None:
            fields.append(self._field(f"{who}: name", place.name, partial(self.named.emit, number), at))
        if place.height is not None:
            field = self._field(
                f"{who}: height", place.height, partial(self.raised.emit, number), _HEIGHT_TIP
            )
            field.setProperty("pale", not place.own)
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
            field.setFixedWidth(64)
            fields.append(field)
        else:
            fields.append(self._field(f"{who}: place", at, partial(self.moved.emit, number), "x, y"))
        low = who.lower()
        look = tool("crosshair", f"Show {low} on the plan", partial(self.looked_at.emit, number))
        away = tool("x", f"Take {low} away", partial(self.removed.emit, number))
        parts += [*fields, look, away]
        return row(*parts, gap=3, grows=fields[0])

    def _field(self, name: str, text: str, typed: Callable[[str], object], tip: str) -> QLineEdit:
        result = QLineEdit(text)
        result.setProperty("role", "cell")
        result.setAccessibleName(name)
        result.setCursorPosition(0)
        set_tip(result, tip)
        result.editingFinished.connect(
            lambda: typed(result.text().strip()) if result.text() != text else None
        )
        return result

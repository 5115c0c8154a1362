"""The table of class ranges: bounds, names and colours to type, with the area of each class beside them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor, QIcon, QPainter, QPixmap
from PySide6.QtWidgets import (
    QColorDialog,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from moss_step.desk.numbers import shown, typed_number
from moss_step.desk.parts import clear, label
from moss_step.desk.plain import set_tip
from moss_step.model.rules import Rule, number_text
from moss_step.scene.colors import NEUTRAL
from moss_step.steps.declare import MOST

_COLUMNS, _NAME = ("From", "To"), 62
_NARROW, _WIDE, _AROUND = 46, 72, 16
"""Least and greatest width of a bound, and what of it is not text."""


@dataclass(frozen=True)
class Row:
    """A range as it is being typed: a bound that is no number keeps its text in ``wrong``."""

    low: float | None
    high: float | None
    code: int
    name: str
    color: str

    @staticmethod
    def of(rule: Rule) -> Row:
        """Make a row of a rule."""
        return Row(rule.low, rule.high, rule.code, rule.name, rule.color)


class RowWidget(QFrame):
    """One range."""

    edited = Signal(object)
    remove_wanted = Signal()
    split_wanted = Signal()

    def __init__(self, row: Row) -> None:
        super().__init__()
        self.row = row
        self.setProperty("role", "card")
        self.setFixedHeight(29)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(5, 0, 8, 0)
        layout.setSpacing(3)
        self.swatch = QToolButton()
        self.swatch.setFixedSize(22, 22)
        self.swatch.setIconSize(QSize(18, 18))
        self.swatch.clicked.connect(self._recolor)
        self.low, self.high = self._bound("From", "low"), self._bound("To", "high")
        self.name = QLineEdit()
        self.name.setMinimumWidth(_NAME)
        self.name.editingFinished.connect(self._rename)
        self.area = label("", "value")
        self.area.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        for part in (self.swatch, self.low, self.high, self.name):
            part.setProperty("role", "cell")
            layout.addWidget(part, 1 if part is self.name else 0)
        layout.addWidget(self.area)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(lambda at: self.menu().exec(self.mapToGlobal(at)))
        self.show_row(row)

    def show_row(self, row: Row) -> None:
        """Show a range; a field that is being typed in keeps its text."""
        self.row = row
        for edit, value, word in ((self.low, row.low, "from"), (self.high, row.high, "to")):
            if not edit.hasFocus():
                edit.setText(shown(number_text(value)))
                edit.setCursorPosition(0)
                edit.setProperty("wrong", False)
            edit.setAccessibleName(f"{row.name} {word}")
        if not self.name.hasFocus():
            self.name.setText(row.name)
            self.name.setCursorPosition(0)
        self.name.setAccessibleName(f"Name of class {row.code}")
        self.swatch.setAccessibleName(f"Colour of {row.name}")
        set_tip(self.swatch, f"Colour of {row.name}")
        self.swatch.setIcon(_patch(row.color))

    def menu(self) -> QMenu:
        """What can be done with a range."""
        menu = QMenu(self)
        menu.addAction("Split in two", self.split_wanted.emit)
        menu.addAction("Remove", self.remove_wanted.emit)
        return menu

    def _bound(self, title: str, field: str) -> QLineEdit:
        edit = QLineEdit()
        edit.setPlaceholderText("open")
        set_tip(edit, f"{title}: a number; empty is an open end")
        edit.textEdited.connect(lambda text: self._typed(edit, field, text))
        return edit

    def _typed(self, edit: QLineEdit, field: str, text: str) -> None:
        clean = text.strip().rstrip("°%")
        try:
            value = typed_number(clean) if clean else None
            if value is not None and not abs(value) <= MOST:
                raise ValueError(text)
        except ValueError:
            edit.setProperty("wrong", True)
            set_tip(edit, f"'{text}' is not a number")
            return
        edit.setProperty("wrong", False)
        self.edited.emit(replace(self.row, low=value) if field == "low" else replace(self.row, high=value))

    def _rename(self) -> None:
        name = self.name.text().strip()
        if name and name != self.row.name:
            self.edited.emit(replace(self.row, name=name))

    def _recolor(self) -> None:
        chosen = QColorDialog.getColor(QColor(self.row.color), self, f"Colour of {self.row.name}")
        if chosen.isValid():
            self.edited.emit(replace(self.row, color=chosen.name().upper()))


class ClassTable(QWidget):
    """All ranges in order; tells when one is edited."""

    edited = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[Row] = []
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(0)
        head = QWidget()
        titles = QHBoxLayout(head)
        titles.setContentsMargins(32, 0, 9, 2)
        titles.setSpacing(3)
        self._heads = [label(text, "muted") for text in _COLUMNS]
        for result in self._heads:
            titles.addWidget(result)
        titles.addWidget(label("Class", "muted"), 1)
        self._area_title = label("Area", "muted")
        self._area_title.setAlignment(Qt.AlignmentFlag.AlignRight)
        titles.addWidget(self._area_title)
        self._body = QWidget()
        self._body_layout = QVBoxLayout(self._body)
        self._body_layout.setContentsMargins(0, 0, 0, 0)
        self._body_layout.setSpacing(0)
        self._layout.addWidget(head)
        self._layout.addWidget(self._body)

    @property
    def widgets(self) -> list[RowWidget]:
        """The rows' widgets in order."""
        items = [self._body_layout.itemAt(i) for i in range(self._body_layout.count())]
        return [w for w in (item.widget() for item in items if item) if isinstance(w, RowWidget)]

    def show_rows(self, rows: Sequence[Row]) -> None:
        """Show ranges."""
        self.rows = list(rows)
        if len(self.widgets) != len(rows):
            clear(self._body_layout)
            for i, row in enumerate(rows):
                result = RowWidget(row)
                result.edited.connect(lambda r, k=i: self._replace(k, r))
                result.remove_wanted.connect(lambda k=i: self.remove(k))
                result.split_wanted.connect(lambda k=i: self.split(k))
                self._body_layout.addWidget(result)
        else:
            for result, row in zip(self.widgets, rows, strict=True):
                result.show_row(row)
        self._fit_bounds()

    def _fit_bounds(self) -> None:
        """Bounds take the width that the longest of them needs; names have the rest."""
        texts = [number_text(v) for r in self.rows for v in (r.low, r.high)]
        wanted = max((self.fontMetrics().horizontalAdvance(t) for t in texts), default=0) + _AROUND
        wide = min(max(wanted, _NARROW), _WIDE)
        for part in (*self._heads, *(e for w in self.widgets for e in (w.low, w.high))):
            part.setFixedWidth(wide)

    def show_areas(self, areas: Sequence[tuple[str, str]], title: str) -> None:
        """Show a text for each class beside its first range; ``areas`` pairs names with texts."""
        self._area_title.setText(title)
        texts = dict(areas)
        seen: set[str] = set()
        for result in self.widgets:
            name = result.row.name
            result.area.setText("" if name in seen else texts.get(name, ""))
            seen.add(name)

    def move_bound(self, old: float, new: float) -> None:
        """Move a bound wherever it stands."""
        self.show_rows(
            [
                replace(r, low=new if r.low == old else r.low, high=new if r.high == old else r.high)
                for r in self.rows
            ]
        )
        self.edited.emit()

    def split_at(self, value: float) -> None:
        """Split the range that holds a value, at it."""
        for i, r in enumerate(self.rows):
            low, high = -1e300 if r.low is None else r.low, 1e300 if r.high is None else r.high
            if low < value < high:
                self._split(i, value)
                return

    def split(self, i: int) -> None:
        """Split a range in its middle."""
        r = self.rows[i]
        low = r.low if r.low is not None else (r.high or 0.0) - 10.0
        high = r.high if r.high is not None else low + 10.0
        self._split(i, float(number_text((low + high) / 2.0)))

    def add(self) -> None:
        """Add a range after the last."""
        last = self.rows[-1] if self.rows else None
        low = last.high if last else 0.0
        if last is not None and low is None:
            self.split(len(self.rows) - 1)
            return
        code = max((r.code for r in self.rows), default=0) + 1
        self._set([*self.rows, Row(low, None, code, f"Class {code}", NEUTRAL)])

    def remove(self, i: int) -> None:
        """Remove a range; the one before takes its end, so that no gap opens."""
        rows = list(self.rows)
        gone = rows.pop(i)
        if not rows:
            return
        if i > 0 and rows[i - 1].high == gone.low:
            rows[i - 1] = replace(rows[i - 1], high=gone.high)
        elif rows and i < len(rows) and rows[i].low == gone.high:
            rows[i] = replace(rows[i], low=gone.low)
        self._set(rows)

    def close_gaps(self) -> None:
        """Begin each range where the one before ends."""
        rows = sorted(self.rows, key=lambda r: -1e300 if r.low is None else r.low)
        for i in range(1, len(rows)):
            if rows[i - 1].high is not None:
                rows[i] = replace(rows[i], low=rows[i - 1].high)
        self._set(rows)

    def _split(self, i: int, value: float) -> None:
        r = self.rows[i]
        code = max(r.code for r in self.rows) + 1
        parts = [replace(r, high=value), Row(value, r.high, code, f"Class {code}", _darker(r.color))]
        self._set([*self.rows[:i], *parts, *self.rows[i + 1 :]])

    def _replace(self, i: int, row: Row) -> None:
        # One class keeps one name and colour wherever it stands.
        old = self.rows[i]
        rows = [replace(r, name=row.name, color=row.color) if r.code == old.code else r for r in self.rows]
        rows[i] = row
        self._set(rows)

    def _set(self, rows: list[Row]) -> None:
        self.show_rows(rows)
        self.edited.emit()


@lru_cache(maxsize=256)
def _patch(color: str) -> QIcon:
    drawn = QPixmap(36, 36)
    drawn.fill(Qt.GlobalColor.transparent)
    with QPainter(drawn) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QColor(0, 0, 0, 50))
        painter.setBrush(QColor(color))
        painter.drawRoundedRect(1, 1, 33, 33, 7, 7)
    drawn.setDevicePixelRatio(2)
    return QIcon(drawn)


def _darker(color: str) -> str:
    return QColor(color).darker(118).name().upper()

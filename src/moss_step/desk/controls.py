"""One control for each kind of setting: it gives and takes a plain value, and tells when the person changes
it.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from typing import Any

from pydantic.fields import FieldInfo
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QTextCharFormat, QTextCursor, QValidator
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QLineEdit,
    QPlainTextEdit,
    QSlider,
    QSpinBox,
    QTextEdit,
    QVBoxLayout,
    QWidget,
)

from moss_step.desk.numbers import shown, typed_number, typed_numbers
from moss_step.desk.parts import Choices, label, row
from moss_step.desk.place_rows import PlaceRow, PlaceRows
from moss_step.desk.tones import shade
from moss_step.model.cloud import CLASSES, class_name
from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import reference_system
from moss_step.model.typed import as_whole
from moss_step.scene.colors import OCHRE, WASH
from moss_step.steps.declare import MOST, extra, option_words
from moss_step.steps.fields import names_of, names_text

_FEW = 3
_DECIMALS = 12


class Control(QWidget):
    """One setting: gives and takes plain values; None is the default."""

    changed = Signal()

    def value(self) -> Any:
        """Give the value as it stands."""
        raise NotImplementedError

    def set_value(self, value: Any) -> None:
        """Show a value without telling."""
        raise NotImplementedError


class ChoiceControl(Control):
    """A choice out of a few."""

    def __init__(self, options: tuple[object, ...], title: str) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        words = [(o, option_words(o), f"{title}: {option_words(o).lower()}") for o in map(str, options)]
        if len(options) <= _FEW:
            self._choices: Choices | QComboBox = Choices(words, name=title)
            self._choices.picked.connect(lambda _: self.changed.emit())
        else:
            self._choices = QComboBox()
            self._choices.setAccessibleName(title)
            for value, text, _ in words:
                self._choices.addItem(text, value)
            self._choices.currentIndexChanged.connect(lambda _: self.changed.emit())
        layout.addWidget(self._choices)

    def value(self) -> str:
        """The option that is marked."""
        return self._choices.value if isinstance(self._choices, Choices) else str(self._choices.currentData())

    def set_value(self, value: Any) -> None:
        """Mark an option."""
        if isinstance(self._choices, Choices):
            self._choices.set(str(value))
            return
        self._choices.blockSignals(True)
        self._choices.setCurrentIndex(self._choices.findData(str(value)))
        self._choices.blockSignals(False)


class PointClassControl(Control):
    """A class of points by its name, or a survey's own by its code."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._box = QComboBox()
        self._box.setEditable(True)
        self._box.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self._box.setAccessibleName(title)
        for code, name in CLASSES.items():
            self._box.addItem(f"{code} {name}", code)
        edit = self._box.lineEdit()
        if edit is not None:
            edit.setPlaceholderText("choose a class, or type a code")
        self.set_value(None)
        self._box.currentTextChanged.connect(lambda _: self.changed.emit())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self._box)

    def value(self) -> int | str | None:
        """The code; text without one as it was typed; None when it is empty."""
        text = self._box.currentText().strip()
        code = as_whole(text.split(" ")[0])
        return code if code is not None else text or None

    def set_value(self, value: Any) -> None:
        """Show a class."""
        self._box.blockSignals(True)
        self._box.setCurrentIndex(-1 if value is None else self._box.findData(value))
        if self._box.currentIndex() < 0:
            self._box.setEditText("" if value is None else f"{value} {class_name(int(value))}")
        self._box.blockSignals(False)


class TickControl(Control):
    """Yes or no."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._box = QCheckBox(title)
        self._box.setAccessibleName(title)
        self._box.toggled.connect(lambda _: self.changed.emit())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self._box)

    def value(self) -> bool:
        """Whether it is ticked."""
        return self._box.isChecked()

    def set_value(self, value: Any) -> None:
        """Tick it, or not."""
        self._box.blockSignals(True)
        self._box.setChecked(bool(value))
        self._box.blockSignals(False)


class NumberControl(Control):
    """A number with unit and limits."""

    def __init__(self, field: FieldInfo, title: str, whole: bool) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        low, high = limits(field)
        if whole:
            self._spin: QSpinBox | QDoubleSpinBox = QSpinBox()
            self._spin.setRange(int(-1e9 if low is None else low), int(1e9 if high is None else high))
        else:
            self._spin = PlainSpin()
            self._spin.setRange(-MOST if low is None else low, MOST if high is None else high)
        unit = extra(field, "unit")
        self._spin.setSuffix(f" {unit}" if unit and unit != "°" else unit)
        self._spin.setAccessibleName(title)
        self._spin.setKeyboardTracking(False)
        self._spin.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._spin.setFixedWidth(96)
        self._spin.valueChanged.connect(lambda _: self.changed.emit())
        self._held: tuple[float, float] | None = None
        layout.addWidget(self._spin)

    def value(self) -> float:
        """The number as it was given, or as it is typed now."""
        shown = self._spin.value()
        return self._held[0] if self._held is not None and self._held[1] == shown else shown

    def set_value(self, value: Any) -> None:
        """Show a number."""
        self._spin.blockSignals(True)
        self._spin.setValue(value)
        self._spin.blockSignals(False)
        self._held = (value, self._spin.value())


class PlainSpin(QDoubleSpinBox):
    """A field for a number of any size: as many digits as it has, and steps of a tenth of its leading
    digit.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setDecimals(_DECIMALS)

    def textFromValue(self, value: float) -> str:
        """Write a number without needless digits."""
        return shown(plain_number(value))

    def valueFromText(self, text: str) -> float:
        """Read a number, with point or comma."""
        return typed_number(self._bare(text))

    def validate(self, text: str, at: int) -> object:
        """Take whatever reads as a number, and what may become one."""
        try:
            value = typed_number(self._bare(text))
        except ValueError:
            begun = not self._bare(text).strip("+-.,0123456789eE \u00a0\u202f")
            return (QValidator.State.Intermediate if begun else QValidator.State.Invalid, text, at)
        inside = self.minimum() <= value <= self.maximum()
        return (QValidator.State.Acceptable if inside else QValidator.State.Intermediate, text, at)

    def stepBy(self, steps: int) -> None:
        """Step by a tenth of the leading digit's power."""
        size = abs(self.value()) or 1.0
        power = math.floor(math.log10(size))
        self.setValue(round(self.value() + steps * 10.0 ** (power - 1), max(1 - power, 0)))

    def _bare(self, text: str) -> str:
        return text.removesuffix(self.suffix()).strip()


class SliderControl(Control):
    """A number on a slider with a field beside it; an optional one may be left empty."""

    sliding = Signal(float)
    """The value while the slider is dragged."""

    def __init__(self, title: str, optional: bool) -> None:
        super().__init__()
        self._optional, self._low, self._high = optional, 0.0, 1.0
        self._held: tuple[float | None, str] = (None, "")
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, 1000)
        self.slider.setAccessibleName(f"{title}, slider")
        self.edit = QLineEdit()
        self.edit.setAccessibleName(title)
        self.edit.setFixedWidth(72)
        self.edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.edit.setPlaceholderText("none" if optional else "")
        self.slider.valueChanged.connect(self._slide)
        self.slider.sliderReleased.connect(self.changed)
        self.edit.editingFinished.connect(self._typed)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(row(self.slider, self.edit, grows=self.slider))

    def set_range(self, low: float, high: float) -> None:
        """Let the slider run between two values."""
        self._low, self._high = low, high
        self._place(self.value())

    def value(self) -> float | None:
        """The number as it was given or typed, or None when the field is empty."""
        if self.edit.text() == self._held[1]:
            return self._held[0]
        try:
            return typed_number(self.edit.text())
        except ValueError:
            return None

    def set_value(self, value: Any) -> None:
        """Show a number."""
        self.edit.setText("" if value is None else shown(f"{float(value):.6g}"))
        self._held = (None if value is None else float(value), self.edit.text())
        self._place(value)

    def _place(self, value: Any) -> None:
        self.slider.blockSignals(True)
        self.slider.setValue(
            0 if value is None else round((float(value) - self._low) / (self._high - self._low) * 1000)
        )
        self.slider.blockSignals(False)

    def _slide(self, place: int) -> None:
        value = self._low + place / 1000.0 * (self._high - self._low)
        self.edit.setText(shown(f"{value:.4g}"))
        self.sliding.emit(value)
        if not self.slider.isSliderDown():
            self.changed.emit()  # by keys

    def _typed(self) -> None:
        if self.value() is None and not self._optional:
            self.edit.setText(f"{self._low:.4g}")
        self._place(self.value())
        self.changed.emit()


class TextControl(Control):
    """A text, or an optional number; empty is the default. Files, boxes and systems have a helper
    beside it.
    """

    def __init__(
        self, title: str, hint: str, help_with: Callable[[TextControl], QWidget] | None = None
    ) -> None:
        super().__init__()
        self._held: tuple[Any, str] | None = None
        self.edit = QLineEdit()
        self.edit.setPlaceholderText(hint)
        self.edit.setAccessibleName(title)
        self.edit.textEdited.connect(lambda _: self.changed.emit())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(row(self.edit, help_with(self), gap=4) if help_with else self.edit)

    def value(self) -> Any:
        """What was given while its text stands unchanged, else the text as it was typed; None when it is
        empty.
        """
        text = self.edit.text().strip()
        if self._held is not None and text == self._held[1]:
            return self._held[0]
        return text or None

    def set_value(self, value: Any) -> None:
        """Show a value as text; numbers are written out, boxes with commas."""
        shown = value
        if isinstance(value, (tuple, list)):
            pairs = bool(value) and isinstance(value[0], (tuple, list))
            shown = (
                ";".join(",".join(_written(v) for v in pair) for pair in value)
                if pairs
                else ",".join(_written(v) for v in value)
            )
        self.edit.setText("" if shown is None else _written(shown))
        self._held = (
            value or None if isinstance(value, (tuple, list, str)) else value,
            self.edit.text().strip(),
        )

    def fill(self, value: Any) -> None:
        """Show a value and tell."""
        self.set_value(value)
        self.changed.emit()


class PlacesControl(Control):
    """Places as a list; ``line`` takes them as the vertices of one line, in one row of numbers."""

    shown = Signal(float, float)
    """A place is to be shown on the plan."""

    def __init__(self, title: str, hint: str, line: bool = False) -> None:
        super().__init__()
        self.is_line = self._line = line
        self._places: list[tuple[float, float]] = []
        self._held: Any = None
        self.names: dict[int, str] | None = None
        self._hint = hint
        self.hint = label(hint, "muted", wrap=True)
        self.rows = PlaceRows(title, _written)
        self.rows.removed.connect(self._remove)
        self.rows.moved.connect(self._move)
        self.rows.named.connect(self._name)
        self.rows.looked_at.connect(lambda k: self.shown.emit(*self._places[k]))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(self.hint)
        layout.addWidget(self.rows)

    def value(self) -> Any:
        """The places, or the numbers of the line; None without any."""
        if self._held is not None:
            return self._held
        if not self._places:
            return None
        return tuple(v for place in self._places for v in place) if self._line else tuple(self._places)

    def set_value(self, value: Any) -> None:
        """Show places; text that is no list of them is kept as it is."""
        self._held = value if isinstance(value, str) else None
        flat = () if value is None or isinstance(value, str) else value
        pairs = zip(flat[::2], flat[1::2], strict=False) if self._line else flat
        self._places = [(float(x), float(y)) for x, y in pairs]
        self._show()

    def fill(self, value: Any) -> None:
        """Show places and tell."""
        self.set_value(value)
        self.changed.emit()

    def show_names(self, names: dict[int, str]) -> None:
        """Let the places have names, by number from 1."""
        self.names = dict(names)
        self._show()

    def _show(self, wrong: str = "") -> None:
        names = self.names
        self.rows.show_rows(
            [
                PlaceRow(x, y, None if names is None else names.get(k, ""))
                for k, (x, y) in enumerate(self._places, start=1)
            ]
        )
        self.rows.setVisible(bool(self._places))
        self.hint.setText(wrong or self._hint)
        self.hint.setVisible(bool(wrong) or not self._places)

    def _remove(self, number: int) -> None:
        del self._places[number]
        if self.names is not None:
            self.names = {k - (k > number + 1): n for k, n in self.names.items() if k != number + 1}
        if self._line and len(self._places) < 2:
            self._places = []
        self._told()

    def _move(self, number: int, text: str) -> None:
        try:
            x, y = typed_numbers(text)
        except ValueError:
            self.rows.show_rows(())
            self._show(f"'{text}' is no place: x and y with a comma. It stays where it was.")
            return
        self._places[number] = (x, y)
        self._told()

    def _name(self, number: int, text: str) -> None:
        if self.names is not None:
            self.names = {**self.names, number + 1: text}
        self._told()

    def _told(self) -> None:
        self._held = None
        self.rows.show_rows(())
        self._show()
        self.changed.emit()


class NamesControl(Control):
    """Names by number as one text, which are typed on their places, or in the result's table: by itself it
    shows nothing.
    """

    def __init__(self) -> None:
        super().__init__()
        self._text: str | None = None
        self._places: PlacesControl | None = None

    def stand_on(self, places: PlacesControl) -> None:
        """Let the names be typed on places."""
        self._places = places
        places.show_names({})

    def value(self) -> str | None:
        """All names, or None without any."""
        if self._places is None or self._places.names is None:
            return self._text
        return names_text(self._places.names) or None

    def set_value(self, value: Any) -> None:
        """Show names."""
        self._text = value
        if self._places is not None:
            self._places.show_names(names_of(value))


class FormulaControl(Control):
    """A formula over a few lines; the part that is wrong is underlined."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.edit = QPlainTextEdit()
        self.edit.setPlaceholderText("for example slope > 30 and dem > 400")
        self.edit.setAccessibleName(title)
        self.edit.setTabChangesFocus(True)
        self.edit.setFixedHeight(66)
        self.edit.textChanged.connect(self.changed)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.edit)

    def value(self) -> str | None:
        """The text on one line, or None when it is empty."""
        return self.edit.toPlainText().replace("\n", " ").strip() or None

    def set_value(self, value: Any) -> None:
        """Show a text."""
        self.edit.blockSignals(True)
        self.edit.setPlainText("" if value is None else str(value))
        self.edit.blockSignals(False)

    def rename(self, name: str, fresh: str) -> None:
        """Replace a name wherever it stands."""
        self.edit.setPlainText(re.sub(rf"\b{re.escape(name)}\b", fresh, self.edit.toPlainText()))

    def point_at(self, start: int, end: int) -> None:
        """Underline a part of the text; nothing when the part is empty."""
        marks = []
        if end > start:
            mark = QTextEdit.ExtraSelection()
            text = self.edit.toPlainText()
            lead = len(text) - len(text.lstrip())
            mark.cursor = self.edit.textCursor()
            mark.cursor.setPosition(min(start + lead, len(text)))
            mark.cursor.setPosition(min(end + lead, len(text)), QTextCursor.MoveMode.KeepAnchor)
            mark.format.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            mark.format.setUnderlineColor(shade(OCHRE))
            mark.format.setBackground(shade(WASH))
            marks.append(mark)
        self.edit.setExtraSelections(marks)

    @property
    def pointed(self) -> str:
        """The part that is underlined."""
        return "".join(m.cursor.selectedText() for m in self.edit.extraSelections())


class SystemControl(TextControl):
    """A reference system by its code; its name is shown as it is typed."""

    def __init__(self, title: str) -> None:
        super().__init__(title, "as stated, or EPSG:code")
        self.said = label("", "muted", wrap=True)
        self.said.hide()
        layout = self.layout()
        if layout is not None:
            layout.addWidget(self.said)
        self.edit.textChanged.connect(self._say)

    def _say(self, text: str) -> None:
        try:
            said = reference_system(text.strip()).name if text.strip() else ""
        except AskedWronglyError:
            said = "not a reference system yet"
        self.said.setText(said)
        self.said.setVisible(bool(said))


def limits(field: FieldInfo) -> tuple[float | None, float | None]:
    """Lowest and highest value that a field of a declared number takes; that an open limit itself is no value
    is said in words.
    """
    low = high = None
    for limit in field.metadata:
        low = getattr(limit, "ge", low)
        high = getattr(limit, "le", high)
        if getattr(limit, "gt", None) is not None:
            low = limit.gt
        if getattr(limit, "lt", None) is not None:
            high = limit.lt
    return low, high


def _written(value: object) -> str:
    """Write a value with all its digits: a thousandth of a millimetre of a coordinate, and finer in
    degrees.
    """
    return plain_number(value) if isinstance(value, float) else str(value)


def plain_number(value: float) -> str:
    """Write a number with up to twelve digits that count, without an exponent in the usual range."""
    text = f"{value:.12g}"
    return (
        text
        if "e" not in text or not 1e-10 < abs(value) < 1e15
        else f"{value:.{_DECIMALS}f}".rstrip("0").rstrip(".")
    )

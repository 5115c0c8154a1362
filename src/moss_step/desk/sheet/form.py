"""Editors for what a part of a page, or the page itself, can be told: made from the list of fields."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QWidget,
)

from moss_step.desk.controls import PlainSpin
from moss_step.desk.parts import button, clear, label
from moss_step.desk.plain import set_tip
from moss_step.desk.sheet.fields import CHOICES, SCALES, Field
from moss_step.desk.work import Work
from moss_step.scene.pictures import has_place
from moss_step.study.pages import Page


class Words(QPlainTextEdit):
    """Several lines of text, told when they are left."""

    left = Signal()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """Tell it."""
        super().focusOutEvent(event)
        self.left.emit()


@dataclass(frozen=True)
class About:
    """What editors need to know of the page and the study."""

    work: Work
    page: Page
    columns: tuple[str, ...] = ()

    def results(self, kind: str) -> list[tuple[str, str]]:
        """Names and refs of the results that may be chosen."""
        study = self.work.study
        refs = study.refs()
        if kind == "on_plan":
            refs = [r for r in refs if has_place(study, r)]
        elif kind == "surfaces":
            refs = [r for r in refs if study.result(r).gives == "surface"]
        elif kind == "chart":
            refs = [r for r in refs if study.result(r).gives == "chart"]
        elif kind == "areas":
            refs = [r for r in refs if study.result(r).gives == "shapes"]
        return [(study.name_of(r), r) for r in refs]


Tell = Callable[[object], None]
Make = Callable[[About, Field, Any, Tell], QWidget]


class PartForm(QWidget):
    """Editors for the fields of a part, or of a page; tells each change."""

    changed = Signal(str, object)
    """Name of a field, and its value."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(5)
        self._grid.setColumnStretch(1, 1)
        self._said: object = None
        self.editors: dict[str, QWidget] = {}

    def forget(self) -> None:
        """Make the editors anew the next time, whatever they hold."""
        self._said = None

    def show_fields(
        self, about: About, fields: Sequence[Field], held: Mapping[str, object], locked: bool = False
    ) -> None:
        """Show fields with the values that are held; ``locked`` ones cannot be changed."""
        values = {field.name: held[field.name] for field in fields}
        study = tuple(about.work.study.refs())
        said = (fields, tuple(values.items()), about.columns, locked, study, about.page.name)
        if said == self._said:
            return
        self._said = said
        focused = self.focusWidget()
        focus = next(
            (n for n, e in self.editors.items() if e is focused or e.isAncestorOf(focused or self)), ""
        )
        clear(self._grid)
        self.editors = {}
        for k, field in enumerate(fields):
            editor = EDITORS[field.kind](
                about, field, values[field.name], partial(self.changed.emit, field.name)
            )
            editor.setAccessibleName(field.title)
            set_tip(editor, field.tip)
            editor.setEnabled(not locked)
            self.editors[field.name] = editor
            if field.kind == "tick":
                self._grid.addWidget(editor, k, 0, 1, 2)
                continue
            upper = (
                Qt.AlignmentFlag.AlignTop
                if field.kind in ("words", "rows")
                else Qt.AlignmentFlag.AlignVCenter
            )
            self._grid.addWidget(label(field.title, "muted"), k, 0, upper)
            self._grid.addWidget(editor, k, 1)
        if focus in self.editors:
            self.editors[focus].setFocus()


def _number(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    spin = PlainSpin()
    spin.setRange(-1e7, 1e7)
    spin.setKeyboardTracking(False)
    if field.unit:
        spin.setSuffix(field.unit if field.unit == "°" else f" {field.unit}")
    spin.setValue(float(value))
    spin.valueChanged.connect(lambda v: tell(int(v) if field.kind == "whole" else float(v)))
    return spin


def _tick(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    result = QCheckBox(field.title)
    result.setChecked(bool(value))
    result.toggled.connect(tell)
    return result


def _scale(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    box = QComboBox()
    box.setEditable(True)
    known = sorted({*SCALES, value})
    for scale in known:
        box.addItem(f"1:{scale:,.0f}" if scale else "as it fits", scale)
    box.setCurrentIndex(known.index(value))

    def take() -> None:
        text = box.currentText().split(":")[-1].replace(",", "").replace(" ", "").strip()
        try:
            asked = 0.0 if not text or "fits" in text else float(text)
        except ValueError:
            box.setCurrentIndex(known.index(value))
            return
        if asked != value:
            tell(asked)

    box.activated.connect(lambda _: take())
    edit = box.lineEdit()
    if edit is not None:
        edit.editingFinished.connect(take)
    return box


def _fixed(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    return _choice(CHOICES[field.kind], value, tell)


def _one(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    first = "no atlas" if field.kind == "areas" else "choose …"
    return _choice([(first, ""), *about.results(field.kind)], value, tell)


def _column(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    return _choice([("in their order", ""), *((c, c) for c in about.columns)], value, tell)


def _plan(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    plans = [(p.id, p.id) for p in about.page.parts if p.kind == "plan"]
    return _choice([("the first plan", ""), *plans], value, tell)


def _many(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    return _several(about.results(field.kind), value, tell)


def _columns(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    return _several([(c, c) for c in about.columns], value, tell)


def _words(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    rows = field.kind == "rows"
    text = "\n".join(f"{word}: {what}" for word, what in value) if rows else str(value)
    edit = Words(text)
    edit.setFixedHeight(92)
    edit.setTabChangesFocus(True)

    def take() -> None:
        if edit.toPlainText() != text:
            tell(_rows_of(edit.toPlainText()) if rows else edit.toPlainText())

    edit.left.connect(take)
    return edit


def _file(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    def ask() -> None:
        kinds = "Pictures (*.png *.jpg *.jpeg *.tif *.tiff)"
        path = about.work.folder.ask_open(result, "Picture", kinds, str(value))
        if path is not None:
            tell(str(path))

    result = button(str(value).rsplit("/", 1)[-1] or "Choose a file …", "Choose a picture", ask)
    return result


def _line(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    drawn = "Draw it anew on a plan" if value else "Draw it on a plan"
    return button(drawn, "Press on a plan of the page, pull, let go", lambda: tell(None))


def _text(about: About, field: Field, value: Any, tell: Tell) -> QWidget:
    edit = QLineEdit(str(value))
    edit.editingFinished.connect(lambda: tell(edit.text()) if edit.text() != value else None)
    return edit


EDITORS: dict[str, Make] = {
    "number": _number,
    "whole": _number,
    "tick": _tick,
    "scale": _scale,
    "any": _one,
    "chart": _one,
    "areas": _one,
    "column": _column,
    "plan": _plan,
    "on_plan": _many,
    "surfaces": _many,
    "results": _many,
    "columns": _columns,
    "words": _words,
    "rows": _words,
    "file": _file,
    "line": _line,
    "text": _text,
    **dict.fromkeys(CHOICES, _fixed),
}
"""What makes the editor of each kind of field."""


def _choice(options: Sequence[tuple[str, object]], value: object, tell: Callable[[object], None]) -> QWidget:
    box = QComboBox()
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    for text, data in options:
        box.addItem(text, data)
    at = box.findData(value)
    if at < 0 and value:
        box.addItem(f"[removed] {value}", value)
        at = box.count() - 1
    box.setCurrentIndex(max(at, 0))
    box.activated.connect(lambda i: tell(box.itemData(i)))
    return box


def _several(
    options: Sequence[tuple[str, str]], value: Sequence[str], tell: Callable[[object], None]
) -> QPushButton:
    """A button with a list to mark some of; what is marked first stays first."""
    result = QPushButton(f"{len(value)} marked" if value else "as usual")
    menu = QMenu(result)

    def mark(ref: str, on: bool) -> None:
        kept = [v for v in value if v != ref]
        tell(tuple([*kept, ref] if on else kept))

    for text, ref in options:
        action = menu.addAction(text)
        action.setCheckable(True)
        action.setChecked(ref in value)
        action.toggled.connect(partial(mark, ref))
    result.setMenu(menu)
    return result


def _rows_of(text: str) -> tuple[tuple[str, str], ...]:
    """Rows of a title block of typed lines."""
    pairs = [line.partition(":") for line in text.split("\n") if line.strip()]
    return tuple((word.strip(), what.strip()) for word, _, what in pairs)

"""How surfaces are drawn, to be changed in the Key."""

from __future__ import annotations

import math
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QLineEdit, QWidget

from moss_step.desk.looks.look import Look, ramp_box
from moss_step.desk.numbers import shown, typed_number
from moss_step.desk.parts import close_column, label, row, tool
from moss_step.desk.plain import set_tip
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.plan.key import KeyPanel


class SurfaceLook(Look):
    """Surfaces: painted by the scene."""

    kind = "surface"

    def controls(self, panel: KeyPanel, key: KeyRow, picture: SurfacePicture) -> QWidget:
        """Ramp, direction, steps, centre, a clear value and range."""
        surface, box = picture.value, QWidget()
        layout = close_column(box)
        ramps = ramp_box(panel, key, surface)
        turn = tool(
            "arrows-out-simple",
            "Turn the ramp round",
            lambda: panel.set(key, "Turn ramp", reverse=not key.reverse),
        )
        layout.addWidget(row(ramps, turn, gap=4, grows=ramps))
        steps = QComboBox()
        steps.setAccessibleName("Steps of the ramp")
        set_tip(steps, "Colours that run through, or so many steps of one colour each")
        for text, count in (("Colours run through", 0), *((f"{n} steps", n) for n in range(2, 13))):
            steps.addItem(text, count)
        steps.setCurrentIndex(max(steps.findData(key.steps), 0))
        steps.currentIndexChanged.connect(
            lambda i: panel.set(key, "Steps of the ramp", steps=steps.itemData(i))
        )
        layout.addWidget(steps)
        if surface.cyclic:
            return box
        centre = _optional(panel, key, "centre", "Centre of the ramp", "The middle colour lies at this value")
        layout.addWidget(row(label("Centre", "muted"), centre, gap=4))
        clear = _optional(panel, key, "clear", "Value left clear", "Cells of this value show what lies below")
        layout.addWidget(row(label("Clear at", "muted"), clear, gap=4))
        span = QComboBox()
        span.setAccessibleName("Range of the ramp")
        set_tip(span, "Which values the ramp spans")
        for text, value in (
            ("Lowest to highest", "range"),
            ("Leave out the ends", "cut"),
            ("Typed", "typed"),
        ):
            span.addItem(text, value)
        span.setCurrentIndex(span.findData(key.span))
        span.currentIndexChanged.connect(lambda i: _set_span(panel, key, span.itemData(i), picture))
        layout.addWidget(span)
        if key.span == "cut":
            cut = QLineEdit(shown(f"{key.cut:g}"))
            cut.setAccessibleName("Percent left out at each end")
            cut.editingFinished.connect(lambda: _set_number(panel, key, "cut", cut.text(), 0.0, 49.0))
            layout.addWidget(row(label("Percent at each end", "muted"), cut))
        elif key.span == "typed":
            low, high = picture.span(key)
            edits = []
            for name, end in (("low", low), ("high", high)):
                edit = QLineEdit(shown(f"{end:.6g}"))
                edit.setAccessibleName(f"{name.capitalize()} end of the ramp")
                edit.editingFinished.connect(partial(_type_end, panel, key, name, edit))
                edits.append(edit)
            layout.addWidget(row(*edits, gap=4))
        return box


def _set_span(panel: KeyPanel, key: KeyRow, span: str, picture: SurfacePicture) -> None:
    low, high = picture.span(key)
    panel.set(key, "Range of the ramp", span=span, low=low, high=high)


def _optional(panel: KeyPanel, key: KeyRow, field: str, title: str, help: str) -> QLineEdit:
    """A value of the look that may be left empty."""
    held = getattr(key, field)
    edit = QLineEdit("" if held is None else shown(f"{held:g}"))
    edit.setAccessibleName(title)
    edit.setPlaceholderText("none")
    set_tip(edit, f"{help}; empty for none")

    def typed() -> None:
        text = edit.text().strip()
        if text:
            _set_number(panel, key, field, text, -1e12, 1e12)
        elif getattr(panel.work.study.key_row(key.step) or key, field) is not None:
            nothing: dict[str, object] = {field: None}
            panel.set(key, title, False, **nothing)

    edit.editingFinished.connect(typed)
    return edit


def _set_number(panel: KeyPanel, key: KeyRow, field: str, text: str, low: float, high: float) -> None:
    try:
        value = typed_number(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        panel.work.message.emit(f"'{text}' is not a number.", True)
        return
    current = panel.work.study.key_row(key.step) or key
    row = current.model_copy(update={field: min(max(value, low), high)})
    panel.work.do(panel.work.study.with_key_row(row), "Range of the ramp")


def _type_end(panel: KeyPanel, key: KeyRow, field: str, edit: QLineEdit) -> None:
    _set_number(panel, key, field, edit.text(), -1e12, 1e12)

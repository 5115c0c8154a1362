"""How surfaces are drawn, to be changed in the Key."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QWidget

from moss_step.desk.looks.look import Look
from moss_step.desk.parts import close_column, label, row, tool
from moss_step.desk.plain import set_tip
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.ramps import ramp_names, usual_ramp
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.plan.key import KeyPanel


class SurfaceLook(Look):
    """Surfaces: painted by the scene."""

    kind = "surface"

    def controls(self, panel: KeyPanel, key: KeyRow, picture: SurfacePicture) -> QWidget:
        """Ramp, direction, clear zero and range."""
        surface, box = picture.value, QWidget()
        layout = close_column(box)
        ramps = QComboBox()
        ramps.setAccessibleName("Ramp")
        set_tip(ramps, "Colours from low to high")
        ramps.addItems([n.capitalize() for n in ramp_names()])
        ramps.setCurrentText((key.ramp or usual_ramp(surface)).capitalize())
        ramps.currentTextChanged.connect(lambda t: panel.set(key, "Ramp", ramp=t.lower()))
        turn = tool(
            "arrows-out-simple",
            "Turn the ramp round",
            lambda: panel.set(key, "Turn ramp", reverse=not key.reverse),
        )
        layout.addWidget(row(ramps, turn, gap=4))
        if surface.cyclic:
            return box
        zero = QCheckBox("Leave 0 clear")
        set_tip(zero, "Cells of value 0 show what lies below")
        zero.setAccessibleName("Leave 0 clear")
        zero.setChecked(key.clear_zero)
        zero.toggled.connect(lambda on: panel.set(key, "Leave 0 clear", clear_zero=on))
        layout.addWidget(zero)
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
            cut = QLineEdit(f"{key.cut:g}")
            cut.setAccessibleName("Percent left out at each end")
            cut.editingFinished.connect(lambda: _set_number(panel, key, "cut", cut.text(), 0.0, 49.0))
            layout.addWidget(row(label("Percent at each end", "muted"), cut))
        elif key.span == "typed":
            low, high = picture.span(key)
            edits = []
            for name, end in (("low", low), ("high", high)):
                edit = QLineEdit(f"{end:.6g}")
                edit.setAccessibleName(f"{name.capitalize()} end of the ramp")
                edit.editingFinished.connect(partial(_type_end, panel, key, name, edit))
                edits.append(edit)
            layout.addWidget(row(*edits, gap=4))
        return box


def _set_span(panel: KeyPanel, key: KeyRow, span: str, picture: SurfacePicture) -> None:
    low, high = picture.span(key)
    panel.set(key, "Range of the ramp", span=span, low=low, high=high)


def _set_number(panel: KeyPanel, key: KeyRow, field: str, text: str, low: float, high: float) -> None:
    try:
        value = float(text)
    except ValueError:
        panel.work.message.emit(f"'{text}' is not a number.", True)
        return
    current = panel.work.study.key_row(key.step) or key
    row = current.model_copy(update={field: min(max(value, low), high)})
    panel.work.do(panel.work.study.with_key_row(row), "Range of the ramp")


def _type_end(panel: KeyPanel, key: KeyRow, field: str, edit: QLineEdit) -> None:
    _set_number(panel, key, field, edit.text(), -1e12, 1e12)

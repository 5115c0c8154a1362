"""How class maps are drawn, to be changed in the Key."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QWidget

from moss_step.desk.looks.look import Look
from moss_step.desk.parts import close_column
from moss_step.desk.plain import set_tip
from moss_step.scene.kinds.classes import ClassesPicture
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.plan.key import KeyPanel

_MOST = 40
"""Classes that can be left out one by one; a map of more is a map of names."""


class ClassesLook(Look):
    """Class maps: painted by the scene."""

    kind = "classes"

    def controls(self, panel: KeyPanel, key: KeyRow, picture: ClassesPicture) -> QWidget:
        """A tick for each class: those without one show what lies below."""
        box = QWidget()
        layout = close_column(box)
        for entry in picture.value.classes[:_MOST]:
            tick = QCheckBox(entry.name.replace("&", "&&"))
            set_tip(tick, f"Draw {entry.name}, or show what lies below")
            tick.setAccessibleName(f"Draw {entry.name}")
            tick.setChecked(entry.code not in key.hidden)
            tick.toggled.connect(partial(_show, panel, key, entry.code, entry.name))
            layout.addWidget(tick)
        return box


def _show(panel: KeyPanel, key: KeyRow, code: int, name: str, shown: bool) -> None:
    current = panel.work.study.key_row(key.step) or key
    hidden = {*current.hidden} - {code} if shown else {*current.hidden, code}
    panel.set(key, f"{'Show' if shown else 'Hide'} {name}", hidden=tuple(sorted(hidden)))

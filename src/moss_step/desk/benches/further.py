"""Any number of further inputs: results to tick, or results that a formula may name."""

from __future__ import annotations

import keyword
import re
from collections.abc import Mapping, Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from moss_step.desk.parts import clear, label
from moss_step.desk.plain import set_tip
from moss_step.science.algebra.formula import CONSTANTS, FUNCTIONS, names_in
from moss_step.steps.declare import InputSpec


class FurtherInputs(QWidget):
    """Gives inputs by name: those ticked, or (``by_name``) those that a formula mentions."""

    changed = Signal()

    def __init__(self, spec: InputSpec, by_name: bool) -> None:
        super().__init__()
        self.spec, self.by_name = spec, by_name
        self.names: dict[str, str] = {}
        self._boxes: dict[str, QCheckBox] = {}
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(3)

    def show_choices(self, choices: Sequence[tuple[str, str]], chosen: Mapping[str, str]) -> None:
        """List results (id and name); ``chosen`` are the inputs of a stored step by name."""
        clear(self._layout)
        self._boxes.clear()
        stored = {step_id: name for name, step_id in chosen.items()}
        self.names = {}
        for step_id, text in choices:
            name = stored.get(step_id) or identifier(text, self.names)
            self.names[name] = step_id
        self._layout.addWidget(label(f"{self.spec.title}{' you can name' if self.by_name else ''}"))
        if self.by_name:
            self._layout.addWidget(label(", ".join(self.names) or "none yet", "muted", wrap=True))
            return
        for name, step_id in self.names.items():
            box = QCheckBox(dict(choices)[step_id])
            box.setChecked(step_id in stored)
            set_tip(box, f"As {name}")
            box.toggled.connect(lambda _: self.changed.emit())
            self._boxes[name] = box
            self._layout.addWidget(box)

    def inputs(self, expression: str) -> dict[str, str]:
        """The inputs as they are chosen now."""
        if self.by_name:
            return {n: self.names[n] for n in names_in(expression) if n in self.names}
        return {n: self.names[n] for n, box in self._boxes.items() if box.isChecked()}


def identifier(text: str, taken: Mapping[str, str]) -> str:
    """A name for use in formulas: letters, digits and underscores, not yet taken."""
    name = re.sub(r"\W+", "_", text.strip().lower()).strip("_") or "surface"
    if name[0].isdigit() or keyword.iskeyword(name) or name in (*FUNCTIONS, *CONSTANTS):
        name = f"s_{name}"
    return next(n for n in (name, *(f"{name}_{k}" for k in range(2, 10_000))) if n not in taken)

"""Segments that were picked as examples: a list with what each is, and a button that says where clicks go."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.controls import Control
from moss_step.desk.parts import button, clear, column, label, row, tool

Pick = tuple[float, ...]
_MOST = 12


class PicksControl(Control):
    """Places of points, each of which stands for its segment."""

    wanted = Signal(bool)
    """Clicks on the plan are to go here, or no longer."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._title, self._picks = title, list[Pick]()
        self._said: Mapping[Pick, str] = {}
        self.pick = button(
            f"Pick {title.lower()}",
            "Click segments on the plan; a second click takes one out",
            self._ask,
            role="choice",
        )
        self.pick.setCheckable(True)
        self._list = column(gap=1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        layout.addWidget(self.pick)
        layout.addWidget(self._list)
        self.setAccessibleName(title)

    def value(self) -> Any:
        """The places; None without any."""
        return tuple(self._picks) or None

    def set_value(self, value: Any) -> None:
        """Show places."""
        self._picks = [tuple(float(v) for v in place) for place in value or ()]
        self._show()

    def toggle(self, place: Pick, same: Pick | None) -> None:
        """Add a place, or take the one of the same segment out, and tell."""
        if same is None:
            self._picks.append(place)
        else:
            self._picks.remove(same)
        self._show()
        self.changed.emit()

    def add(self, places: Sequence[Pick]) -> None:
        """Add places, and tell."""
        self._picks += places
        self._show()
        self.changed.emit()

    def say(self, said: Mapping[Pick, str]) -> None:
        """What each pick is: the segment and its points."""
        self._said = said
        self._show()

    def rest(self) -> None:
        """Clicks go elsewhere now."""
        self.pick.setChecked(False)

    def _ask(self) -> None:
        self.wanted.emit(self.pick.isChecked())

    def _show(self) -> None:
        inner = self._list.layout()
        if inner is None:
            return
        clear(inner)
        for number, place in enumerate(self._picks[:_MOST], start=1):
            said = label(f"{number}  {self._said.get(place, 'a segment')}")
            drop = tool("x", f"Take {said.text()} out", partial(self.toggle, place, place))
            inner.addWidget(row(said, 1, drop))
        if len(self._picks) > _MOST:
            inner.addWidget(label(f"and {len(self._picks) - _MOST} more", "muted"))
        self._list.setVisible(bool(self._picks))

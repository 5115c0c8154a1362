"""The keys, shown by Shift+F1."""

from __future__ import annotations

from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QGridLayout, QWidget

from moss_step.desk.overlay import Overlay
from moss_step.desk.parts import label

KEYS = (
    ("Ctrl+K", "Find a step, a place, a result"),
    ("Ctrl+O", "Open a grid, shapes or a study"),
    ("Ctrl+S", "Save the study"),
    ("Ctrl+Shift+S", "Save it under another name"),
    ("Ctrl+Z, Ctrl+Shift+Z", "Undo, redo"),
    ("Ctrl+1 … Ctrl+9", "Benches in their order"),
    ("Ctrl+Return", "Keep the step, or apply the change"),
    ("Escape", "Leave the step; end drawing"),
    ("F5", "Run what waits"),
    ("Ctrl+T, Ctrl+L, Ctrl+B", "Table, section under the plan; block beside it"),
    ("Ctrl+D, [ and ]", "Compare two results; move the divider"),
    ("Ctrl+,", "Preferences: units, text, colours"),
    ("Ctrl+Shift+C", "Copy the plan as a picture"),
    ("Ctrl+E", "Hand the chosen result on"),
    ("K", "Fold the Key, or open it"),
    ("T, N, O on the block", "From the top, toward the north, obliquely"),
    ("Ctrl+.", "Stop what runs"),
    ("Arrows, + and -", "Move and zoom the plan"),
    ("F or 0", "Show all of the ground"),
    ("P, double click", "Pin the reading"),
    ("B on the plan", "Show what steps back while a step is made"),
    ("F2, D, K, Del on a card", "Rename, duplicate, Key in or out, remove"),
    ("T on a card", "The next of several results"),
    ("Return, Backspace, Del while drawing", "End a shape, take a vertex back, take one away"),
    ("Page down, arrows while drawing", "Choose the next vertex, move it"),
    (
        "Arrows, Tab, [ ], L, D, Del on a page",
        "Move a part, take the next, lower and raise, lock, double, remove",
    ),
    ("Up, down, left, right on the histogram", "Choose a bound, move it"),
    ("F1", "The page of what is shown"),
    ("Shift+F1", "These keys"),
)


class KeysSheet(Overlay):
    """An overlay that lists the keys; any key or click closes it."""

    def __init__(self, parent: QWidget) -> None:
        body = QWidget()
        layout = QGridLayout(body)
        layout.setContentsMargins(24, 18, 24, 20)
        layout.setHorizontalSpacing(26)
        layout.setVerticalSpacing(7)
        layout.addWidget(label("Keys", "title"), 0, 0, 1, 2)
        for i, (key, what) in enumerate(KEYS, start=1):
            layout.addWidget(label(key, "head"), i, 0)
            layout.addWidget(label(what), i, 1)
        super().__init__(parent, "Keys", body)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Close."""
        self.hide()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Close."""
        self.hide()

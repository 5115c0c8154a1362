"""A person at the window, whose actions are counted: each click, drag, chord of keys and typed text is one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractSpinBox, QApplication, QComboBox, QFileDialog, QLineEdit, QWidget

from tests.desk.driving import LEFT, named, pixel, until, wait


class Person:
    """Acts on one window; waits until it rests after each action, which costs nothing."""

    def __init__(self, window, settle, monkeypatch) -> None:
        self.window, self.settle, self.patch = window, settle, monkeypatch
        self.actions: list[str] = []

    def did(self, what: str) -> None:
        self.actions.append(what)
        self.settle(self.window)

    @property
    def count(self) -> int:
        return len(self.actions)

    def drop(self, *files: Path) -> None:
        """Drag files onto the window."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(f)) for f in files])
        event = QDropEvent(
            QPointF(600, 300), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier
        )
        self.window.dropEvent(event)
        self.did(f"drop {len(files)} files")

    def click(self, name: str, within: QWidget | None = None) -> None:
        """Click a control by its accessible name."""
        button = named(within or self.window, name)
        assert button.isEnabled(), name
        QTest.mouseClick(button, LEFT)
        self.did(f"click {name}")

    def click_plan(self, x: float, y: float) -> None:
        """Click a place of the plan."""
        at = pixel(self.window, x, y)
        assert self.window.childAt(self.window.plan.view.mapTo(self.window, at)) is self.window.plan.view, (
            "a card lies on it"
        )
        QTest.mouseClick(self.window.plan.view, LEFT, pos=at)
        self.did(f"click the plan at {x:.0f}, {y:.0f}")

    def draw(self, corners: Sequence[tuple[float, float]]) -> None:
        """Click from corner to corner on the plan, then Return: what is drawn is one action."""
        view = self.window.plan.view
        for at in corners:
            QTest.mouseClick(view, LEFT, pos=pixel(self.window, *at))
            wait(0.02)
        QTest.keyClick(view, Qt.Key.Key_Return)
        self.did("draw on the plan")

    @contextmanager
    def pulling(self, corner: tuple[float, float], dx: int, dy: int) -> Iterator[None]:
        """Pull a corner on the plan by some pixels; it is let go after what is asked meanwhile."""
        view, first = self.window.plan.view, pixel(self.window, *corner)
        none = Qt.KeyboardModifier.NoModifier
        QTest.mousePress(view, LEFT, none, first)
        for k in range(1, 8):
            QTest.mouseMove(view, first + QPoint(dx * k // 7, dy * k // 7))
            wait(0.05)
        yield
        QTest.mouseRelease(view, LEFT, none, first + QPoint(dx, dy))
        self.did("pull a corner")

    def spin(self, name: str, value: float) -> None:
        """Type a number into a field with steps, and Return."""
        field = named(self.window, name, QAbstractSpinBox)
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, str(value))
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.did(f"type {value} in {name}")

    def record(self, path: Path) -> None:
        """Hand the record on: its button, and the name typed in the dialog."""
        self.patch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(path), "")))
        self.click("Hand on the record: text, CSV or shapes")
        self.did(f"type {path.name}")
        until(path.exists, "no record was written")

    def keys(self, key: Qt.Key, control: bool = True) -> None:
        """Press one chord."""
        focus = QApplication.focusWidget() or self.window
        modifiers = Qt.KeyboardModifier.ControlModifier if control else Qt.KeyboardModifier.NoModifier
        QTest.keyClick(focus, key, modifiers)
        self.did(f"keys {'Ctrl+' if control else ''}{key.name.removeprefix('Key_')}")

    def fill(self, name: str, text: str) -> None:
        """Type into a field, leaving it."""
        field = named(self.window, name, QLineEdit)
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text)
        field.editingFinished.emit()
        self.did(f"type {Path(text).name} in {name}")

    def choose(self, name: str, words: str) -> None:
        """Open a drop-down list, and click one of its rows: two actions."""
        box = named(self.window, name, QComboBox)
        at = next(i for i in range(box.count()) if words in box.itemText(i))
        self.did(f"open {name}")
        box.setCurrentIndex(at)
        box.activated.emit(at)
        self.did(f"choose {words}")

    def save_as(self, path: Path) -> None:
        """Hand the chosen result on: the chord, and the name typed in the dialog."""
        self.patch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(path), "")))
        self.window.activateWindow()
        self.window._hand_on_now()
        self.did("keys Ctrl+E")
        self.did(f"type {path.name}")

    def step(self, bench: str, title: str) -> None:
        """Turn to a bench, and choose a step by its button."""
        self.click_bench(bench)
        self.click(f"Step: {title}", self.window.benches[bench])

    def click_bench(self, bench: str) -> None:
        """Turn to a bench."""
        QTest.mouseClick(self.window.header.benches[bench], LEFT)
        self.did(f"click {bench}")

    def keep(self) -> str:
        """Keep what is made."""
        self.click("Keep this step")
        return self.window.work.chosen_id


def listed(actions: Sequence[str]) -> str:
    """Actions on one line."""
    return "; ".join(actions)


def middle(window) -> QPoint:
    """Middle of the plan."""
    return window.plan.view.rect().center()

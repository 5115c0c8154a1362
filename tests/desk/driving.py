"""Acting on the window as a person does, and reading what it shows."""

from __future__ import annotations

import time

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton, QScrollArea, QWidget

from moss_step.steps.declare import StepKind

LEFT = Qt.MouseButton.LeftButton
PATIENCE = 30.0


def wait(seconds: float) -> None:
    """Let window and threads go on: a wait of the test library would keep the threads from running."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.01)


def until(asked, what: str) -> None:
    """Wait until something holds."""
    end = time.monotonic() + PATIENCE
    while not asked():
        assert time.monotonic() < end, what
        wait(0.03)


def named(parent: QWidget, name: str, kind: type = QWidget) -> QWidget:
    """The visible control with an accessible name."""
    for _ in range(40):
        found = [w for w in parent.findChildren(kind) if w.accessibleName() == name and w.isVisible()]
        if found:
            return found[0]
        QTest.qWait(10)  # what was just made is shown at the next turn
    raise AssertionError(f"no control '{name}'")


def press(parent: QWidget, name: str) -> None:
    """Click the button with an accessible name."""
    button = named(parent, name)
    assert button.isEnabled(), f"'{name}' is disabled"
    QTest.mouseClick(button, LEFT)


def texts(parent: QWidget) -> str:
    """All text that is shown."""
    return "\n".join(
        w.text() for w in parent.findChildren(QLabel) + parent.findChildren(QPushButton) if w.isVisible()
    )


def check_it_shows_its_result_or_what_it_needs(window: QWidget, kind: StepKind) -> None:
    """The panel of a step that was begun: nothing scrolls, and never a fault."""
    bench = window.benches[window.bench]
    assert bench.findChild(QScrollArea).verticalScrollBar().maximum() == 0, kind.kind
    if kind.file_settings:
        return
    assert bench.panel.kind is kind
    said, whole = bench.panel.note.text, window.work.draft and not window.work.reason("draft")
    assert window.work.state("draft") == "done" if whole else said, kind.kind
    assert "went wrong inside" not in said, f"{kind.kind}: {said}"


def drag(widget: QWidget, start: QPoint, end: QPoint) -> None:
    """Drag with the left button."""
    QTest.mousePress(widget, LEFT, pos=start)
    for k in (0.3, 0.7, 1.0):
        QTest.mouseMove(widget, start + (end - start) * k)
    QTest.mouseRelease(widget, LEFT, pos=end)


def wheel(widget: QWidget, at: QPoint, turns: int) -> None:
    """Turn the wheel at a place."""
    event = QWheelEvent(
        QPointF(at), QPointF(widget.mapToGlobal(at)), QPoint(), QPoint(0, 120 * turns), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def pixel(window: QWidget, x: float, y: float) -> QPoint:
    """Pixel of the plan at coordinates."""
    px, py = window.plan.view.camera.pixel(x, y)
    return QPoint(round(px), round(py))


def type_in(edit: QWidget, text: str) -> None:
    """Replace the text of a field by typing, and finish with Enter."""
    edit.setFocus()
    edit.selectAll()
    QTest.keyClick(edit, Qt.Key.Key_Delete)
    QTest.keyClicks(edit, text)
    QTest.keyClick(edit, Qt.Key.Key_Return)


def rest(window, qapp, least: float = 0.4) -> None:
    """Wait until the block has been drawn at rest."""
    end, quiet = time.monotonic() + 60, time.monotonic() + least
    while time.monotonic() < end and (
        time.monotonic() < quiet
        or window.block.stage.busy
        or window.block.rest.isActive()
        or window.block.image is None
    ):
        qapp.processEvents()
        time.sleep(0.01)
    qapp.processEvents()  # the last picture is handed over at the next turn
    assert window.block.image is not None


def answered(monkeypatch, answer):
    """What the window asks from here on, each answered alike."""
    asked = []
    monkeypatch.setattr(
        "moss_step.desk.study_files.ask", lambda _w, title, text, *_: asked.append((title, text)) or answer
    )
    return asked

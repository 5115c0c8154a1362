"""The window stands where it stood; the plan and rows go to the clipboard."""

import json

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from moss_step.desk.window import MainWindow
from moss_step.desk.window_place import take_place
from moss_step.folders import state_path


def test_the_next_window_has_the_size_of_the_last(window, settle, qtbot):
    window.resize(720, 610)
    settle(window)
    window.close()
    assert "geometry" in json.loads((state_path() / "window.json").read_text())
    other = MainWindow()
    qtbot.addWidget(other)
    take_place(other)
    assert (other.width(), other.height()) == (720, 610), "a screen of 800 x 800 is all that there is"
    other.work.close()


@pytest.mark.parametrize(
    "text", ["", "{", "[]", '{"geometry": 5}', '{"geometry": "\\u00e4"}', '{"geometry": "AAAA"}', "null"]
)
def test_a_damaged_place_is_as_none(window, text):
    (state_path()).mkdir(parents=True, exist_ok=True)
    (state_path() / "window.json").write_text(text)
    before = window.size()
    take_place(window)
    assert window.size() == before


def test_the_plan_goes_to_the_clipboard_as_a_picture(demo, settle, qtbot):
    QApplication.clipboard().clear()
    qtbot.keyClick(
        demo, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
    )
    settle(demo)
    image = QApplication.clipboard().image()
    assert (image.width(), image.height()) == (1600, 1100)
    assert "on the clipboard" in demo.plan.message.text

"""Helpers for whole jobs in the window: finding steps, filling forms, keeping results."""

import numpy as np
from PySide6.QtWidgets import QComboBox

from tests.desk.driving import named, press


def by_name(window, start: str) -> str:
    return next(s.id for s in window.work.study.steps if window.work.study.name_of(s.id).startswith(start))


def fill(window, settle, control: str, value) -> None:
    panel = window.benches[window.bench].panel
    panel.form.control(control).set_value(value)
    panel.update_draft()
    settle(window)


def keep(window, settle) -> str:
    settle(window)
    press(window.benches[window.bench], "Keep this step")
    settle(window)
    return window.work.chosen_id


def choose_input(window, settle, title: str, step_id: str) -> None:
    panel = window.benches[window.bench].panel
    folded = [b for b in panel.more.findChildren(QComboBox) if b.accessibleName() == title]
    if folded and not folded[0].isVisible():
        press(panel, panel.more.head.accessibleName())
    box = named(panel, title)
    box.setCurrentIndex(box.findData(step_id))
    settle(window)


def values(window, step_id: str) -> np.ndarray:
    return window.work.outcome(step_id).value.values

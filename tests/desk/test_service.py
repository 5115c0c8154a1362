"""The elevation service on the Gather bench, in the real window."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton

from moss_step.demo.surroundings import Tiles
from moss_step.desk.benches import service as page
from moss_step.practice.elevation import Faults, Server


def press(parent: object, text: str) -> None:
    """Click the button that says something."""
    found = next(b for b in parent.findChildren(QPushButton) if b.text() == text)  # type: ignore[attr-defined] # a widget
    found.click()


def test_a_service_is_asked_drawn_fetched_and_missed(
    window, qtbot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(page, "service_folder", lambda: tmp_path / "kept")
    monkeypatch.setattr("moss_step.formats.asking.FIRST_WAIT", 0.01)
    bench = window.benches["gather"]
    bench.show_start()
    with Server(Tiles(tmp_path), Faults()) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        press(bench, "Elevation service")
        shown = bench.service
        assert shown is not None
        assert not shown.fetch_button.isEnabled()
        shown.address.setText("http://example.org/catalog.json")
        qtbot.keyClick(shown.address, Qt.Key.Key_Return)
        assert "begins with https" in window.plan.message.text
        shown.address.setText(server.address)
        press(shown, "Ask what it holds")
        qtbot.waitUntil(lambda: shown.list.count() == 9, timeout=60_000)
        assert "9 tiles" in shown.said.text()
        assert shown.list.item(4).text() == "r1c1 · 2 m · not fetched"
        live = window.plan.view.live
        assert live is not None
        assert len(live.lines) == 9
        assert not window.plan.welcome.isVisible()
        press(shown, "Fetch what is in view")
        qtbot.waitUntil(lambda: len(window.work.study.steps) == 1, timeout=60_000)
        ref = window.work.study.steps[0].id
        qtbot.waitUntil(lambda: window.work.outcome(ref) is not None, timeout=60_000)
        assert window.work.outcome(ref).value.frame.rows >= 700
        server.shutdown()
    bench.show_start()
    press(bench, "Elevation service")
    again = bench.service
    qtbot.waitUntil(lambda: again.address.text() == server.address, timeout=60_000)
    press(again, "Ask what it holds")
    qtbot.waitUntil(lambda: again.list.count() == 9, timeout=60_000)
    assert "As it was on" in again.said.text()
    assert "does not answer" in again.said.text()
    assert " · of 20" in again.list.item(4).text()
    press(again, "All questions")
    assert bench.service is None
    assert window.plan.view.live is None

"""Every step opened in the window: its panel comes from its declaration, can be used by keys and read aloud, and can be left."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractSlider,
    QAbstractSpinBox,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QWidget,
)

from moss_step.demo import DATA
from moss_step.demo.samples import coarse_ground
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.benches.steps import StepBench
from moss_step.steps.catalogue import catalogue
from tests.conftest import come_to_rest
from tests.desk.driving import check_it_shows_its_result_or_what_it_needs, texts

KINDS = {n: k for n, k in catalogue().items() if not n.startswith("open_")}
FOLLOW_THE_GROUND = ("stage", "crest", "least_length", "min_depth")
"""Sliders whose range and place come from the ground."""
CONTROLS = (QAbstractButton, QAbstractSlider, QAbstractSpinBox, QComboBox, QLineEdit, QPlainTextEdit)


@pytest.fixture(scope="module")
def shared(qapp, tmp_path_factory):
    """One window for all: the estate's ground, areas and places, as a small study."""
    import os

    from moss_step.desk.window import MainWindow
    from moss_step.formats.raster_write import write_surface

    folder = tmp_path_factory.mktemp("every")
    os.environ["XDG_STATE_HOME"] = str(folder)
    window = MainWindow()
    window.files.may_leave = lambda: True
    window.resize(1280, 800)
    window.show()
    write_surface(folder / "small.tif", coarse_ground(8), "Small")
    for path in (folder / "small.tif", DATA / "harrow_boundary.gpkg", DATA / "harrow_places.gpkg"):
        window.files.open_path(path)
        come_to_rest(window)
    ground = window.work.study.steps[0].id
    window.work.add_step("classify", {"surface": ground}, {"rules": "equal_interval"})
    window.work.add_step("slope", {"dem": ground}, {})
    window.work.add_step("threshold", {"surface": window.work.chosen_id}, {"above": 20.0})
    come_to_rest(window)
    yield window, lambda: come_to_rest(window)
    window.close()
    window.work.close()


def panel_of(shared, kind: str) -> StepPanel:
    window, wait = shared
    window.begin_step(kind)
    wait()
    bench = window.benches[KINDS[kind].bench]
    assert window.bench == KINDS[kind].bench and isinstance(bench, StepBench) and bench.panel is not None
    assert bench.panel.kind.kind == kind
    return bench.panel


def leave(shared) -> None:
    window, wait = shared
    window.work.set_draft(None)
    window.work.choose("")
    wait()


def visible(panel: QWidget, kinds: tuple[type[QWidget], ...]) -> list[QWidget]:
    inner = ("qt_spinbox_lineedit", "qt_scrollarea_viewport", "")
    found = [w for w in panel.findChildren(QWidget) if isinstance(w, kinds) and w.isVisible()]
    return [
        w
        for w in found
        if w.objectName() not in inner[:2] and not isinstance(w.parent(), QAbstractSpinBox | QComboBox)
    ]


def check_it_says_what_is_missing(window, panel: StepPanel, kind: str) -> None:
    assert KINDS[kind].question in texts(window.benches[KINDS[kind].bench])
    reason = window.work.reason("draft") if window.work.draft is not None else ""
    note = "\n".join(w.text() for w in panel.note.findChildren(QWidget) if hasattr(w, "text"))
    assert panel.keep_button.isEnabled() or reason or note.strip(), "a step that cannot be kept says why"


def check_controls_have_names(panel: StepPanel) -> None:
    for widget in visible(panel, CONTROLS):
        if type(widget.parent()).__name__ in ("QTableWidget", "QHeaderView", "QTableView"):
            continue
        name = widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else "")
        assert name, f"{type(widget).__name__} in {type(widget.parent()).__name__}"


def check_declared_defaults(panel: StepPanel, kind: str) -> None:
    if not hasattr(panel, "form"):
        return  # classes are set in a table of their own
    fields = KINDS[kind].settings.model_fields
    for name, value in panel.form.values().items():
        default = fields[name].default
        if isinstance(default, bool | str) and value != "":
            assert value == default, name
        elif isinstance(default, int | float) and name not in FOLLOW_THE_GROUND:
            assert float(value) == pytest.approx(default), name


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_a_step_opens_with_its_question_names_and_defaults_and_is_left_without_a_trace(shared, kind):
    window, wait = shared
    before = window.work.study
    panel = panel_of(shared, kind)
    check_it_shows_its_result_or_what_it_needs(window, KINDS[kind])
    check_it_says_what_is_missing(window, panel, kind)
    check_controls_have_names(panel)
    check_declared_defaults(panel, kind)
    QTest.keyClick(window, Qt.Key.Key_Escape)
    wait()
    leave(shared)
    assert window.work.study == before and window.work.draft is None
    assert window.plan.view.live is None and not window.plan.view.look.handles


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_search_finds_a_step_by_its_title_and_by_a_word_of_the_trade(shared, kind):
    window, _ = shared
    for text in (KINDS[kind].title, KINDS[kind].words[0]):
        found = window.search.find(text)
        assert any(getattr(hit, "kind", None) == kind or kind in str(hit) for hit in found), text

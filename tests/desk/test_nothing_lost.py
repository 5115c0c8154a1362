"""What the window does with names from outside, with faults, and with work that is not saved."""

import json
import threading
import time
from pathlib import Path

import numpy as np
import pytest
import shapely
from PySide6.QtWidgets import QLabel, QWidget

from moss_step import desk
from moss_step.desk import runner
from moss_step.desk.plain import Answer, as_plain
from moss_step.desk.worker import NewestWins
from moss_step.formats.raster_write import write_surface
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.scene.grading import grading_of
from moss_step.scene.pictures import picture_of
from moss_step.study.engine import Engine
from moss_step.study.graph import KeyRow, Step, Study
from moss_step.study.hand_on import hand_on
from moss_step.study.saving import save_study
from tests.desk.driving import answered, until

MARKUP = "<img src='http://127.0.0.1/x'><b>Bold</b>"


def test_names_are_shown_as_they_are_written(demo, settle):
    """In every label and tooltip of the window, on each bench."""
    demo.work.rename("slope", MARKUP)
    demo.work.choose("slope")
    settle(demo)
    shown = [w for w in demo.findChildren(QLabel) if "<img" in w.text()]
    assert shown, "the name is shown somewhere"
    assert all(w.textFormat().name == "PlainText" for w in shown), [w.textFormat() for w in shown]
    assert "&lt;img" in as_plain(MARKUP) and "<img" not in as_plain(MARKUP)


def test_the_legend_of_a_section_shows_names_as_they_are_written(demo, settle):
    demo.work.rename("slope", MARKUP)
    demo.work.choose("slope")
    settle(demo)
    demo.show_drawer("section")
    settle(demo)
    demo.views.cut.pull((412_400.0, 5_871_500.0, 413_600.0, 5_870_900.0))
    settle(demo)
    until(lambda: demo.section.chart.names and demo.section.chart.plot is not None, "no section")
    legend = demo.section.chart.plot.getPlotItem().legend
    written = [named.item.toPlainText() for _, named in legend.items]
    assert MARKUP in written, "letter by letter, and nothing fetched"


def test_tooltips_are_plain_and_nothing_sets_one_otherwise(demo, settle):
    demo.work.rename("slope", MARKUP)
    settle(demo)
    tips = [w.toolTip() for w in demo.findChildren(QWidget) if "img" in w.toolTip()]
    assert tips, "the card and the Key show the name in full"
    assert all("<img" not in tip and "&lt;img" in tip for tip in tips)
    others = [
        p.name
        for p in Path(desk.__file__).parent.rglob("*.py")
        if "setToolTip" in p.read_text() and p.name != "plain.py"
    ]
    assert others == []


def test_cells_that_a_spreadsheet_would_run_are_text(tmp_path):
    table = Table(
        {
            "name": np.array(["=1+1", "+a", "-b", "@c", "plain"], object),
            "value": np.array([-1.0, 2.0, 3.0, 4.0, 5.0]),
        }
    )
    hand_on(Outcome(table, "5 rows"), "Table", tmp_path / "a.csv")
    rows = [line.split(",") for line in (tmp_path / "a.csv").read_text().splitlines()[1:]]
    assert [r[0] for r in rows] == ["'=1+1", "'+a", "'-b", "'@c", "plain"]
    assert [float(r[1]) for r in rows] == [-1.0, 2.0, 3.0, 4.0, 5.0], "numbers stay numbers"


def test_a_copy_is_written_while_someone_keeps_working(demo, qtbot):
    """Thirteen changes, one every 300 ms: at no time is the copy more than two seconds behind."""
    folder, made, worst, late = demo.work.copies.autosave.folder, [], 0.0, 0.0
    for number in range(13):
        demo.work.rename("slope", f"Slope {number}")
        made.append(time.monotonic())
        qtbot.wait(300)
        late += time.monotonic() - made[-1] - 0.3  # what the machine takes for itself
        kept = [p.read_text() for p in folder.glob("[!.]*.json")]
        missing = [
            at
            for k, at in enumerate(made)
            if not any(f"Slope {n}" in text for text in kept for n in range(k, number + 1))
        ]
        worst = max(worst, time.monotonic() - missing[0]) if missing else worst
    assert worst < 2.5 + late, "two seconds, and what a busy machine takes"


def test_a_newer_file_is_not_replaced_unasked(demo, settle, monkeypatch, tmp_path):
    path = tmp_path / "a.moss"
    assert demo.files.save_to(path)
    save_study(Study(name="By another program, later"), path)
    asked = answered(monkeypatch, Answer.Cancel)
    demo.work.rename("slope", "Mine")
    assert not demo.files.save_to(path) and "changed by another program" in asked[0][1]
    assert json.loads(path.read_text())["name"] == "By another program, later" and demo.work.unsaved
    answered(monkeypatch, Answer.Yes)
    assert demo.files.save_to(path) and "Mine" in path.read_text()


def test_a_source_that_changes_runs_again_by_itself(window, qtbot, settle, hills_tif):
    from moss_step.formats.raster import read_surface

    window.files.open_path(hills_tif)
    settle(window)
    ground = window.work.chosen_id
    before = window.work.outcome(ground).value.values
    surface = read_surface(hills_tif)[0]
    write_surface(hills_tif, type(surface)(surface.values + 5.0, surface.frame, surface.unit), "Ground")
    qtbot.waitUntil(
        lambda: (
            window.work.outcome(ground) is not None
            and np.allclose(window.work.outcome(ground).value.values, before + 5.0)
        ),
        timeout=60_000,
    )


def test_a_fault_beside_a_step_is_a_failure_on_its_card_and_the_next_run_goes_on(
    window, settle, monkeypatch, hills_tif
):
    """Memory that runs out while a picture is made leaves no lane busy for ever."""
    usual = runner.prepared_picture
    monkeypatch.setattr(runner, "prepared_picture", lambda *_: (_ for _ in ()).throw(MemoryError()))
    window.files.open_path(hills_tif)
    settle(window)
    ground = window.work.chosen_id
    assert window.work.state(ground) == "failed" and "memory" in window.work.reason(ground)
    monkeypatch.setattr(runner, "prepared_picture", usual)
    window.work.engine.forget_failures()
    window.work.run()
    settle(window)
    assert window.work.state(ground) == "done" and not window.work.busy


def test_the_newest_wish_wins_and_a_fault_keeps_none_from_its_turn():
    answered_, failed, go = [], [], threading.Event()

    def answer(wish: int) -> None:
        go.wait(5)
        if wish == 1:
            raise MemoryError
        answered_.append(wish)

    worker = NewestWins(answer, lambda wish, error: failed.append((wish, type(error))))
    worker.wish(1)
    time.sleep(0.1)
    for wish in range(2, 50):
        worker.wish(wish)
    go.set()
    worker.wish(50)
    deadline = time.monotonic() + 10
    while worker.busy and time.monotonic() < deadline:
        time.sleep(0.01)
    worker.close()
    assert failed == [(1, MemoryError)] and answered_[-1] == 50 and len(answered_) <= 2


def test_new_lets_go_of_what_the_study_held(demo, settle):
    assert isinstance(demo.work.engine, Engine) and demo.work.outcome("slope") is not None
    study = demo.work.study
    demo.work.new()
    settle(demo)
    assert demo.work.engine.outcome(study, "slope") is None
    assert isinstance(study.steps[0], Step)


def test_names_with_very_long_numbers_are_put_in_order():
    names = ["lot " + "9" * 5000, "lot 10", "lot 9", "lot ²", "lot 009"]
    geometry = np.array([shapely.Point(k, 0) for k in range(len(names))], object)
    picture = picture_of(Shapes(geometry, {"name": np.array(names, object)}, None))
    grading = grading_of(picture.value, KeyRow(step="s", column="name", method="unique"))
    assert [name for name, _ in grading.classes] == ["lot 009", "lot 9", "lot 10", names[0], "lot ²"]


@pytest.mark.parametrize(
    ("row", "ground"), [("nobody", "g"), ("g.nothing", "g"), ("g", "g.nothing"), ("g", "nobody")]
)
def test_a_study_whose_key_or_shading_names_no_result_opens_without_it(
    row, ground, window, settle, hills_tif, tmp_path, monkeypatch
):
    faults = []
    monkeypatch.setattr("sys.excepthook", lambda *error: faults.append(error[1]))
    data = {
        "moss_step_study": 2,
        "steps": [{"id": "g", "kind": "open_grid", "settings": {"source": str(hills_tif)}}],
        "key": [{"step": row}],
        "shading": {"ground": ground},
    }
    (tmp_path / "odd.moss").write_text(json.dumps(data))
    window.files.open_path(tmp_path / "odd.moss")
    settle(window)
    assert faults == [] and window.work.outcome("g") is not None
    assert all(window.work.study.has(k.step) for k in window.work.study.key)
    assert window.work.study.shading.ground in ("", "g")


def test_a_press_that_comes_after_the_window_closed_changes_nothing(demo, settle):
    """A key that presses a button does so a moment later: the window may be gone by then."""
    demo.begin_step("slope")
    settle(demo)
    panel, before = demo.benches["shape"].panel, demo.work.study
    demo.work.close()
    panel.update_draft()
    panel.keep()
    demo.work.helper.ask(lambda: 1, lambda _: None)
    demo.work.undo()
    demo.work.redo()
    assert demo.work.study == before and not demo.work.copies.timer.isActive()

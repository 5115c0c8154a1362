"""Drawing on the plan as a person does: clicks, pulls, keys, typed coordinates, snapping, undo; and the shapes as an input of other steps."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from moss_step.desk.plan.tools.vertices import VertexTool
from moss_step.model.shapes import Shapes
from moss_step.model.telling import USUAL
from moss_step.scene.sketch import Spot
from tests.desk.driving import LEFT, drag, named, pixel, press, texts
from tests.desk.jobs import by_name

CELLS = [(20, 20), (20, 60), (60, 60), (60, 20)]


@pytest.fixture
def ready(window, settle, hills_tif):
    window.files.open_path(hills_tif)
    settle(window)
    window.begin_step("draw")
    settle(window)
    return window


def at(window, cell) -> QPoint:
    frame = window.work.frame
    return pixel(window, frame.x_of(cell[1]), frame.y_of(cell[0]))


def click(window, cell) -> None:
    view = window.plan.view
    QTest.mouseMove(view, at(window, cell))
    QTest.mouseClick(view, LEFT, pos=at(window, cell))


def draw(window, settle, cells, kind="areas") -> str:
    panel = window.benches["gather"].panel
    if kind != panel.sketch.kind:
        press(panel, f"Kind of shapes: {kind.capitalize()}")
    for cell in cells:
        click(window, cell)
    if kind != "points":
        QTest.keyClick(window.plan.view, Qt.Key.Key_Return)
    settle(window)
    return window.work.chosen_id


def vertices(window, step, shape=0):
    return [tuple(v) for v in window.work.study.step(step).settings["shapes"][shape]["vertices"]]


def test_an_area_is_drawn_by_clicks_and_is_a_step_at_once(ready, settle):
    step = draw(ready, settle, CELLS)
    made = ready.work.outcome(step)
    assert isinstance(made.value, Shapes) and made.value.kind == "areas" and ready.work.draft is None
    frame, (first, *_) = ready.work.frame, vertices(ready, step)
    assert np.hypot(first[0] - frame.x_of(20), first[1] - frame.y_of(20)) < 1.5 / ready.plan.view.camera.scale
    assert ready.work.study.key_row(step) is not None and step in ready.trail.cards
    figure = USUAL.figure(made.figure)
    assert "ha" in figure or "m²" in figure
    draw(ready, settle, [(70, 70), (70, 90), (85, 80)])
    assert len(ready.work.study.step(step).settings["shapes"]) == 2, "the tool goes on"


def test_a_double_click_ends_a_line_and_backspace_takes_a_vertex_back(ready, settle):
    press(ready.benches["gather"].panel, "Kind of shapes: Lines")
    view = ready.plan.view
    for cell in ((10, 10), (10, 30), (40, 40)):
        click(ready, cell)
    QTest.keyClick(view, Qt.Key.Key_Backspace)
    click(ready, (30, 50))
    QTest.mouseDClick(view, LEFT, pos=at(ready, (30, 50)))
    settle(ready)
    assert len(vertices(ready, ready.work.chosen_id)) == 3
    assert "m so far" not in texts(ready.benches["gather"])


def test_escape_forgets_what_is_not_whole_then_lays_the_tool_down(ready, settle):
    click(ready, (10, 10))
    click(ready, (10, 30))
    assert ready.plan.view.tool.begun
    QTest.keyClick(ready, Qt.Key.Key_Escape)
    assert ready.plan.view.tool.begun == () and isinstance(ready.plan.view.tool, VertexTool)
    QTest.keyClick(ready, Qt.Key.Key_Escape)
    assert ready.plan.view.tool is ready.plan.view.look and not ready.work.study.has("draw-1")


def test_a_vertex_is_pulled_an_edge_bent_and_both_are_undone(ready, settle):
    step = draw(ready, settle, CELLS)
    press(ready.benches["gather"].panel, "Edit on the plan")
    before = vertices(ready, step)
    drag(ready.plan.view, at(ready, (20, 20)), at(ready, (10, 14)))
    settle(ready)
    moved = vertices(ready, step)
    assert moved[0] != before[0] and moved[1:] == before[1:]
    drag(ready.plan.view, at(ready, (40, 60)), at(ready, (40, 75)))
    settle(ready)
    assert len(vertices(ready, step)) == 5 and len(ready.plan.view.tool.sketch.shapes[0].vertices) == 5
    ready.work.undo()
    settle(ready)
    assert vertices(ready, step) == moved and len(ready.plan.view.tool.sketch.shapes[0].vertices) == 4
    ready.work.undo()
    settle(ready)
    assert vertices(ready, step) == before
    ready.work.redo()
    settle(ready)
    assert vertices(ready, step) == moved


def test_a_pull_beside_the_vertices_moves_the_ground(ready, settle):
    step = draw(ready, settle, CELLS)
    before, camera = vertices(ready, step), ready.plan.view.camera
    drag(ready.plan.view, at(ready, (80, 100)), at(ready, (70, 90)))
    settle(ready)
    assert vertices(ready, step) == before and ready.plan.view.camera.x != camera.x


def test_keys_alone_choose_move_and_take_away_vertices(ready, settle):
    step = draw(ready, settle, CELLS)
    press(ready.benches["gather"].panel, "Edit on the plan")
    view, before = ready.plan.view, vertices(ready, step)
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_PageDown)
    QTest.keyClick(view, Qt.Key.Key_PageDown)
    assert view.tool.spot == Spot(0, 1)
    QTest.keyClick(view, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    settle(ready)
    moved = vertices(ready, step)
    assert moved[1][0] - before[1][0] == pytest.approx(10 / view.camera.scale, rel=0.01) and moved[1][
        1
    ] == pytest.approx(before[1][1], abs=0.01)
    QTest.keyClick(view, Qt.Key.Key_Delete)
    settle(ready)
    assert vertices(ready, step) == [before[0], *before[2:]]


def test_a_whole_shape_can_be_drawn_with_the_keys(ready, settle):
    """The pointer's place, or the middle of the plan, takes a vertex at Insert; arrows move the plan while no vertex is chosen."""
    press(ready.benches["gather"].panel, "Kind of shapes: Lines")
    view = ready.plan.view
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_Insert)
    QTest.keyClick(view, Qt.Key.Key_Right)
    QTest.keyClick(view, Qt.Key.Key_Insert)
    QTest.keyClick(view, Qt.Key.Key_Return)
    settle(ready)
    first, last = vertices(ready, ready.work.chosen_id)
    assert last[0] - first[0] == pytest.approx(80 / view.camera.scale, rel=0.01)


def test_coordinates_are_typed_and_names_given_in_the_tables(ready, settle):
    step = draw(ready, settle, CELLS)
    panel = ready.benches["gather"].panel
    names, table = named(panel, "Shapes"), named(panel, "Vertices")
    names.item(0, 0).setText("Old quarry")
    settle(ready)
    assert (
        ready.work.study.step(step).settings["shapes"][0]["name"] == "Old quarry"
        and ready.work.study.name_of(step) == "Old quarry"
    )
    table.item(2, 0).setText("412100.25")
    settle(ready)
    assert vertices(ready, step)[2][0] == 412_100.25
    heights = [table.item(n, 2).text() for n in range(4)]
    z = ready.work.outcome(f"{step}.vertices").value.columns["z"]
    assert all(h.split()[0].replace("\u202f", "") for h in heights) and np.isfinite(z).all()
    table.item(1, 1).setText("north of the wall")
    settle(ready)
    assert "is no coordinate" in ready.plan.message.text and "north" not in table.item(1, 1).text()


def test_vertices_snap_to_those_of_other_shapes_unless_alt_is_held(ready, settle):
    first = draw(ready, settle, CELLS)
    corner = vertices(ready, first)[2]
    ready.begin_step("draw")
    settle(ready)
    near = at(ready, (60, 60)) + QPoint(4, 3)
    QTest.mouseMove(ready.plan.view, near)
    QTest.mouseClick(ready.plan.view, LEFT, pos=near)
    assert ready.plan.view.tool.begun == (corner,)
    QTest.keyClick(ready.plan.view, Qt.Key.Key_Backspace)
    QTest.mouseClick(ready.plan.view, LEFT, Qt.KeyboardModifier.AltModifier, near)
    assert ready.plan.view.tool.begun != (corner,) and len(ready.plan.view.tool.begun) == 1


def test_drawn_shapes_feed_every_step_that_takes_shapes(ready, settle):
    step = draw(ready, settle, CELLS)
    for kind, name in (("mask", "areas"), ("zone_statistics", "zones"), ("catchment", None)):
        ready.begin_step(kind)
        settle(ready)
        panel = ready.benches[ready.bench].panel
        shapes = [s for s in panel.kind.inputs if s.accepts == "shapes"]
        assert all(step in [ref for ref, _ in panel.fitting(s)] for s in shapes) and (
            name is None or name in [s.name for s in shapes]
        )
    inside = ready.work.add_step("mask", {"surface": by_name(ready, "Hills"), "areas": step}, {})
    settle(ready)
    cells = ready.work.outcome(inside).value.valid_count
    assert cells == pytest.approx(40 * 40, abs=120)
    ready.work.choose(step)
    settle(ready)
    drag(ready.plan.view, at(ready, (60, 60)), at(ready, (70, 70)))
    settle(ready)
    assert ready.work.outcome(inside).value.valid_count > cells, "what follows runs again"


def test_a_whole_shape_is_kept_when_another_bench_is_turned_to(ready, settle):
    for cell in CELLS:
        click(ready, cell)
    ready.go_to_bench("shape")
    settle(ready)
    assert ready.bench == "shape" and len(vertices(ready, "draw-1")) == 4


def test_a_saved_study_has_its_drawn_shapes(ready, settle, tmp_path):
    step = draw(ready, settle, CELLS)
    before = vertices(ready, step)
    assert ready.files.save_to(tmp_path / "drawn.moss")
    ready.files.open_path(tmp_path / "drawn.moss")
    settle(ready)
    assert vertices(ready, step) == before and ready.work.outcome(step) is not None

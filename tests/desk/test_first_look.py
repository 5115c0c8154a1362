"""A step that is being made on a large ground is drawn in view first."""

import numpy as np
import pytest

from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.study.draft import DRAFT
from moss_step.study.graph import Step
from tests.desk.driving import texts

SIDE = 1000


@pytest.fixture
def large(window, settle, tmp_path):
    heights = np.random.default_rng(2).random((SIDE, SIDE), np.float32) + np.arange(SIDE, dtype=np.float32)
    write_surface(
        tmp_path / "large.tif",
        Surface(heights, Frame(SIDE, SIDE, 0.0, float(SIDE), 1.0, 1.0, "EPSG:32628"), METRE),
        "Large",
    )
    window.files.open_path(tmp_path / "large.tif")
    settle(window)
    return window


def begin(window, settings: dict) -> list[tuple[object, bool]]:
    """Begin openness; gives each picture that was drawn of it, and whether that was of a part."""
    seen: list[tuple[object, bool]] = []

    def note() -> None:
        drawn = next((la.picture for la in window.plan.view.scene.layers if la.step == DRAFT), None)
        if drawn is not None and (not seen or seen[-1][0] is not drawn):
            seen.append((drawn, window.work.now.drawn_partly))

    window.plan.view.redrawn.connect(note)
    ground = window.work.study.steps[0].id
    window.work.set_draft(Step(id=DRAFT, kind="openness", inputs={"dem": ground}, settings=settings))
    return seen


def test_what_is_in_view_is_drawn_before_the_rest(large, qtbot, settle):
    large.plan.view.show_box((400.0, 400.0, 500.0, 480.0))
    seen = begin(large, {"radius": 150.0})
    qtbot.waitUntil(lambda: "being made; in view so far" in texts(large.plan.key), timeout=60_000)
    settle(large)
    assert "in view so far" not in texts(large.plan.key) and "being made" in texts(large.plan.key)
    first, last = seen[0], seen[-1]
    assert len(seen) == 2 and first[1] and not last[1]
    assert first[0].value.values.size < 0.2 * SIDE**2 and last[0].value.values.shape == (SIDE, SIDE)
    rows, cols = last[0].frame.window(first[0].frame.box)
    np.testing.assert_array_equal(first[0].value.values, last[0].value.values[rows, cols])
    assert large.work.said(DRAFT).figure, "figures are those of the whole"


def test_with_all_of_the_ground_in_view_there_is_one_run(large, settle):
    large.plan.view.fit()
    seen = begin(large, {"radius": 20.0})
    settle(large)
    assert len(seen) == 1 and seen[0][0].value.values.shape == (SIDE, SIDE)


def test_what_cannot_be_worked_out_is_said_by_the_whole_run(large, settle):
    large.plan.view.show_box((400.0, 400.0, 500.0, 480.0))
    begin(large, {"radius": 0.01})
    settle(large)
    assert "less than a cell" in large.work.reason(DRAFT)

"""The look of a result: where the middle colour lies, colours in steps, a value left clear, classes left out."""

import numpy as np
import pytest

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CLEAR, SHEET
from moss_step.scene.layers import Layer, Scene, draw_grids
from moss_step.scene.pictures import prepared_picture
from moss_step.scene.ramps import bent, ramp
from moss_step.study.graph import KeyRow

UTM = "EPSG:32628"


def test_the_middle_colour_lies_at_the_centre():
    colors = ramp("spectrum")
    turned = bent(colors, -2.0, 8.0, 0.0, 0)
    assert np.abs(turned[51].astype(int) - colors[128]).max() <= 6, "0 lies a fifth of the way up"
    assert (turned[0] == colors[1]).all() or (turned[0] == colors[0]).all()
    assert (bent(colors, -2.0, 8.0, None, 0) == colors).all()
    assert (bent(colors, -2.0, 8.0, 20.0, 0) == colors).all(), "a centre outside the span says nothing"


@pytest.mark.parametrize("steps", [2, 5, 12])
def test_a_ramp_in_steps_has_so_many_colours_of_equal_breadth(steps):
    turned = bent(ramp("spectrum"), 0.0, 1.0, None, steps)
    _, counts = np.unique(turned, axis=0, return_counts=True)
    assert len(counts) == steps and counts.max() - counts.min() <= 1
    assert (turned[0] == ramp("spectrum")[0]).all() and (turned[-1] == ramp("spectrum")[-1]).all()


def painted(value, **look):
    """The colours of a grid of 1 x n cells, a pixel a cell."""
    picture = prepared_picture(value)
    camera = Camera().sized(value.frame.cols, value.frame.rows).fitted(value.frame.box, 0.0)
    scene = Scene((Layer("v", "V", picture, KeyRow(step="v", **look)),))
    return draw_grids(scene, camera, 1.0) & 0xFFFFFF


def test_any_value_can_be_left_clear():
    values = np.repeat([[3.0, 5.0, 7.0, 9.0]], 4, axis=0).repeat(4, axis=1).astype(np.float32)
    value = Surface(values, Frame(4, 16, 0.0, 40.0, 10.0, 10.0, UTM), METRE)
    before, after = painted(value), painted(value, clear=5.0)
    changed = (before != after).any(axis=0)
    assert changed.any() and (after[:, changed] == int(SHEET[1:], 16)).all()
    assert (values[0][changed] == 5.0).all() and changed.sum() == 4


def test_classes_left_out_are_not_drawn_and_said_so():
    codes = np.repeat([[0, 1, 2, 255]], 4, axis=0).repeat(4, axis=1).astype(np.uint8)
    entries = (
        ClassEntry(0, "low", "#112233"),
        ClassEntry(1, "mid", "#445566"),
        ClassEntry(2, "high", "#778899"),
    )
    value = ClassMap(codes, Frame(4, 16, 0.0, 40.0, 10.0, 10.0, UTM), entries)
    after = painted(value, hidden=(1,))
    assert {f"#{p:06X}" for p in np.unique(after).tolist()} == {"#112233", "#778899", SHEET}
    legend = prepared_picture(value).legend(KeyRow(step="v", hidden=(1,)), None, "")
    assert dict(legend.classes) == {"low": "#112233", "mid": CLEAR, "high": "#778899"}


def test_a_row_of_an_older_study_leaves_0_clear():
    assert KeyRow.model_validate({"step": "v", "clear_zero": True}).clear == 0.0
    assert KeyRow.model_validate({"step": "v", "clear_zero": False}).clear is None

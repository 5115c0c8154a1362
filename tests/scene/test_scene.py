"""What is drawn, worked out without a window."""

import subprocess
import sys
from dataclasses import dataclass, field

import numpy as np
import pytest
import shapely

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import DEGREE, METRE
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CLEAR
from moss_step.scene.layers import STEPS_BACK, Layer, Scene, draw_grids, scene_of, shape_order
from moss_step.scene.picture import Picture, round_values
from moss_step.scene.pictures import picture_of
from moss_step.scene.readings import readings
from moss_step.study.draft import DRAFT, Draft
from moss_step.study.graph import KeyRow, Shading, Step, Study
from tests.conftest import UTM

FRAME = Frame(40, 50, 412_000.0, 5_872_000.0, 10.0, 10.0, UTM)


@dataclass
class Shown:
    """A study with its pictures, as the window would hand it over."""

    study: Study
    pictures: dict[str, Picture]
    draft: Draft | None = None
    chosen_ref: str = ""
    all_shown: bool = False
    frame: Frame | None = field(default=FRAME)

    @property
    def study_with_draft(self) -> Study:
        return self.study if self.draft is None else self.study.adding(self.draft.step)

    def picture(self, step_id: str) -> Picture | None:
        return self.pictures.get(step_id)


def shown(**more) -> Shown:
    heights = 300.0 + np.arange(40.0)[:, None] * np.ones(50)
    codes = np.where(np.arange(50) < 25, 0, 1)[None, :] * np.ones((40, 1), np.uint8)
    bogs = Shapes(
        np.array([shapely.box(412_100.0, 5_871_700.0, 412_200.0, 5_871_900.0)], object),
        {"name": np.array(["Long Slack"], object)},
        UTM,
    )
    values = {
        "g": Surface(heights.astype(np.float32), FRAME, METRE, "elevation"),
        "c": ClassMap(
            codes.astype(np.uint8),
            FRAME,
            (ClassEntry(0, "west", "#112233"), ClassEntry(1, "east", "#445566")),
        ),
        "b": bogs,
    }
    steps = tuple(
        Step(id=i, kind=k) for i, k in (("g", "open_grid"), ("c", "open_grid"), ("b", "open_shapes"))
    )
    key = (KeyRow(step="b"), KeyRow(step="c"), KeyRow(step="g"))
    study = Study(steps=steps, key=key, shading=Shading(ground="g"))
    return Shown(study, {i: picture_of(v) for i, v in values.items()}, **more)


def whole(width: int = 100, height: int = 80) -> Camera:
    return Camera().sized(width, height).fitted(FRAME.box, 0.0)


def test_layers_are_those_of_the_key_and_what_is_chosen_lies_on_top():
    work = shown()
    scene = scene_of(work)
    assert [la.step for la in scene.layers] == ["b", "c", "g"] and scene.ground is work.pictures["g"]
    assert [la.step for la in scene_of(shown(chosen_ref="g")).layers] == ["g", "b", "c"]
    work.study = work.study.with_key_row(KeyRow(step="c", shown=False))
    assert [la.step for la in scene_of(work).layers] == ["b", "g"]
    assert shape_order(work) == {"b": 0}


def test_a_place_is_read_from_every_kind():
    found = readings(scene_of(shown()), 412_150.0, 5_871_805.0)
    assert [r.text for r in found] == ["Long Slack", "west", "319.00 m"]


def test_a_grid_in_another_system_is_said_and_shapes_are_carried_over():
    work = shown()
    work.pictures["g"] = picture_of(
        Surface(np.ones((4, 5), np.float32), Frame(4, 5, -3.0, 53.0, 0.1, 0.1, "EPSG:4326"), DEGREE)
    )
    degrees = Shapes(np.array([shapely.Point(-2.9, 52.9)], object), {}, "EPSG:4326")
    work.pictures["b"] = picture_of(degrees)
    scene = scene_of(work)
    assert scene.undrawn == (("g", "in another reference system; reproject it to draw it here"),)
    carried = scene.layers[0].picture
    assert carried.value.crs == UTM and carried.value.geometry[0].x > 1e5
    assert scene_of(work).layers[0].picture is carried, "it is carried over once"


def test_ranges_that_are_being_made_colour_the_surface_and_explain_it():
    rules = [
        {"low": None, "high": 320.0, "code": 1, "name": "low", "color": "#FF0000"},
        {"low": 320.0, "high": None, "code": 2, "name": "high", "color": "#0000FF"},
    ]
    work = shown(
        draft=Draft(Step(id=DRAFT, kind="classify", inputs={"surface": "g"}, settings={"rules": rules}))
    )
    layer = scene_of(work).layers[0]
    assert layer.step == DRAFT and layer.picture is work.pictures["g"]
    assert layer.picture.legend(layer.row, layer.ranges, "").classes == (
        ("low", "#FF0000"),
        ("high", "#0000FF"),
    )
    assert layer.picture.text_at(412_150.0, 5_871_805.0, layer.ranges) == "low"
    work.study = work.study.model_copy(update={"shading": Shading(ground="g", on=False)})
    assert set(np.unique(draw_grids(scene_of(work), whole(), 1.0)[:, 10:90])) == {0xFFFF0000, 0xFF0000FF}
    assert work.pictures["g"].legend(KeyRow(step="g"), None, "").ramp.ends == ("300.00 m", "339.00 m")


@pytest.mark.parametrize(("step", "names"), [("c", ["west", "east"]), ("b", ["1 area"])])
def test_legends_name_what_is_drawn(step, names):
    work = shown()
    legend = work.pictures[step].legend(KeyRow(step=step), None, "#26331E")
    assert [name for name, _ in legend.classes] == names and legend.ramp is None


def test_pixels_have_the_colours_of_what_lies_highest():
    work = shown()
    work.study = work.study.model_copy(update={"shading": Shading(ground="g", on=False)})
    pixels = draw_grids(scene_of(work), whole(), 1.0)
    assert (
        pixels.shape == (80, 100)
        and set(np.unique(pixels[:, :40])) == {0xFF112233}
        and set(np.unique(pixels[:, 60:])) == {0xFF445566}
    )


def test_a_scene_needs_no_interface():
    code = "import sys, moss_step.scene.layers, moss_step.scene.readings, moss_step.scene.pictures as p; p.picture_types(); print('PySide6' in sys.modules)"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True, timeout=60
    )
    assert done.stdout.strip() == "False"


def test_other_coverings_step_back_before_one_that_is_looked_at_and_not_kept():
    """The class map is in the Key, the ground is chosen and is not: only outlines stay beside it."""
    work = shown()
    work.study = work.study.model_copy(update={"key": tuple(k for k in work.study.key if k.step != "g")})
    kept = [la.step for la in scene_of(work).layers]
    assert "c" in kept and "b" in kept
    work.chosen_ref = "g"
    scene = scene_of(work)
    assert [la.step for la in scene.layers] == ["g", "b"] and dict(scene.undrawn) == {"c": STEPS_BACK}
    work.all_shown = True
    assert {la.step for la in scene_of(work).layers} == {"g", "b", "c"}
    work.all_shown, work.chosen_ref = False, "c"
    assert "c" in [la.step for la in scene_of(work).layers] and not scene_of(work).undrawn, (
        "it is kept in the Key"
    )


def test_few_whole_counts_are_swatches_with_area_and_share():
    """Areas and shares by NumPy; each swatch has the colour that its cells are painted in."""
    counts = np.repeat([0.0, 1.0, 2.0, np.nan], 10)[None, :] * np.ones((20, 1))
    frame = Frame(20, 40, 0.0, 200.0, 10.0, 10.0, UTM)
    picture = picture_of(Surface(counts.astype(np.float32), frame, METRE, "seen"))
    legend = picture.legend(KeyRow(step="v", clear=0.0), None, "#000000")
    assert legend.ramp is None and [n.split(" · ")[0] for n, _ in legend.classes] == [
        "none", "1", "2",
    ]  # fmt: skip
    assert all("2.00 ha" in n and "33%" in n for n, _ in legend.classes) and legend.classes[0][1] == CLEAR
    pixels = draw_grids(
        Scene((Layer("v", "V", picture, KeyRow(step="v")),)), Camera().sized(200, 100).fitted(frame.box), 1.0
    )
    painted = {f"#{p & 0xFFFFFF:06X}" for p in np.unique(pixels).tolist()}
    assert {c for _, c in picture.legend(KeyRow(step="v"), None, "").classes} <= painted
    many = picture_of(Surface((counts * 20).astype(np.float32), frame, METRE, "seen"))
    assert many.legend(KeyRow(step="v"), None, "").ramp is not None


@pytest.mark.parametrize(("low", "high", "values"), [(0.0, 52.6, [0, 20, 40]), (352.21, 573.4, [400, 450, 500, 550]), (-3.2, 4.1, [-2, 0, 2, 4]),
                                                    (0.0, 1.0, [0, 0.5, 1]), (0.001, 0.0042, [0.001, 0.002, 0.003, 0.004]), (5.0, 5.0, [5.0])])  # fmt: skip
def test_ramps_are_marked_at_round_values(low, high, values):
    assert round_values(low, high) == pytest.approx(values)

"""What stands up in the block without a ground of its own: a surface or a TIN with heights."""

from dataclasses import replace

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.tin import Tin
from moss_step.model.units import METRE
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.kinds.tin import TinPicture
from moss_step.scene.layers import Layer, Scene
from moss_step.study.graph import KeyRow, Shading

FRAME = Frame(4, 5, 0.0, 4.0, 1.0, 1.0, "EPSG:32628")


def picture(quantity="elevation"):
    values = np.arange(20, dtype=np.float32).reshape(4, 5)
    return SurfacePicture.from_value(Surface(values, FRAME, METRE, quantity))


def scene(*pictures, ground=None):
    layers = tuple(Layer(str(k), str(k), p, KeyRow(step=str(k))) for k, p in enumerate(pictures))
    return replace(Scene(layers, None, Shading()), ground=ground)


def test_the_ground_stands_then_heights_and_nothing_else():
    heights, slope, ground = picture(), picture("slope"), picture()
    assert scene(heights, ground=ground).standing is ground
    assert scene(slope, heights).standing is heights
    assert scene(slope).standing is None


def test_a_tin_stands():
    corners = np.array([[0, 0, 1], [4, 0, 2], [0, 4, 3]], float).T
    tin = Tin(*corners, np.array([[0, 1, 2]]), np.empty((0, 2), int), FRAME.crs, METRE)
    made = TinPicture.from_value(tin)
    assert scene(made).standing is made.heights

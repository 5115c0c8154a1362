"""What lies over the grids of a scene: shapes and their names, drawn with a pen."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtGui import QPainter

from moss_step.desk.looks.registry import look_of
from moss_step.desk.plan.drawing import shape_color
from moss_step.desk.plan.lettering import Room
from moss_step.scene.camera import Camera
from moss_step.scene.layers import Layer, Scene


def draw_all_shapes(
    painter: QPainter, camera: Camera, scene: Scene, colors: Mapping[str, str], flat: bool = False
) -> None:
    """Draw the shapes of a scene, each result's in its colour."""
    for layer in upward(scene):
        color = colors.get(layer.step, shape_color(0))
        look_of(layer.picture).draw(painter, layer, camera, color, flat)


def write_all_names(painter: QPainter, camera: Camera, scene: Scene, room: Room, flat: bool = False) -> None:
    """Write the names of a scene, those of what lies on top first."""
    downward = list(reversed(upward(scene)))
    if not flat:
        for layer in downward:
            look_of(layer.picture).take_marks(layer, camera, room)
    for layer in downward:
        look_of(layer.picture).write(painter, layer, camera, room, flat)


def upward(scene: Scene) -> list[Layer]:
    """Layers from the lowest up; points and their names go above lines and areas whatever the order, or they
    could not be read.
    """
    result = list(reversed(scene.layers))
    result.sort(key=lambda la: la.picture.on_top)
    return result

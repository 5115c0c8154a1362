"""How TINs are drawn: heights painted by the scene, with the edges of triangles where they are few."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QLineF
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from moss_step.desk.looks.look import Look, ramp_box
from moss_step.desk.parts import close_column
from moss_step.model.typed import of_kind
from moss_step.scene.camera import Camera
from moss_step.scene.colors import INK
from moss_step.scene.kinds.tin import TinPicture
from moss_step.scene.layers import Layer
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.plan.key import KeyPanel

_MOST_EDGES = 12_000
_FAINT, _PLAIN = 110, 0.8


class TinLook(Look):
    """TINs: a ramp of heights, and edges."""

    kind = "tin"

    def draw(self, painter: QPainter, layer: Layer, camera: Camera, color: str, flat: bool) -> None:
        """Edges of triangles, unless they would cover the heights."""
        picture = of_kind(layer.picture, TinPicture)
        spans = None if picture is None else picture.edges_in(camera.box, _MOST_EDGES)
        if spans is None:
            return
        px = (spans[:, [0, 2]] - camera.left) * camera.scale
        py = (camera.top - spans[:, [1, 3]]) * camera.scale * camera.stretch
        ink = QColor(INK)
        ink.setAlpha(_FAINT)
        painter.setPen(QPen(ink, _PLAIN))
        both = np.column_stack([px[:, 0], py[:, 0], px[:, 1], py[:, 1]])
        painter.drawLines([QLineF(*ends) for ends in both.tolist()])

    def controls(self, panel: KeyPanel, key: KeyRow, picture: TinPicture) -> QWidget:
        """The ramp of the heights."""
        box = QWidget()
        layout = close_column(box)
        ramps = ramp_box(panel, key, picture.heights.value)
        layout.addWidget(ramps)
        return box

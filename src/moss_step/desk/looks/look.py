"""What the window can do with pictures of one kind; what a kind does not say, it leaves as it is here."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QComboBox, QWidget

from moss_step.desk.plain import set_tip
from moss_step.desk.plan.lettering import Room
from moss_step.desk.tones import shade
from moss_step.model.surface import Surface
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD
from moss_step.scene.layers import Layer
from moss_step.scene.ramps import ramp_names, usual_ramp
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.plan.key import KeyPanel


RATIO = 2.0
"""Pixels of a thumbnail for each logical one."""


class Look:
    """Base of the looks, one class a kind."""

    kind: ClassVar[str] = ""
    """Name of the kind in ``kinds/``."""

    def draw(self, painter: QPainter, layer: Layer, camera: Camera, color: str, flat: bool) -> None:
        """Draw with a pen above all grids; ``flat`` leaves out what stands upright in the block."""

    def take_marks(self, layer: Layer, camera: Camera, room: Room) -> None:
        """Take the room that names must leave free."""

    def write(self, painter: QPainter, layer: Layer, camera: Camera, room: Room, flat: bool) -> None:
        """Write names above all lines, where there is room."""

    def thumbnail(self, picture: Any, row: KeyRow, width: int, height: int) -> QImage | None:
        """Draw it small for the trail; None for what is painted as on the plan."""
        return None

    def controls(self, panel: KeyPanel, key: KeyRow, picture: Any) -> QWidget | None:
        """How it is drawn, to be changed in the Key."""
        return None


def ramp_box(panel: KeyPanel, key: KeyRow, value: Surface) -> QComboBox:
    """The ramp of a surface, to be chosen."""
    ramps = QComboBox()
    ramps.setAccessibleName("Ramp")
    set_tip(ramps, "Colours from low to high")
    ramps.addItems([n.capitalize() for n in ramp_names()])
    ramps.setCurrentText((key.ramp or usual_ramp(value)).capitalize())
    ramps.currentTextChanged.connect(lambda t: panel.set(key, "Ramp", ramp=t.lower()))
    return ramps


def blank(width: int, height: int) -> QImage:
    """An empty thumbnail."""
    image = QImage(round(width * RATIO), round(height * RATIO), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(RATIO)
    image.fill(shade(CARD))
    return image

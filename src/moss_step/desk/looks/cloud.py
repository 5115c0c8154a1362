"""How clouds are drawn, to be changed in the Key."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QWidget

from moss_step.desk.looks.look import Look, ramp_box
from moss_step.desk.parts import close_column
from moss_step.desk.plain import set_tip
from moss_step.scene.kinds.cloud import CloudPicture
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.plan.key import KeyPanel

_WORDS = {"z": "Height", "classification": "Class", "density": "Density"}


class CloudLook(Look):
    """Clouds: painted by the scene."""

    kind = "cloud"

    def controls(self, panel: KeyPanel, key: KeyRow, picture: CloudPicture) -> QWidget:
        """The attribute that gives the colours, and their ramp."""
        box = QWidget()
        layout = close_column(box)
        by = QComboBox()
        by.setAccessibleName("Coloured by")
        set_tip(by, "What gives the colours: height, class, density, or another attribute of the points")
        for name in picture.columns:
            by.addItem(_WORDS.get(name, name.replace("_", " ").capitalize()), name)
        by.setCurrentIndex(max(by.findData(key.column or "z"), 0))

        def colour_by(column: str) -> None:
            """Change the colours once they are worked out, beside the window's thread."""
            panel.work.helper.ask(
                lambda: picture.drawn_by(column), lambda _: panel.set(key, "Colours of points", column=column)
            )

        by.currentIndexChanged.connect(lambda i: colour_by(by.itemData(i)))
        ramps = ramp_box(panel, key, picture.heights.value)
        layout.addWidget(by)
        if key.column != "classification":
            layout.addWidget(ramps)
        return box

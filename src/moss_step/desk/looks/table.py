"""Tables in the trail: as rows."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from moss_step.desk.looks.look import Look, blank
from moss_step.desk.tones import shade
from moss_step.scene.colors import GROUND, MUTED
from moss_step.scene.kinds.table import TablePicture
from moss_step.study.graph import KeyRow

_LINE, _MOST = 9.0, 8


class TableLook(Look):
    """Tables: neither places nor curves."""

    kind = "table"

    def thumbnail(self, picture: TablePicture, row: KeyRow, width: int, height: int) -> QImage:
        """A bar for each column of each of the first rows."""
        image = blank(width, height)
        with QPainter(image) as painter:
            columns = min(max(len(picture.value.columns), 1), _MOST)
            for line in range(min(len(picture.value) + 1, int(height / _LINE))):
                for k in range(columns):
                    bar = QRectF(
                        6 + k * (width - 12) / columns, 5 + line * _LINE, (width - 12) / columns - 5, 3
                    )
                    painter.fillRect(bar, shade(MUTED if line == 0 else GROUND))
        return image

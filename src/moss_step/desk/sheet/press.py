"""What pages are written with: how fine, as what, and what draws their blocks."""

from __future__ import annotations

from dataclasses import dataclass, field

from PySide6.QtGui import QImage, QPainter

from moss_step.desk.block.stage import Stage
from moss_step.desk.sheet.block import draw_now
from moss_step.desk.sheet.ink import Ink
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import BlockPart

MM = 25.4
"""Millimetres of an inch."""


@dataclass(frozen=True)
class Wanted:
    """How a page is written: pixels an inch of its pictures, as PDF/A where that is wanted, and with the
    time of writing.
    """

    dpi: int = 300
    archive: bool = False
    stamped: bool = False


@dataclass
class Press:
    """Draws the pages of one file, and gathers what is to be remarked of them."""

    wanted: Wanted
    stage: Stage
    remarks: list[str] = field(default_factory=list)

    def ink(self, painter: QPainter) -> Ink:
        """Ink for a painter whose unit is a millimetre."""
        return Ink(painter, self.wanted.dpi / MM, self.remarks, block=self._block)

    def _block(self, sheet: Sheet, part: BlockPart, width: int, height: int) -> QImage | None:
        return draw_now(self.stage, sheet, part, width, height)

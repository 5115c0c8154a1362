"""Drawing in millimetres: lines as broad and letters as high as they are on paper, whatever is drawn on."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import lru_cache
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontInfo, QFontMetricsF, QImage, QPainter, QPen

from moss_step.desk.theme import font
from moss_step.scene.colors import INK, MUTED

if TYPE_CHECKING:
    from moss_step.scene.sheet.sheet import Sheet
    from moss_step.study.pages import BlockPart

POINT = 25.4 / 72.0
"""Millimetres of a point."""
LEADING = 1.28
_EM = 100
"""Pixels that letters are measured at: lines then break alike on every device."""
LEFT, MIDDLE, RIGHT = "left", "middle", "right"


@lru_cache(maxsize=4)
def face(bold: bool) -> QFont:
    """The typeface at the size that it is measured at."""
    result = font(_EM, QFont.Weight.DemiBold if bold else QFont.Weight.Normal, tabular=False)
    result.setHintingPreference(QFont.HintingPreference.PreferNoHinting)
    return result


@lru_cache(maxsize=20_000)
def width_of(text: str, size: float, bold: bool = False) -> float:
    """Millimetres that a text is wide, in letters of a size in points."""
    return QFontMetricsF(face(bold)).horizontalAdvance(text) * size * POINT / _EM


def line_height(size: float) -> float:
    """Millimetres from one line to the next."""
    return size * POINT * LEADING


@lru_cache(maxsize=2_000)
def broken(text: str, size: float, width: float, bold: bool = False) -> tuple[str, ...]:
    """A text in lines that fit a width; a word that is longer is cut."""
    lines: list[str] = []
    for paragraph in text.split("\n"):
        line = ""
        for word in re.findall(r"\S+\s*", paragraph):
            if line and width_of((line + word).rstrip(), size, bold) > width:
                lines.append(line.rstrip())
                line = ""
            rest = word
            while width_of(rest.rstrip(), size, bold) > width and len(rest.rstrip()) > 1:
                fits = max(
                    k for k in range(1, len(rest)) if k == 1 or width_of(rest[:k], size, bold) <= width
                )
                lines.append(rest[:fits])
                rest = rest[fits:]
            line += rest
        lines.append(line.rstrip())
    return tuple(lines)


def fitted(text: str, size: float, width: float, bold: bool = False) -> str:
    """A text of one line, shortened where it does not fit."""
    if width_of(text, size, bold) <= width:
        return text
    kept = text
    while kept and width_of(kept + "…", size, bold) > width:
        kept = kept[:-1]
    return kept.rstrip() + "…" if kept else ""


@lru_cache(maxsize=1)
def typeface() -> str:
    """The family that letters are drawn in: another one where ours is missing."""
    return QFontInfo(face(False)).family()


@lru_cache(maxsize=2_000)
def without(text: str) -> str:
    """Letters of a text that the typeface has none for."""
    metrics = QFontMetricsF(face(False))
    return "".join(dict.fromkeys(c for c in text if ord(c) > 126 and not metrics.inFontUcs4(ord(c))))


Blocks = Callable[["Sheet", "BlockPart", int, int], QImage | None]


@dataclass(eq=False)
class Ink:
    """A painter whose unit is a millimetre. ``fine`` is how many pixels a millimetre of a picture gets;
    ``remarks`` gather what is wrong with a page, ``hits`` where results stand on it, ``kept`` pictures that
    may be drawn again, and ``block`` draws a picture of the block.
    """

    painter: QPainter
    fine: float = 300 / 25.4
    remarks: list[str] = field(default_factory=list)
    hits: list[tuple[QRectF, str]] = field(default_factory=list)
    kept: dict[object, object] = field(default_factory=dict)
    block: Blocks | None = None
    read: Callable[[str], QImage | None] | None = None
    """Gives the picture of a file, where that is not to be read here."""

    def remark(self, text: str) -> None:
        """Tell once that something is wrong with the page."""
        if text not in self.remarks:
            self.remarks.append(text)

    def hit(self, x: float, y: float, width: float, height: float, ref: str) -> None:
        """Say that a result stands in a box, in the painter's present millimetres."""
        self.hits.append((self.painter.worldTransform().mapRect(QRectF(x, y, width, height)), ref))

    @contextmanager
    def within(self, box: QRectF, clip: bool = True) -> Iterator[QPainter]:
        """Draw in a box, its upper left corner as origin; what reaches out of it is cut."""
        self.painter.save()
        self.painter.translate(box.topLeft())
        if clip:
            self.painter.setClipRect(QRectF(0, 0, box.width(), box.height()), Qt.ClipOperation.IntersectClip)
        try:
            yield self.painter
        finally:
            self.painter.restore()

    def line(self, x1: float, y1: float, x2: float, y2: float, width: float = 0.2, color: str = INK) -> None:
        """Draw a line of a width in millimetres."""
        self.painter.setPen(self.pen(width, color))
        self.painter.drawLine(QPointF(x1, y1), QPointF(x2, y2))

    def box(
        self,
        x: float,
        y: float,
        width: float,
        height: float,
        line: float = 0.2,
        color: str = INK,
        fill: str = "",
    ) -> None:
        """Draw a box; a ``line`` of 0 draws none."""
        self.painter.setPen(self.pen(line, color) if line else Qt.PenStyle.NoPen)
        self.painter.setBrush(QColor(fill) if fill else Qt.BrushStyle.NoBrush)
        self.painter.drawRect(QRectF(x, y, width, height))

    @staticmethod
    def pen(width: float, color: str | QColor) -> QPen:
        """A pen of a width in millimetres."""
        pen = QPen(QColor(color), width)
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        pen.setJoinStyle(Qt.PenJoinStyle.MiterJoin)
        return pen

    def write(
        self,
        text: str,
        x: float,
        y: float,
        size: float,
        side: str = LEFT,
        bold: bool = False,
        color: str = INK,
    ) -> None:
        """Write one line with its base line at ``y``; ``side`` says which end of it ``x`` is."""
        if not text:
            return
        lacking = without(text)
        if lacking:
            self.remark(f"The typeface has no letter for '{lacking[:8]}': another one stands in, or a box.")
        shift = {LEFT: 0.0, MIDDLE: 0.5, RIGHT: 1.0}[side] * width_of(text, size, bold)
        scale = size * POINT / _EM
        self.painter.save()
        self.painter.translate(x - shift, y)
        self.painter.scale(scale, scale)
        self.painter.setFont(face(bold))
        self.painter.setPen(QColor(color))
        self.painter.drawText(QPointF(0, 0), text)
        self.painter.restore()

    def haloed(self, text: str, x: float, y: float, size: float, side: str = LEFT, color: str = INK) -> None:
        """Write one line on a light ground of its own."""
        wide, high = width_of(text, size), size * POINT
        left = x - {LEFT: 0.0, MIDDLE: 0.5, RIGHT: 1.0}[side] * wide
        self.painter.setPen(Qt.PenStyle.NoPen)
        self.painter.setBrush(QColor(255, 255, 255, 215))
        self.painter.drawRect(QRectF(left - 0.4, y - high * 0.86, wide + 0.8, high * 1.12))
        self.write(text, x, y, size, side, color=color)

    def note(self, text: str, box: QRectF, size: float = 8.0) -> None:
        """Say in the middle of an empty part why it is empty."""
        lines = broken(text, size, max(box.width() - 4, 5.0))
        y = box.center().y() - (len(lines) - 1) * line_height(size) / 2 + size * POINT * 0.35
        for line in lines:
            self.write(line, box.center().x(), y, size, MIDDLE, color=MUTED)
            y += line_height(size)

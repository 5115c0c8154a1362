"""Drawing a whole page: its paper, and its parts from the lowest up."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from moss_step.desk.sheet.block import draw_block
from moss_step.desk.sheet.curves import draw_chart, draw_section
from moss_step.desk.sheet.furniture import (
    draw_frame,
    draw_key,
    draw_lineage,
    draw_north,
    draw_picture,
    draw_scale,
    draw_text,
    draw_title,
)
from moss_step.desk.sheet.ink import Ink, typeface
from moss_step.desk.sheet.plan import draw_overview, draw_plan
from moss_step.desk.sheet.rows import draw_table
from moss_step.desk.sheet.steps import draw_trail
from moss_step.desk.theme import FAMILY
from moss_step.scene.colors import CARD, INK
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import PART_NAMES, AnyPart, Part

Draw = Callable[[Ink, Sheet, Any], None]
DRAWN: dict[str, Draw] = {
    "plan": draw_plan,
    "overview": draw_overview,
    "block": draw_block,
    "section": draw_section,
    "chart": draw_chart,
    "table": draw_table,
    "key": draw_key,
    "scale": draw_scale,
    "north": draw_north,
    "text": draw_text,
    "picture": draw_picture,
    "lineage": draw_lineage,
    "trail": draw_trail,
    "frame": draw_frame,
    "title": draw_title,
}
RIM = 0.25
"""Millimetres of the line around a part."""


def draw_sheet(ink: Ink, sheet: Sheet) -> None:
    """Draw a page; what is wrong with it is among the remarks of the ink."""
    width, height = sheet.page.size
    ink.painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink.box(0, 0, width, height, 0.0, fill=CARD)
    if not sheet.page.parts:
        ink.remark("The page is empty.")
    if typeface() != FAMILY:
        ink.remark(
            f"The typeface {FAMILY} is missing: letters are drawn in {typeface()}. Install the program anew."
        )
    for part in sheet.page.parts:
        if part.x >= width or part.y >= height or part.right <= 0 or part.bottom <= 0:
            ink.remark(f"{PART_NAMES[part.kind]} '{part.id}' lies beside the paper.")
            continue
        draw_part(ink, sheet, part)


def draw_part(ink: Ink, sheet: Sheet, part: AnyPart) -> None:
    """Draw one part at its place."""
    box = QRectF(part.x, part.y, part.width, part.height)
    if part.backed:
        ink.box(part.x, part.y, part.width, part.height, 0.0, fill=CARD)
    with ink.within(box, clip=part.kind not in ("text", "scale", "north", "frame")):
        DRAWN[part.kind](ink, sheet, part)
    if part.rim:
        _draw_rim(ink, part)


def _draw_rim(ink: Ink, part: Part) -> None:
    ink.box(part.x, part.y, part.width, part.height, RIM, INK)

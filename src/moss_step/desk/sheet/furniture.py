"""What stands beside a plan on a page: key, scale, north, title block, text, lineage and pictures."""

from __future__ import annotations

import math
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, QSize, QSizeF, Qt
from PySide6.QtGui import QColor, QImage, QPolygonF

from moss_step.desk.sheet.ink import LEFT, MIDDLE, POINT, RIGHT, Ink, broken, fitted, line_height, width_of
from moss_step.desk.sheet.key import draw_legends
from moss_step.model.units import METRE
from moss_step.scene.colors import CARD, DIM, INK, MUTED, OCHRE
from moss_step.scene.rounding import round_below
from moss_step.scene.sheet.ground import View, plan_scene, view_of
from moss_step.scene.sheet.north import Norths, norths
from moss_step.scene.sheet.sheet import Sheet
from moss_step.scene.sheet.trail import trail_lines
from moss_step.scene.sheet.words import Piece, pieces, scale_text
from moss_step.study.pages import (
    PART_NAMES,
    FramePart,
    KeyPart,
    LineagePart,
    NorthPart,
    PicturePart,
    PlanPart,
    ScalePart,
    TextPart,
    TitlePart,
)

_LEAST_BAR = 12.0
"""Millimetres that a scale needs for a bar."""
_MOST_PIXELS = 64_000_000
"""Pixels that a picture of a file may have."""
_PLAIN = ("PNG", "JPEG", "BMP", "GIF", "WEBP", "TIFF")
"""Formats of pictures that hold pixels, and refer to nothing else."""


def _plan_of(ink: Ink, sheet: Sheet, part: KeyPart | ScalePart | NorthPart) -> tuple[PlanPart, View] | None:
    """The plan of a part, and how it lies on the page; None, and said so, where there is none."""
    plan = sheet.page.plan(part.plan)
    view = None if plan is None else view_of(sheet, plan)
    if plan is not None and view is not None:
        return plan, view
    said = f"{PART_NAMES[part.kind]}: {'the page has no plan' if plan is None else 'its plan shows nothing'}"
    ink.remark(f"{said}.")
    ink.note(said, QRectF(0, 0, part.width, part.height))
    return None


def draw_key(ink: Ink, sheet: Sheet, part: KeyPart) -> None:
    """Explain what a plan draws, from top to bottom; what has no room is told."""
    of = _plan_of(ink, sheet, part)
    if of is not None:
        scene = plan_scene(sheet, of[0])
        left = draw_legends(ink, scene, sheet.now.shape_order, QSizeF(part.width, part.height), part.size)
        if left:
            ink.remark(f"The key has no room for '{left}'. Make it higher, or its letters smaller.")


# --- scale and north


def draw_scale(ink: Ink, sheet: Sheet, part: ScalePart) -> None:
    """Draw the scale of a plan as a bar, as a number, or both."""
    of = _plan_of(ink, sheet, part)
    if of is None:
        return
    (_, view), y, size = of, 0.0, part.size
    if part.as_number:
        ink.write(scale_text(view.scale), 0, size * POINT, size, bold=True)
        y += line_height(size)
    if part.as_bar and part.width <= _LEAST_BAR:
        ink.remark("A scale is too narrow for a bar.")
    elif part.as_bar:
        unit = sheet.now.study.telling.length or METRE
        distance = round_below((part.width - 8.0) / 1000.0 * view.scale / unit.factor)
        long = distance * unit.factor / view.scale * 1000.0
        by, symbol = (1000.0, "km") if unit == METRE and distance >= 1000 else (1.0, unit.symbol)
        top, high = y + line_height(size), 1.4
        for k in range(4):
            fill = INK if k % 2 == 0 else CARD
            ink.box(k * long / 4, top, long / 4, high, 0.15, INK, fill)
        for share in (0.0, 0.5, 1.0):
            text = f"{distance * share / by:,.6g}".replace(",", " ")
            if share == 0.5 and 2 * (width_of(text, size) + width_of("0", size)) > long:
                continue
            ink.write(text, share * long, top - 0.8, size, LEFT if share == 0.0 else MIDDLE)
        ink.write(symbol, long + width_of(text, size) / 2 + 1.0, top - 0.8, size)


def draw_north(ink: Ink, sheet: Sheet, part: NorthPart) -> None:
    """Draw where north is, each of them apart, and say by how much they differ."""
    of = _plan_of(ink, sheet, part)
    if of is None:
        return
    _, view = of
    held = norths(sheet.now.frame, view.x, view.y, view.turned, part.year, part.magnetic)
    lines = [w for text in held.words for w in broken(text, part.size * 0.85, part.width)]
    below = len(lines) * line_height(part.size * 0.85)
    reach = max(min(part.width / 2, (part.height - below) / 2) - line_height(part.size), 3.0)
    middle = QPointF(part.width / 2, reach + line_height(part.size))
    for number, (bearing, mark) in enumerate(_arrows(held, part)):
        _arrow(ink, middle, reach, bearing, mark, number, part.size)
    y = middle.y() + reach + line_height(part.size)
    for line in lines:
        ink.write(line, part.width / 2, y, part.size * 0.85, MIDDLE, color=MUTED)
        y += line_height(part.size * 0.85)


def _arrows(held: Norths, part: NorthPart) -> list[tuple[float, str]]:
    """Bearings on the paper of the norths that are wanted, and their letters."""
    wanted = (
        (held.grid, "Grid", part.grid),
        (held.true, "True", part.true and held.true is not None),
        (held.magnetic, "Mag", part.magnetic and held.magnetic is not None),
    )
    known = [(b, name) for b, name, shown in wanted if shown and b is not None]
    alike = [b for b, _ in known if abs(b - known[0][0]) < 0.05] if known else []
    if known and len(alike) == len(known):
        return [(known[0][0], "N")]
    return known


def _arrow(
    ink: Ink, middle: QPointF, reach: float, bearing: float, name: str, number: int, size: float
) -> None:
    """Draw one arrow from the common foot. The first is the longest and filled; the others are shorter,
    with their letters on the side that they lean to: they may differ by a degree only.
    """
    painter, broad, tip = ink.painter, number == 0, -reach * (1.0, 0.45, -0.1)[number]
    painter.save()
    painter.translate(middle.x(), middle.y() + reach)
    painter.rotate(bearing)
    ink.line(0, 0, 0, tip - reach + 1.5, 0.3 if broad else 0.18)
    top = tip - reach
    for side, fill in ((1.5, INK), (-1.5, CARD)):
        painter.setPen(ink.pen(0.18, INK))
        painter.setBrush(QColor(fill) if broad else Qt.BrushStyle.NoBrush)
        painter.drawPolygon(QPolygonF([QPointF(0, top), QPointF(side, top + 4.2), QPointF(0, top + 3.2)]))
    painter.restore()
    a, long = math.radians(bearing), reach - tip
    x, y = middle.x() + math.sin(a) * long, middle.y() + reach - math.cos(a) * long
    if broad:
        ink.write(name, x, y - 0.8, size, MIDDLE, bold=True)
    else:
        east = (bearing + 180.0) % 360.0 >= 180.0
        ink.write(name, x + (2.0 if east else -2.0), y + size * POINT, size, LEFT if east else RIGHT)


# --- words


def _scale_of(sheet: Sheet) -> float:
    """The scale of the first plan, 0 where there is none."""
    plan = sheet.page.plan()
    view = None if plan is None else view_of(sheet, plan)
    return 0.0 if view is None else view.scale


def draw_text(ink: Ink, sheet: Sheet, part: TextPart) -> None:
    """Write words with their fields filled in; what was lost is marked, and told."""
    held = pieces(sheet, part.text, _scale_of(sheet))
    _note_lost(ink, held)
    text = "".join(p.text for p in held)
    lines = broken(text, part.size, part.width, part.bold)
    x = {LEFT: 0.0, MIDDLE: part.width / 2, RIGHT: part.width}[part.side]
    y, lost = part.size * POINT * 0.95, any(p.lost for p in held)
    for line in lines:
        if y > part.height + 0.3 * part.size * POINT:
            ink.remark(f"A text has no room for all of its lines: '{text[:40]}'.")
            break
        ink.write(line, x, y, part.size, part.side, part.bold, OCHRE if lost else INK)
        y += line_height(part.size)
    for ref in dict.fromkeys(p.ref for p in held if p.ref):
        ink.hit(0, 0, part.width, part.height, ref)


def _note_lost(ink: Ink, held: list[Piece]) -> None:
    for piece in held:
        if piece.lost:
            ink.remark(f"A figure of the page is {piece.text.strip('[]')}: '{piece.ref}'.")


def draw_title(ink: Ink, sheet: Sheet, part: TitlePart) -> None:
    """Draw the rows of a title block, each a word and what it is; rows that say nothing are left out."""
    scale = _scale_of(sheet)
    filled = [(word, pieces(sheet, text, scale)) for word, text in part.rows]
    rows = [(word, held) for word, held in filled if any(p.text.strip() for p in held)]
    if not rows:
        return
    high = part.height / len(rows)
    first = max(width_of(word, part.size * 0.8) for word, _ in rows) + 3.0
    for k, (word, held) in enumerate(rows):
        top, base = k * high, k * high + high / 2 + part.size * POINT * 0.35
        if k:
            ink.line(0, top, part.width, top, 0.15, DIM)
        ink.write(word, 1.5, base, part.size * 0.8, color=MUTED)
        _note_lost(ink, held)
        shown = fitted("".join(p.text for p in held), part.size, part.width - first - 1.5, bold=k == 0)
        ink.write(shown, first, base, part.size, bold=k == 0)
        for piece in held:
            if piece.ref:
                ink.hit(0, top, part.width, high, piece.ref)


def draw_lineage(ink: Ink, sheet: Sheet, part: LineagePart) -> None:
    """Write how results came about: a line for each step, from the source files on."""
    y = part.size * POINT
    for text, ref, bold in trail_lines(sheet, part.results):
        for line in broken(text, part.size, part.width, bold):
            if y > part.height:
                ink.remark(
                    "The lineage has no room for all of its lines. Make it higher, or its letters smaller."
                )
                return
            ink.write(line, 0, y, part.size, bold=bold)
            if ref:
                ink.hit(0, y - part.size * POINT, part.width, line_height(part.size), ref)
            y += line_height(part.size)


def draw_frame(ink: Ink, sheet: Sheet, part: FramePart) -> None:
    """Draw a line around a part of the page."""
    ink.box(0, 0, part.width, part.height, part.line)


def draw_picture(ink: Ink, sheet: Sheet, part: PicturePart) -> None:
    """Draw a picture of a file, as large as it fits."""
    image = _picture_of(ink, part.file)
    if image is None:
        ink.remark(
            f"The picture '{Path(part.file).name}' cannot be read." if part.file else "A picture has no file."
        )
        ink.note("Choose a picture" if not part.file else f"{Path(part.file).name} cannot be read",
                 QRectF(0, 0, part.width, part.height))  # fmt: skip
        return
    size = QSize(image.size()).scaled(
        QSize(round(part.width * 100), round(part.height * 100)), Qt.AspectRatioMode.KeepAspectRatio
    )
    wide, high = size.width() / 100, size.height() / 100
    ink.painter.drawImage(QRectF((part.width - wide) / 2, (part.height - high) / 2, wide, high), image)


def _picture_of(ink: Ink, file: str) -> QImage | None:
    """A picture, read once, here or by whoever the ink asks."""
    key = ("picture", file)
    if key not in ink.kept:
        ink.kept[key] = read_picture(file) if ink.read is None else ink.read(file)
    found = ink.kept[key]
    return found if isinstance(found, QImage) else None


def read_picture(file: str) -> QImage | None:
    """Read a picture, of formats that hold pixels and nothing else, of a bounded size; None for others."""
    from PIL import Image, ImageOps, UnidentifiedImageError

    if not file:
        return None
    try:
        with Image.open(file, formats=_PLAIN) as held:
            if held.width * held.height > _MOST_PIXELS:
                return None
            image = ImageOps.exif_transpose(held).convert("RGBA")
    except (OSError, ValueError, SyntaxError, UnidentifiedImageError, Image.DecompressionBombError):
        return None
    pixels = image.tobytes()
    return QImage(pixels, image.width, image.height, 4 * image.width, QImage.Format.Format_RGBA8888).copy()

"""A table on a page: heads, rows and sums, as wide as they need."""

from __future__ import annotations

from PySide6.QtCore import QRectF

from moss_step.desk.sheet.ink import LEFT, POINT, RIGHT, Ink, fitted, line_height, width_of
from moss_step.scene.colors import DIM, INK, MUTED, WASH
from moss_step.scene.sheet.rows import Rows, rows_of_result
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import TablePart

_GAP, _PATCH = 2.4, 3.2


def draw_table(ink: Ink, sheet: Sheet, part: TablePart) -> None:
    """Draw the rows of a result; what has no room is told on the page."""
    rows = rows_of_result(sheet, part)
    if rows.remark:
        ink.remark(f"A table of the page: {rows.remark}")
    if not rows.heads:
        ink.note(rows.remark or "No rows", QRectF(0, 0, part.width, part.height))
        return
    ink.hit(0, 0, part.width, part.height, part.result)
    size, step = part.size, line_height(part.size) * 1.18
    widths = _widths(rows, size, part.width)
    room = int((part.height - step * (1 + bool(rows.sums))) / step + 1e-6)
    shown = rows.cells[: max(room, 0)]
    left = rows.left + len(rows.cells) - len(shown)
    if left and len(shown) == room and room > 0:
        shown, left = shown[:-1], left + 1
    _line(ink, rows, rows.heads, widths, 0.0, part, bold=True)
    ink.line(0, step, part.width, step, 0.25)
    y = step
    for number, cells in enumerate(shown):
        if number % 2:
            ink.box(0, y, part.width, step, 0.0, fill=WASH)
        color = rows.colors[number] if number < len(rows.colors) else ""
        _line(ink, rows, cells, widths, y, part, color=color)
        y += step
    if left:
        text = f"and {left:,} more row{'s' if left > 1 else ''}".replace(",", " ")
        ink.write(text, 0, y + size * POINT * 1.15, size, color=MUTED)
        y += step
        if len(rows.cells) > len(shown) and not part.rows:
            ink.remark(
                f"A table shows {len(shown)} of {len(rows.cells) + rows.left} rows: it has no more room."
            )
    if rows.sums:
        ink.line(0, y, part.width, y, 0.25)
        _line(ink, rows, rows.sums, widths, y, part, bold=True)
        y += step
    ink.line(0, y, part.width, y, 0.12, DIM)


def _widths(rows: Rows, size: float, whole: float) -> list[float]:
    """Widths of the columns: what they need, made narrower or wider together until they fit the part."""
    lines = [rows.heads, *rows.cells[:200], *([rows.sums] if rows.sums else [])]
    needed = [
        max(width_of(line[k], size, bold=line is rows.heads) for line in lines) + _GAP
        for k in range(len(rows.heads))
    ]
    if any(rows.colors):
        needed[0] += _PATCH + 1.5
    total = sum(needed)
    if total <= whole:
        return [w + (whole - total) / len(needed) for w in needed]
    return [w * whole / total for w in needed]


def _line(
    ink: Ink,
    rows: Rows,
    cells: tuple[str, ...],
    widths: list[float],
    y: float,
    part: TablePart,
    bold: bool = False,
    color: str = "",
) -> None:
    size, x = part.size, 0.0
    base = y + size * POINT * 1.15
    for k, (text, width) in enumerate(zip(cells, widths, strict=True)):
        shift = _PATCH + 1.5 if k == 0 and any(rows.colors) else 0.0
        if k == 0 and color:
            ink.box(x, base - size * POINT * 0.75, _PATCH, size * POINT * 0.8, 0.1, MUTED, color)
        shown = fitted(text, size, width - _GAP / 2 - shift, bold)
        if rows.numbers[k]:
            ink.write(shown, x + width - _GAP / 2, base, size, RIGHT, bold, INK)
        else:
            ink.write(shown, x + shift, base, size, LEFT, bold, INK)
        x += width

"""The trail on a page: a box for each step, and lines from what feeds it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainterPath, QPolygonF

from moss_step.desk.sheet.ink import POINT, Ink, broken, fitted, line_height
from moss_step.scene.colors import CARD, INK, LINE, MUTED, OCHRE, THREAD
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.graph import Step, Study, step_of
from moss_step.study.pages import TrailPart

_WIDE, _GAP, _LINES = 26.0, 7.0, 2
"""Times the letters that a box is wide, that lie between boxes, and lines of a name."""


def columns_of_steps(study: Study, steps: list[Step]) -> list[list[Step]]:
    """Steps in columns: each right of all that feed it."""
    depth: dict[str, int] = {}
    for step in steps:
        depth[step.id] = 1 + max((depth.get(s, -1) for s in step.sources), default=-1)
    result: list[list[Step]] = [[] for _ in range(max(depth.values(), default=-1) + 1)]
    for step in steps:
        result[depth[step.id]].append(step)
    return result


def draw_trail(ink: Ink, sheet: Sheet, part: TrailPart) -> None:
    """Draw the steps that results came from, with what feeds what, as large as they fit."""
    study = sheet.now.study
    wanted = [r for r in part.results if study.has(r)] or [s.id for s in study.steps]
    columns = columns_of_steps(study, study.needs(wanted))
    if not columns:
        ink.note("The study has no steps", QRectF(0, 0, part.width, part.height))
        return
    size = _size_that_fits(part, columns)
    if size < 3.0:
        ink.remark("The trail has no room: its letters are smaller than 3 points. Make it larger.")
    unit = size * POINT
    wide, high = _WIDE * unit * 0.5, (_LINES + 1.4) * line_height(size)
    gap_x, gap_y = _GAP * unit * 0.5, 0.8 * line_height(size)
    places: dict[str, QRectF] = {}
    for k, column in enumerate(columns):
        top = 0.0
        for n, step in enumerate(column):
            places[step.id] = QRectF(k * (wide + gap_x), top + n * (high + gap_y), wide, high)
    for column in columns:
        for step in column:
            for ref in step.inputs.values():
                _draw_link(ink, places[step_of(ref)], places[step.id], unit)
    for column in columns:
        for step in column:
            _draw_step(ink, sheet, step, places[step.id], size)


def _size_that_fits(part: TrailPart, columns: list[list[Step]]) -> float:
    """The size of letters, at most that of the part, at which all boxes fit."""
    across = len(columns) * _WIDE * 0.5 + (len(columns) - 1) * _GAP * 0.5
    down = max(len(c) for c in columns) * (_LINES + 2.2) * line_height(1.0) / POINT
    return min(part.size, part.width / across / POINT, part.height / down / POINT)


def _draw_link(ink: Ink, first: QRectF, last: QRectF, unit: float) -> None:
    """Draw a curve with an arrow from one box to another."""
    start, end = QPointF(first.right(), first.center().y()), QPointF(last.left(), last.center().y())
    bend = max((end.x() - start.x()) / 2, unit)
    path = QPainterPath(start)
    path.cubicTo(start + QPointF(bend, 0), end - QPointF(bend, 0), end)
    ink.painter.setBrush(Qt.BrushStyle.NoBrush)
    ink.painter.setPen(ink.pen(0.25, THREAD))
    ink.painter.drawPath(path)
    head = 0.7 * unit
    ink.painter.setPen(Qt.PenStyle.NoPen)
    ink.painter.setBrush(QColor(THREAD))
    tip = [QPointF(0, 0), QPointF(-head, head / 2), QPointF(-head, -head / 2)]
    ink.painter.drawPolygon(QPolygonF([end + p for p in tip]))


def _draw_step(ink: Ink, sheet: Sheet, step: Step, box: QRectF, size: float) -> None:
    """Draw a box with the name of a step and its main figure."""
    now, failed = sheet.now, step.id in sheet.now.failures
    ink.box(box.x(), box.y(), box.width(), box.height(), 0.25, OCHRE if failed else LINE, CARD)
    inner, y = box.width() - size * POINT, box.y() + size * POINT * 1.25
    lines = broken(now.study.name_of(step.id), size, inner, bold=True)[:_LINES]
    for line in lines:
        ink.write(line, box.x() + size * POINT / 2, y, size, bold=True, color=INK)
        y += line_height(size)
    said = now.said.get(step.id)
    figure = (
        now.study.telling.figure(said.figure)
        if said is not None
        else "failed"
        if failed
        else "not worked out"
    )
    foot = box.bottom() - size * POINT * 0.5
    ink.write(
        fitted(figure, size * 0.9, inner),
        box.x() + size * POINT / 2,
        foot,
        size * 0.9,
        color=OCHRE if failed else MUTED,
    )
    ink.hit(box.x(), box.y(), box.width(), box.height(), step.id)

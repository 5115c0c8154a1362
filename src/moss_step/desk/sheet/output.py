"""Pages as files: PDF, SVG, PNG and TIFF, written whole or not at all, and the same file whenever they are
written.

Pictures tell places of the ground with a world file beside them.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QRectF, QSize
from PySide6.QtGui import QImage, QPainter
from PySide6.QtSvg import QSvgGenerator

from moss_step.desk.collector import collect_due
from moss_step.desk.png import write_png
from moss_step.desk.sheet.block import staged
from moss_step.desk.sheet.painter import draw_sheet
from moss_step.desk.sheet.pdf import write_pdf
from moss_step.desk.sheet.press import MM, Press, Wanted
from moss_step.formats.picture import WORLD, Place, write_tiff
from moss_step.formats.whole import write_text
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.progress import Progress, silent
from moss_step.scene.sheet.ground import view_of
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.graph import file_name

ENDINGS = (".pdf", ".svg", ".png", ".tif")
LEAST_DPI, MOST_DPI = 36, 1200
_MOST_PIXELS = 300_000_000


@dataclass
class Written:
    """Files that were written, and what is to be remarked of them."""

    files: list[Path] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)


def check_page_file(path: Path, wanted: Wanted) -> None:
    """Refuse endings and resolutions that no page is written in. Raises AskedWronglyError."""
    if path.suffix.lower() not in (*ENDINGS, ".tiff"):
        raise AskedWronglyError(
            f"A page cannot be written as '{path.name}'.", f"End it in {', '.join(ENDINGS)}."
        )
    if not LEAST_DPI <= wanted.dpi <= MOST_DPI:
        raise AskedWronglyError(
            f"{wanted.dpi} pixels an inch are not possible.", f"Ask for {LEAST_DPI} to {MOST_DPI}."
        )
    if wanted.archive and path.suffix.lower() != ".pdf":
        raise AskedWronglyError("Only a PDF can be written for archives.", "End the file in .pdf.")


def write_sheets(
    sheets: Sequence[Sheet], path: Path, wanted: Wanted | None = None, progress: Progress | None = None
) -> Written:
    """Write pages: a PDF holds all of them, other formats a file for each.

    Raises MossError when a page cannot be written; files that were there stay as they were.
    """
    wanted, progress, files = wanted or Wanted(), progress or silent(), []
    check_page_file(path, wanted)
    ending = path.suffix.lower()
    with staged() as stage:
        press = Press(wanted, stage)
        if ending == ".pdf":
            write_pdf(sheets, path, press, progress)
            files.append(path)
        else:
            write = _write_svg if ending == ".svg" else _write_picture
            for k, sheet in enumerate(sheets):
                progress.at(k / len(sheets), f"Page {k + 1} of {len(sheets)}")
                files += write(sheet, _file_of(sheet, path, len(sheets)), press)
                collect_due()
    progress.at(1.0, "")
    return Written(files, press.remarks)


def _file_of(sheet: Sheet, path: Path, count: int) -> Path:
    """The file of one of so many pages: they sort by their numbers."""
    if count == 1:
        return path
    area = "" if sheet.area is None else f"_{file_name(sheet.area.name)}"
    return path.with_name(f"{path.stem}_{sheet.number:0{len(str(count))}d}{area}{path.suffix}")


def _write_svg(sheet: Sheet, path: Path, press: Press) -> list[Path]:
    """Write a page as lines and letters, in millimetres."""
    width, height = sheet.page.size
    held = QByteArray()
    buffer = QBuffer(held)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QSvgGenerator()
    writer.setOutputDevice(buffer)
    writer.setResolution(round(MM * 4))
    writer.setSize(QSize(math.ceil(width * 4), math.ceil(height * 4)))
    writer.setViewBox(QRectF(0, 0, width, height))
    writer.setTitle(sheet.page.name)
    writer.setDescription("A page of Moss Step")
    with QPainter(writer) as painter:
        painter.setRenderHint(QPainter.RenderHint.LosslessImageRendering)
        draw_sheet(press.ink(painter), sheet)
    buffer.close()
    text = bytes(held.data()).decode("utf-8")
    size = f'<svg width="{width:g}mm" height="{height:g}mm"'
    write_text(path, re.sub(r'<svg width="[^"]*" height="[^"]*"', size, text, count=1))
    return [path]


def _picture_of(sheet: Sheet, press: Press) -> QImage:
    """A page as a picture."""
    dpi = press.wanted.dpi
    wide, high = (max(round(v * dpi / MM), 1) for v in sheet.page.size)
    if wide * high > _MOST_PIXELS:
        raise MossError(
            f"A picture of {wide:,} by {high:,} pixels is too large.",
            "Ask for fewer pixels an inch, or for PDF.",
        )
    image = QImage(wide, high, QImage.Format.Format_RGB32)
    image.fill(0xFFFFFFFF)
    image.setDotsPerMeterX(round(dpi * 1000.0 / MM))
    image.setDotsPerMeterY(round(dpi * 1000.0 / MM))
    with QPainter(image) as painter:
        painter.scale(dpi / MM, dpi / MM)
        draw_sheet(press.ink(painter), sheet)
    return image


def _write_picture(sheet: Sheet, path: Path, press: Press) -> list[Path]:
    """Write a page as PNG or as TIFF that knows its place, with a world file beside it."""
    image, dpi = _picture_of(sheet, press), press.wanted.dpi
    place = _ground_of_page(sheet, dpi)
    if path.suffix.lower() == ".png":
        write_png(image, path)
    else:
        frame = sheet.now.frame
        held = np.frombuffer(image.constBits(), np.uint8)
        pixels = held.reshape(image.height(), image.bytesPerLine() // 4, 4)[:, : image.width(), 2::-1]
        write_tiff(path, pixels, dpi, place, None if frame is None else frame.crs)
    if place is None:
        return [path]
    beside = path.with_suffix(WORLD[path.suffix.lower()])
    write_text(beside, "".join(f"{v:.12g}\n" for v in place))
    return [path, beside]


def _ground_of_page(sheet: Sheet, dpi: int) -> Place | None:
    """What a column and a row of a picture of a page add to x and y, and the middle of its first pixel, by
    the first plan; None without one.
    """
    plan = sheet.page.plan()
    view = None if plan is None else view_of(sheet, plan)
    if plan is None or view is None:
        return None
    pixel, left, top, size = MM / dpi, -plan.x, -plan.y, (plan.width, plan.height)
    x, y = view.ground(left, top, *size)
    right, down = view.ground(left + pixel, top, *size), view.ground(left, top + pixel, *size)
    first = view.ground(left + pixel / 2, top + pixel / 2, *size)
    return right[0] - x, right[1] - y, down[0] - x, down[1] - y, *first

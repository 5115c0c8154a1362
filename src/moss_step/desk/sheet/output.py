"""Pages as files: PDF, SVG, PNG and TIFF, written whole or not at all, and the same file whenever they are
written.

Places of the ground go into a PDF as a viewport with a geospatial measure (ISO 32000-2, 12.10), and beside
pictures as a world file.
"""

from __future__ import annotations

import math
import re
import uuid
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QMarginsF, QRectF, QSize, QSizeF, QUuid
from PySide6.QtGui import QImage, QPagedPaintDevice, QPageSize, QPainter, QPdfWriter
from PySide6.QtSvg import QSvgGenerator

from moss_step.desk.block.stage import Stage
from moss_step.desk.png import write_png
from moss_step.desk.sheet.block import draw_now
from moss_step.desk.sheet.ink import Ink, ended
from moss_step.desk.sheet.painter import draw_sheet
from moss_step.formats.picture import write_tiff
from moss_step.formats.whole import whole_file, write_text
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import carried
from moss_step.model.progress import Progress, silent
from moss_step.scene.sheet.ground import View, scene_for, view_of
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import PlanPart

ENDINGS = (".pdf", ".svg", ".png", ".tif")
WORLD = {".png": ".pgw", ".tif": ".tfw", ".tiff": ".tfw"}
LEAST_DPI, MOST_DPI = 36, 1200
_PDF_DPI, _MM = 1200, 25.4
_MOST_PIXELS = 300_000_000
_NAMESPACE = uuid.UUID("3f1a6c0e-5d0e-4f55-9b1b-8d6f4f9f2f10")


@dataclass(frozen=True)
class Wanted:
    """How a page is written: pixels an inch of its pictures, as PDF/A where that is wanted, and with the
    time of writing.
    """

    dpi: int = 300
    archive: bool = False
    stamped: bool = False


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
    wanted, progress, result = wanted or Wanted(), progress or silent(), Written()
    check_page_file(path, wanted)
    stage = Stage()
    try:
        if path.suffix.lower() == ".pdf":
            _write_pdf(sheets, path, wanted, progress, result, stage)
        else:
            for k, (sheet, file) in enumerate(_files(sheets, path)):
                progress.at(k / len(sheets), f"Page {k + 1} of {len(sheets)}")
                write = _write_svg if path.suffix.lower() == ".svg" else _write_picture
                result.files += [file, *write(sheet, file, wanted, result, stage)]
    finally:
        stage.let_go()
    progress.at(1.0, "")
    return result


def _files(sheets: Sequence[Sheet], path: Path) -> Iterator[tuple[Sheet, Path]]:
    for sheet in sheets:
        own = sheet.name.removeprefix("_") if len(sheets) > 1 else ""
        tail = own.split("_", 1)[-1] if own else ""
        number = f"{sheet.number:0{len(str(len(sheets)))}d}"
        name = path.name if not own else f"{path.stem}_{number}_{tail.split('_', 1)[-1]}{path.suffix}"
        yield sheet, path.with_name(name)


def _ink(painter: QPainter, fine: float, letters: bool, result: Written, stage: Stage) -> Ink:
    return Ink(
        painter,
        fine,
        letters,
        result.remarks,
        block=lambda sheet, part, wide, high: draw_now(stage, sheet, part, wide, high),  # type: ignore[arg-type]
    )


# --- PDF


def _write_pdf(
    sheets: Sequence[Sheet], path: Path, wanted: Wanted, progress: Progress, result: Written, stage: Stage
) -> None:
    if wanted.archive and any(_shines(sheet) for sheet in sheets[:1]):
        result.remarks.append(
            "PDF/A-1b knows no transparency: what shines through on the plan is drawn opaque."
        )
    with whole_file(path) as part:
        pages = [s.page for s in sheets]
        writer = QPdfWriter(str(part))
        version = QPagedPaintDevice.PdfVersion
        writer.setPdfVersion(version.PdfVersion_A1b if wanted.archive else version.PdfVersion_1_6)
        writer.setResolution(_PDF_DPI)
        writer.setTitle(sheets[0].page.name)
        writer.setAuthor(pages[0].author)
        writer.setCreator("Moss Step")
        writer.setDocumentId(QUuid(f"{{{document_id(sheets)}}}"))
        with ended(QPainter()) as painter:
            for k, sheet in enumerate(sheets):
                progress.at(0.95 * k / len(sheets), f"Page {k + 1} of {len(sheets)}")
                _set_paper(writer, sheet)
                if not (painter.begin(writer) if k == 0 else writer.newPage()):
                    raise MossError(
                        f"{path} could not be written.", "Is the disk full, or the folder read-only?"
                    )
                painter.save()
                painter.setRenderHint(QPainter.RenderHint.LosslessImageRendering)
                painter.scale(_PDF_DPI / _MM, _PDF_DPI / _MM)
                draw_sheet(_ink(painter, wanted.dpi / _MM, True, result, stage), sheet)
                painter.restore()
        progress.at(0.96, "Writing the PDF")
        _finish_pdf(part, sheets, wanted)
    result.files.append(path)


def _shines(sheet: Sheet) -> bool:
    """Whether shapes on a page let what lies below shine through."""
    plans = [p for p in sheet.page.parts if isinstance(p, PlanPart)]
    layers = [la for p in plans for la in scene_for(sheet, p.results, p.shading).layers]
    return any(la.picture.shapes is not None and la.row.opacity < 1.0 for la in layers)


def _set_paper(writer: QPdfWriter, sheet: Sheet) -> None:
    width, height = sheet.page.size
    writer.setPageSize(
        QPageSize(
            QSizeF(width, height), QPageSize.Unit.Millimeter, "page", QPageSize.SizeMatchPolicy.ExactMatch
        )
    )
    writer.setPageMargins(QMarginsF(0, 0, 0, 0))


def document_id(sheets: Sequence[Sheet]) -> uuid.UUID:
    """An id of a document that stays the same while what it is made of does."""
    said = [(ref, s.figure) for ref, s in sorted(sheets[0].now.said.items())]
    return uuid.uuid5(_NAMESPACE, f"{[s.page.model_dump_json() for s in sheets[:1]]}{len(sheets)}{said}")


_TIMES = re.compile(rb' xmp:(?:CreateDate|ModifyDate|MetadataDate)="[^"]*"')


_LISTED = re.compile(rb"\[[^\]]*\]")


def _finish_pdf(file: Path, sheets: Sequence[Sheet], wanted: Wanted) -> None:
    """Give the pages their exact size and the places of the ground, let a space be found as one rather than
    as a tab, and leave the time of writing out.
    """
    import pikepdf

    with pikepdf.open(file, allow_overwriting_input=True) as pdf:
        for page, sheet in zip(pdf.pages, sheets, strict=True):
            _exact_size(page, sheet)
            _mend_paths(page)
            views = [
                v for part in sheet.page.parts if (v := _viewport(pikepdf, pdf, sheet, part)) is not None
            ]
            if views:
                page.obj["/VP"] = pikepdf.Array(views)
        for held in pdf.objects:
            if isinstance(held, pikepdf.Dictionary) and "/ToUnicode" in held:
                read = held.ToUnicode.read_bytes()
                held.ToUnicode.write(_LISTED.sub(lambda m: m[0].replace(b"<0009>", b"<0020>"), read))
        if wanted.archive:
            _make_opaque(pikepdf, pdf)
        if not wanted.stamped:
            for key in ("/CreationDate", "/ModDate"):
                if key in pdf.docinfo:
                    del pdf.docinfo[key]
            if "/Metadata" in pdf.Root:
                pdf.Root.Metadata.write(_TIMES.sub(b"", pdf.Root.Metadata.read_bytes()))
        pdf.save(file, deterministic_id=not wanted.stamped, fix_metadata_version=False)


_NO_PATH = re.compile(rb"(\bgs\s+)h f\*?\s")


def _mend_paths(page: Any) -> None:
    """Leave out what the library writes of a line that lies outside of its plan: it closes and fills a path
    that was never begun, which readers take for damage.
    """
    page.contents_coalesce()
    written = page.Contents.read_bytes()
    mended = _NO_PATH.sub(rb"\1", written)
    if mended != written:
        page.Contents.write(mended)


def _make_opaque(pikepdf: Any, pdf: Any) -> None:
    """PDF/A-1b knows nothing that shines through: whatever does is drawn opaque."""
    for held in pdf.objects:
        if isinstance(held, pikepdf.Dictionary):
            for key in ("/ca", "/CA"):
                if key in held:
                    held[key] = 1


def _exact_size(page: Any, sheet: Sheet) -> None:
    """The size that the paper has: the library rounds it to whole points."""
    width, height = (v * 72.0 / _MM for v in sheet.page.size)
    top = float(page.mediabox[3])
    box = [0, round(top - height, 4), round(width, 4), top]
    page.mediabox = box
    for name in ("/TrimBox", "/CropBox"):
        if name in page.obj:
            page.obj[name] = box


def _viewport(pikepdf: Any, pdf: Any, sheet: Sheet, part: Any) -> Any:
    """A plan as a viewport with a geospatial measure; None for other parts, and where the frame has no
    place.
    """
    if part.kind != "plan" or sheet.now.frame is None or sheet.now.frame.system is None:
        return None
    view = view_of(sheet, part, scene_for(sheet, part.results, part.shading))
    system = sheet.now.frame.system
    world = system.geodetic_crs
    if view is None or world is None:
        return None
    corners = [(0.0, 1.0), (0.0, 0.0), (1.0, 0.0), (1.0, 1.0)]
    ground = [view.ground(u * part.width, v * part.height, part.width, part.height) for u, v in corners]
    lon, lat = carried(system, world, *(np.array(c) for c in zip(*ground, strict=True)))
    if not (np.isfinite(lon).all() and np.isfinite(lat).all()):
        return None
    height = float(pdf.pages[sheet.number - 1].mediabox[3])
    k = 72.0 / _MM
    left, right = part.x * k, part.right * k
    top, bottom = height - part.y * k, height - part.bottom * k
    epsg = system.to_epsg()
    named = {"/EPSG": epsg} if epsg else {"/WKT": pikepdf.String(system.to_wkt("WKT1_ESRI"))}
    kind = pikepdf.Name("/GEOGCS" if system.is_geographic else "/PROJCS")
    places = [v for pair in zip(lat.tolist(), lon.tolist(), strict=True) for v in pair]
    measure = pikepdf.Dictionary(
        {
            "/Type": pikepdf.Name("/Measure"),
            "/Subtype": pikepdf.Name("/GEO"),
            "/Bounds": pikepdf.Array([0, 0, 0, 1, 1, 1, 1, 0]),
            "/GPTS": pikepdf.Array([round(v, 9) for v in places]),
            "/LPTS": pikepdf.Array([0, 0, 0, 1, 1, 1, 1, 0]),
            "/GCS": pikepdf.Dictionary({"/Type": kind, **named}),
        }
    )
    return pikepdf.Dictionary(
        {
            "/Type": pikepdf.Name("/Viewport"),
            "/Name": pikepdf.String(part.id),
            "/BBox": pikepdf.Array([round(v, 4) for v in (left, bottom, right, top)]),
            "/Measure": measure,
        }
    )


# --- SVG and pictures


def _write_svg(sheet: Sheet, path: Path, wanted: Wanted, result: Written, stage: Stage) -> tuple[Path, ...]:
    """Write a page as lines and letters, in millimetres."""
    width, height = sheet.page.size
    held = QByteArray()
    buffer = QBuffer(held)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QSvgGenerator()
    writer.setOutputDevice(buffer)
    writer.setResolution(round(_MM * 4))
    writer.setSize(QSize(math.ceil(width * 4), math.ceil(height * 4)))
    writer.setViewBox(QRectF(0, 0, width, height))
    writer.setTitle(sheet.page.name)
    writer.setDescription("A page of Moss Step")
    with ended(QPainter(writer)) as painter:
        painter.setRenderHint(QPainter.RenderHint.LosslessImageRendering)
        draw_sheet(_ink(painter, wanted.dpi / _MM, True, result, stage), sheet)
    buffer.close()
    text = bytes(held.data()).decode("utf-8")
    size = f'<svg width="{width:g}mm" height="{height:g}mm"'
    write_text(path, re.sub(r'<svg width="[^"]*" height="[^"]*"', size, text, count=1))
    return ()


def picture_of_sheet(sheet: Sheet, wanted: Wanted, result: Written, stage: Stage) -> QImage:
    """Draw a page as a picture."""
    fine = wanted.dpi / _MM
    wide, high = (max(round(v * fine), 1) for v in sheet.page.size)
    if wide * high > _MOST_PIXELS:
        raise MossError(
            f"A picture of {wide:,} by {high:,} pixels is too large.",
            "Ask for fewer pixels an inch, or for PDF.",
        )
    image = QImage(wide, high, QImage.Format.Format_RGB32)
    image.fill(0xFFFFFFFF)
    image.setDotsPerMeterX(round(wanted.dpi / 0.0254))
    image.setDotsPerMeterY(round(wanted.dpi / 0.0254))
    with ended(QPainter(image)) as painter:
        painter.scale(fine, fine)
        draw_sheet(_ink(painter, fine, False, result, stage), sheet)
    return image


def _write_picture(
    sheet: Sheet, path: Path, wanted: Wanted, result: Written, stage: Stage
) -> tuple[Path, ...]:
    """Write a page as PNG or as TIFF that knows its place, with a world file beside it; gives that."""
    image = picture_of_sheet(sheet, wanted, result, stage)
    place = ground_of_page(sheet, wanted.dpi)
    frame = sheet.now.frame
    if path.suffix.lower() == ".png":
        write_png(image, path)
    else:
        drawn = np.frombuffer(image.constBits(), np.uint8).reshape(
            image.height(), image.bytesPerLine() // 4, 4
        )
        crs = None if frame is None else frame.crs
        write_tiff(path, drawn[:, : image.width(), 2::-1], wanted.dpi, place, crs)
    if place is None:
        return ()
    beside = path.with_suffix(WORLD[path.suffix.lower()])
    write_text(beside, "".join(f"{v:.12g}\n" for v in place))
    return (beside,)


Place = tuple[float, float, float, float, float, float]


def ground_of_page(sheet: Sheet, dpi: int) -> Place | None:
    """What a column and a row of a picture of a page add to x and y, and the middle of its first pixel, by
    the first plan; None without one.
    """
    plan = sheet.page.plan()
    view = None if plan is None else view_of(sheet, plan, scene_for(sheet, plan.results, plan.shading))
    if plan is None or view is None:
        return None
    pixel = _MM / dpi
    origin, right, down = (_page_place(view, plan, u, v) for u, v in ((0.0, 0.0), (pixel, 0.0), (0.0, pixel)))
    first = _page_place(view, plan, pixel / 2, pixel / 2)
    across = right[0] - origin[0], right[1] - origin[1]
    return (*across, down[0] - origin[0], down[1] - origin[1], *first)


def _page_place(view: View, plan: PlanPart, x: float, y: float) -> tuple[float, float]:
    """The place of the ground at millimetres of the page."""
    return view.ground(x - plan.x, y - plan.y, plan.width, plan.height)

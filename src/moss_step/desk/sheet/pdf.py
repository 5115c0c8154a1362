"""Pages as PDF: lines and letters stay so, the paper has its exact size, and plans tell where they lie, as
viewports with a geospatial measure (ISO 32000-2, 12.10).
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QMarginsF, QSizeF, QUuid
from PySide6.QtGui import QPagedPaintDevice, QPageSize, QPainter, QPdfWriter

from moss_step.desk.collector import collect_due
from moss_step.desk.sheet.painter import draw_sheet
from moss_step.desk.sheet.press import MM, Press, Wanted
from moss_step.formats.whole import whole_file
from moss_step.model.errors import MossError
from moss_step.model.frame import carried
from moss_step.model.progress import Progress
from moss_step.scene.sheet.ground import plan_scene, view_of
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import PlanPart

_DPI, _POINTS = 1200, 72.0 / MM
_NAMESPACE = uuid.UUID("3f1a6c0e-5d0e-4f55-9b1b-8d6f4f9f2f10")
_TIMES = re.compile(rb' xmp:(?:CreateDate|ModifyDate|MetadataDate)="[^"]*"')
_LISTED = re.compile(rb"\[[^\]]*\]")
_PART_OF_FONT, _LETTERS = re.compile("/([A-Z]{6})[+](.+)"), "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
_NO_PATH = re.compile(rb"(\bgs\s+)h f\*?\s")


def write_pdf(sheets: Sequence[Sheet], path: Path, press: Press, progress: Progress) -> None:
    """Write pages as one PDF, whole or not at all; the same pages are the same file, unless it is to tell
    the time of writing.

    Raises MossError when it cannot be written.
    """
    if press.wanted.archive and any(_shines(sheet) for sheet in sheets):
        press.remarks.append(
            "PDF/A-1b knows no transparency: what shines through on the plan is drawn opaque."
        )
    with whole_file(path) as part:
        _draw(sheets, part, path, press, progress)
        progress.at(0.96, "Writing the PDF")
        _finish(part, sheets, press.wanted)


def _draw(sheets: Sequence[Sheet], part: Path, path: Path, press: Press, progress: Progress) -> None:
    writer = QPdfWriter(str(part))
    version = QPagedPaintDevice.PdfVersion
    writer.setPdfVersion(version.PdfVersion_A1b if press.wanted.archive else version.PdfVersion_1_6)
    writer.setResolution(_DPI)
    writer.setTitle(sheets[0].page.name)
    writer.setAuthor(sheets[0].page.author)
    writer.setCreator("Moss Step")
    writer.setDocumentId(QUuid(f"{{{_document_id(sheets)}}}"))
    _set_paper(writer, sheets[0])
    with QPainter(writer) as painter:
        for k, sheet in enumerate(sheets):
            progress.at(0.95 * k / len(sheets), f"Page {k + 1} of {len(sheets)}")
            if k > 0:
                _set_paper(writer, sheet)
            if not (painter.isActive() if k == 0 else writer.newPage()):
                raise MossError(f"{path} could not be written.", "Is the disk full, or the folder read-only?")
            painter.save()
            painter.setRenderHint(QPainter.RenderHint.LosslessImageRendering)
            painter.scale(_DPI / MM, _DPI / MM)
            draw_sheet(press.ink(painter), sheet)
            painter.restore()
            collect_due()


def _shines(sheet: Sheet) -> bool:
    """Whether shapes on a page let what lies below shine through."""
    plans = [p for p in sheet.page.parts if isinstance(p, PlanPart)]
    layers = [la for p in plans for la in plan_scene(sheet, p).layers]
    return any(la.picture.shapes is not None and la.row.opacity < 1.0 for la in layers)


def _set_paper(writer: QPdfWriter, sheet: Sheet) -> None:
    width, height = sheet.page.size
    writer.setPageSize(
        QPageSize(
            QSizeF(width, height), QPageSize.Unit.Millimeter, "page", QPageSize.SizeMatchPolicy.ExactMatch
        )
    )
    writer.setPageMargins(QMarginsF(0, 0, 0, 0))


def _document_id(sheets: Sequence[Sheet]) -> uuid.UUID:
    """An id of a document that stays the same while what it is made of does."""
    first = sheets[0]
    said = [(ref, s.figure) for ref, s in sorted(first.now.said.items())]
    return uuid.uuid5(_NAMESPACE, f"{first.page.model_dump_json()}{len(sheets)}{said}")


# --- what the library leaves to be done


def _finish(file: Path, sheets: Sequence[Sheet], wanted: Wanted) -> None:
    """Give the pages their exact size and the places of the ground, let a space be found as one rather than
    as a tab, and leave the time of writing out.
    """
    import pikepdf

    with pikepdf.open(file, allow_overwriting_input=True) as pdf:
        for page, sheet in zip(pdf.pages, sheets, strict=True):
            _exact_size(page, sheet)
            _mend_paths(page)
            _add_viewports(pikepdf, page, sheet)
        _mend_spaces(pikepdf, pdf)
        _name_fonts(pikepdf, pdf)
        if wanted.archive:
            _make_opaque(pikepdf, pdf)
        if not wanted.stamped:
            _forget_times(pdf)
        pdf.save(file, deterministic_id=not wanted.stamped, fix_metadata_version=False)


def _mend_spaces(pikepdf: Any, pdf: Any) -> None:
    for held in pdf.objects:
        if isinstance(held, pikepdf.Dictionary) and "/ToUnicode" in held:
            read = held.ToUnicode.read_bytes()
            held.ToUnicode.write(_LISTED.sub(lambda m: m[0].replace(b"<0009>", b"<0020>"), read))


def _name_fonts(pikepdf: Any, pdf: Any) -> None:
    """Give parts of fonts the marks that tell them apart (ISO 32000-1, 9.6.4) in the order of their names:
    the library numbers them, and what they lie in, otherwise in each process.
    """
    named = [
        (held, key, found)
        for held in pdf.objects
        if isinstance(held, pikepdf.Dictionary)
        for key in ("/FontName", "/BaseFont")
        if key in held and (found := _PART_OF_FONT.fullmatch(str(held[key])))
    ]
    order = sorted({(found[2], found[1]) for _, _, found in named})
    for held, key, found in named:
        number = order.index((found[2], found[1]))
        mark = _LETTERS[number // 26 % 26] + _LETTERS[number % 26]
        held[key] = pikepdf.Name(f"/{mark}AAAA+{found[2]}")


def _forget_times(pdf: Any) -> None:
    for key in ("/CreationDate", "/ModDate"):
        if key in pdf.docinfo:
            del pdf.docinfo[key]
    if "/Metadata" in pdf.Root:
        pdf.Root.Metadata.write(_TIMES.sub(b"", pdf.Root.Metadata.read_bytes()))


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
    width, height = (v * 72.0 / MM for v in sheet.page.size)
    top = float(page.mediabox[3])
    box = [0, round(top - height, 4), round(width, 4), top]
    page.mediabox = box
    for name in ("/TrimBox", "/CropBox"):
        if name in page.obj:
            page.obj[name] = box


def _add_viewports(pikepdf: Any, page: Any, sheet: Sheet) -> None:
    plans = [p for p in sheet.page.parts if isinstance(p, PlanPart)]
    views = [v for plan in plans if (v := _viewport(pikepdf, sheet, plan, float(page.mediabox[3])))]
    if views:
        page.obj["/VP"] = pikepdf.Array(views)


def _viewport(pikepdf: Any, sheet: Sheet, plan: PlanPart, top: float) -> Any:
    """A plan as a viewport with a geospatial measure, on a page that ends at so many points; None where the
    frame has no place.
    """
    frame = sheet.now.frame
    view, system = view_of(sheet, plan), None if frame is None else frame.system
    world = None if system is None else system.geodetic_crs
    if view is None or system is None or world is None:
        return None
    corners = [(0.0, 1.0), (0.0, 0.0), (1.0, 0.0), (1.0, 1.0)]
    ground = [view.ground(u * plan.width, v * plan.height, plan.width, plan.height) for u, v in corners]
    lon, lat = carried(system, world, *(np.array(c) for c in zip(*ground, strict=True)))
    if not (np.isfinite(lon).all() and np.isfinite(lat).all()):
        return None
    left, right = plan.x * _POINTS, plan.right * _POINTS
    upper, lower = top - plan.y * _POINTS, top - plan.bottom * _POINTS
    epsg = system.to_epsg()
    named = {"/EPSG": epsg} if epsg else {"/WKT": pikepdf.String(system.to_wkt("WKT1_ESRI"))}
    kind = pikepdf.Name("/GEOGCS" if system.is_geographic else "/PROJCS")
    places = [v for pair in zip(lat.tolist(), lon.tolist(), strict=True) for v in pair]
    measure = {
        "/Type": pikepdf.Name("/Measure"),
        "/Subtype": pikepdf.Name("/GEO"),
        "/Bounds": pikepdf.Array([0, 0, 0, 1, 1, 1, 1, 0]),
        "/GPTS": pikepdf.Array([round(v, 9) for v in places]),
        "/LPTS": pikepdf.Array([0, 0, 0, 1, 1, 1, 1, 0]),
        "/GCS": pikepdf.Dictionary({"/Type": kind, **named}),
    }
    return pikepdf.Dictionary(
        {
            "/Type": pikepdf.Name("/Viewport"),
            "/Name": pikepdf.String(plan.id),
            "/BBox": pikepdf.Array([round(v, 4) for v in (left, lower, right, upper)]),
            "/Measure": pikepdf.Dictionary(measure),
        }
    )

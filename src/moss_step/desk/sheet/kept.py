"""Parts of a page as pictures, kept while nothing that they depend on changes: moving one costs a copy."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from moss_step.desk.sheet.block import draw_now, key_of, size_of, staged
from moss_step.desk.sheet.furniture import read_picture
from moss_step.desk.sheet.ink import Ink
from moss_step.desk.sheet.painter import draw_part
from moss_step.desk.work import Work
from moss_step.model.errors import MossError, fault_text
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import PART_NAMES, AnyPart, BlockPart, Page, PlanPart

_log = logging.getLogger(__name__)
PAD = 8.0
"""Pixels around a part that its picture holds, too: lines and letters reach beyond its box."""
_MOST_KEPT, _MOST_BLOCKS = 24, 8


@dataclass(eq=False)
class Drawn:
    """A part as it was drawn last: what it depended on, its picture, and where results stand on it
    (pixels).
    """

    key: object
    image: QImage
    scale: float
    hits: list[tuple[QRectF, str]] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)


class PartPictures:
    """Draws parts of a page, or gives them as they were drawn last."""

    def __init__(self, work: Work, changed: Callable[[], object]) -> None:
        """``changed`` is called when something that was waited for has come."""
        self._work, self._changed = work, changed
        self._drawn: dict[str, Drawn] = {}
        self._kept: dict[object, object] = {}
        self._blocks: dict[object, QImage] = {}
        self._asked: set[object] = set()
        self._read: dict[str, QImage | None] = {}
        self._age, self._said = 0, object()

    @property
    def remarks(self) -> list[str]:
        """What is wrong with the page as it was drawn last."""
        return list(dict.fromkeys(r for d in self._drawn.values() for r in d.remarks))

    def held(self, part_id: str) -> Drawn | None:
        """A part as it was drawn last."""
        return self._drawn.get(part_id)

    def keep_only(self, page: Page) -> None:
        """Let go of parts that the page has no more."""
        self._drawn = {p.id: self._drawn[p.id] for p in page.parts if p.id in self._drawn}

    def age_by(self, sheet: Sheet | None) -> None:
        """See whether anything but the page changed: all parts are drawn anew then."""
        said: object = None
        if sheet is not None:
            now, study = sheet.now, sheet.now.study
            pictures = tuple(sorted((ref, id(p)) for ref, p in now.pictures.items()))
            of_study = (study.steps, study.key, study.shading, study.telling, study.name)
            of_sheet = (sheet.area, sheet.number, sheet.count, sheet.file)
            digests = tuple(sheet.digest(file) for file in study.source_files)
            said = (
                of_study,
                of_sheet,
                digests,
                pictures,
                tuple(sorted(now.said)),
                tuple(sorted(now.failures)),
            )
        if said != self._said:
            self._said = said
            self._age += 1

    def of(self, sheet: Sheet, page: Page, part: AnyPart, scale: float, ratio: float) -> Drawn:
        """A part as it is now, at pixels a millimetre; from the last time where nothing changed."""
        held = self._drawn.get(part.id)
        place = part.model_copy(update={"x": 0.0, "y": 0.0, "locked": False})
        plans = tuple(
            p.model_copy(update={"x": 0.0, "y": 0.0}) for p in page.parts if isinstance(p, PlanPart)
        )
        about = (page.name, page.author, page.date, page.paper, page.size, page.atlas)
        key = (place, plans, about, self._age, scale, ratio, self._has_block(sheet, part, scale * ratio))
        if held is not None and held.key == key:
            return held
        fresh = self._draw(replace(sheet, page=page), part, scale, ratio)
        fresh.key = key
        self._drawn[part.id] = fresh
        return fresh

    def _draw(self, sheet: Sheet, part: AnyPart, scale: float, ratio: float) -> Drawn:
        wide = round((part.width * scale + 2 * PAD) * ratio)
        high = round((part.height * scale + 2 * PAD) * ratio)
        image = QImage(max(wide, 1), max(high, 1), QImage.Format.Format_ARGB32_Premultiplied)
        image.fill(0)
        with QPainter(image) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.translate(PAD * ratio, PAD * ratio)
            painter.scale(scale * ratio, scale * ratio)
            painter.translate(-part.x, -part.y)
            ink = Ink(painter, scale * ratio, kept=self._kept, block=self._block, read=self._picture)
            try:
                draw_part(ink, sheet, part)
            except Exception as error:
                # A part that cannot be drawn must not end the window.
                _log.exception("a part of a page cannot be drawn")
                said = error.what if isinstance(error, MossError) else fault_text(error)
                ink.remark(f"{PART_NAMES[part.kind]} '{part.id}' cannot be drawn: {said}")
        if len(self._kept) > _MOST_KEPT:
            self._kept.clear()
        hits = [
            (QRectF(b.x() / ratio - PAD, b.y() / ratio - PAD, b.width() / ratio, b.height() / ratio), ref)
            for b, ref in ink.hits
        ]
        return Drawn(None, image, scale, hits, ink.remarks)

    # --- what comes later

    def _picture(self, file: str) -> QImage | None:
        """The picture of a file if it was read; it is asked for where it was not."""
        if file in self._read:
            return self._read[file]

        def take(answer: QImage | MossError | None) -> None:
            self._read[file] = answer if isinstance(answer, QImage) else None
            self._kept.pop(("picture", file), None)
            self._age += 1
            self._changed()

        self._work.files.ask(lambda: read_picture(file), take)
        return None

    def _has_block(self, sheet: Sheet, part: AnyPart, fine: float) -> bool:
        """Whether the picture of a block is there: the part is drawn anew when it comes."""
        return isinstance(part, BlockPart) and key_of(sheet, part, *size_of(part, fine)) in self._blocks

    def _block(self, sheet: Sheet, part: BlockPart, width: int, height: int) -> QImage | None:
        """The picture of a block if it was drawn; it is asked for once where it was not."""
        key = key_of(sheet, part, width, height)
        if key in self._asked or key in self._blocks:
            return self._blocks.get(key)
        self._asked.add(key)

        def draw() -> QImage | None:
            with staged() as stage:
                return draw_now(stage, sheet, part, width, height)

        def take(answer: QImage | MossError | None) -> None:
            if isinstance(answer, MossError):
                self._work.message.emit(f"The block cannot be drawn here: {answer}", True)
            elif answer is not None:
                self._take_block(key, answer)

        self._work.helper.ask(draw, take)
        return None

    def _take_block(self, key: object, image: QImage) -> None:
        if len(self._blocks) > _MOST_BLOCKS:
            self._blocks.clear()
        self._asked.discard(key)
        self._blocks[key] = image
        self._changed()

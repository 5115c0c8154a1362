"""The page as it is being made: its paper on the desk, parts that are moved and pulled by hand, with
guides.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from moss_step.desk.plain import speak
from moss_step.desk.sheet.kept import PAD, PartPictures
from moss_step.desk.work import Work
from moss_step.scene.colors import CARD, LICHEN, MOSS, MUTED, OCHRE, TRAIL
from moss_step.scene.sheet.ground import view_of
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import (
    HANDLES,
    PART_NAMES,
    AnyPart,
    Page,
    PlanPart,
    changed,
    moved_by,
    reordered,
    resized_by,
)

KEYS = (
    "Arrows move a part by 1 mm, with Shift by 10; Tab takes the next; [ and ] lower and raise it; L locks, "
    "Del removes; Ctrl+wheel over a plan changes its scale; F shows the whole page."
)
_LARGEST = 6000.0
"""Pixels of the longer side of a page that is zoomed: each part is a picture of its own."""
_SNAP, _HANDLE, _EDGE, _SHARP_AFTER = 7.0, 8.0, 18.0, 130
"""Pixels within which an edge meets a guide, of a handle, around the page; milliseconds after which a page
that was zoomed is drawn anew.
"""


@dataclass
class Pull:
    """What is being pulled: parts, or one by a handle, or the ground of a plan."""

    start: QPointF
    parts: dict[str, AnyPart]
    handle: int = -1
    ground: bool = False
    moved: bool = False


class PageView(QWidget):
    """Shows one page of the study; what is done to it is told as another page."""

    edited = Signal(object, str, bool)
    """Another page, what was done, and whether that joins the last change of these words."""
    chosen = Signal()
    """Other parts are chosen."""
    followed = Signal(str)
    """A place was clicked where a result stands; empty for none."""
    checked = Signal()
    """The remarks on the page are others."""
    line_drawn = Signal(str, object)
    """The line of a section was drawn on a plan."""

    def __init__(self, work: Work, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.work = work
        self.sheet: Sheet | None = None
        self.picked: list[str] = []
        self.scale, self.origin = 3.0, QPointF(20, 20)
        self.guides: list[tuple[bool, float]] = []
        self.drawing_line = ""
        self._shown: Page | None = None
        self._pictures = PartPictures(work, self.update)
        self._pull: Pull | None = None
        self._pan: QPointF | None = None
        self._fitted = False
        self._zoomed = QTimer(self, singleShot=True, interval=_SHARP_AFTER)
        self._zoomed.timeout.connect(self.update)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName("Page")
        speak(self, "No page.", KEYS)

    # --- what is shown

    @property
    def page(self) -> Page | None:
        """The page, with what is being pulled where it is now."""
        return self._shown

    def show_sheet(self, sheet: Sheet | None) -> None:
        """Show a page as the work is now."""
        before = self.sheet
        self.sheet = sheet
        page = None if sheet is None else sheet.page
        if self._pull is None or page is None:
            self._shown = page
        self._pictures.age_by(sheet)
        if page is not None and (before is None or before.page.size != page.size or not self._fitted):
            self.fit()
        held = [] if page is None else [p.id for p in page.parts]
        picked = [p for p in self.picked if p in held]
        if picked != self.picked:
            self.pick(picked)
        speak(self, self._words(), KEYS)
        self.update()

    def _words(self) -> str:
        page = self._shown
        if page is None:
            return "No page."
        parts = ", ".join(PART_NAMES[p.kind] for p in page.parts) or "nothing"
        chosen = ", ".join(PART_NAMES[p.kind] for p in self.parts)
        return f"Page {page.name} with {parts}.{f' Chosen: {chosen}.' if chosen else ''}"

    @property
    def parts(self) -> list[AnyPart]:
        """The parts that are chosen."""
        page = self._shown
        return [] if page is None else [p for p in page.parts if p.id in self.picked]

    def pick(self, ids: Iterable[str]) -> None:
        """Choose parts."""
        self.picked = list(dict.fromkeys(ids))
        speak(self, self._words(), KEYS)
        self.chosen.emit()
        self.update()

    @property
    def remarks(self) -> list[str]:
        """What is wrong with the page as it was drawn last."""
        return self._pictures.remarks

    def fit(self) -> None:
        """Show the whole page."""
        page = self._shown
        if page is None or self.width() < 20:
            return
        self._fitted = True
        width, height = page.size
        room = (self.width() - 2 * _EDGE) / width, (self.height() - 2 * _EDGE - 24) / height
        self.scale = max(min(room), 0.05)
        self.origin = QPointF(
            (self.width() - width * self.scale) / 2, (self.height() + 24 - height * self.scale) / 2
        )
        self.update()

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Show the page larger or smaller, what lies at a pixel staying there."""
        at = at or QPointF(self.width() / 2, self.height() / 2)
        page = self._shown
        most = _LARGEST / max(page.size) if page is not None else 1.0
        scale = min(max(self.scale * factor, 0.2), max(most, self.scale))
        self.origin = at - (at - self.origin) * (scale / self.scale)
        self.scale = scale
        self._zoomed.start()
        self.update()

    def millimetres(self, at: QPointF) -> tuple[float, float]:
        """The place of the page under a pixel."""
        return (at.x() - self.origin.x()) / self.scale, (at.y() - self.origin.y()) / self.scale

    def pixel(self, x: float, y: float) -> QPointF:
        """The pixel of a place of the page."""
        return QPointF(self.origin.x() + x * self.scale, self.origin.y() + y * self.scale)

    def box_of(self, part: AnyPart) -> QRectF:
        """Pixels of a part."""
        return QRectF(self.pixel(part.x, part.y), self.pixel(part.right, part.bottom))

    # --- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the desk, the paper, the parts, and what is chosen."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(TRAIL))
            page = self._shown
            if page is None or self.sheet is None:
                return
            width, height = page.size
            paper = QRectF(self.pixel(0, 0), self.pixel(width, height))
            painter.fillRect(paper.translated(3, 3), QColor(0, 0, 0, 40))
            painter.fillRect(paper, QColor(CARD))
            before = self.remarks
            for part in page.parts:
                self._draw_part(painter, part, page)
            self._pictures.keep_only(page)
            self._draw_margins(painter, page, paper)
            self._draw_choice(painter)
            if self.remarks != before:
                QTimer.singleShot(0, self.checked.emit)

    def _draw_part(self, painter: QPainter, part: AnyPart, page: Page) -> None:
        """Draw a part; while the page is zoomed the picture that there is, larger or smaller."""
        sheet, drawn = self.sheet, self._pictures.held(part.id)
        if sheet is not None and (drawn is None or not self._zoomed.isActive()):
            drawn = self._pictures.of(sheet, page, part, self.scale, self.devicePixelRatioF())
        if drawn is not None:
            pad = PAD * self.scale / drawn.scale
            painter.drawImage(self.box_of(part).adjusted(-pad, -pad, pad, pad), drawn.image)

    def _draw_margins(self, painter: QPainter, page: Page, paper: QRectF) -> None:
        m = page.margin * self.scale
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(0, 0, 0, 30), 1.0, Qt.PenStyle.DotLine))
        painter.drawRect(paper.adjusted(m, m, -m, -m))

    def _draw_choice(self, painter: QPainter) -> None:
        """Draw what is chosen with its handles, and the guides that it meets."""
        painter.setPen(QPen(QColor(OCHRE), 1.0, Qt.PenStyle.DashLine))
        for upright, at in self.guides:
            pixel = self.pixel(at, at)
            if upright:
                painter.drawLine(QPointF(0, pixel.y()), QPointF(self.width(), pixel.y()))
            else:
                painter.drawLine(QPointF(pixel.x(), 0), QPointF(pixel.x(), self.height()))
        parts = self.parts
        for part in parts:
            box = self.box_of(part)
            painter.setPen(QPen(QColor(MUTED if part.locked else MOSS), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box)
            if len(parts) == 1 and not part.locked:
                painter.setBrush(QColor(LICHEN))
                for u, v in HANDLES:
                    place = QPointF(box.x() + u * box.width(), box.y() + v * box.height())
                    painter.drawEllipse(place, _HANDLE / 2, _HANDLE / 2)

    # --- by hand

    def part_at(self, at: QPointF) -> AnyPart | None:
        """The uppermost part under a pixel."""
        page = self._shown
        if page is None:
            return None
        x, y = self.millimetres(at)
        return next((p for p in reversed(page.parts) if p.holds(x, y)), None)

    def ref_at(self, at: QPointF) -> str:
        """The result that stands at a pixel; empty for none."""
        part = self.part_at(at)
        drawn = None if part is None else self._pictures.held(part.id)
        if part is None or drawn is None:
            return ""
        inside = at - self.pixel(part.x, part.y)
        found = [(b.width() * b.height(), ref) for b, ref in drawn.hits if b.contains(inside) and ref]
        return min(found)[1] if found else ""

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose a part, and begin to pull it, a handle of it, or with Ctrl the ground of a plan."""
        at = event.position()
        if event.button() == Qt.MouseButton.MiddleButton:
            self._pan = at
            return
        if event.button() != Qt.MouseButton.LeftButton or self._shown is None:
            return
        if self.drawing_line:
            self._pull = Pull(at, {})
            return
        handle = self._handle_at(at)
        part = self.part_at(at)
        if handle < 0:
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and part is not None:
                more = [p for p in self.picked if p != part.id]
                self.pick(more if part.id in self.picked else [*self.picked, part.id])
            elif part is None:
                self.pick([])
            elif part.id not in self.picked:
                self.pick([part.id])
            self.followed.emit(self.ref_at(at))
        ground = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier) and isinstance(part, PlanPart)
        movable = {p.id: p for p in self.parts if not p.locked or ground}
        if movable:
            self._pull = Pull(at, movable, handle, ground)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Follow what is pulled, snapping to guides; else show what can be pulled."""
        at = event.position()
        if self._pan is not None:
            self.origin += at - self._pan
            self._pan = at
            self.update()
            return
        if self._pull is None:
            self._point(at)
            return
        if not self._pull.parts:
            return
        if not self._pull.moved and (at - self._pull.start).manhattanLength() < 4:
            return
        self._pull.moved = True
        free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        self._follow(self._pull, (at - self._pull.start) / self.scale, free)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """What was pulled stays there."""
        self._pan = None
        pull, self._pull, self.guides = self._pull, None, []
        if self.drawing_line and pull is not None:
            self._end_line(pull.start, event.position())
        elif pull is not None and pull.moved and self._shown is not None:
            words = "Move the ground" if pull.ground else "Resize" if pull.handle >= 0 else "Move"
            self.edited.emit(self._shown, f"{words} {self._named(pull.parts)}", False)
        self.update()

    def _named(self, parts: Iterable[str]) -> str:
        held = [p for p in (self._shown.parts if self._shown is not None else ()) if p.id in parts]
        return PART_NAMES[held[0].kind].lower() if len(held) == 1 else f"{len(held)} parts"

    def _follow(self, pull: Pull, by: QPointF, free: bool) -> None:
        page = self._shown
        if page is None:
            return
        self.guides, within = [], 0.0 if free else _SNAP / self.scale
        if pull.ground:
            moved = self._ground_moved(pull, by)
        elif pull.handle >= 0:
            part = next(iter(pull.parts.values()))
            resized, self.guides = resized_by(page, part, HANDLES[pull.handle], (by.x(), by.y()), within)
            moved = {part.id: resized}
        else:
            moved, self.guides = moved_by(page, list(pull.parts.values()), (by.x(), by.y()), within)
        self._shown = page.changing(moved, lambda p: moved[p.id])
        self.update()

    def _ground_moved(self, pull: Pull, by: QPointF) -> dict[str, AnyPart]:
        """A plan with its ground moved under it; its scale stays as it is shown."""
        part = next((p for p in pull.parts.values() if isinstance(p, PlanPart)), None)
        sheet = self.sheet
        if part is None or sheet is None:
            return {}
        view = view_of(sheet, part)
        if view is None:
            return {}
        middle = view.ground(part.width / 2 - by.x(), part.height / 2 - by.y(), part.width, part.height)
        return {part.id: part.model_copy(update={"centre": middle, "scale": view.scale})}

    def _end_line(self, start: QPointF, end: QPointF) -> None:
        """Tell the line of a section in the coordinates of the plan that it was drawn on."""
        section, self.drawing_line = self.drawing_line, ""
        self.unsetCursor()
        part, sheet = self.part_at(start), self.sheet
        if not isinstance(part, PlanPart) or sheet is None:
            self.work.message.emit("Draw the line of a section on a plan of the page.", True)
            return
        view = view_of(sheet, part)
        if view is None:
            return
        ends = []
        for at in (start, end):
            x, y = self.millimetres(at)
            ends.append(view.ground(x - part.x, y - part.y, part.width, part.height))
        self.line_drawn.emit(section, tuple(ends))

    def begin_line(self, section: str) -> None:
        """Let the next pull draw the line of a section."""
        self.drawing_line = section
        self.setCursor(Qt.CursorShape.CrossCursor)

    def _handle_at(self, at: QPointF) -> int:
        parts = self.parts
        if len(parts) != 1 or parts[0].locked:
            return -1
        box = self.box_of(parts[0])
        for k, (u, v) in enumerate(HANDLES):
            place = QPointF(box.x() + u * box.width(), box.y() + v * box.height())
            if (place - at).manhattanLength() <= _HANDLE:
                return k
        return -1

    def _point(self, at: QPointF) -> None:
        if self.drawing_line:
            return
        handle = self._handle_at(at)
        shapes = [Qt.CursorShape.SizeFDiagCursor, Qt.CursorShape.SizeVerCursor,
                  Qt.CursorShape.SizeBDiagCursor, Qt.CursorShape.SizeHorCursor]  # fmt: skip
        part = self.part_at(at)
        usual = Qt.CursorShape.ArrowCursor if part is None or part.locked else Qt.CursorShape.SizeAllCursor
        self.setCursor(shapes[handle % 4] if handle >= 0 else usual)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom the page; with Ctrl over a plan, change its scale."""
        turns = event.angleDelta().y() / 120.0
        part = self.part_at(event.position())
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier and isinstance(part, PlanPart):
            self.rescale(part, 1.25**-turns)
        else:
            self.zoom(1.2**turns, event.position())
        event.accept()

    def rescale(self, part: PlanPart, factor: float) -> None:
        """Give a plan another scale."""
        sheet, page = self.sheet, self._shown
        view = None if sheet is None else view_of(sheet, part)
        if view is not None and page is not None:
            scale = float(f"{view.scale * factor:.3g}")
            self.edited.emit(
                page.changing([part.id], lambda p: changed(p, scale=scale)), "Scale of the plan", True
            )

    # --- keys

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move, order, lock and remove what is chosen; Tab takes the next part."""
        if not self._key(Qt.Key(event.key()), event.modifiers()):
            super().keyPressEvent(event)

    def focusNextPrevChild(self, on: bool) -> bool:
        """Tab takes the next part; after the last one the keyboard goes on."""
        page = self._shown
        ids = [] if page is None else [p.id for p in page.parts]
        at = (
            ids.index(self.picked[-1]) if self.picked and self.picked[-1] in ids else (-1 if on else len(ids))
        )
        other = at + (1 if on else -1)
        if not 0 <= other < len(ids):
            return super().focusNextPrevChild(on)
        self.pick([ids[other]])
        return True

    def _key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier) -> bool:
        page = self._shown
        if page is None:
            return False
        ways = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, -1),
            Qt.Key.Key_Down: (0, 1),
        }
        if key in ways and self.picked:
            step = 10.0 if modifiers & Qt.KeyboardModifier.ShiftModifier else 1.0
            self.nudge(ways[key][0] * step, ways[key][1] * step)
            return True
        acts: dict[Qt.Key, Callable[[], object]] = {
            Qt.Key.Key_F: self.fit,
            Qt.Key.Key_0: self.fit,
            Qt.Key.Key_Plus: lambda: self.zoom(1.25),
            Qt.Key.Key_Equal: lambda: self.zoom(1.25),
            Qt.Key.Key_Minus: lambda: self.zoom(0.8),
        }
        if self.picked:
            acts |= {
                Qt.Key.Key_Delete: self.remove,
                Qt.Key.Key_Backspace: self.remove,
                Qt.Key.Key_BracketRight: lambda: self.order(up=True),
                Qt.Key.Key_BracketLeft: lambda: self.order(up=False),
                Qt.Key.Key_L: self.lock,
                Qt.Key.Key_D: self.duplicate,
                Qt.Key.Key_Escape: lambda: self.pick([]),
            }
        if key not in acts:
            return False
        acts[key]()
        return True

    def nudge(self, dx: float, dy: float) -> None:
        """Move what is chosen by millimetres."""
        self._change("Move", lambda p: p.model_copy(update={"x": p.x + dx, "y": p.y + dy}), join=True)

    def remove(self) -> None:
        """Take what is chosen off the page."""
        free = [p.id for p in self.parts if not p.locked]
        if self._shown is not None and free:
            self.edited.emit(self._shown.removing(free), f"Remove {self._named(free)}", False)

    def order(self, up: bool) -> None:
        """Bring what is chosen one place higher, or lower."""
        if self._shown is not None:
            self.edited.emit(reordered(self._shown, self.picked, up), "Raise" if up else "Lower", False)

    def lock(self) -> None:
        """Keep what is chosen from being moved, or let it be again."""
        page, locked = self._shown, not all(p.locked for p in self.parts)
        if page is not None:
            self.edited.emit(
                page.changing(self.picked, lambda p: p.model_copy(update={"locked": locked})),
                "Lock" if locked else "Unlock", False,
            )  # fmt: skip

    def duplicate(self) -> None:
        """Put a copy of what is chosen beside it."""
        page = self._shown
        if page is None:
            return
        fresh = []
        for part in self.parts:
            copy = part.model_copy(update={"id": page.fresh_id(part.kind), "x": part.x + 5, "y": part.y + 5})
            page = page.adding(copy)
            fresh.append(copy.id)
        self.edited.emit(page, f"Duplicate {self._named(self.picked)}", False)
        self.pick(fresh)

    def _change(self, what: str, change: Callable[[AnyPart], AnyPart], join: bool = False) -> None:
        free = [p.id for p in self.parts if not p.locked]
        if self._shown is not None and free:
            self.edited.emit(self._shown.changing(free, change), f"{what} {self._named(free)}", join)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Show the whole page in another window."""
        self.fit()

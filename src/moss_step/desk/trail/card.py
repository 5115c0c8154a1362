"""One card of the trail: thumbnail, name, main figure and state of a step."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFont,
    QFontMetricsF,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QInputDialog, QMenu, QWidget

from moss_step.desk.names import fitted
from moss_step.desk.plain import set_tip
from moss_step.desk.theme import font, pixmap
from moss_step.desk.tones import shade, tone
from moss_step.desk.trail.thumbnail import thumbnail
from moss_step.desk.work import Work
from moss_step.scene.colors import CARD, HOLLOW, INK, LICHEN, LINE, MOSS, MUTED, OCHRE
from moss_step.scene.pictures import has_place
from moss_step.study.graph import split

WIDTH, HEIGHT = 150, 96
THUMB = QRectF(8, 8, 134, 48)
_TAB = 16
"""Height of the tabs of a step that gives several results."""
_STATE_WORDS = {"done": "up to date", "waiting": "waiting", "running": "running", "failed": "failed"}


class Card(QWidget):
    """Draws a step; a click chooses it, the pin takes it into the Key or out."""

    export_wanted = Signal(str)
    record_wanted = Signal(str)
    fold_wanted = Signal(str)
    """The group whose answer the step gives is to be folded, or laid out."""

    def __init__(self, work: Work, step_id: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.work, self.step_id = work, step_id
        self.tab, self._ref_shown = "", ""
        self.branch = ""
        """What it goes on from, where that is not the card to its left."""
        self.fraction = -1.0
        self._image: QImage | None = None
        self._image_of: object = None
        self._shown: object = None
        self.setFixedSize(WIDTH, HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def refresh(self) -> None:
        """Bring picture, tooltip and accessible name up to date; a card whose step is gone stays as it is
        until the trail takes it away.
        """
        if not self.work.study.has(self.step_id):
            return
        self._follow()
        study, state, figure = self.work.study, self.work.state(self.ref), self.figure()
        name = study.name_of(self.ref)
        picture = self.work.picture(self.ref)
        ground = self.work.picture(study.shading.ground) if study.shading.ground else None
        row = study.key_row(self.ref) or study.first_row(self.ref)
        look = (
            id(picture),
            row.ramp,
            row.reverse,
            row.span,
            row.cut,
            row.low,
            row.high,
            id(ground),
            study.shading,
        )
        shown = (
            look,
            name,
            state,
            figure,
            self.in_key,
            self.work.chosen_id == self.step_id,
            self.ref,
            self.branch,
        )
        if shown == self._shown:
            return
        self._shown = shown
        behind = f", {len(self.group)} steps" if self.group else ""
        self.setAccessibleName(f"{name}, {figure}, {_STATE_WORDS[state]}{behind}")
        reason = self.work.reason(self.ref) or f"{figure} · {_STATE_WORDS[state]}"
        from_ = [f"from {self.branch}"] if self.branch else []
        set_tip(self, "\n".join([name, *from_, reason, *self.warnings()[:3]]))
        if picture is not None and look != self._image_of:
            shaded = ground.surface if ground is not None else None
            self._image = thumbnail(
                picture, row, study.shading, shaded, int(THUMB.width()), int(THUMB.height())
            )
            self._image_of = look
        elif picture is None and self.ref != self._ref_shown:
            self._image, self._image_of = None, None
        self._ref_shown = self.ref
        self.update()

    @property
    def ref(self) -> str:
        """The result that the card shows."""
        return f"{self.step_id}.{self.tab}" if self.tab else self.step_id

    @property
    def tabs(self) -> list[str]:
        """Names of the results of its step, when there are several."""
        results = list(self.work.study.step(self.step_id).declared.results)
        return results if len(results) > 1 else []

    def show_tab(self, name: str) -> None:
        """Look at another result of the step."""
        self.tab = name
        self.work.choose(self.ref)

    def _follow(self) -> None:
        """Show the result that is chosen, wherever that was done."""
        if self.work.chosen_id == self.step_id:
            self.tab = split(self.work.chosen_ref)[1]
        if self.tab and self.tab not in self.tabs:
            self.tab = ""

    def figure(self) -> str:
        """The main figure, or why there is none."""
        said = self.work.said(self.ref)
        if said is not None:
            return self.work.study.telling.figure(said.figure)
        return self.work.reason(self.ref) or _STATE_WORDS[self.work.state(self.ref)]

    def warnings(self) -> list[str]:
        """Remarks of the step's run."""
        said = self.work.said(self.ref)
        return list(said.warnings) if said else []

    @property
    def in_key(self) -> bool:
        """Whether the Key draws it."""
        row = self.work.study.key_row(self.ref)
        return row is not None and row.shown

    # --- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the card, unless its step is gone: the trail takes it away in a moment."""
        if not self.work.study.has(self.step_id):
            return
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            chosen, state = self.work.chosen_id == self.step_id, self.work.state(self.ref)
            width = 2.5 if chosen or self.hasFocus() else 1.0
            edge = shade(LICHEN if chosen else MOSS if self.hasFocus() else LINE)
            painter.setPen(QPen(edge, width))
            painter.setBrush(shade(CARD))
            painter.drawRoundedRect(
                QRectF(self.rect()).adjusted(width / 2, width / 2, -width / 2, -width / 2), 7, 7
            )
            self._paint_thumb(painter, state)
            self._paint_text(painter, state)
            if state == "running":
                self._paint_progress(painter)

    def _paint_thumb(self, painter: QPainter, state: str) -> None:
        if self._image is not None:
            painter.setOpacity(1.0 if state == "done" else 0.45)
            painter.drawImage(THUMB, self._image)
            painter.setOpacity(1.0)
        else:
            painter.fillRect(THUMB, shade(HOLLOW))
        if has_place(self.work.study, self.ref) and (self.in_key or self.underMouse()):
            spot = self._pin_spot()
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(shade(LICHEN if self.in_key else CARD))
            painter.drawEllipse(spot)
            color = INK if self.in_key else tone(INK)
            painter.drawPixmap(spot.topLeft() + QPointF(3, 3), pixmap("push-pin", color, 12))
        self._paint_tabs(painter)
        self._paint_tag(painter)

    @property
    def group(self) -> list[str]:
        """The steps of the group whose answer the step gives; none for another."""
        return self.work.study.groups.get(self.step_id, [])

    def _group_spot(self) -> QRectF:
        return QRectF(THUMB.left() + 3, THUMB.top() + 3, 58, 18)

    def _paint_tag(self, painter: QPainter) -> None:
        """Say how many steps stand behind the card, or which branch it is on."""
        face = font(11, QFont.Weight.DemiBold)
        spot, said = self._group_spot(), f"{len(self.group)} steps" if self.group else ""
        if self.branch and not said:
            said = fitted(f"from {self.branch}", QFontMetricsF(face), THUMB.width() - 38)
            spot.setWidth(QFontMetricsF(face).horizontalAdvance(said) + 10)
        if not said:
            return
        painter.setPen(QPen(shade(LINE), 1.0))
        painter.setBrush(shade(CARD))
        painter.drawRoundedRect(spot, 5, 5)
        painter.setPen(shade(INK))
        painter.setFont(face)
        painter.drawText(spot, Qt.AlignmentFlag.AlignCenter, said)

    def _tab_spots(self) -> list[QRectF]:
        """Where the tabs are, along the foot of the small picture."""
        width = THUMB.width() / max(len(self.tabs), 1)
        return [
            QRectF(THUMB.left() + i * width, THUMB.bottom() - _TAB, width, _TAB)
            for i in range(len(self.tabs))
        ]

    def _paint_tabs(self, painter: QPainter) -> None:
        results, small = self.work.study.step(self.step_id).declared.results, font(11)
        painter.setFont(small)
        for name, spot in zip(self.tabs, self._tab_spots(), strict=True):
            ground = shade(CARD)
            ground.setAlpha(255 if name == self.tab else 225)
            painter.fillRect(spot, ground)
            painter.setPen(shade(INK if name == self.tab else MUTED))
            text = QFontMetricsF(small).elidedText(
                results[name].title, Qt.TextElideMode.ElideRight, spot.width() - 6
            )
            painter.drawText(spot, Qt.AlignmentFlag.AlignCenter, text)
            if name == self.tab:
                painter.fillRect(QRectF(spot.left(), spot.top(), spot.width(), 2), QColor(LICHEN))

    def _paint_text(self, painter: QPainter, state: str) -> None:
        bold, small = font(13, QFont.Weight.DemiBold), font(12)
        elide = Qt.TextElideMode.ElideRight
        painter.setFont(bold)
        painter.setPen(shade(INK))
        name = fitted(self.work.study.name_of(self.ref), QFontMetricsF(bold), WIDTH - 20)
        painter.drawText(QRectF(10, 58, WIDTH - 20, 18), Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(small)
        painter.setPen(shade(OCHRE if state == "failed" else MUTED))
        warned = state == "done" and any("cells that exist" not in w for w in self.warnings())
        room = WIDTH - (58 if warned else 36)  # beside the marks
        figure = QFontMetricsF(small).elidedText(self.figure(), elide, room)
        painter.drawText(QRectF(10, 75, room, 16), Qt.AlignmentFlag.AlignVCenter, figure)
        mark = QPointF(WIDTH - 16, 83)
        if state == "failed":
            painter.drawPixmap(mark - QPointF(8, 8), pixmap("warning", tone(OCHRE), 15))
        elif state == "waiting":
            painter.setPen(QPen(shade(OCHRE), 1.8))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(mark, 3.4, 3.4)
        elif state == "done":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(shade(MOSS))
            painter.drawEllipse(mark, 3.8, 3.8)
            if warned:
                painter.drawPixmap(mark - QPointF(22, 7), pixmap("info", tone(MUTED), 13))

    def _paint_progress(self, painter: QPainter) -> None:
        bar = QRectF(10, HEIGHT - 7, WIDTH - 20, 3)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(shade(LINE))
        painter.drawRoundedRect(bar, 1.5, 1.5)
        painter.setBrush(shade(MOSS))
        bar.setWidth(bar.width() * min(max(self.fraction, 0.03), 1.0))
        painter.drawRoundedRect(bar, 1.5, 1.5)

    def _pin_spot(self) -> QRectF:
        return QRectF(THUMB.right() - 21, THUMB.top() + 3, 18, 18)

    # --- what a person does

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose the step, or pin it into the Key."""
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        tab = next(
            (
                n
                for n, spot in zip(self.tabs, self._tab_spots(), strict=True)
                if spot.contains(event.position())
            ),
            None,
        )
        if self.group and self._group_spot().contains(event.position()):
            self.fold_wanted.emit(self.step_id)
        elif self._pin_spot().contains(event.position()):
            self.toggle_key()
        elif tab is not None:
            self.show_tab(tab)
        else:
            self.work.choose(self.ref)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Rename."""
        self.rename()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter chooses, K pins, F2 renames, Delete removes, D duplicates, T shows the next of several
        results.
        """
        key = event.key()
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.work.choose(self.ref)
        elif key == Qt.Key.Key_K:
            self.toggle_key()
        elif key == Qt.Key.Key_F2:
            self.rename()
        elif key == Qt.Key.Key_Delete:
            self.work.remove(self.step_id)
        elif key == Qt.Key.Key_T and self.tabs:
            self.show_tab(self.tabs[(self.tabs.index(self.tab) + 1) % len(self.tabs)])
        elif key == Qt.Key.Key_D:
            self.work.duplicate(self.step_id)
        elif key == Qt.Key.Key_G and self.group:
            self.fold_wanted.emit(self.step_id)
        else:
            super().keyPressEvent(event)

    def toggle_key(self) -> None:
        """Take the result into the Key, or out of it."""
        study = self.work.study
        row = study.key_row(self.ref)
        if not has_place(study, self.ref):
            self.work.message.emit("It has no place on the plan: the table shows its curves and rows.", False)
        elif row is None:
            self.work.do(study.with_key_row(study.first_row(self.ref)), "Take into the Key")
        elif not row.shown:
            self.work.do(study.with_key_row(row.model_copy(update={"shown": True})), "Show in the Key")
        else:
            self.work.do(
                study.model_copy(update={"key": tuple(k for k in study.key if k != row)}),
                "Take out of the Key",
            )

    def rename(self) -> None:
        """Ask for a name."""
        name, given = QInputDialog.getText(
            self, "Rename", "Name of the result:", text=self.work.study.name_of(self.ref)
        )
        if given:
            self.work.rename(self.ref, name)

    def menu(self) -> QMenu:
        """All that can be done with the step."""
        menu = QMenu(self)
        for name in self.tabs:
            spec = self.work.study.step(self.step_id).declared.result(name)
            shown = menu.addAction(f"Show {spec.title.lower()}\tT", partial(self.show_tab, name))
            shown.setEnabled(name != self.tab)
        if self.tabs:
            menu.addSeparator()
        if self.group:
            menu.addAction(
                f"Fold its {len(self.group)} steps, or lay them out\tG",
                lambda: self.fold_wanted.emit(self.step_id),
            )
        menu.addAction("Change its settings", lambda: self.work.choose(self.ref))
        menu.addAction("Rename\tF2", self.rename)
        menu.addAction("Duplicate\tD", lambda: self.work.duplicate(self.step_id))
        kept = menu.addAction(
            "Take out of the Key\tK" if self.in_key else "Take into the Key\tK", self.toggle_key
        )
        kept.setEnabled(has_place(self.work.study, self.ref))
        menu.addSeparator()
        done = self.work.said(self.ref) is not None
        menu.addAction("Hand on …", lambda: self.export_wanted.emit(self.ref)).setEnabled(done)
        menu.addAction("Write its lineage …", lambda: self.record_wanted.emit(self.ref)).setEnabled(done)
        menu.addSeparator()
        after = len(self.work.study.followers(self.step_id))
        text = (
            "Remove\tDel" if not after else f"Remove with {after} that follow{'s' if after == 1 else ''}\tDel"
        )
        menu.addAction(text, lambda: self.work.remove(self.step_id))
        return menu

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Show the menu."""
        self.menu().exec(event.globalPos())

"""The plan: the ground from above, with pan, zoom, readings under the pointer, pins and drawing of boxes."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
import shapely
from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QEnterEvent,
    QFocusEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QRegion,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QWidget

from moss_step.desk.plain import speak
from moss_step.desk.plan.arrows import draw_arrows
from moss_step.desk.plan.drawing import (
    draw_marked,
    draw_pin,
    draw_pin_marks,
    draw_scale_bar,
    scale_bar_room,
    shape_color,
)
from moss_step.desk.plan.lettering import Room, Standing, standing
from moss_step.desk.plan.live import Live, draw_live
from moss_step.desk.plan.over import draw_all_shapes, write_all_names
from moss_step.desk.plan.paths import path_of
from moss_step.desk.plan.tools.divider import Divider
from moss_step.desk.plan.tools.look import LookTool
from moss_step.desk.plan.tools.tool import Tool
from moss_step.desk.work import Work
from moss_step.model.frame import Box, overlap
from moss_step.scene.camera import Camera, metres_per_unit, stretch_of
from moss_step.scene.layers import Scene, draw_grids
from moss_step.scene.readings import place_text, readings
from moss_step.scene.snapshot import Snapshot

MOST_CARDS = 60
"""Pins in view that show their readings."""
_PIN_REACH, _PIN_GAP = 400, 14
"""Pixels beyond the view that the card of a pin may reach over, and between pins of which one is drawn for
several.
"""
_FAR = 1e7
_CORNER = 10  # the rounding of cards, with room
_PAN_KEYS = {
    Qt.Key.Key_Left: (1, 0),
    Qt.Key.Key_Right: (-1, 0),
    Qt.Key.Key_Up: (0, 1),
    Qt.Key.Key_Down: (0, -1),
}


KEYS = "Arrow keys move, plus and minus zoom, F shows all."


class PlanView(QWidget):
    """Draws the scene; everything that changes goes through the work."""

    pointed = Signal(object)
    """Coordinates under the pointer, or None."""
    moved = Signal()
    """The plan shows another part of the ground, or at another size."""
    fold_wanted = Signal()
    """The Key is to be folded, or opened."""
    redrawn = Signal()
    """The scene was gathered anew."""

    def __init__(self, work: Work, parent: QWidget | None = None, leads: bool = True) -> None:
        """A plan that does not lead stands beside another one: it rests while it is not seen."""
        super().__init__(parent)
        self.work, self._leads = work, leads
        self.camera = Camera()
        self.scene = Scene()
        self.gather: Callable[[Snapshot], Scene] = lambda now: now.scene
        self.insets: Callable[[], tuple[int, int, int, int]] = lambda: (0, 0, 0, 0)
        """Pixels at the left, top, right and bottom that something lies on when all is shown."""
        self.beyond: Scene | None = None
        self.divider = Divider(self)
        self.divider.begin(self)
        self.look = LookTool(self)
        self.look.begin(self)
        self.look.pinned.connect(self.pin)
        self.tool: Tool = self.look
        self._held: Tool | None = None
        self._image: QImage | None = None
        self._beyond_image: QImage | None = None
        self._bytes: object = None
        self._fitted_frame: object = None
        self._shapes_fitted = False
        self._pointer: QPointF | None = None
        self._pin_cards: dict[int, QRectF] = {}
        self._pin_pixels = np.empty((0, 2))
        self._pins: tuple[object, np.ndarray] = (None, np.empty((0, 2)))
        self._by_keys = False
        self._drawn: object = None
        self.marked: list[QPainterPath] = []
        self.cards: tuple[QWidget, ...] = ()
        self.foot = self.scale_above = 0.0
        """Height at the lower edge that names leave to the reading."""
        self.live: Live | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName("Plan")
        speak(self, "The ground from above.", KEYS)
        work.published.connect(self.regather)

    # --- what is shown

    def regather(self) -> None:
        """Gather the scene anew and draw it."""
        if not self._leads and not self.isVisible():
            return
        now, pins = self.work.now, self.work.study.pins
        scene, beyond = self.gather(now), self._gather_beyond(now)
        drawn = (scene.looks, scene.telling, pins, None if beyond is None else beyond.looks)
        if drawn == self._drawn:
            return
        self._drawn = drawn
        self.scene, self.beyond = scene, beyond
        frame = self.work.frame
        if frame is None:
            self._fit_shapes()
        elif self._fitted_frame is None or not overlap(self.camera.box, frame.box):
            self._fitted_frame = frame
            self.fit()
        self._redraw()
        self.redrawn.emit()

    def _fit_shapes(self) -> None:
        """Show all shapes, once, where nothing else has a place."""
        self._fitted_frame = None
        self._shapes_fitted = self._shapes_fitted and bool(self.scene.layers)
        box = None if self._shapes_fitted else self._box_of_shapes()
        if box is not None:
            self._shapes_fitted = True
            self.show_camera(self._fitted(Camera(), box, 0.1))

    def _box_of_shapes(self) -> Box | None:
        """The box around all shapes that are drawn."""
        drawn = (la.picture.shapes for la in self.scene.layers)
        boxes = [p.value.box for p in drawn if p is not None and p.value.box is not None]
        if not boxes:
            return None
        west, south, east, north = zip(*boxes, strict=True)
        return min(west), min(south), max(east), max(north)

    def _gather_beyond(self, now: Snapshot) -> Scene | None:
        """What is drawn right of the divider, while there is one."""
        return now.sides[1] if self.divider.on and len(now.sides) == 2 else None

    def fit(self) -> None:
        """Show the whole ground, or all shapes where there is none."""
        frame, box = self.work.frame, self._box_of_shapes()
        if frame is None and box is not None:
            self.show_camera(self._fitted(Camera(), box, 0.1))
        if frame is not None:
            self._shapes_fitted = False
            self.show_camera(self._fitted(Camera(stretch=stretch_of(frame)), frame.box, 0.03))

    def show_box(self, box: Box) -> None:
        """Show a part of the ground."""
        self.show_camera(self._fitted(self.camera, box, 0.1))

    def _fitted(self, camera: Camera, box: Box, margin: float) -> Camera:
        """A camera that shows a box beside what lies on the plan."""
        left, top, right, bottom = self.insets()
        free = camera.sized(self.width() - left - right, self.height() - top - bottom)
        whole = free.fitted(box, margin).sized(self.width(), self.height())
        return whole.moved((left - right) / 2, (top - bottom) / 2)

    def show_place(self, x: float, y: float) -> None:
        """Move the middle of the plan to a place, near enough to see what is there."""
        frame = self.work.frame
        scale = self.camera.scale
        if frame is not None:
            scale = max(scale, 1.2 / frame.dx)
        self.show_camera(Camera(x, y, scale, self.camera.stretch, self.camera.width, self.camera.height))

    def show_camera(self, camera: Camera) -> None:
        """Show the world through another camera."""
        self.camera = camera
        self._redraw()
        self._tell_pointer()
        self.moved.emit()

    def shows_as(self, camera: Camera) -> bool:
        """Whether it shows the ground at the place and size that a camera has."""
        mine = self.camera
        return (mine.x, mine.y, mine.scale) == (camera.x, camera.y, camera.scale)

    def use(self, tool: Tool | None = None) -> None:
        """Take a tool; none lays down what is held, and looks again."""
        if tool is self.tool:
            return
        self.tool.leave()
        self._held, self.tool = None, tool or self.look
        self.tool.begin(self)
        self.setCursor(self.tool.cursor)
        self.update()

    def go_back(self) -> bool:
        """Leave what the tool does, or the tool; False when nothing but the one at rest is held."""
        if self.tool is self.look:
            return False
        if not self.tool.back():
            self.use()
        return True

    @property
    def metres_per_pixel(self) -> float:
        """Ground metres that a pixel spans in the middle."""
        frame = self.work.frame
        return (metres_per_unit(frame) if frame else 1.0) / self.camera.scale

    def render_image(self, width: int, height: int, ratio: float = 1.0) -> QImage:
        """Draw the plan, without pins and tools, at a size in pixels: for handing on."""
        camera = self.camera.sized(width, height)
        camera = Camera(
            camera.x,
            camera.y,
            self.camera.scale * width / max(self.width(), 1),
            camera.stretch,
            width,
            height,
        )
        return self.render_camera(camera, ratio)

    def render_camera(self, camera: Camera, ratio: float = 1.0, flat: bool = False) -> QImage:
        """Draw grids and shapes as a camera sees them; ``flat`` leaves out what stands upright."""
        pixels = draw_grids(self.scene, camera, ratio)
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], QImage.Format.Format_RGB32).copy()
        image.setDevicePixelRatio(ratio)
        with QPainter(image) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            draw_all_shapes(painter, camera, self.scene, self._colors(), flat)
            write_all_names(painter, camera, self.scene, Room(camera.width, camera.height), flat)
        return image

    def _redraw(self) -> None:
        if self._leads:
            self.work.in_view = self.camera.box
        self._image = self._beyond_image = None
        self.update(self._bare())

    def _bare(self) -> QRegion:
        """The part of the plan that no card lies on: cards are opaque, and drawing them anew costs more than
        the ground.
        """
        region = QRegion(self.rect())
        for card in self.cards:
            if card.isVisible():
                at = card.geometry()
                region -= QRegion(at.adjusted(_CORNER, 0, -_CORNER, 0)) + QRegion(
                    at.adjusted(0, _CORNER, 0, -_CORNER)
                )
        return region

    # --- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw grids, shapes, pins, scale bar and the box being drawn."""
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._draw_ground(painter)
            if self.live is not None:
                draw_live(painter, self.live, self.camera)
            if self.scene.shading.arrows and self.scene.ground is not None:
                draw_arrows(painter, self.scene.ground, self.camera)
            draw_marked(painter, self.marked, self.camera)
            self._draw_pins(painter)
            if self.work.frame is not None:
                bar = self.width() - 20, self.height() - 20 - self.scale_above, self.metres_per_pixel
                draw_scale_bar(painter, *bar, self.scene.telling)
            self.look.paint(painter, self.camera)
            if self.tool is not self.look:
                self.tool.paint(painter, self.camera)
            self._write_all_names(painter)
            self.tool.paint_words(painter, self.camera)
            if self._by_keys and self.hasFocus():
                painter.setPen(self.palette().highlight().color())
                painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1))

    def _draw_ground(self, painter: QPainter) -> None:
        """Draw grids and shapes; of two scenes that are compared each on its side of the divider."""
        if self._image is None:
            self._image, self._bytes = self._grids(self.scene)
        if self.beyond is None:
            painter.drawImage(0, 0, self._image)
            draw_all_shapes(painter, self.camera, self.scene, self._colors())
            return
        if self._beyond_image is None:
            self._beyond_image, self._beyond_bytes = self._grids(self.beyond)
        at = self.divider.pixel
        for scene, image, left, right in (
            (self.scene, self._image, 0, at),
            (self.beyond, self._beyond_image, at, self.width()),
        ):
            painter.setClipRect(QRectF(left, 0, right - left, self.height()))
            painter.drawImage(0, 0, image)
            draw_all_shapes(painter, self.camera, scene, self._colors())
        painter.setClipping(False)
        names = [s.layers[0].name if s.layers else "nothing" for s in (self.scene, self.beyond)]
        self.divider.draw(painter, names[0], names[1])

    def _grids(self, scene: Scene) -> tuple[QImage, object]:
        """The grids of a scene as an image, and the bytes that it reads: they must live as long."""
        ratio = self.devicePixelRatioF()
        pixels = draw_grids(scene, self.camera, ratio)
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], QImage.Format.Format_RGB32)
        image.setDevicePixelRatio(ratio)
        return image, pixels

    def _draw_pins(self, painter: QPainter) -> None:
        """Draw the pins in view: with their readings while there are few, and of many that stand together
        one.
        """
        self._pin_cards = {}
        if self._pins[0] is not self.work.study.pins:
            self._pins = self.work.study.pins, np.array(self.work.study.pins).reshape(-1, 2)
        pins = self._pins[1]
        self._pin_pixels = self.camera.pixels(pins)
        x, y = self._pin_pixels.T
        seen = np.flatnonzero(
            (x > -_PIN_REACH) & (x < self.width() + 20) & (y > -20) & (y < self.height() + 20)
        )
        few = len(seen) <= MOST_CARDS
        if not few:
            across, down = np.floor(self._pin_pixels[seen] / _PIN_GAP).astype(np.int64).T
            _, first = np.unique(across * 1_000_003 + down, return_index=True)
            seen = seen[np.sort(first)]
        for k in seen.tolist() if few else ():
            at, place = QPointF(x[k], y[k]), (float(pins[k, 0]), float(pins[k, 1]))
            rows = [*readings(self.scene, *place), *place_text(self.work.frame, *place)]
            self._pin_cards[k] = draw_pin(painter, at, k + 1, rows)
        if not few:
            draw_pin_marks(
                painter, [QPointF(x[k], y[k]) for k in seen.tolist()], [k + 1 for k in seen.tolist()]
            )

    def standing(self) -> list[Standing]:
        """Points and names of all layers, which stand upright where the ground is seen from the side."""
        colors = self._colors()
        return [
            s for layer in self.scene.layers for s in standing(layer, colors.get(layer.step, shape_color(0)))
        ]

    def _colors(self) -> dict[str, str]:
        return {step: shape_color(place) for step, place in self.work.now.shape_order.items()}

    def _write_all_names(self, painter: QPainter) -> None:
        """Write the names; of two scenes that are compared each on its side of the divider."""
        if self.beyond is None:
            write_all_names(painter, self.camera, self.scene, self._room(0.0, self.width()))
            return
        at = self.divider.pixel
        for scene, left, right in ((self.scene, 0.0, at), (self.beyond, at, self.width())):
            write_all_names(painter, self.camera, scene, self._room(left, right))

    def _room(self, left: float, right: float) -> Room:
        """Where names may stand between two sides: not under cards, on pins, their readings or the scale."""
        cards = [QRectF(card.geometry()) for card in self.cards if card.isVisible()]
        beside = [QRectF(-_FAR, -_FAR, _FAR + left, 2 * _FAR), QRectF(right, -_FAR, _FAR, 2 * _FAR)]
        foot = QRectF(0, self.height() - self.foot, self.width(), self.foot)
        scale = scale_bar_room(self.camera).translated(0, -self.scale_above)
        taken = [*beside, *cards, *self._pin_cards.values(), scale, foot]
        room = Room(self.width(), self.height(), taken)
        room.take_all(np.concatenate([self._pin_pixels - _PIN_REACH, self._pin_pixels + _PIN_REACH], axis=1))
        return room

    # --- pointer and keys

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the middle where it is; the first real size shows the whole ground."""
        first = self.camera.width <= 100
        self.camera = self.camera.sized(self.width(), self.height())
        if first:
            self.fit()
        self._redraw()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom to the pointer."""
        turns = event.angleDelta().y() / 120.0
        at = event.position()
        self.show_camera(self.camera.zoomed(1.25**turns, at.x(), at.y()))
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """The left button is the tool's; the middle one moves the ground whatever the tool."""
        if event.button() in (Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton):
            self._held = self.tool if event.button() == Qt.MouseButton.LeftButton else self.look
            if self.beyond is not None and self.divider.near(event.position()):
                self._held = self.divider
            self._held.press(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Hand the move on, and read what is under the pointer."""
        (self._held or self.tool).move(event.position(), self._held is not None)
        self._pointer = event.position()
        self._tell_pointer()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """What was held is let go."""
        held, self._held = self._held, None
        if held is not None:
            held.release(event.position(), event.button() == Qt.MouseButton.LeftButton)

    def mark(self, geometry: Iterable[shapely.Geometry] | None) -> None:
        """Mark shapes in the plan's system on top of all; None ends that."""
        self.marked = [] if geometry is None else [path_of(g) for g in geometry]
        self.update()

    def draw_again(self) -> None:
        """Draw what lies over the ground anew."""
        self.update(self._bare())

    def show_live(self, live: Live | None) -> None:
        """Draw what follows the pointer; None draws nothing."""
        if live is not None or self.live is not None:
            if live is not None and live.box is not None:
                self._keep_in_view(live.box)
            self.live = live
            self.update(self._bare())

    def _keep_in_view(self, box: Box) -> None:
        """Show what is live where nothing else has a place, with room to grow into."""
        west, south, east, north = self.camera.box
        inside = west <= box[0] and south <= box[1] and box[2] <= east and box[3] <= north
        if self.work.frame is None and not self._shapes_fitted and not inside:
            self.show_camera(self._fitted(Camera(), box, 0.4))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Hand it to the tool."""
        if event.button() == Qt.MouseButton.LeftButton:
            self.tool.double(event.position())

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer what can be done at a place."""
        menu = self.menu_at(event.pos())
        menu.exec(event.globalPos())

    def menu_at(self, at: QPoint) -> QMenu:
        """Menu of a place on the plan."""
        menu = QMenu(self)
        menu.addAction("Pin the reading here\tP", lambda: self.pin(QPointF(at)))
        near = self._pin_near(QPointF(at))
        if near is not None:
            menu.addAction(f"Remove pin {near + 1}", lambda: self.unpin(near))
        if self.work.study.pins:
            menu.addAction("Remove all pins", lambda: self._set_pins((), "Remove pins"))
        menu.addSeparator()
        menu.addAction("Show all\tF", self.fit)
        return menu

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """The tool first; then arrows move, plus and minus zoom, F shows all, P pins, B shows what steps
        back, Escape ends drawing.
        """
        if self.tool.key(event) or (self.beyond is not None and self.divider.key(event)):
            return
        key = Qt.Key(event.key())
        middle = QPointF(self.width() / 2, self.height() / 2)
        at = self._pointer or middle
        if key in _PAN_KEYS:
            dx, dy = _PAN_KEYS[key]
            self.show_camera(self.camera.moved(dx * 80, dy * 80))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.show_camera(self.camera.zoomed(1.25, at.x(), at.y()))
        elif key == Qt.Key.Key_Minus:
            self.show_camera(self.camera.zoomed(0.8, at.x(), at.y()))
        elif key in (Qt.Key.Key_F, Qt.Key.Key_0):
            self.fit()
        elif key == Qt.Key.Key_K:
            self.fold_wanted.emit()
        elif key == Qt.Key.Key_B:
            self.work.shown.show_all()
        elif key == Qt.Key.Key_P:
            self.pin(at)
        elif key == Qt.Key.Key_Escape:
            self.go_back()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Show where the keyboard is when it came by keys."""
        self._by_keys = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        super().focusInEvent(event)

    def enterEvent(self, event: QEnterEvent) -> None:
        """The pointer came in."""
        self._pointer = event.position()

    def leaveEvent(self, event: QEvent) -> None:
        """The pointer went out."""
        self._pointer = None
        self.pointed.emit(None)

    def _tell_pointer(self) -> None:
        if self._pointer is not None:
            self.pointed.emit(self.camera.world(self._pointer.x(), self._pointer.y()))

    # --- pins

    def pin(self, at: QPointF) -> None:
        """Keep the reading at a pixel on the plan."""
        if self.work.frame is not None:
            place = self.camera.world(at.x(), at.y())
            self._set_pins((*self.work.study.pins, place), "Pin a reading")

    def unpin(self, number: int) -> None:
        """Take a pin away."""
        pins = self.work.study.pins
        self._set_pins((*pins[:number], *pins[number + 1 :]), "Remove a pin")

    def _set_pins(self, pins: tuple[tuple[float, float], ...], what: str) -> None:
        self.work.do(self.work.study.model_copy(update={"pins": pins}), what)

    def _pin_near(self, at: QPointF) -> int | None:
        away = np.abs(self._pin_pixels - [at.x(), at.y()]).sum(axis=1)
        if (away < 16).any():
            return int(np.argmax(away < 16))
        return next((k for k, card in self._pin_cards.items() if card.contains(at)), None)

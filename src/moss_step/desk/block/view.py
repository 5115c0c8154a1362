"""The block view: orbit, pan and zoom over the ground, with readings under the pointer."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QHideEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QShowEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QFrame, QHBoxLayout, QSlider, QWidget

from moss_step.desk.block.eye import Extent, Eye, close_by, extent_metres, height_at, under_pixel
from moss_step.desk.block.masts import Mast, masts_of
from moss_step.desk.block.stage import REST, Ground, Patch, Stage, Was, Wish
from moss_step.desk.parts import label, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.lettering import Room, Standing, draw_standing
from moss_step.desk.plan.view import PlanView
from moss_step.desk.png import write_png
from moss_step.desk.tones import shade
from moss_step.desk.work import Work
from moss_step.formats import mesh
from moss_step.model.frame import Box
from moss_step.model.surface import Surface
from moss_step.scene.camera import Camera
from moss_step.scene.colors import DEEP, LICHEN, MUTED, OCHRE, PAPER
from moss_step.scene.corridor import clouds_of, in_space
from moss_step.scene.draped import colors_of_cells
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.pairs import Pair, pair_of, sheet_of, with_after

_TEXTURE, _NEAR_TEXTURE, _RESTS_AFTER = 2048, 1200, 220
_BOLD, _STILL = 3, 4
"""Pixels of the whole ground's picture that lie on one of the screen, about, when it is seen whole."""
_MOST_NAMES = 60
MOST_POINTS = 600_000
"""Points of clouds that are drawn at the most; of more an even choice is."""
Coordinate = TypeVar("Coordinate", float, np.ndarray)
_NARROW = 1.3
"""How much farther off the eye begins at most when the view is higher than wide."""


_FILES = "PNG (*.png);;Mesh with colours (*.glb *.ply *.obj)"


class BlockView(QWidget):
    """Shows the shaded ground with what the plan draws on it."""

    pointed = Signal(object)
    """Coordinates under the pointer, or None."""
    clicked = Signal(object)
    """A place of the ground was clicked."""

    def __init__(self, work: Work, plan: PlanView) -> None:
        super().__init__()
        self.work, self.plan = work, plan
        self.eye = Eye()
        self.exaggeration = 1.0
        self.stage = Stage(self)
        self.stage.drawn.connect(self._on_drawn)
        self.stage.failed.connect(lambda text: work.message.emit(text, True))
        self.image: QImage | None = None
        self.ground: Ground | None = None
        self._fitted: object = None
        self.pair: Pair | None = None
        self._pressed: QPointF | None = None
        self._went_down = QPointF()
        self._stale = True
        self.patch: tuple[object, Patch | None] = (None, None)
        self.standing: list[Standing] = []
        self._standing_at = np.empty((0, 3))
        self._tops: list[Mast] = []
        self.names: list[tuple[Standing, np.ndarray]] = []
        self._place: tuple[float, float] | None = None
        self._leads = False
        self.setMinimumWidth(240)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Block")
        self.setAccessibleDescription(
            "The ground in three dimensions. T top, N north, O oblique; arrows turn, plus and minus zoom."
        )
        self.rest = QTimer(self, singleShot=True, interval=_RESTS_AFTER)
        self.rest.timeout.connect(lambda: self.ask(False))
        self._bar = self._make_bar()
        plan.redrawn.connect(self.refresh)
        plan.moved.connect(self._follow_plan)

    def _make_bar(self) -> QFrame:
        bar = QFrame(self)
        bar.setProperty("role", "card")
        layout = QHBoxLayout(bar)
        layout.setContentsMargins(8, 2, 4, 2)
        self.stated = label("heights x 1", "muted")
        self._slider = QSlider(Qt.Orientation.Horizontal)
        self._slider.setRange(10, 60)
        self._slider.setValue(10)
        self._slider.setFixedWidth(90)
        self._slider.setAccessibleName("Vertical exaggeration")
        set_tip(self._slider, "How many times heights are drawn larger than distances")
        self._slider.valueChanged.connect(lambda v: self.exaggerate(v / 10.0))
        layout.addWidget(self.stated)
        layout.addWidget(self._slider)
        for picture, tip, pressed in (
            ("map-trifold", "From the top (T)", lambda: self.look("top")),
            ("caret-up", "Toward the north (N)", lambda: self.look("north")),
            ("cube", "Obliquely (O)", lambda: self.look("oblique")),
            ("image", "Hand the block on: a picture, or a mesh", self._ask_file),
        ):
            layout.addWidget(tool(picture, tip, pressed))
        self.together = tool("columns", "Move the plan and the block together", lambda: None)
        self.together.setCheckable(True)
        self.together.setChecked(True)
        layout.addWidget(self.together)
        return bar

    def fit(self) -> None:
        """Give the bar the size that it needs, once it has its style."""
        stated = self.stated.text()
        self.stated.setText("heights x 1.0")
        self.stated.setMinimumWidth(self.stated.sizeHint().width())
        self.stated.setText(stated)
        self._bar.adjustSize()

    # --- what is shown

    def refresh(self) -> None:
        """Drape anew when the view is seen; else when it is next seen."""
        self._stale = True
        if self.isVisible():
            self._build()
            self.ask(False)

    def exaggerate(self, times: float) -> None:
        """Draw heights larger than distances."""
        self.exaggeration = times
        self.stated.setText(f"heights x {times:g}")
        self._stale = True
        self._build()
        self.ask(False)

    def look(self, way: str) -> None:
        """Look from the top, toward the north, or obliquely."""
        bearing, down = {"top": (0.0, 90.0), "north": (0.0, 25.0), "oblique": (30.0, 35.0)}[way]
        self._turn(replace(self.eye, bearing=bearing, down=down))

    def _build(self) -> None:
        grid = self.grid
        if grid is None:
            self.ground = None
            return
        surface, frame = grid.value, grid.frame
        self.pair = pair = pair_of(self.work)
        heights = self._heights(grid)
        if pair is not None:
            heights = with_after(heights, surface, pair)
        heights = heights * np.float32(surface.metres_per_height * self.exaggeration)
        middle = np.float32((np.nanmin(heights) + np.nanmax(heights)) / 2.0)
        extent = extent_metres(frame)
        picture = self._picture(frame.box, extent, _TEXTURE / max(extent), _BOLD)
        base = (
            grid.base * surface.metres_per_height * self.exaggeration
        )  # masts know nothing of what the picture leaves out
        zero = float(middle) + base
        points, colors, spacing = self._points(surface, zero)
        self.ground = Ground(
            heights - middle,
            extent,
            picture,
            self._masts(surface, zero),
            points,
            colors,
            spacing,
            solid=not any(grid is drawn.picture.surface for drawn in clouds_of(self.plan.scene)),
            was=None if pair is None else self._was(pair, surface, zero),
        )
        self.middle = float(middle)
        self._set_standing(surface, self.ground)
        self._stale = False
        if self._fitted != (frame, heights.shape):
            self._fitted = (frame, heights.shape)
            self.eye = Eye(
                30.0, 35.0, 1.9 * max(extent) * min(max(1.0, self.height() / max(self.width(), 1)), _NARROW)
            )

    @property
    def grid(self) -> SurfacePicture | None:
        """The ground that is drawn; without one, the first result with heights stands for it: a surface, a
        TIN, or the highest points of a cloud.
        """
        return self.plan.scene.standing

    def _was(self, pair: Pair, surface: Surface, zero: float) -> Was:
        """The ground as it was, in the metres of the block."""
        sheet = sheet_of(pair)
        xmin, ymin, xmax, ymax = sheet.box
        west, south = self._metres(xmin, ymin, surface)
        east, north = self._metres(xmax, ymax, surface)
        heights = sheet.heights * self.exaggeration - zero
        return Was(heights.astype(np.float32), sheet.above, (west, south, east, north))

    def _points(self, surface: Surface, zero: float) -> tuple[np.ndarray, np.ndarray, float]:
        """Points of the clouds that are drawn, in the metres of the block, their colours, and the metres
        between them.
        """
        places, colors, spacing = [np.empty((0, 3))], [np.empty((0, 3), np.uint8)], 0.0
        clouds = clouds_of(self.plan.scene)
        for drawn in clouds:
            held = in_space(drawn, surface.frame, MOST_POINTS // len(clouds))
            x, y = self._metres(held.x, held.y, surface)
            places.append(np.column_stack([x, y, held.z * self.exaggeration - zero]))
            colors.append(held.colors)
            spacing = max(spacing, held.spacing)
        return np.concatenate(places), np.concatenate(colors), spacing

    @staticmethod
    def _heights(grid: SurfacePicture) -> np.ndarray:
        level = next((lv for lv in grid.levels if max(lv.shape) <= 1200), grid.levels[-1])
        return np.asarray(level, np.float32)

    def _picture(self, box: Box, extent: tuple[float, float], scale: float, bold: int = 1) -> np.ndarray:
        """What the plan draws over a box of an extent in metres, as red, green and blue bytes.

        ``scale`` is pixels a metre, ``bold`` how many times broader than on the plan lines and letters are.
        """
        width, height = (max(round(e * scale / bold), 2) for e in extent)
        xmin, ymin, xmax, ymax = box
        per_x, per_y = width / (xmax - xmin), height / (ymax - ymin)
        camera = Camera((xmin + xmax) / 2, (ymin + ymax) / 2, per_x, per_y / per_x, width, height)
        image = self.plan.render_camera(camera, float(bold), flat=True)
        pixels = np.frombuffer(image.constBits(), np.uint8).reshape(
            image.height(), image.bytesPerLine() // 4, 4
        )[:, : image.width()]
        return np.ascontiguousarray(pixels[:, :, 2::-1])

    def _near_patch(self) -> Patch | None:
        """What is seen from so near that the whole ground's picture would show its pixels, with all the
        detail there is.
        """
        grid, ground = self.grid, self.ground
        if grid is None or ground is None:
            return None
        key = (ground, self.eye, self.width(), self.height())
        if self.patch[0] == key:
            return self.patch[1]
        self.patch = (key, None)
        coarse = max(ground.extent) / _TEXTURE
        near = close_by(self.eye, (self.width(), self.height()), ground.heights, ground.extent, 0.8 * coarse)
        if near is not None:
            self.patch = (key, self._make_patch(grid, grid.value, near[0], max(near[1], coarse / 64)))
        return self.patch[1]

    def _make_patch(
        self, grid: SurfacePicture, surface: Surface, edges: Extent, pixel: float
    ) -> Patch | None:
        frame, (wide, high) = grid.frame, extent_metres(grid.frame)
        c0, c1 = (int((e / wide + 0.5) * frame.cols) for e in (edges[0], edges[2]))
        r0, r1 = (int((0.5 - e / high) * frame.rows) for e in (edges[3], edges[1]))
        level = max(0, math.ceil(math.log2(max(r1 - r0, c1 - c0, 1) / REST)))
        size = 2**level
        values = grid.levels[min(level, len(grid.levels) - 1)][
            r0 // size : r1 // size + 1, c0 // size : c1 // size + 1
        ]
        if min(values.shape) < 2 or max(values.shape) > 2 * REST:
            return None
        r0, c0 = r0 // size * size, c0 // size * size
        if self.pair is not None:
            values = with_after(values, surface, self.pair, (r0, c0), size)
        r1, c1 = r0 + values.shape[0] * size, c0 + values.shape[1] * size
        part = (
            (c0 / frame.cols - 0.5) * wide,
            (0.5 - r1 / frame.rows) * high,
            (c1 / frame.cols - 0.5) * wide,
            (0.5 - r0 / frame.rows) * high,
        )
        box = (
            frame.x0 + c0 * frame.dx,
            frame.y0 - r1 * frame.dy,
            frame.x0 + c1 * frame.dx,
            frame.y0 - r0 * frame.dy,
        )
        extent = (part[2] - part[0], part[3] - part[1])
        picture = self._picture(box, extent, min(1.0 / pixel, _NEAR_TEXTURE / max(extent)))
        heights = np.asarray(values, np.float32) * np.float32(
            surface.metres_per_height * self.exaggeration
        ) - np.float32(self.middle)
        return Patch(heights, part, picture)

    def _set_standing(self, surface: Surface, ground: Ground) -> None:
        """Tops of masts, and points and names that stand upright, with their places."""
        named = self.plan.standing()[:_MOST_NAMES]
        at = np.array([self._metres(s.at.x(), s.at.y(), surface) for s in named]).reshape(-1, 2)
        feet = np.column_stack([at, height_at(at, ground.heights, ground.extent)])
        few = len(self._tops) <= _MOST_NAMES  # the points of a line that looks around need no names
        tops = [Standing(m.name, QPointF(m.x, m.y), OCHRE, "round", 3.5) for m in self._tops] if few else []
        self.standing, self._standing_at = (
            [*tops, *named],
            np.concatenate([ground.masts[: len(tops), [0, 1, 3]], feet]),
        )

    def _masts(self, surface: Surface, middle: float) -> np.ndarray:
        """Rows of x, y, foot and top of the masts, in the metres of the block."""
        self._tops = masts_of(self.work, {layer.step for layer in self.plan.scene.layers}, surface)
        rows = np.array(
            [(*self._metres(m.x, m.y, surface), m.foot, m.top) for m in self._tops], np.float64
        ).reshape(-1, 4)
        rows[:, 2:] = rows[:, 2:] * self.exaggeration - middle
        return rows

    @staticmethod
    def _metres(x: Coordinate, y: Coordinate, surface: Surface) -> tuple[Coordinate, Coordinate]:
        frame, (wide, high) = surface.frame, extent_metres(surface.frame)
        return ((x - frame.x0) / (frame.dx * frame.cols) - 0.5) * wide, (
            0.5 - (frame.y0 - y) / (frame.dy * frame.rows)
        ) * high

    def ask(self, moving: bool) -> None:
        if self.ground is not None and self.isVisible() and self.width() > 10:
            self.stage.wish(
                Wish(
                    self.ground,
                    self.eye,
                    self.width(),
                    self.height(),
                    moving,
                    None if moving else self._near_patch(),
                )
            )

    def _turn(self, eye: Eye) -> None:
        self.eye = eye
        self.ask(True)
        self.rest.start()

    def _on_drawn(self, image: QImage, wish: Wish) -> None:
        self.image = image
        size = np.array([wish.width, wish.height])
        self.names = (
            [(self.standing[k], at / size) for k, at in self._in_view(self._standing_at, wish)]
            if wish.ground is self.ground
            else []
        )
        self.update()

    def _in_view(self, places: np.ndarray, wish: Wish) -> list[tuple[int, np.ndarray]]:
        """Numbers and pixels of the places that a picture shows and no ground stands before, the nearest
        first.
        """
        pixels, result = wish.eye.pixels(places, wish.width, wish.height), []
        for k in np.argsort(pixels[:, 2]):
            px, py, depth = pixels[k]
            if (
                depth <= 0
                or not np.isfinite(places[k, 2])
                or not (0 <= px < wish.width and 0 <= py < wish.height)
            ):
                continue
            before = under_pixel(
                wish.eye, (px, py), (wish.width, wish.height), wish.ground.heights, wish.ground.extent
            )
            if (
                before is None
                or (before - wish.eye.position) @ wish.eye.ahead > depth - 0.02 * wish.eye.distance
            ):
                result.append((int(k), pixels[k, :2]))
        return result

    def mark_place(self, place: tuple[float, float] | None) -> None:
        """Mark what is pointed at on the plan."""
        if place != self._place:
            self._place = place
            if self.isVisible():
                self.update()

    # --- moving with the plan

    def _follow_plan(self) -> None:
        """Look at the middle of the plan, from where the view is as wide."""
        grid = self.grid
        if (
            self._leads
            or grid is None
            or self.ground is None
            or not self.isVisible()
            or not self.together.isChecked()
        ):
            return
        camera, (wide, high) = self.plan.camera, self.ground.extent
        x, y = ((camera.x - grid.frame.x0) / (grid.frame.dx * grid.frame.cols) - 0.5) * wide, 0.0
        y = (0.5 - (grid.frame.y0 - camera.y) / (grid.frame.dy * grid.frame.rows)) * high
        z = float(height_at(np.array([[x, y]]), self.ground.heights, self.ground.extent)[0])
        across = camera.width / camera.scale * wide / (grid.frame.dx * grid.frame.cols)
        distance = across / self.eye.metres_per_pixel(1.0, self.height()) / self.width()
        self._turn(replace(self.eye, x=x, y=y, z=z if math.isfinite(z) else self.eye.z, distance=distance))

    def _lead_plan(self) -> None:
        """Let the plan show what the block looks at, at the same width."""
        grid = self.grid
        if grid is None or self.ground is None or not self.together.isChecked():
            return
        frame, (wide, high) = grid.frame, self.ground.extent
        x = frame.x0 + (self.eye.x / wide + 0.5) * frame.dx * frame.cols
        y = frame.y0 - (0.5 - self.eye.y / high) * frame.dy * frame.rows
        across = self.eye.metres_per_pixel(self.eye.distance, self.height()) * self.width()
        camera = self.plan.camera
        self._leads = True
        self.plan.show_camera(
            replace(camera, x=x, y=y, scale=camera.width * wide / (across * frame.dx * frame.cols))
        )
        self._leads = False

    def place_at(self, at: QPointF) -> tuple[float, float] | None:
        """Coordinates of the ground under a pixel, or None."""
        grid = self.grid
        if self.ground is None or grid is None:
            return None
        result = under_pixel(
            self.eye, (at.x(), at.y()), (self.width(), self.height()), self.ground.heights, self.ground.extent
        )
        if result is None:
            return None
        frame, (wide, high) = grid.frame, self.ground.extent
        return frame.x0 + (result[0] / wide + 0.5) * frame.dx * frame.cols, frame.y0 - (
            0.5 - result[1] / high
        ) * frame.dy * frame.rows

    # --- events

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the last picture."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), shade(PAPER))
            if self.image is not None:
                painter.drawImage(self.rect(), self.image)
                self._paint_standing(painter)
            else:
                painter.setPen(shade(MUTED))
                text = (
                    "Drawing the block …"
                    if self.ground is not None
                    else "Open an elevation grid to see its block"
                )
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_standing(self, painter: QPainter) -> None:
        """Draw marks and names upright, and the place that the plan points at."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        # A picture of another size is stretched until the next one is there.
        seen = [
            (result, QPointF(across * self.width(), down * self.height()))
            for result, (across, down) in self.names
        ]
        taken = [
            QRectF(self._bar.geometry()),
            *(
                QRectF(at.x() - s.reach, at.y() - s.reach, 2 * s.reach, 2 * s.reach)
                for s, at in seen
                if s.mark
            ),
        ]
        room = Room(self.width(), self.height(), taken)
        for result, at in seen:
            draw_standing(painter, result, at, room)
        grid = self.grid
        if self._place is None or self.ground is None or grid is None:
            return
        spot = np.array([self._metres(*self._place, grid.value)])
        foot = np.column_stack([spot, height_at(spot, self.ground.heights, self.ground.extent)])
        for _, (px, py) in self._in_view(
            foot, Wish(self.ground, self.eye, self.width(), self.height(), moving=False)
        ):
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for color, width in ((DEEP, 5.0), (LICHEN, 2.6)):
                painter.setPen(QPen(QColor(color), width))
                painter.drawEllipse(QPointF(px, py), 8, 5)

    def showEvent(self, event: QShowEvent) -> None:
        """Drape what the plan shows now."""
        super().showEvent(event)
        if self._stale:
            self._build()
        self.ask(False)

    def hideEvent(self, event: QHideEvent) -> None:
        """Nothing is pointed at any more."""
        super().hideEvent(event)
        self.pointed.emit(None)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Draw at the new size."""
        self._bar.move(12, 12)
        self.ask(False)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin to orbit, or to pan with the right or middle button."""
        self._pressed = self._went_down = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Orbit, pan, or read what is under the pointer."""
        at = event.position()
        if self._pressed is None:
            self.pointed.emit(self.place_at(at))
            return
        step, self._pressed = at - self._pressed, at
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._turn(self.eye.turned(-step.x() * 0.4, step.y() * 0.3))
        else:
            self._turn(self.eye.moved(step.x(), step.y(), self.height()))
            self._lead_plan()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go; where the button went down, that is a click."""
        still = (event.position() - self._went_down).manhattanLength() <= _STILL
        self._pressed = None
        place = self.place_at(event.position()) if still else None
        if place is not None:
            self.clicked.emit(place)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom to the pointer."""
        at = event.position()
        place = None
        if self.ground is not None:
            place = under_pixel(
                self.eye,
                (at.x(), at.y()),
                (self.width(), self.height()),
                self.ground.heights,
                self.ground.extent,
            )
        self._turn(self.eye.nearer(1.2 ** (event.angleDelta().y() / 120.0), place))
        self._lead_plan()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """T top, N north, O oblique; arrows turn, plus and minus zoom."""
        ways = {Qt.Key.Key_T: "top", Qt.Key.Key_N: "north", Qt.Key.Key_O: "oblique"}
        turns = {
            Qt.Key.Key_Left: (10, 0),
            Qt.Key.Key_Right: (-10, 0),
            Qt.Key.Key_Up: (0, 5),
            Qt.Key.Key_Down: (0, -5),
        }
        key = Qt.Key(event.key())
        if key in ways:
            self.look(ways[key])
        elif key in turns:
            self._turn(self.eye.turned(*turns[key]))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self._turn(self.eye.nearer(0.8 if key == Qt.Key.Key_Minus else 1.25, None))
            self._lead_plan()
        else:
            super().keyPressEvent(event)

    # --- handing on

    def _ask_file(self) -> None:
        path = self.work.folder.ask_save(self, "Hand the block on", "block.png", _FILES, ".png")
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the picture as PNG, or the ground with what lies on it as a mesh, whole or not at all."""
        image, grid = self.image, self.grid
        if path.suffix.lower() in mesh.ENDINGS and grid is not None:
            scene, surface, name = self.plan.scene, grid.value, self.work.study.name
            self.work.write(
                lambda: mesh.write_mesh(path, surface, name, colors=colors_of_cells(scene, surface.frame)),
                path,
            )
            return
        if image is None:
            self.work.message.emit("There is no picture yet.", True)
            return
        self.work.write(lambda: write_png(image, path), path)

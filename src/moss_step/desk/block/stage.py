"""Drawing the block with VTK in a thread of its own: the newest wish is drawn, and the window never waits."""

from __future__ import annotations

import logging
import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from moss_step.desk.block.eye import VIEW_ANGLE, Eye
from moss_step.desk.theme import OCHRE, PAPER

_log = logging.getLogger(__name__)
REST, MOVING = 560, 280
"""Points on the longer side of the ground: some 320,000 and 80,000 triangles."""


@dataclass(frozen=True, eq=False)
class Ground:
    """Heights in metres (exaggerated), the extent in metres, the picture that lies on it, masts and points.

    ``masts`` are rows of x, y, foot, top; ``points`` rows of x, y, z with ``colors`` of red, green, blue bytes.
    """

    heights: np.ndarray
    extent: tuple[float, float]
    picture: np.ndarray
    masts: np.ndarray = field(default_factory=lambda: np.empty((0, 4)))
    points: np.ndarray = field(default_factory=lambda: np.empty((0, 3)))
    colors: np.ndarray = field(default_factory=lambda: np.empty((0, 3), np.uint8))


@dataclass(frozen=True)
class Wish:
    """A picture that is wanted."""

    ground: Ground
    eye: Eye
    width: int
    height: int
    moving: bool


class Stage(QObject):
    """Draws wishes off screen."""

    drawn = Signal(object, object)
    """A picture, and the wish it answers."""
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1)
        self._lock = threading.Lock()
        self._next: Wish | None = None
        self._busy = False
        self._plotter: Any = None
        self._first = True
        self._shown: Ground | None = None
        self._actors: dict[bool, list[Any]] = {}

    @property
    def busy(self) -> bool:
        """Whether something is being drawn."""
        return self._busy

    def wish(self, wish: Wish) -> None:
        """Ask for a picture; it replaces what waits."""
        with self._lock:
            self._next = wish
            if not self._busy:
                self._busy = True
                self._pool.submit(self._work)

    def close(self) -> None:
        """End the thread; what it drew with is let go in it."""
        with self._lock:
            self._next = None
        self._pool.submit(self._let_go)
        self._pool.shutdown(wait=True)

    def _let_go(self) -> None:
        if self._plotter is not None:
            self._plotter.close()
            self._plotter = None

    def _work(self) -> None:
        while True:
            with self._lock:
                wish, self._next = self._next, None
                if wish is None:
                    self._busy = False
                    return
            try:
                image = self._draw(wish)
            except Exception as error:
                _log.exception("the block could not be drawn")
                self.failed.emit(f"The block cannot be drawn here: {error}")
            else:
                self.drawn.emit(image, wish)

    def _draw(self, wish: Wish) -> QImage:
        import pyvista  # slow to load, and only needed here

        if self._plotter is None:
            self._plotter = pyvista.Plotter(off_screen=True, lighting="none")
            self._plotter.ren_win.SetMultiSamples(0)
            self._plotter.set_background(PAPER)
        plotter = self._plotter
        if self._shown is not wish.ground:
            plotter.clear_actors()
            self._actors, self._shown = {}, wish.ground
        if wish.moving not in self._actors:
            self._actors[wish.moving] = self._build(plotter, pyvista, wish.ground, MOVING if wish.moving else REST)
        for moving, actors in self._actors.items():
            for actor in actors:
                actor.SetVisibility(moving == wish.moving)
        if tuple(plotter.window_size) != (wish.width, wish.height):
            plotter.window_size = [wish.width, wish.height]
        camera, eye = plotter.camera, wish.eye
        camera.position, camera.focal_point, camera.up = eye.position, (eye.x, eye.y, eye.z), eye.upward
        camera.view_angle = VIEW_ANGLE
        reach = float(np.hypot(*wish.ground.extent))
        camera.clipping_range = (max(eye.distance - reach, eye.distance * 0.01), eye.distance + 2 * reach)
        if self._first:
            picture = plotter.screenshot(return_img=True)  # a plotter must be shown once before it can render by itself
            self._first = False
        else:
            plotter.render()
            picture = plotter.image
        pixels = np.ascontiguousarray(picture[:, :, :3])
        return QImage(pixels.data, pixels.shape[1], pixels.shape[0], 3 * pixels.shape[1], QImage.Format.Format_RGB888).copy()

    def _build(self, plotter: Any, pyvista: Any, ground: Ground, most: int) -> list[Any]:
        step = max(1, int(np.ceil(max(ground.heights.shape) / most)))
        z = ground.heights[::step, ::step]
        rows, cols = ground.heights.shape
        r, c = np.arange(0, rows, step), np.arange(0, cols, step)
        x = (c / max(cols - 1, 1) - 0.5) * ground.extent[0]
        y = (0.5 - r / max(rows - 1, 1)) * ground.extent[1]
        gx, gy = np.meshgrid(x, y)
        mesh = pyvista.StructuredGrid(gx, gy, np.nan_to_num(z, nan=float(np.nanmin(z))))
        u, v = np.meshgrid(c / max(cols - 1, 1), 1.0 - r / max(rows - 1, 1))
        mesh.active_texture_coordinates = np.stack([u.ravel(order="F"), v.ravel(order="F")], axis=1)
        if np.isnan(z).any():
            mesh = mesh.extract_points(~np.isnan(z.ravel(order="F")), adjacent_cells=False)
        made = [plotter.add_mesh(mesh, texture=pyvista.Texture(ground.picture), lighting=False, reset_camera=False)]
        if len(ground.masts):
            ends = np.concatenate([ground.masts[:, [0, 1, 2]], ground.masts[:, [0, 1, 3]]], axis=1).reshape(-1, 3)
            lines = pyvista.line_segments_from_points(ends)
            made.append(plotter.add_mesh(lines, color=OCHRE, line_width=4, lighting=False, reset_camera=False))
        if len(ground.points):
            cloud = pyvista.PolyData(ground.points)
            cloud["color"] = ground.colors
            made.append(plotter.add_mesh(cloud, scalars="color", rgb=True, point_size=3, lighting=False, reset_camera=False))
        return made

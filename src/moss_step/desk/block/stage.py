"""Drawing the block with VTK in a thread of its own: the newest wish is drawn, and the window never waits."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QImage

from moss_step.desk.block.eye import VIEW_ANGLE, Extent, Eye
from moss_step.desk.tones import tone
from moss_step.desk.worker import NewestWins
from moss_step.scene.colors import OCHRE, PAPER, WATER

REST = 560
"""Points on the longer side of the ground at rest: some 320,000 triangles."""
MOVING = (280, 200, 140)
"""The same while it moves, for machines that are fast and less fast: some 130,000, 60,000 and 30,000
triangles.
"""
POINTS_MOVING = (200_000, 100_000, 50_000)
"""Points of clouds that are drawn while the ground moves."""
_CLOSING, _DOTS = 1.3, (1.5, 24.0)
"""How much larger than the way between them points are drawn, and the least and most pixels of one."""
_THROUGH = 0.5
"""How dense the ground as it was is drawn."""
_MOST_FINE = 2_000_000
"""Pixels of the largest picture that is drawn finer than it is shown."""
_TOO_LONG, _TOO_SHORT = 1 / 15, 1 / 40
"""Seconds of a frame while it moves after which the next is coarser, or finer."""


@dataclass(frozen=True, eq=False)
class Was:
    """The ground as it was: heights in metres (exaggerated; NaN where it still is), how far each lies above
    what it became, and edges in metres.
    """

    heights: np.ndarray
    above: np.ndarray
    edges: Extent


@dataclass(frozen=True, eq=False)
class Ground:
    """Heights in metres (exaggerated), the extent in metres, the picture that lies on it, masts and points.

    ``masts`` are rows of x, y, foot, top; ``points`` rows of x, y, z with ``colors`` of red, green, blue
    bytes, about ``spacing`` metres apart. Without ``solid`` the heights are read, and no sheet is drawn.
    What ``was`` there before is seen through.
    """

    heights: np.ndarray
    extent: tuple[float, float]
    picture: np.ndarray
    masts: np.ndarray = field(default_factory=lambda: np.empty((0, 4)))
    points: np.ndarray = field(default_factory=lambda: np.empty((0, 3)))
    colors: np.ndarray = field(default_factory=lambda: np.empty((0, 3), np.uint8))
    spacing: float = 1.0
    solid: bool = True
    was: Was | None = None


@dataclass(frozen=True, eq=False)
class Patch:
    """A part of a ground that is seen from near, with all the detail there is: heights, edges in metres,
    picture.
    """

    heights: np.ndarray
    edges: Extent
    picture: np.ndarray


@dataclass(frozen=True)
class Wish:
    """A picture that is wanted."""

    ground: Ground
    eye: Eye
    width: int
    height: int
    moving: bool
    patch: Patch | None = None

    @property
    def fine(self) -> int:
        """Pixels a side that are drawn for one of the picture: at rest thin lines then stay whole, and edges
        are smooth.
        """
        return 1 if self.moving or self.width * self.height > _MOST_FINE else 2


class Stage(QObject):
    """Draws wishes off screen."""

    drawn = Signal(object, object)
    """A picture, and the wish it answers."""
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._worker: NewestWins[Wish] = NewestWins(self._answer, self._failed)
        self._plotter: Any = None
        self._first = True
        self._shown: Ground | None = None
        self._patch: Patch | None = None
        self._actors: dict[tuple[str, int], list[Any]] = {}
        self._dots: dict[int, tuple[Any, float]] = {}
        self._pace = 0

    @property
    def busy(self) -> bool:
        """Whether something is being drawn."""
        return self._worker.busy

    @property
    def moving_points(self) -> int:
        """Points on the longer side of the ground while it moves, as the frames so far allow."""
        return MOVING[self._pace]

    def wish(self, wish: Wish) -> None:
        """Ask for a picture; it replaces what waits."""
        self._worker.wish(wish)

    def close(self) -> None:
        """End the thread; what it drew with is let go in it."""
        self._worker.close(self.let_go)

    def let_go(self) -> None:
        """Let go of what it drew with, in the thread that drew."""
        if self._plotter is not None:
            self._plotter.close()
            self._plotter = None

    def _answer(self, wish: Wish) -> None:
        self.drawn.emit(self.draw(wish), wish)

    def _failed(self, wish: Wish, error: BaseException) -> None:
        self.failed.emit(f"The block cannot be drawn here: {error}")

    def draw(self, wish: Wish) -> QImage:
        """Draw in this thread, which must be the only one that does; a frame that moves learns from how long
        the last one took.
        """
        image, new, took = self._draw(wish)
        if wish.moving and not new:
            self._pace += (took > _TOO_LONG) - (took < _TOO_SHORT)
            self._pace = min(max(self._pace, 0), len(MOVING) - 1)
        return image

    def _draw(self, wish: Wish) -> tuple[QImage, bool, float]:
        """Give the picture, whether something was built for it, and the seconds it took."""
        import pyvista  # slow to load, and only needed here
        import pyvista.plotting  # else a thread that comes while another one loads it finds half of it

        start = time.perf_counter()
        if self._plotter is None:
            self._plotter = pyvista.Plotter(off_screen=True, lighting="none")
            self._plotter.ren_win.SetMultiSamples(0)
            self._plotter.set_background(tone(PAPER))
        plotter = self._plotter
        new = self._set_scene(plotter, pyvista, wish)
        self._size_dots(wish)
        size = [wish.fine * wish.width, wish.fine * wish.height]
        if list(plotter.window_size) != size:
            plotter.window_size = size
        camera, eye = plotter.camera, wish.eye
        camera.position, camera.focal_point, camera.up = eye.position, (eye.x, eye.y, eye.z), eye.upward
        camera.view_angle = VIEW_ANGLE
        reach = float(np.hypot(*wish.ground.extent))
        camera.clipping_range = (max(eye.distance - reach, eye.distance * 0.01), eye.distance + 2 * reach)
        if self._first:
            picture = plotter.screenshot(
                return_img=True
            )  # a plotter must be shown once before it can render by itself
            self._first = False
        else:
            plotter.render()
            picture = plotter.image
        pixels = np.ascontiguousarray(picture[:, :, :3])
        drawn = QImage(
            pixels.data, pixels.shape[1], pixels.shape[0], 3 * pixels.shape[1], QImage.Format.Format_RGB888
        )
        image = (
            drawn.scaled(wish.width, wish.height, mode=Qt.TransformationMode.SmoothTransformation)
            if wish.fine > 1
            else drawn.copy()
        )
        return image, new, time.perf_counter() - start

    def _set_scene(self, plotter: Any, pyvista: Any, wish: Wish) -> bool:
        """Show the ground coarsely while it moves, finely at rest, and most finely where it is near; tell
        whether that was built anew.
        """
        if self._shown is not wish.ground:
            plotter.clear_actors()
            self._actors, self._dots, self._shown = {}, {}, wish.ground
        if self._patch is not wish.patch:
            for actor in self._actors.pop(("near", REST), []):
                plotter.remove_actor(actor, reset_camera=False, render=False)
            self._patch = wish.patch
        most = self.moving_points if wish.moving else REST
        wanted = ("moving" if wish.moving else "near" if wish.patch is not None else "rest", most)
        new = wanted not in self._actors
        if new:
            self._actors[wanted] = self._build(plotter, pyvista, wish, most)
        for name, actors in self._actors.items():
            for actor in actors:
                actor.SetVisibility(name == wanted)
        return new

    def _build(self, plotter: Any, pyvista: Any, wish: Wish, most: int) -> list[Any]:
        ground, patch, fine = wish.ground, wish.patch, wish.fine
        wide, high = ground.extent
        sheets = [
            (
                ground.heights,
                (-wide / 2, -high / 2, wide / 2, high / 2),
                ground.picture,
                None if patch is None else patch.edges,
            )
        ]
        if patch is not None:
            sheets.append((patch.heights, patch.edges, patch.picture, None))
        result = []
        for heights, edges, picture, hole in sheets if ground.solid else ():
            mesh = _mesh(pyvista, heights, edges, most, hole)
            if mesh.n_cells:
                result.append(
                    plotter.add_mesh(
                        mesh, texture=pyvista.Texture(picture), lighting=False, reset_camera=False
                    )
                )
        if ground.was is not None:
            result += _seen_through(plotter, pyvista, ground.was)
        if len(ground.masts):
            ends = np.concatenate([ground.masts[:, [0, 1, 2]], ground.masts[:, [0, 1, 3]]], axis=1).reshape(
                -1, 3
            )
            lines = pyvista.line_segments_from_points(ends)
            result.append(
                plotter.add_mesh(lines, color=OCHRE, line_width=4 * fine, lighting=False, reset_camera=False)
            )
        if len(ground.points):
            step = 1 if not wish.moving else max(1, round(len(ground.points) / POINTS_MOVING[self._pace]))
            cloud = pyvista.PolyData(ground.points[::step].astype(np.float32))
            cloud["color"] = ground.colors[::step]
            actor = plotter.add_mesh(
                cloud, scalars="color", rgb=True, point_size=3 * fine, lighting=False, reset_camera=False
            )
            self._dots[id(actor)] = (actor, ground.spacing * step**0.5)
            result.append(actor)
        return result

    def _size_dots(self, wish: Wish) -> None:
        """Draw points so large that they close the gaps between them, seen from where the eye is."""
        metres = wish.eye.metres_per_pixel(wish.eye.distance, wish.height) / wish.fine
        for actor, spacing in self._dots.values():
            size = min(max(_CLOSING * spacing / metres, _DOTS[0]), _DOTS[1])
            actor.GetProperty().SetPointSize(size)


def _seen_through(plotter: Any, pyvista: Any, was: Was) -> list[Any]:
    """The ground as it was: ochre above what it became, blue-green below."""
    actors = []
    for side, color in ((was.above > 0, OCHRE), (was.above < 0, WATER)):
        mesh = _mesh(pyvista, np.where(side, was.heights, np.nan), was.edges, REST, None)
        if mesh.n_cells:
            actors.append(
                plotter.add_mesh(mesh, color=color, opacity=_THROUGH, lighting=False, reset_camera=False)
            )
    return actors


def _mesh(pyvista: Any, heights: np.ndarray, edges: Extent, most: int, hole: Extent | None) -> Any:
    """A sheet of at most so many points a side, each in the middle of its cell, without what lies in a
    hole.
    """
    step = max(1, int(np.ceil(max(heights.shape) / most)))
    z = heights[::step, ::step]
    (rows, cols), (west, south, east, north) = heights.shape, edges
    u, v = (np.arange(0, cols, step) + 0.5) / cols, (np.arange(0, rows, step) + 0.5) / rows
    gx, gy = np.meshgrid(west + u * (east - west), north - v * (north - south))
    shown = ~np.isnan(z)
    if hole is not None:
        # A cell of the coarse sheet stays beneath the rim of the fine one, so that no gap shows between them.
        across, down = step * (east - west) / cols, step * (north - south) / rows
        shown &= ~(
            (gx > hole[0] + across) & (gx < hole[2] - across) & (gy > hole[1] + down) & (gy < hole[3] - down)
        )
    mesh = pyvista.StructuredGrid(
        gx, gy, np.nan_to_num(z, nan=float(np.nanmin(z)) if not np.isnan(z).all() else 0.0)
    )
    gu, gv = np.meshgrid(u, 1.0 - v)
    mesh.active_texture_coordinates = np.stack([gu.ravel(order="F"), gv.ravel(order="F")], axis=1)
    return mesh if shown.all() else mesh.extract_points(shown.ravel(order="F"), adjacent_cells=False)

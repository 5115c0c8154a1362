"""The ground on a page: what a plan draws, at which scale, and the net over it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from pyproj import CRS

from moss_step.model.frame import Box, Frame, carried
from moss_step.scene.camera import Camera
from moss_step.scene.layers import Layer, Scene
from moss_step.scene.rounding import round_below
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.graph import KeyRow
from moss_step.study.pages import PlanPart

_FITS = 0.02
_NET_MM = 35.0
"""Millimetres between lines of a net, about, where no step is given."""
_NEAR = 1.25
"""By how much a round step may be larger than what is wanted."""
_POINTS = 60


@dataclass(frozen=True)
class View:
    """How a plan lies on paper: its middle in the plan's coordinates, metres of the ground in a unit of x
    and of y there, the scale, and degrees it is turned clockwise.
    """

    x: float
    y: float
    metres: tuple[float, float]
    scale: float
    turned: float

    def camera(self, width: float, height: float, pixel: float) -> Camera:
        """A camera for a picture of a size in millimetres, with pixels of a size in millimetres; its middle
        is that of the picture however the size rounds.
        """
        across, down = width / pixel, height / pixel
        scale = self.metres[0] / self.scale * 1000.0 / pixel
        stretch = self.metres[1] / self.metres[0]
        wide, high = math.ceil(across - 1e-9), math.ceil(down - 1e-9)
        x = self.x + (wide - across) / 2.0 / scale
        y = self.y - (high - down) / 2.0 / (scale * stretch)
        return Camera(x, y, scale, stretch, max(wide, 1), max(high, 1))

    def reach(self, width: float, height: float) -> tuple[float, float]:
        """Width and height in millimetres of the upright picture that a turned one is cut from."""
        a = math.radians(self.turned)
        c, s = abs(math.cos(a)), abs(math.sin(a))
        return width * c + height * s, width * s + height * c

    def box(self, width: float, height: float) -> Box:
        """What of the ground a plan of a size in millimetres shows at most."""
        return self.camera(*self.reach(width, height), 1.0).box

    def place(self, x: float, y: float, width: float, height: float) -> tuple[float, float]:
        """Millimetres from the upper left corner of a plan of a size, of a place of the ground."""
        a = math.radians(self.turned)
        east = (x - self.x) * self.metres[0] / self.scale * 1000.0
        north = (y - self.y) * self.metres[1] / self.scale * 1000.0
        across = east * math.cos(a) + north * math.sin(a)
        down = east * math.sin(a) - north * math.cos(a)
        return width / 2 + across, height / 2 + down

    def ground(self, across: float, down: float, width: float, height: float) -> tuple[float, float]:
        """The place of the ground at millimetres from the upper left corner of a plan of a size."""
        a, right, below = math.radians(self.turned), across - width / 2, down - height / 2
        east = right * math.cos(a) + below * math.sin(a)
        north = right * math.sin(a) - below * math.cos(a)
        k = self.scale / 1000.0
        return self.x + east * k / self.metres[0], self.y + north * k / self.metres[1]


def metres_at(frame: Frame | None, x: float, y: float) -> tuple[float, float]:
    """Metres of the ground in a unit of x and in one of y, at a place of a frame."""
    if frame is None:
        return 1.0, 1.0
    cell = replace(frame, rows=1, cols=1, x0=x - frame.dx / 2, y0=y + frame.dy / 2)
    width, height = cell.cell_metres
    return width / frame.dx, height / frame.dy


def rows_of(sheet: Sheet, results: tuple[str, ...]) -> list[KeyRow]:
    """Rows of the Key that a part draws with: of the results that it names, or all that the Key shows."""
    study = sheet.now.study
    if not results:
        return [row for row in study.key if row.shown]
    named = [study.key_row(ref) or study.first_row(ref) for ref in results if study.has(ref)]
    return [row.model_copy(update={"shown": True}) for row in named]


def scene_for(sheet: Sheet, results: tuple[str, ...], shading: bool = True) -> Scene:
    """What a part draws of the study as it is now."""
    now = sheet.now
    layers, undrawn = [], []
    for row in rows_of(sheet, results):
        picture = now.picture(row.step)
        if picture is None or not picture.on_plan:
            if picture is None:
                failed = now.failures.get(row.step)
                undrawn.append(
                    (row.step, f"it failed: {failed.on_screen.rstrip('.')}" if failed else "not worked out")
                )
            continue
        placed, reason = picture.placed(now.frame)
        if reason:
            undrawn.append((row.step, reason))
        else:
            layers.append(Layer(row.step, now.study.name_of(row.step), placed, row))
    undrawn += [(ref, "removed from the study") for ref in results if not now.study.has(ref)]
    ground = now.picture(now.study.shading.ground) if shading and now.study.shading.ground else None
    surface = ground.surface if ground is not None else None
    return Scene(tuple(layers), surface, now.study.shading, tuple(undrawn), now.study.telling)


def whole_box(sheet: Sheet, scene: Scene) -> Box | None:
    """All of the ground that a scene draws: its grids, or its shapes where there are none."""
    boxes = [f.box for la in scene.layers if (f := la.picture.frame) is not None]
    if scene.ground is not None and scene.ground.frame is not None:
        boxes.append(scene.ground.frame.box)
    if not boxes:
        drawn = [la.picture.shapes for la in scene.layers]
        boxes = [b for s in drawn if s is not None and (b := s.value.box) is not None]
    if not boxes:
        return None if sheet.now.frame is None else sheet.now.frame.box
    west, south, east, north = zip(*boxes, strict=True)
    return min(west), min(south), max(east), max(north)


def plan_scene(sheet: Sheet, plan: PlanPart) -> Scene:
    """What a plan draws of the study as it is now."""
    return scene_for(sheet, plan.results, plan.shading)


def view_of(sheet: Sheet, part: PlanPart, scene: Scene | None = None) -> View | None:
    """How a plan lies on its page, of the scene that it draws; None where there is nothing to show. On a page
    of an atlas it shows the area.
    """
    box, margin = whole_box(sheet, plan_scene(sheet, part) if scene is None else scene), _FITS
    if sheet.area is not None:
        box, margin = sheet.area.box, sheet.page.atlas.margin if sheet.page.atlas is not None else 0.0
    if box is None:
        return None
    x, y = (box[0] + box[2]) / 2, (box[1] + box[3]) / 2
    if part.centre is not None and sheet.area is None:
        x, y = part.centre
    metres = metres_at(sheet.now.frame, x, y)
    turned = View(x, y, metres, 1.0, part.turned)
    scale = part.scale or _fitting(turned, box, part.width, part.height, margin)
    return replace(turned, scale=scale)


def _fitting(view: View, box: Box, width: float, height: float, margin: float) -> float:
    """The scale, a round one, at which a box with a margin fits."""
    corners = [(box[i], box[j]) for i in (0, 2) for j in (1, 3)]
    places = np.array([view.place(x, y, 0.0, 0.0) for x, y in corners])
    wide, high = np.abs(places).max(axis=0) * 2.0 * (1.0 + margin)
    return round_scale(max(wide / width, high / height, 1e-3))


def round_scale(least: float) -> float:
    """The least round scale that is not larger than one on paper: 1, 1.25, 1.5, 2, 2.5, 3, 4, 5, 7.5 times
    a power of ten.
    """
    power = 10.0 ** math.floor(math.log10(least))
    steps = (1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 7.5, 10.0)
    return next(s * power for s in steps if s * power >= least * (1 - 1e-9))


@dataclass(frozen=True)
class NetLine:
    """A line of a net over a plan: its points in the plan's coordinates, what it says, and whether it runs
    up.
    """

    xy: np.ndarray
    text: str
    upright: bool


def net_of(part: PlanPart, view: View, frame: Frame | None) -> list[NetLine]:
    """Lines of the metric grid, or of meridians and parallels, over a plan; none where the frame has none."""
    if part.net == "none" or frame is None or (part.net == "degrees" and frame.system is None):
        return []
    box = view.box(part.width, part.height)
    if part.net == "metres" and not frame.geographic:
        unit = frame.metres_per_unit
        step = (
            part.net_step / unit
            if part.net_step
            else round_below(_NEAR * _NET_MM * view.scale / 1000.0 / unit)
        )
        return _straight(box, step, (partial(_metric, step),) * 2)
    if frame.geographic:
        if frame.degrees_per_unit != 1.0:
            return []
        step = part.net_step or _degree_step(_NET_MM * view.scale / 1000.0 / view.metres[0])
        return _straight(box, step, (partial(degrees_text, sides="EW"), partial(degrees_text, sides="NS")))
    return [] if frame.system is None else _graticule(part, view, box, frame.system)


def _degree_step(wanted: float) -> float:
    """Degrees, minutes or seconds that are round."""
    for unit in (1.0, 1 / 60, 1 / 3600):
        steps = [k * unit for k in (1, 2, 5, 10, 15, 20, 30) if k * unit <= _NEAR * wanted]
        if steps:
            return steps[-1]
    return round_below(_NEAR * wanted * 3600) / 3600


def _marks(low: float, high: float, step: float) -> list[float]:
    """Multiples of a step from low to high; none where there would be hundreds."""
    first, last = math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9)
    return [k * step for k in range(first, last + 1)] if last - first < 400 else []


def _metric(step: float, value: float) -> str:
    digits = max(-math.floor(math.log10(step) + 1e-9), 0)
    return f"{value:,.{digits}f}".replace(",", " ")


def _straight(
    box: Box, step: float, say: tuple[Callable[[float], str], Callable[[float], str]]
) -> list[NetLine]:
    west, south, east, north = box
    upright = [NetLine(np.array([(v, south), (v, north)]), say[0](v), True) for v in _marks(west, east, step)]
    level = [NetLine(np.array([(west, v), (east, v)]), say[1](v), False) for v in _marks(south, north, step)]
    return upright + level


def _graticule(part: PlanPart, view: View, box: Box, system: CRS) -> list[NetLine]:
    """Meridians and parallels over a projected plan, each as a curve."""
    world = system.geodetic_crs
    if world is None:
        return []
    west, south, east, north = box
    along = np.linspace(0.0, 1.0, _POINTS)
    x = np.concatenate([west + along * (east - west)] * 2 + [np.full(_POINTS, west), np.full(_POINTS, east)])
    y = np.concatenate(
        [np.full(_POINTS, south), np.full(_POINTS, north)] + [south + along * (north - south)] * 2
    )
    lon, lat = carried(system, world, x, y)
    if not (np.isfinite(lon).all() and np.isfinite(lat).all()):
        return []
    if not (np.ptp(lon) > 0 and np.ptp(lat) > 0):
        return []
    span = float(np.ptp(lon)) * _NET_MM * view.scale / 1000.0 / ((east - west) * view.metres[0])
    step = part.net_step or _degree_step(span)
    lines = []
    for upright, low, high, ends in (
        (True, lon.min(), lon.max(), (lat.min(), lat.max())),
        (False, lat.min(), lat.max(), (lon.min(), lon.max())),
    ):
        other = np.linspace(*ends, _POINTS)
        for v in _marks(float(low), float(high), step):
            same = np.full(_POINTS, v)
            xy = np.column_stack(carried(world, system, *((same, other) if upright else (other, same))))
            if np.isfinite(xy).all():
                lines.append(NetLine(xy, degrees_text(v, "EW" if upright else "NS"), upright))
    return lines


def degrees_text(value: float, sides: str) -> str:
    """Degrees, minutes and seconds with a side, as much of them as there is."""
    seconds = round(abs(value) * 3600 * 100) / 100
    degrees, rest = divmod(seconds, 3600)
    minutes, rest = divmod(rest, 60)
    text = f"{degrees:.0f}°"
    if minutes or rest:
        text += f"{minutes:02.0f}′"
    if rest:
        text += f"{rest:02.0f}″" if rest == int(rest) else f"{rest:05.2f}″"
    side = sides[0] if value > 0 else sides[1] if value < 0 else ""
    return f"{text} {side}".strip()

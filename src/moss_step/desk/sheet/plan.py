"""The plan on a page: grids as a picture, everything else as lines and letters, at its true scale."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import shapely
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath, QPolygonF, QTransform

from moss_step.desk.plan.drawing import shape_color
from moss_step.desk.plan.lettering import Room
from moss_step.desk.plan.over import draw_all_shapes, write_all_names
from moss_step.desk.plan.paths import path_of
from moss_step.desk.sheet.ink import LEFT, MIDDLE, Ink
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CARD, DEEP, INK, OCHRE
from moss_step.scene.layers import Scene, draw_grids
from moss_step.scene.sheet.ground import NetLine, View, net_of, plan_scene, scene_for, view_of
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.pages import OverviewPart, PlanPart

_MOST_PIXELS = 40_000_000
"""Pixels of one picture of a plan; a larger one is drawn in bands."""
_NET_SIZE, _TICK = 6.0, 1.2


def draw_plan(ink: Ink, sheet: Sheet, part: PlanPart) -> None:
    """Draw a plan, its upper left corner at the painter's origin."""
    scene = plan_scene(sheet, part)
    for ref, reason in scene.undrawn:
        name = sheet.now.study.name_of(ref) if sheet.now.study.has(ref) else ref
        ink.remark(f"The plan does not show '{name}': {reason}.")
    view = view_of(sheet, part, scene)
    box = QRectF(0, 0, part.width, part.height)
    if view is None or not (scene.layers or scene.ground):
        ink.remark("A plan of the page shows nothing.")
        ink.note("Nothing to draw here yet", box)
        return
    ink.hit(0, 0, part.width, part.height, scene.layers[0].step if scene.layers else "")
    wide, high = view.reach(part.width, part.height)
    camera = view.camera(wide, high, part.fine)
    painter = ink.painter
    painter.save()
    painter.setClipRect(box, Qt.ClipOperation.IntersectClip)
    painter.translate(part.width / 2, part.height / 2)
    painter.rotate(part.turned)
    painter.translate(-wide / 2, -high / 2)
    for band, top in _bands(camera, ink.fine * part.fine):
        _draw_ground(ink, scene, band, part.fine, top)
    painter.scale(part.fine, part.fine)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    colors = {ref: shape_color(place) for ref, place in sheet.now.shape_order.items()}
    draw_all_shapes(painter, camera, scene, colors)
    if sheet.area is not None and sheet.page.atlas is not None and sheet.page.atlas.marked:
        _mark_area(painter, sheet.area.geometry, camera)
    write_all_names(painter, camera, scene, Room(camera.width, camera.height))
    painter.restore()
    _draw_net(ink, part, view, net_of(part, view, sheet.now.frame))


def _bands(camera: Camera, ratio: float) -> Iterable[tuple[Camera, float]]:
    """The camera in bands of rows, each with the pixel of the whole where it begins: a picture for a large
    sheet of paper would not fit in memory at once.
    """
    rows = max(int(_MOST_PIXELS / max(camera.width * ratio * ratio, 1.0)), 64)
    for first in range(0, camera.height, rows):
        height = min(rows, camera.height - first)
        middle = camera.world(camera.width / 2, first + height / 2)
        yield (
            Camera(middle[0], middle[1], camera.scale, camera.stretch, camera.width, height),
            float(first),
        )


def _draw_ground(ink: Ink, scene: Scene, camera: Camera, fine: float, top: float) -> None:
    """Draw the grids of a scene as a picture, or take the one that was drawn last time."""
    ratio = ink.fine * fine
    key = ("plan", scene.looks, camera, round(ratio, 6))
    image = _kept_image(ink, key)
    if image is None:
        pixels = draw_grids(scene, camera, ratio, CARD)
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], QImage.Format.Format_RGB32).copy()
        ink.kept[key] = image
    place = QRectF(0, top * fine, image.width() / ink.fine, image.height() / ink.fine)
    ink.painter.drawImage(place, image)


def _kept_image(ink: Ink, key: object) -> QImage | None:
    found = ink.kept.get(key)
    return found if isinstance(found, QImage) else None


def _mark_area(painter: QPainter, geometry: shapely.Geometry, camera: Camera) -> None:
    """Mark the area that a page of an atlas is of."""
    scale = camera.scale
    way = QTransform(
        scale, 0, 0, -scale * camera.stretch, -camera.left * scale, camera.top * scale * camera.stretch
    )
    path: QPainterPath = way.map(path_of(geometry))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for color, width in ((_shining(CARD, 190), 6.0), (QColor(DEEP), 2.6)):
        painter.setPen(Ink.pen(width, color))
        painter.drawPath(path)


def _shining(color: str, alpha: int) -> QColor:
    """A colour that lets what lies below shine through."""
    result = QColor(color)
    result.setAlpha(alpha)
    return result


def _draw_net(ink: Ink, part: PlanPart, view: View, lines: list[NetLine]) -> None:
    """Draw a net over a plan, and write beside its edges what its lines are."""
    painter, box = ink.painter, QRectF(0, 0, part.width, part.height)
    for line in lines:
        places = np.array([view.place(x, y, part.width, part.height) for x, y in line.xy])
        painter.save()
        painter.setClipRect(box, Qt.ClipOperation.IntersectClip)
        painter.setPen(ink.pen(0.1, _shining(INK, 96)))
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in places.tolist()]))
        painter.restore()
        _write_net(ink, part, places, line)


def _write_net(ink: Ink, part: PlanPart, places: np.ndarray, line: NetLine) -> None:
    """Write what a line is where it leaves the plan: below it, or at its left."""
    path = shapely.LineString(places)
    edge = (
        shapely.LineString([(0, part.height), (part.width, part.height)])
        if line.upright
        else shapely.LineString([(0, 0), (0, part.height)])
    )
    met = shapely.get_parts(path.intersection(edge))
    at = [g for g in met if g.geom_type == "Point"]
    if not at:
        return
    x, y = at[0].x, at[0].y
    if line.upright:
        ink.line(x, y, x, y - _TICK, 0.2)
        ink.haloed(line.text, x, y - _TICK - 0.8, _NET_SIZE, MIDDLE)
    else:
        ink.line(x, y, x + _TICK, y, 0.2)
        ink.haloed(line.text, x + _TICK + 0.8, y + 0.7, _NET_SIZE, LEFT)


def draw_overview(ink: Ink, sheet: Sheet, part: OverviewPart) -> None:
    """Draw all of the ground, small, with the box that a plan shows."""
    plan = sheet.page.plan(part.plan)
    scene = scene_for(sheet, plan.results if plan is not None else (), True)
    whole = PlanPart(id="overview", width=part.width, height=part.height, fine=0.35)
    still = Sheet(sheet.now, sheet.page)
    view = view_of(still, whole, scene)
    if view is None or plan is None:
        ink.note("An overview needs a plan", QRectF(0, 0, part.width, part.height))
        return
    grids = Scene(tuple(la for la in scene.layers if la.picture.frame), scene.ground, scene.shading)
    camera = view.camera(part.width, part.height, whole.fine)
    with ink.within(QRectF(0, 0, part.width, part.height)) as painter:
        _draw_ground(ink, grids, camera, whole.fine, 0.0)
        shown = view_of(sheet, plan, scene)
        if shown is None:
            return
        corners = [(0.0, 0.0), (plan.width, 0.0), (plan.width, plan.height), (0.0, plan.height)]
        ground = [shown.ground(x, y, plan.width, plan.height) for x, y in corners]
        outline = QPolygonF([QPointF(*view.place(x, y, part.width, part.height)) for x, y in ground])
        painter.setPen(ink.pen(0.5, OCHRE))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(outline)

"""The values under a place of the plan, in words."""

from __future__ import annotations

from dataclasses import dataclass

import shapely

from moss_step.model.class_map import ClassMap
from moss_step.model.frame import Frame
from moss_step.model.rules import Region
from moss_step.model.surface import Surface
from moss_step.model.units import Unit
from moss_step.scene.layers import Layer, Scene
from moss_step.scene.pictures import GridPicture, ShapesPicture


@dataclass(frozen=True)
class Reading:
    """One value at a place: what it is of, and its text with unit."""

    name: str
    text: str


def readings(scene: Scene, x: float, y: float) -> list[Reading]:
    """Read every grid and area shown at a place, the shaded ground last when it is not shown itself."""
    found = [r for layer in scene.layers if (r := _read(layer, x, y)) is not None]
    shown = any(layer.picture is scene.ground for layer in scene.layers)
    if scene.ground is not None and not shown:
        found.append(Reading("Ground", grid_text(scene.ground, x, y)))
    return found


def place_text(frame: Frame | None, x: float, y: float) -> list[Reading]:
    """Say coordinates: east and north, or longitude and latitude."""
    if frame is not None and frame.geographic:
        return [Reading("Lon", f"{x:.6f}°"), Reading("Lat", f"{y:.6f}°")]
    return [Reading("E", f"{x:,.1f}".replace(",", " ")), Reading("N", f"{y:,.1f}".replace(",", " "))]


def value_text(value: float, unit: Unit, quantity: str = "") -> str:
    """Say a value with its unit; a flat aspect reads "flat"."""
    if value != value:
        return "no data"
    if quantity == "aspect":
        return "flat" if value < 0 else f"{value:.0f}° {_compass(value)}"
    if quantity == "seen":
        return f"{value:.0f}"
    digits = 2 if unit.kind in ("length", "none", "unknown") else 1
    gap = "" if unit.symbol in ("°", "%", "") else " "
    return f"{value:.{digits}f}{gap}{unit.symbol}".rstrip("?").rstrip()


def grid_text(grid: GridPicture, x: float, y: float) -> str:
    """Say what a grid holds at a place."""
    cell = grid.frame.cell_at(x, y)
    value = grid.value
    if cell is None:
        return "outside"
    if isinstance(value, ClassMap):
        entry = value.entry(int(value.codes[cell]))
        return entry.name if entry else "no class"
    return value_text(float(value.values[cell]), value.unit, value.quantity)


def _read(layer: Layer, x: float, y: float) -> Reading | None:
    picture = layer.picture
    if isinstance(picture, ShapesPicture):
        if picture.value.kind != "areas":
            return None
        hits = picture.tree.query(shapely.Point(x, y), predicate="intersects")
        names = picture.value.names()
        text = ", ".join(names[i] or f"area {i + 1}" for i in hits[:2])
        return Reading(layer.name, text) if text else None
    if layer.ranges is not None and isinstance(picture.value, Surface):
        return Reading(layer.name, _class_text(layer, picture, picture.value, x, y))
    return Reading(layer.name, grid_text(picture, x, y))


def _class_text(layer: Layer, picture: GridPicture, surface: Surface, x: float, y: float) -> str:
    cell = picture.frame.cell_at(x, y)
    if cell is None or layer.ranges is None:
        return "outside"
    value = float(surface.values[cell])
    if value != value:
        return "no data"
    held = layer.ranges.holders(Region(value, value))
    return held[0].name if held else "no class"


def _compass(bearing: float) -> str:
    return ("N", "NE", "E", "SE", "S", "SW", "W", "NW")[round(bearing / 45.0) % 8]

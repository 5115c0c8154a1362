"""The values under a place of the plan, in words."""

from __future__ import annotations

from dataclasses import dataclass

from moss_step.model.frame import Frame
from moss_step.scene.layers import Scene


@dataclass(frozen=True)
class Reading:
    """One value at a place: what it is of, and its text with unit."""

    name: str
    text: str


def readings(scene: Scene, x: float, y: float) -> list[Reading]:
    """Read every result shown at a place, the shaded ground last when it is not shown itself."""
    result = [
        Reading(layer.name, text)
        for layer in scene.layers
        if (text := layer.picture.text_at(x, y, layer.ranges, scene.telling))
    ]
    shown = any(layer.picture is scene.ground for layer in scene.layers)
    if scene.ground is not None and not shown:
        result.append(Reading("Ground", scene.ground.text_at(x, y, None, scene.telling)))
    return result


def place_text(frame: Frame | None, x: float, y: float) -> list[Reading]:
    """Say coordinates: east and north, or longitude and latitude."""
    if frame is not None and frame.geographic:
        return [Reading("Lon", f"{x:.6f}°"), Reading("Lat", f"{y:.6f}°")]
    return [Reading("E", f"{x:,.1f}".replace(",", " ")), Reading("N", f"{y:,.1f}".replace(",", " "))]

"""What is drawn on the plan, from the Key and the step being made, and drawing the grids of it."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from moss_step.formats.vector import in_system
from moss_step.model.class_map import ClassMap
from moss_step.model.frame import Box, Frame
from moss_step.model.rules import RuleSet
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.scene.camera import Camera, overlap
from moss_step.scene.colors import GROUND
from moss_step.scene.paint import paint_classes, paint_ranges, paint_surface, shade_picture
from moss_step.scene.pictures import LEAST, GridPicture, Picture, ShapesPicture, TablePicture
from moss_step.scene.ramps import ramp, usual_ramp
from moss_step.science.relief.gradient import gradient_weights, light_vector
from moss_step.steps.classes import ClassifySettings, rule_set
from moss_step.study.draft import DRAFT, Draft
from moss_step.study.graph import KeyRow, Shading, Study

_FLAT_COLOR = (201, 199, 188)
_BACKGROUND = "#EDEADF"


@dataclass(frozen=True)
class Layer:
    """One result on the plan with its row of the Key; ``ranges`` colours a surface by class bounds being dragged."""

    step: str
    name: str
    picture: GridPicture | ShapesPicture
    row: KeyRow
    ranges: RuleSet | None = None


@dataclass(frozen=True)
class Scene:
    """All that is drawn: layers from top to bottom, the shaded ground, and what could not be drawn and why."""

    layers: tuple[Layer, ...] = ()
    ground: GridPicture | None = None
    shading: Shading = field(default_factory=Shading)
    undrawn: tuple[tuple[str, str], ...] = ()

    @property
    def looks(self) -> tuple[object, ...]:
        """All that the picture depends on: two scenes that are equal in it look the same."""
        drawn = tuple((la.step, la.name, la.picture, la.row, la.ranges) for la in self.layers)
        return drawn, self.ground, self.shading, self.undrawn


class Shown(Protocol):
    """A study as it is now: its steps, the one being made, what is chosen, and the pictures that are there."""

    @property
    def study(self) -> Study:
        """The study."""

    @property
    def study_with_draft(self) -> Study:
        """The study with the step being made."""

    @property
    def draft(self) -> Draft | None:
        """The step being made."""

    @property
    def chosen_id(self) -> str:
        """Id of the chosen step."""

    @property
    def frame(self) -> Frame | None:
        """Frame of the plan."""

    def picture(self, step_id: str) -> Picture | None:
        """Picture of a result, when it is there."""


def scene_of(work: Shown) -> Scene:
    """Gather what the plan draws now."""
    study = work.study
    rows = [(k, k.step) for k in study.key if k.shown]
    front = work.draft.replaces if work.draft is not None else work.chosen_id
    if front or work.draft is not None:
        # What is being looked at or made is drawn over the rest, or it could not be seen.
        rows = [(k, s) for k, s in rows if s != front]
        shown = DRAFT if work.draft is not None else front
        first = work.study_with_draft.first_row(shown).model_copy(update={"step": front})
        rows.insert(0, (study.key_row(front) or first, shown))
    layers, undrawn = [], []
    for row, step_id in rows:
        layer = _layer(work, row, step_id)
        if layer is None:
            continue
        reason = _elsewhere(work, layer.picture)
        if reason:
            undrawn.append((step_id, reason))
        else:
            layers.append(layer)
    ground = work.picture(study.shading.ground) if study.shading.ground else None
    return Scene(tuple(layers), ground if isinstance(ground, GridPicture) else None, study.shading, tuple(undrawn))


def _layer(work: Shown, row: KeyRow, step_id: str) -> Layer | None:
    study = work.study_with_draft
    if step_id == DRAFT and work.draft is not None:
        replaced = work.draft.replaces
        name = study.name_of(replaced or DRAFT)
        live = _live_ranges(work)
        if live is not None:
            return Layer(DRAFT, name, live[0], row, live[1])
    else:
        name = study.name_of(step_id)
    picture = work.picture(step_id)
    if isinstance(picture, ShapesPicture) and work.frame is not None:
        picture = _carried_over(picture, work.frame.crs)
    if picture is None or isinstance(picture, TablePicture):
        return None
    return Layer(step_id, name, picture, row)


@dataclass(frozen=True, eq=False)
class _CarriedOver:
    """Shapes in the reference system of the plan, kept with those that they were made from."""

    picture: ShapesPicture
    crs: str | None

    @property
    def nbytes(self) -> int:
        return self.picture.nbytes + self.picture.value.nbytes


def _carried_over(picture: ShapesPicture, crs: str | None) -> ShapesPicture:
    kept = picture.value.derived.ready(_CarriedOver)
    if kept is not None and kept.crs == crs:
        return kept.picture
    moved = in_system(picture.value, crs)
    if moved is picture.value:
        return picture
    made = _CarriedOver(ShapesPicture(moved), crs)
    picture.value.derived.put(made)
    return made.picture


def _live_ranges(work: Shown) -> tuple[GridPicture, RuleSet] | None:
    """The surface and the ranges of a class table that is being made: drawn without running anything."""
    draft = work.draft
    if draft is None or draft.step.kind != "classify":
        return None
    settings = draft.step.declared.checked(draft.step.settings)
    picture = work.picture(draft.step.inputs["surface"])
    if not isinstance(settings, ClassifySettings) or isinstance(settings.rules, str):
        return None
    return (picture, rule_set(settings.rules, settings.closed)) if isinstance(picture, GridPicture) else None


def _elsewhere(work: Shown, picture: GridPicture | ShapesPicture) -> str:
    frame = work.frame
    if isinstance(picture, ShapesPicture) or frame is None or frame.system is None or picture.frame.crs is None:
        return ""
    same = picture.frame.crs == frame.crs or picture.frame.system == frame.system
    return "" if same else "in another reference system; reproject it to draw it here"


def span_of(layer: Layer) -> tuple[float, float]:
    """Lowest and highest value of a surface's ramp, by the Key's range control."""
    picture = as_kind(layer.picture, GridPicture)
    return surface_span(picture, as_kind(picture.value, Surface), layer.row)


def surface_span(picture: GridPicture, surface: Surface, row: KeyRow) -> tuple[float, float]:
    """Lowest and highest value of a ramp over a surface; their logarithms where the picture holds logarithms."""
    low, high = surface.range or (0.0, 1.0)
    if surface.cyclic:
        return 0.0, 360.0
    if row.span == "cut" and picture.bins is not None:
        low, high = picture.bins.quantile(row.cut / 100.0), picture.bins.quantile(1.0 - row.cut / 100.0)
    elif row.span == "typed":
        low = low if row.low is None else row.low
        high = high if row.high is None else row.high
    if picture.logarithmic:
        low, high = (math.log10(max(v, LEAST)) for v in (low, high))
    return low, high if high > low else low + 1.0


def draw_grids(scene: Scene, camera: Camera, ratio: float) -> np.ndarray:
    """Draw all grids with shading: uint32 pixels 0xAARRGGBB of shape (height, width), opaque."""
    picture = np.full((round(camera.height * ratio), round(camera.width * ratio)), _pixel(_BACKGROUND), np.uint32)
    if scene.ground is not None:
        rows, cols, _ = _cells(scene.ground, camera, ratio)
        inside_y, inside_x = np.flatnonzero(rows >= 0), np.flatnonzero(cols >= 0)
        if inside_y.size and inside_x.size:
            picture[inside_y[0] : inside_y[-1] + 1, inside_x[0] : inside_x[-1] + 1] = _pixel(GROUND)
    for layer in reversed(_visible_grids(scene, camera)):
        draw_layer(layer, camera, ratio, picture)
    if scene.ground is not None and scene.shading.on:
        _shade(scene.ground, scene.shading, camera, ratio, picture)
    return picture


def _visible_grids(scene: Scene, camera: Camera) -> list[Layer]:
    """The grids in view, from the top down to one that hides all others."""
    view = camera.box
    grids = [(la, la.picture) for la in scene.layers if isinstance(la.picture, GridPicture)]
    grids = [(la, p) for la, p in grids if overlap(p.frame.box, view)]
    found: list[Layer] = []
    for i, (layer, picture) in enumerate(grids):
        found.append(layer)
        value = picture.value
        whole = isinstance(value, Surface) and value.valid_count == value.values.size and layer.ranges is None and not layer.row.clear_zero
        if whole and layer.row.opacity == 1.0 and all(_holds(picture.frame.box, p.frame.box) for _, p in grids[i + 1 :]):
            break
    return found


def _holds(outer: Box, inner: Box) -> bool:
    return outer[0] <= inner[0] and outer[1] <= inner[1] and outer[2] >= inner[2] and outer[3] >= inner[3]


def draw_layer(layer: Layer, camera: Camera, ratio: float, picture: np.ndarray) -> None:
    """Blend one grid into a picture."""
    grid = as_kind(layer.picture, GridPicture)
    rows, cols, level = _cells(grid, camera, ratio)
    values, strength = grid.levels[level], np.uint32(round(layer.row.opacity * 256))
    if layer.ranges is not None:
        colors, drawn = _class_colors({r.code: r.color for r in layer.ranges.rules})
        bounds = (np.array(layer.ranges.bounds) - grid.base).astype(np.float32)
        paint_ranges(values, rows, cols, bounds, layer.ranges.lookup(), colors, drawn, strength, picture)
    elif isinstance(grid.value, ClassMap):
        colors, drawn = _class_colors({c.code: c.color for c in grid.value.classes})
        paint_classes(values, rows, cols, colors, drawn, strength, picture)
    else:
        low, high = span_of(layer)
        colors, below = surface_colors(grid.value, layer.row)
        scale, clear = np.float32(255.999 / (high - low)), np.float32(-grid.base if layer.row.clear_zero else np.nan)
        paint_surface(values, rows, cols, _packed(colors), below, np.float32(low - grid.base), scale, strength, clear, picture)


def surface_colors(surface: Surface, row: KeyRow) -> tuple[np.ndarray, int]:
    """Colours of a surface's ramp (257 rows, the last for flat aspect) and the place of values below the range."""
    colors = ramp(row.ramp or usual_ramp(surface), row.reverse)
    return np.vstack([colors, np.array([_FLAT_COLOR], np.uint8)]), 256 if surface.cyclic else 0


def _cells(grid: GridPicture, camera: Camera, ratio: float) -> tuple[np.ndarray, np.ndarray, int]:
    level = grid.level_for(1.0 / (camera.scale * ratio * grid.frame.dx))
    rows, cols = camera.cells(grid.frame, level, ratio)
    return rows, cols, level


def _shade(ground: GridPicture, shading: Shading, camera: Camera, ratio: float, picture: np.ndarray) -> None:
    surface = ground.value
    if not isinstance(surface, Surface):
        return
    rows, cols, level = _cells(ground, camera, ratio)
    ax, ay = gradient_weights(surface, shading.z_factor)
    step = 2**level
    light = np.array(light_vector(shading.azimuth, shading.altitude), np.float32)
    shade_picture(
        ground.levels[level],
        rows,
        cols,
        np.ascontiguousarray(ax[::step]) / np.float32(step),
        np.ascontiguousarray(ay[::step]) / np.float32(step),
        light,
        np.float32(shading.strength),
        picture,
    )


def _class_colors(colors: dict[int, str]) -> tuple[np.ndarray, np.ndarray]:
    table, drawn = np.zeros(256, np.uint32), np.zeros(256, np.bool_)
    for code, color in colors.items():
        table[code], drawn[code] = _pixel(color), True
    return table, drawn


def _packed(colors: np.ndarray) -> np.ndarray:
    """Pixels of an array of red, green and blue bytes."""
    red, green, blue = (colors[:, i].astype(np.uint32) for i in range(3))
    return np.uint32(0xFF000000) | red << np.uint32(16) | green << np.uint32(8) | blue


def _pixel(color: str) -> int:
    return 0xFF000000 | int(color[1:], 16)

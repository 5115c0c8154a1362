"""What is drawn of a study, from the Key and the step being made, and drawing the grids of it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np

from moss_step.model.frame import Box, Frame, overlap
from moss_step.model.rules import RuleSet
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.camera import Camera
from moss_step.scene.colors import GROUND, SHEET
from moss_step.scene.grids import pixel_of
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.picture import Picture
from moss_step.scene.pictures import has_place, placed
from moss_step.study.draft import DRAFT, Draft
from moss_step.study.graph import KeyRow, Shading, Study, step_of

_SHAPES = "shapes"
STEPS_BACK = "steps back meanwhile; B shows it"
"""Why a covering of the Key is not drawn beside one that is being made or looked at."""


@dataclass(frozen=True)
class Layer:
    """One result on the plan with its row of the Key; ``ranges`` colours a surface by class bounds being
    dragged.
    """

    step: str
    name: str
    picture: Picture
    row: KeyRow
    ranges: RuleSet | None = None


@dataclass(frozen=True)
class Scene:
    """All that is drawn: layers from top to bottom, the shaded ground, and what could not be drawn and
    why.
    """

    layers: tuple[Layer, ...] = ()
    ground: SurfacePicture | None = None
    shading: Shading = field(default_factory=Shading)
    undrawn: tuple[tuple[str, str], ...] = ()
    telling: Telling = USUAL

    @property
    def looks(self) -> tuple[object, ...]:
        """All that the picture depends on: two scenes that are equal in it look the same."""
        drawn = tuple((la.step, la.name, la.picture, la.row, la.ranges) for la in self.layers)
        return drawn, self.ground, self.shading, self.undrawn

    @property
    def standing(self) -> SurfacePicture | None:
        """What stands up: the ground, or without one the first layer with heights."""
        upright = (la.picture.surface for la in self.layers)
        heights = (s for s in upright if s is not None and s.value.quantity == "elevation")
        return self.ground or next(heights, None)


class Looked(Protocol):
    """A study as it is now: its steps, the one being made, and what is chosen."""

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
    def chosen_ref(self) -> str:
        """The chosen result."""


class Shown(Looked, Protocol):
    """A study with the pictures that are there."""

    @property
    def all_shown(self) -> bool:
        """Whether no covering steps back."""

    @property
    def frame(self) -> Frame | None:
        """Frame of the plan."""

    def picture(self, step_id: str) -> Picture | None:
        """Picture of a result, when it is there."""


def scene_of(work: Shown) -> Scene:
    """Gather what the plan draws now."""
    study = work.study
    rows = [(k, k.step) for k in study.key if k.shown]
    shown = front_of(work)
    if shown:
        # What is being looked at or made is drawn over the rest, or it could not be seen.
        front = shown if work.draft is None else replaced_by(shown, work.draft)
        rows = [(k, s) for k, s in rows if s != front]
        first = work.study_with_draft.first_row(shown).model_copy(update={"step": front})
        rows.insert(0, (study.key_row(front) or first, shown))
    layers, undrawn = [], []
    for row, ref in rows:
        layer = _layer(work, row, ref)
        if layer is None:
            continue
        picture, reason = layer.picture.placed(work.frame)
        if reason:
            undrawn.append((ref, reason))
        else:
            layers.append(replace(layer, picture=picture))
    layers, back = _stepped_back(work, layers, shown)
    undrawn += [(layer.step, STEPS_BACK) for layer in back]
    ground = work.picture(study.shading.ground) if study.shading.ground else None
    shaded = ground.surface if ground is not None else None
    return Scene(tuple(layers), shaded, study.shading, tuple(undrawn), study.telling)


def scene_of_one(work: Shown, ref: str) -> Scene:
    """Gather what is drawn of one result for a comparison: it alone, under the shapes of the Key and over the
    relief.
    """
    study = work.study
    first = study.key_row(ref) or study.first_row(ref)
    rows = [first.model_copy(update={"shown": True}), *(k for k in study.key if k.shown and k.step != ref)]
    layers, undrawn = [], []
    for row in rows:
        layer = _layer(work, row, row.step)
        if layer is None or (row.step != ref and layer.picture.frame is not None):
            continue
        picture, reason = layer.picture.placed(work.frame)
        if reason:
            undrawn.append((row.step, reason))
        else:
            layers.append(replace(layer, picture=picture))
    ground = work.picture(study.shading.ground) if study.shading.ground else None
    shaded = ground.surface if ground is not None else None
    return Scene(tuple(layers), shaded, study.shading, tuple(undrawn), study.telling)


def _stepped_back(work: Shown, layers: list[Layer], shown: str) -> tuple[list[Layer], list[Layer]]:
    """What is drawn, and what steps back: under a covering that is being made, or is looked at and not kept
    in the Key, other coverings would be taken for a part of it.
    """
    kept = work.draft is None and work.study.key_row(shown) is not None
    covers = bool(layers) and layers[0].step == shown and layers[0].picture.frame is not None
    if not covers or kept or work.all_shown:
        return layers, []
    back = [la for la in layers[1:] if la.picture.frame is not None]
    return [la for la in layers if la not in back], back


def front_of(work: Looked) -> str:
    """The result that is looked at: of the step being made, or the chosen one; empty when there is none."""
    if work.draft is not None:
        return placed(work.study_with_draft, DRAFT)
    ref = work.chosen_ref
    return ref if not ref or has_place(work.study, ref) else placed(work.study, step_of(ref))


def replaced_by(ref: str, draft: Draft) -> str:
    """The result that one of the step being made stands for; empty where it is a new one."""
    return f"{draft.replaces}{ref.removeprefix(DRAFT)}" if draft.replaces else ""


def _layer(work: Shown, row: KeyRow, ref: str) -> Layer | None:
    study, draft = work.study_with_draft, work.draft
    if ref == DRAFT and draft is not None and (live := _live_ranges(work)) is not None:
        return Layer(DRAFT, study.name_of(draft.replaces or DRAFT), live[0], row, live[1])
    result = draft is not None and step_of(ref) == DRAFT
    name = study.name_of((replaced_by(ref, draft) if result and draft is not None else "") or ref)
    picture = work.picture(ref)
    return Layer(ref, name, picture, row) if picture is not None and picture.on_plan else None


def _live_ranges(work: Shown) -> tuple[Picture, RuleSet] | None:
    """The surface and the ranges of a class table that is being made: drawn without running anything."""
    declared = work.draft.step.declared if work.draft is not None else None
    if work.draft is None or declared is None or declared.ranges is None:
        return None
    ranges = declared.ranges(declared.checked(work.draft.step.settings))
    picture = work.picture(work.draft.step.inputs[declared.inputs[0].name])
    return None if ranges is None or picture is None else (picture, ranges)


def shape_order(work: Shown) -> dict[str, int]:
    """Which place each result has among the shapes of the study, in the order they were made: it gives their
    colour, which stays whatever is done to the Key.
    """
    return {ref: place for place, ref in enumerate(work.study_with_draft.giving(_SHAPES))}


def draw_grids(scene: Scene, camera: Camera, ratio: float, beyond: str = SHEET) -> np.ndarray:
    """Draw all grids with shading over a colour ``beyond`` the ground: uint32 pixels 0xAARRGGBB of shape
    (height, width), opaque.
    """
    pixels = np.full((round(camera.height * ratio), round(camera.width * ratio)), pixel_of(beyond), np.uint32)
    if scene.ground is not None:
        rows, cols, _ = scene.ground.cells(camera, ratio)
        inside_y, inside_x = np.flatnonzero(rows >= 0), np.flatnonzero(cols >= 0)
        if inside_y.size and inside_x.size:
            pixels[inside_y[0] : inside_y[-1] + 1, inside_x[0] : inside_x[-1] + 1] = pixel_of(GROUND)
    for layer in reversed(_in_view(scene, camera)):
        layer.picture.paint(layer.row, layer.ranges, camera, ratio, pixels)
    if scene.ground is not None and scene.shading.on:
        scene.ground.shade(scene.shading, camera, ratio, pixels)
    return pixels


def _in_view(scene: Scene, camera: Camera) -> list[Layer]:
    """The grids in view, from the top down to one that hides all others."""
    grids = [
        (la, f.box)
        for la in scene.layers
        if (f := la.picture.frame) is not None and overlap(f.box, camera.box)
    ]
    result: list[Layer] = []
    for i, (layer, box) in enumerate(grids):
        result.append(layer)
        if layer.picture.hides(layer.row, layer.ranges) and all(
            _holds(box, other) for _, other in grids[i + 1 :]
        ):
            break
    return result


def _holds(outer: Box, inner: Box) -> bool:
    return outer[0] <= inner[0] and outer[1] <= inner[1] and outer[2] >= inner[2] and outer[3] >= inner[3]

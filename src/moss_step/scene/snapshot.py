"""One moment of the work, as it is shown: the study, what its results say, and the pictures of what is drawn.
It is never altered.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from moss_step.model.class_map import ClassMap
from moss_step.model.frame import Frame, same_system
from moss_step.model.outcome import Value
from moss_step.model.surface import Surface
from moss_step.scene.layers import Scene, scene_of, scene_of_one, shape_order
from moss_step.scene.picture import Picture
from moss_step.study.draft import Draft
from moss_step.study.engine import Failure
from moss_step.study.graph import Study, step_of
from moss_step.study.store import Said


@dataclass(frozen=True, eq=False)
class Snapshot:
    """What the window shows at one moment; each part of it compares what it shows with this, and draws what
    differs.
    """

    study: Study = field(default_factory=Study)
    study_with_draft: Study = field(default_factory=Study)
    draft: Draft | None = None
    chosen_ref: str = ""
    frame: Frame | None = None
    """Frame that the plan is drawn in."""
    said: Mapping[str, Said] = field(default_factory=dict)
    """What the results that are up to date say of themselves, whether their values are in memory or not."""
    failures: Mapping[str, Failure] = field(default_factory=dict)
    running: frozenset[str] = frozenset()
    """Ids of the steps that run."""
    pictures: Mapping[str, Picture] = field(default_factory=dict)
    """Pictures of what may be drawn on the plan, as far as they are made."""
    all_shown: bool = False
    """Whether no covering steps back before the one that is made or looked at."""
    compared: tuple[str, ...] = ()
    """Two results that are drawn against each other, left and right; none otherwise."""
    drawn_partly: bool = False
    """Whether the step being made is drawn in view only, so far."""

    @cached_property
    def scene(self) -> Scene:
        """What is drawn."""
        return scene_of(self)

    @cached_property
    def sides(self) -> tuple[Scene, ...]:
        """What is drawn left and right of a comparison."""
        return tuple(scene_of_one(self, ref) for ref in self.compared)

    @cached_property
    def shape_order(self) -> dict[str, int]:
        """Which place each result has among the shapes of the study: it gives their colour."""
        return shape_order(self)

    def picture(self, ref: str) -> Picture | None:
        """Picture of a result that may be drawn, when it is there."""
        return self.pictures.get(ref)

    def state(self, ref: str) -> str:
        """State of a result: done, waiting, running or failed."""
        if step_of(ref) in self.running:
            return "running"
        return "done" if ref in self.said else "failed" if ref in self.failures else "waiting"

    @cached_property
    def states(self) -> dict[str, str]:
        """State of every step, by its main result."""
        return {step.id: self.state(step.id) for step in self.study.steps}

    @cached_property
    def coverings(self) -> list[str]:
        """Results that cover the ground, and so can be compared."""
        return [
            r
            for r in self.study.refs()
            if (s := self.said.get(r)) is not None and s.kind in (Surface, ClassMap)
        ]

    def surfaces(self, quantity: str = "") -> list[str]:
        """Results that are surfaces (of one quantity)."""
        return [
            r
            for r in self.study.refs()
            if (s := self.said.get(r)) is not None and s.kind is Surface and quantity in ("", s.quantity)
        ]


def frame_of_plan(study: Study, chosen_ref: str, value_of: Callable[[str], Value | None]) -> Frame | None:
    """The frame that the plan is drawn in: of the shaded ground, or of the first grid there is; that of the
    chosen result where it lies in another system, or it could not be seen.
    """

    def frame_of(ref: str) -> Frame | None:
        frame = getattr(value_of(ref), "frame", None) if ref and study.has(ref) else None
        return frame if isinstance(frame, Frame) else None

    usual = next((f for ref in (study.shading.ground, *study.refs()) if (f := frame_of(ref))), None)
    chosen = frame_of(chosen_ref)
    if chosen is None or usual is None or same_system(chosen.crs, usual.crs):
        return usual
    return chosen


def drawable(study: Study, chosen_ref: str, draft: Draft | None, compared: tuple[str, ...] = ()) -> set[str]:
    """The results whose pictures a scene may ask for; of the step being made, too, and of what it works
    from, and of those that are compared.
    """
    refs = set(compared) | {row.step for row in study.key} | {study.shading.ground}
    if chosen_ref and study.has(chosen_ref):
        refs.update(study.step(chosen_ref).refs)
    if draft is not None:
        refs.update([*draft.step.refs, *draft.step.inputs.values()])
    return refs - {""}

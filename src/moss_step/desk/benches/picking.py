"""A panel whose examples are segments that are clicked on the plan."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.parts import button
from moss_step.desk.picks import Pick, PicksControl
from moss_step.desk.plan.live import Live
from moss_step.desk.plan.tools.vertices import VertexTool
from moss_step.model.cloud import Cloud
from moss_step.model.typed import of_kind
from moss_step.scene.colors import DEEP, LICHEN, OCHRE
from moss_step.scene.kinds.cloud import CloudPicture
from moss_step.scene.sketch import Sketch
from moss_step.science.points.picking import Segmented
from moss_step.steps.declare import StepKind, extra

_COLORS = (LICHEN, OCHRE)


def picks_of(kind: StepKind) -> list[str]:
    """Settings of a step that are picks of segments."""
    return [n for n, f in kind.settings.listed().items() if extra(f, "control") == "picks"]


class PickPanel(StepPanel):
    """Clicks pick segments into the list whose button is down, and out of it."""

    _held: tuple[int, Segmented | None] | None = None

    def build(self, layout: QVBoxLayout) -> None:
        """A button that picks many at once, above the settings."""
        tip = "Click from corner to corner; segments that lie mostly inside are picked"
        layout.addWidget(button("Pick all inside an outline", tip, self._draw_outline))
        super().build(layout)

    def load(self) -> None:
        """Lists tell what is wanted of the plan."""
        self._known: dict[Pick, int] = {}
        super().load()
        self._names = picks_of(self.kind)
        for name in self._names:
            self._control(name).wanted.connect(lambda on, n=name: self._choose(n if on else ""))
        self._choose("")
        self.show_picks()

    def arm(self) -> None:
        """A new step begins with its examples; those of one that is kept are drawn."""
        if not self.step_id and self._names:
            self._choose(self._names[0])
        self.show_picks()

    def use_point(self, x: float, y: float) -> bool:
        """A click on a segment picks it, or takes it out again; tells whether it was wanted."""
        if not self.picking:
            return False
        found = self.segmented()
        picture = of_kind(self.work.picture(self._cloud_ref()), CloudPicture)
        if found is None or picture is None:
            self.note.show_lines("The points have no segments: run segments on them first.")
            return True
        self._pick_of(found, picture.nearest(x, y))
        return True

    def use_row(self, ref: str, row: int) -> bool:
        """A click on a point in the section picks its segment."""
        found = self.segmented()
        if not self.picking or found is None or ref != self._cloud_ref():
            return False
        self._pick_of(found, row)
        return True

    def _pick_of(self, found: Segmented, row: int) -> None:
        segment = int(found.numbers[row]) if row >= 0 else 0
        if segment:
            self.pick(segment)
        else:
            self.note.show_lines("No segment lies there.")

    def pick(self, segment: int) -> None:
        """Put a segment into the list that is picked into, or take it out."""
        found = self.segmented()
        if found is None or not self.picking:
            return
        control = self._control(self.picking)
        same = next((p for p in control.value() or () if self._segment(found, p) == segment), None)
        control.toggle(found.place(segment), same)
        self.show_picks()

    def _draw_outline(self) -> None:
        if not self.picking:
            self._choose(self._names[0])
        self._tool = VertexTool(Sketch("areas"), lambda: np.empty((0, 2)), self.rounded, True, self)
        self._tool.result.connect(self.pick_inside)
        self.tool_wanted.emit(self._tool)

    def pick_inside(self, sketch: Sketch) -> None:
        """Pick the segments that lie mostly inside an outline, beside those that were picked."""
        self.tool_wanted.emit(None)
        found = self.segmented()
        if found is None or not sketch.shapes:
            return
        control = self._control(self.picking)
        held = {self._segment(found, p) for p in control.value() or ()}
        new = [s for s in found.inside(np.array(sketch.shapes[-1].vertices)) if s not in held]
        control.add([found.place(segment) for segment in new])
        self.show_picks()

    def show_settings(self, names: Any, values: Any) -> None:
        """Show some settings as they are now."""
        super().show_settings(names, values)
        self.show_picks()

    def show_picks(self) -> None:
        """Say what the picks are, and draw them on the plan."""
        found = self.segmented()
        lines: list[tuple[np.ndarray, str]] = []
        for name, color in zip(self._names, _COLORS, strict=False):
            control = self._control(name)
            said: dict[Pick, str] = {}
            for place in control.value() or ():
                segment = 0 if found is None else self._segment(found, place)
                points = 0 if found is None else len(found.rows(segment))
                said[place] = (
                    f"{points:,} points".replace(",", " ") if segment else "no segment lies there now"
                )
                if segment and found is not None:
                    lines += [(found.outline(segment), DEEP), (found.outline(segment), color)]
            control.say(said)
        self.live.emit(Live(tuple(lines)) if lines else None)

    def leave(self) -> None:
        """Draw nothing any more."""
        self.live.emit(None)
        super().leave()

    def segmented(self) -> Segmented | None:
        """The points of the cloud by their segments."""
        outcome = self.work.outcome(self._cloud_ref())
        cloud = None if outcome is None else outcome.of(Cloud)
        if cloud is None:
            return None
        if self._held is None or self._held[0] != id(cloud):
            self._held = (id(cloud), Segmented.of(cloud))
            self._known.clear()
        return self._held[1]

    def _cloud_ref(self) -> str:
        return str(self._inputs["cloud"].currentData() or "")

    def _segment(self, found: Segmented, place: Pick) -> int:
        """The segment that a pick stands for, looked for once."""
        if place not in self._known:
            self._known[place] = found.at(place)
        return self._known[place]

    def _control(self, name: str) -> PicksControl:
        return self.form.control(name, PicksControl)

    def _choose(self, name: str) -> None:
        """Clicks go into one list, or into none."""
        self.picking = name
        for other in self._names:
            self._control(other).pick.setChecked(other == name)

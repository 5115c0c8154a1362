"""A panel whose outline, or line, is drawn on the plan, and has its corners pulled."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.controls import PlacesControl
from moss_step.desk.parts import button, label
from moss_step.desk.plan.tools.vertices import VertexTool
from moss_step.scene.sketch import Sketch
from moss_step.steps.declare import extra
from moss_step.steps.drawn import LEAST


class OutlinePanel(StepPanel):
    """Draws the outline or line that its step asks for, and has its corners pulled."""

    def build(self, layout: QVBoxLayout) -> None:
        """A button for the outline above the settings."""
        self.tool: VertexTool | None = None
        controls = {extra(f, "control"): n for n, f in self.kind.settings.listed().items()}
        self.drawn = "areas" if "outline" in controls else "lines"
        self.outline = controls["outline" if self.drawn == "areas" else "path"]
        what = "outline" if self.drawn == "areas" else "line"
        draw = button(f"Draw the {what} on the plan", "Click from corner to corner", self.draw_outline)
        self.said = label("", "muted", wrap=True)
        self.said.setAccessibleName("What is drawn")
        layout.addWidget(draw)
        layout.addWidget(self.said)
        super().build(layout)

    @property
    def least(self) -> int:
        """Corners that it has at the least."""
        return LEAST[self.drawn]

    def load_settings(self, settings: dict[str, Any]) -> None:
        """Show settings; the tool shows the outline as it is now."""
        super().load_settings(settings)
        self._show_outline()

    def show_settings(self, names: Any, values: Any) -> None:
        """Show some settings as they are now."""
        super().show_settings(names, values)
        self._show_outline()

    def arm(self) -> None:
        """A new step begins with its outline, unless a lasso was drawn before."""
        if not self.step_id and not self.settings().get("line"):
            self.draw_outline()

    def draw_outline(self) -> None:
        """Draw it anew, or pull the corners of the one there is."""
        sketch = self._sketch()
        self.tool = VertexTool(sketch, lambda: np.empty((0, 2)), self.rounded, not sketch.shapes, self)
        self.tool.result.connect(self._use)
        self.tool.pulling.connect(self.pull_outline)
        self.tool_wanted.emit(self.tool)

    def _sketch(self) -> Sketch:
        corners = self.settings().get(self.outline)
        corners = corners if isinstance(corners, tuple) else ()
        return Sketch(self.drawn).adding(corners) if len(corners) > 1 else Sketch(self.drawn)

    def _use(self, sketch: Sketch) -> None:
        """Take the outline; once it is there its corners are pulled."""
        shape = sketch.shapes[-1] if sketch.shapes else None
        corners = None if shape is None else shape.vertices
        self.form.control(self.outline, PlacesControl).fill(corners)
        if self.tool is not None:
            self.tool.adding = corners is None
            self._show_outline()

    def pull_outline(self, sketch: Sketch) -> None:
        """A corner is being pulled: what follows it is shown."""

    def _show_outline(self) -> None:
        given = self.settings()
        corners, lasso = given.get(self.outline) or (), given.get("lasso") or ()
        parts = [f"{len(corners)} corners on the plan"] if corners else []
        parts += [f"{len(lasso)} corners in the section"] if lasso else []
        self.said.setText("; ".join(parts) or "Click from corner to corner; Return ends it.")
        if self.tool is not None:
            self.tool.show(self._sketch())

    def leave(self) -> None:
        """Put the tool away."""
        if self.tool is not None:
            self.tool = None
            self.tool_wanted.emit(None)
        super().leave()

"""Panels that take places and lines from the plan."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.controls import PlacesControl
from moss_step.desk.parts import button, row
from moss_step.desk.plan.live import Preview
from moss_step.desk.plan.tools.line import Line, LineTool
from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.steps.declare import extra


class Said(QLabel):
    """A line that takes no room while it says nothing."""

    def __init__(self, text: str, role: str) -> None:
        super().__init__(text)
        self.setProperty("role", role)
        self.setWordWrap(True)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.hide()

    def setText(self, text: str) -> None:
        """Say something, or nothing."""
        super().setText(text)
        self.setVisible(bool(text))


class PlacePanel(StepPanel):
    """A step whose places and lines are taken from the plan, and that may draw while the pointer moves."""

    places = ""
    """Name of the setting that a click on the plan sets."""

    def build(self, layout: QVBoxLayout) -> None:
        """A line about what follows the pointer, above the settings."""
        self.said = Said("", "muted")
        self.said.setAccessibleName("What follows the pointer")
        layout.addWidget(self.said)
        super().build(layout)
        if self.line_setting:
            draw = button("Draw the line on the plan", "Drag from one end to the other", self._draw_line)
            layout.addWidget(row(draw, *self.line_tools(), gap=4, grows=draw))

    def line_tools(self) -> list[QWidget]:
        """What else can be done with the line, beside the button that draws it."""
        return []

    @property
    def line_setting(self) -> str:
        """Name of the setting that a line drawn on the plan sets; empty for none."""
        return next(
            (n for n, f in self.kind.settings.model_fields.items() if extra(f, "control") == "line"), ""
        )

    def update_draft(self) -> None:
        """A step that still needs a place says so quietly."""
        given = self.settings()
        asked = [
            n
            for n, f in self.kind.settings.model_fields.items()
            if extra(f, "control") in ("points", "line") and n != "cut"
        ]
        shapes = [self._inputs[spec.name] for spec in self.kind.inputs if spec.accepts == "shapes"]
        if (
            asked
            and not self.needs_no_place()
            and not any(given.get(n) for n in asked)
            and not any(b.currentData() for b in shapes)
        ):
            self.work.set_draft(None)
            self.keep_button.setEnabled(False)
            self.note.show_lines(
                "Draw the line on the plan."
                if asked == [self.line_setting]
                else "Click on the plan to set a place."
            )
            return
        super().update_draft()

    def arm(self) -> None:
        """A step that asks for nothing but a line has it drawn at once: a drag draws, and does not pan."""
        controls = [extra(f, "control") for f in self.kind.settings.listed().values()]
        if not self.step_id and self.line_setting and "points" not in controls and self.ground() is not None:
            self._draw_line()

    def needs_no_place(self) -> bool:
        """Whether the settings do without a place."""
        return False

    def _draw_line(self) -> None:
        tool = LineTool()
        tool.pulled.connect(self.pull_line)
        tool.result.connect(self.use_line)
        self.tool_wanted.emit(tool)

    def use_point(self, x: float, y: float) -> bool:
        """Take a place that was clicked; tells whether it was wanted."""
        if not self.places:
            return False
        self.form.control(self.places, PlacesControl).fill((self.rounded(x, y),))
        return True

    def use_line(self, line: Line) -> None:
        """Take a line that was drawn."""
        if self.line_setting:
            if self.cuts:
                self.section_wanted.emit()
            self.form.control(self.line_setting, PlacesControl).fill(self.rounded(*line))

    def leave(self) -> None:
        """Draw nothing any more."""
        self.draw_nothing()
        self.handles.emit(())
        super().leave()

    def draw_nothing(self) -> None:
        """Nothing follows the pointer now; answers that are under way are not drawn."""
        self.work.follower.drop()
        self.live.emit(None)

    def draw(self, answer: Preview | MossError) -> None:
        """Draw what follows the pointer with what it says, or say why there is nothing."""
        if self._left:
            return
        self.said.setText(str(answer) if isinstance(answer, MossError) else answer.said)
        self.live.emit(None if isinstance(answer, MossError) else answer.live)

    def ground(self) -> Surface | None:
        """The ground chosen, when there is one."""
        if "dem" not in self._inputs:
            return None
        outcome = self.work.outcome(str(self._inputs["dem"].currentData() or ""))
        return outcome.of(Surface) if outcome is not None else None

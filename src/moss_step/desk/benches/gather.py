"""The Gather bench: opening files, what they state, and what is suspicious about them."""

from __future__ import annotations

from typing import ClassVar

from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.drawing import DrawPanel
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.parts import button, label
from moss_step.kinds.registry import kind_of
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface
from moss_step.science.regrid import metric_system
from moss_step.steps.declare import StepKind


class StatedPanel(StepPanel):
    """States the frame of a result."""

    def fact_rows(self, outcome: Outcome) -> list[tuple[str, str]]:
        """Reference system, unit, extent, cells, no-data share and range."""
        facts = kind_of(outcome.value).facts
        return facts(outcome.value) if facts is not None else super().fact_rows(outcome)


class OpenedPanel(StatedPanel):
    """A file that was opened: what is suspicious comes with a way to mend it."""

    facts_first = True

    def build(self, layout: QVBoxLayout) -> None:
        """Ways to mend come before the settings."""
        self._relink = button("Find the file …", "Choose where the file is now", self._find)
        self._metric = button(
            "Reproject to metres …", "Carry the grid over to a metric system", self._reproject
        )
        layout.addWidget(self._relink)
        layout.addWidget(self._metric)
        super().build(layout)

    def show_outcome(self) -> None:
        """Offer the file chooser when the file is missing, and a metric system for degrees."""
        super().show_outcome()
        outcome = self.work.outcome(self.step_id) if self.step_id else None
        surface = outcome.of(Surface) if outcome else None
        self._relink.setVisible(bool(self.step_id and self.work.missing_source(self.step_id)))
        self._metric.setVisible(surface is not None and surface.frame.geographic)

    def show_remarks(self, outcome: Outcome) -> None:
        """Say what is suspicious."""
        head = "Worth knowing before you go on" if outcome.warnings else "Nothing suspicious."
        self.note.show_lines(head, outcome.warnings, bad=bool(outcome.warnings))

    def _find(self) -> None:
        asked = f"Where is {self.work.study.name_of(self.step_id)} now?"
        path = self.work.folder.ask_open(self, asked)
        if path is not None:
            self.relink(str(path))

    def relink(self, name: str) -> None:
        """Read the step from another file."""
        self.work.do(
            self.work.study.changing(
                self.step_id, lambda s: s.model_copy(update={"settings": {**s.settings, "source": name}})
            ),
            "Find a file",
        )
        self.load()

    def _reproject(self) -> None:
        self.step_wanted.emit("reproject", None)


class ReprojectPanel(StatedPanel):
    """Suggests the metric system that fits where the grid lies."""

    def load_settings(self, settings: dict[str, object]) -> None:
        """A new step begins with the suggestion."""
        if not settings:
            source = self.work.outcome(str(self._inputs["surface"].currentData() or ""))
            surface = source.of(Surface) if source is not None else None
            if surface is not None:
                self.form.set_values(
                    {"crs": metric_system(surface.frame) or "", "resampling": "bilinear"}, self.kind.settings
                )
                return
            self.form.set_values({}, self.kind.settings)
            return
        super().load_settings(settings)


class GatherBench(StepBench):
    """Opens grids and shapes; crops and reprojects."""

    name = "gather"
    panels: ClassVar[dict[str, type[StepPanel]]] = {"reproject": ReprojectPanel, "draw": DrawPanel}
    usual = StatedPanel

    def add_start(self, layout: QVBoxLayout) -> None:
        """Offer to open a file first."""
        layout.addWidget(
            button(
                "Open a grid or shapes",
                "Ctrl+O. Or drop files on the window",
                self.open_wanted.emit,
                "main",
                "folder-open",
            )
        )
        layout.addWidget(
            label(
                "Elevation grids: GeoTIFF, ASCII grid and any raster the library reads. Shapes: "
                "GeoPackage, GeoJSON, Shapefile and more.",
                "muted",
                wrap=True,
            )
        )
        super().add_start(layout)

    @property
    def choosable(self) -> list[StepKind]:
        """All but opening, which goes through the file chooser."""
        return [k for k in self.kinds if not k.file_settings]

    def panel_for(self, kind: StepKind) -> type[StepPanel]:
        """Opened files show what they state."""
        return OpenedPanel if kind.opens else super().panel_for(kind)

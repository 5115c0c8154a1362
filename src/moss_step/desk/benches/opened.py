"""Panels of what was opened: what it states, what is suspicious, and ways to mend that."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.parts import button
from moss_step.kinds.registry import kind_of
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface


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
        self._relink.hide()  # until there is something to mend
        self._metric.hide()
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

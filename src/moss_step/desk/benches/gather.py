"""The Gather bench: opening files, what they state, and what is suspicious about them."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

from PySide6.QtWidgets import QVBoxLayout, QWidget
from shiboken6 import isValid

from moss_step.desk.benches.drawing import DrawPanel
from moss_step.desk.benches.listening import RecordingPanel
from moss_step.desk.benches.opened import OpenedPanel, StatedPanel
from moss_step.desk.benches.panel import StepPanel, heading
from moss_step.desk.benches.service import ServicePage
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.parts import button, column, label, row
from moss_step.desk.work import Work
from moss_step.model.surface import Surface
from moss_step.science.regrid import metric_system
from moss_step.steps.declare import StepKind

_RECORDING, _MOST_LEFT = "open_recording", 3
"""The step of recordings, and how many that were not kept are offered at once."""


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
    panels: ClassVar[dict[str, type[StepPanel]]] = {
        "reproject": ReprojectPanel,
        "draw": DrawPanel,
        _RECORDING: RecordingPanel,
    }
    usual = StatedPanel

    def __init__(self, work: Work, name: str) -> None:
        self.service: ServicePage | None = None
        super().__init__(work, name)

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
        hears = self.work.ear.listening is not None
        layout.addWidget(
            button(
                "Back to the sounder" if hears else "Listen to a sounder",
                "A receiver and echo sounder that tell NMEA 0183",
                lambda: self.begin(_RECORDING),
                picture="crosshair",
            )
        )
        layout.addWidget(
            button(
                "Elevation service",
                "What a service holds, and the ground in view from it",
                self.show_service,
                picture="download-simple",
            )
        )
        box = QWidget()
        box.setVisible(False)
        offers = QVBoxLayout(box)
        offers.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(box)

        def offer(recordings: list[Path]) -> None:
            if isValid(box) and recordings:
                for recording in recordings[:_MOST_LEFT]:
                    offers.addWidget(self._left_over(recording))
                box.setVisible(True)

        self.work.ear.left_over(offer)
        super().add_start(layout)

    def show_service(self) -> None:
        """Show a service in place of the questions."""
        self._leave()
        self._layout.addWidget(heading("What does a service hold?"))
        self.service = page = ServicePage(self.work)
        page.closed.connect(self.show_start)
        page.live.connect(self.live)
        self._layout.addWidget(page, 1)

    def _leave(self) -> None:
        if self.service is not None:
            self.live.emit(None)
            self.service = None
        super()._leave()

    def _left_over(self, recording: Path) -> QWidget:
        """Offer a recording that was not kept when its program ended."""

        def keep() -> None:
            self.work.add_step(_RECORDING, {}, {"source": str(recording)})
            self.work.ear.kept(recording)

        def give_up() -> None:
            self.work.ear.kept(recording)
            self.work.message.emit(f"It stays in {recording}.", False)
            self.show_start()

        said = label(f"The recording of {recording.stem} was not kept.", wrap=True)
        ways = row(
            button("Keep it", "Open it as a step", keep),
            button("Leave it", "Offer it no more; the file stays", give_up, "plain"),
            1,
        )
        return column([said, ways], gap=4)

    @property
    def choosable(self) -> list[StepKind]:
        """All but opening, which goes through the file chooser."""
        return [k for k in self.kinds if not k.file_settings]

    def panel_for(self, kind: StepKind) -> type[StepPanel]:
        """Opened files show what they state."""
        return OpenedPanel if kind.opens and not kind.hears else super().panel_for(kind)

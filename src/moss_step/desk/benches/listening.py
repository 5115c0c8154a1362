"""The panel of recordings: hears a sounder while it runs, and keeps what it told as a step."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any, Literal

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QComboBox, QVBoxLayout

from moss_step.desk.benches.opened import OpenedPanel
from moss_step.desk.benches.place import Said
from moss_step.desk.follower import LARGE
from moss_step.desk.form import Form
from moss_step.desk.parts import Facts, button, column, label, row
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.live import Dots, Live, Preview, graded_veil
from moss_step.formats.listening import Device
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.shapes import Shapes
from moss_step.model.telling import Telling
from moss_step.model.units import METRE
from moss_step.scene.colors import DEEP, OCHRE, VIOLET, WATER
from moss_step.scene.heard import Heard, heard_so_far
from moss_step.scene.ramps import colors_along
from moss_step.steps.declare import InputSpec
from moss_step.steps.recordings import ListenSettings

_EVERY, _CORNERS, _COLORS, _GRADES = 500, 4000, 12, 6
"""Milliseconds between two looks; corners of a way that is drawn; colours of depths and grades of gaps."""
_AREAS = InputSpec("area", "shapes", "Outline", "What is to be covered.", True, shapes="areas")


class RecordingPanel(OpenedPanel):
    """A recording that was opened; a new one begins with a device that is heard."""

    def build(self, layout: QVBoxLayout) -> None:
        """How the device is heard stands above what is done with its recording."""
        self.device = Form(ListenSettings, folder=self.work.folder)
        self.device.set_values({}, ListenSettings)
        self.device.helped.connect(self._say_help)
        self.outline = QComboBox()
        self.outline.setAccessibleName("Outline")
        set_tip(self.outline, "What is to be covered; without one what lies between the soundings")
        self.listen_button = button(
            "Listen", "Hear the device; all that it tells is recorded", self.listen, "main", "crosshair"
        )
        self.state = Said("", "muted")
        self.state.setAccessibleName("State of the device")
        self.figures_so_far = Facts()
        self.heard: Heard | None = None
        around = row(label("Outline"), self.outline, gap=10, grows=self.outline)
        self.hearing = column([self.device, around, self.listen_button, self.state, self.figures_so_far])
        self.hearing.setHidden(bool(self.step_id))
        layout.addWidget(self.hearing)
        super().build(layout)
        self._clock = QTimer(self, interval=_EVERY)
        self._clock.timeout.connect(self.look)
        self._fill_outlines()
        self.work.ear.changed.connect(self._show_state)

    # --- listening

    @property
    def listens(self) -> bool:
        """Whether a device is heard, and this panel is for it."""
        return not self.step_id and self.work.ear.listening is not None

    def listen(self) -> None:
        """Begin to hear the device."""
        try:
            asked = ListenSettings.model_validate(self.device.values())
            file = Path(asked.file) if asked.way == "file" else None
            if asked.way == "file" and not asked.file:
                raise AskedWronglyError("No file is chosen.", "Choose the one that the other program writes.")
        except (MossError, ValueError) as error:
            self.note.show_lines(str(error), bad=True)
            return
        refused = self.work.ear.start(Device(asked.way, asked.host.strip(), asked.port, file))
        self.note.show_lines(str(refused) if refused else "", bad=bool(refused))

    def keep(self) -> None:
        """Keep what was heard, or the step."""
        if not self.listens:
            super().keep()
            return
        none_heard = self.heard is None or not len(self.heard.places)
        path = self.work.ear.stop()
        if path is None or none_heard:
            where = f" What it told stands in {path}." if path else ""
            self.note.show_lines(f"No depth with a place was heard: nothing is kept.{where}", bad=True)
            return
        settings: dict[str, Any] = {**self.settings(), "source": str(path)}
        self.work.add_step(self.kind.kind, {}, settings)
        self.work.ear.kept(path)

    def update_draft(self) -> None:
        """Without a file there is nothing to draft: a device is heard, or a file is to be chosen."""
        if not self.step_id and not self.settings().get("source"):
            self.work.set_draft(None)
            self.keep_button.setEnabled(self.listens)
            self._count_more()
            return
        super().update_draft()

    def _show_state(self) -> None:
        """The button that begins goes while something is heard; the one that keeps ends it."""
        if self._left or self.step_id:
            return
        on = self.listens
        self.listen_button.setHidden(on)
        for name in ("way", "host", "port", "file"):
            self.device.show_setting(name, not on)
        self.form.show_setting("source", not on)
        if hasattr(self, "keep_button"):
            text = "Stop and keep" if on else "Keep this step"
            self.keep_button.setText(text)
            self.keep_button.setAccessibleName(text)
            self.keep_button.setEnabled(on or self.work.draft is not None)
        if on:
            self._clock.start()
        else:
            self._clock.stop()
            self.work.follower.drop()
            self.live.emit(None)

    def load(self) -> None:
        """The buttons are there now."""
        super().load()
        self._show_state()

    def leave(self) -> None:
        """The device is heard on; it is drawn when the panel comes back."""
        self._clock.stop()
        self.work.follower.drop()
        self.live.emit(None)
        super().leave()

    # --- what is drawn

    def _fill_outlines(self) -> None:
        self.outline.addItem("none: between the soundings", "")
        for ref, name in self.fitting(_AREAS):
            self.outline.addItem(name, ref)
        self.outline.setCurrentIndex(self.outline.count() - 1)

    def look(self) -> None:
        """Ask for what was heard until now."""
        ear, frame = self.work.ear.listening, self.work.frame
        if ear is None:
            return
        self.state.setText(ear.state)
        if frame is not None and frame.crs is None:
            self.state.setText(f"{ear.state}. The ground states no reference system: nothing can be drawn.")
            return
        outcome = self.work.outcome(str(self.outline.currentData() or ""))
        area = None if outcome is None else outcome.of(Shapes)
        crs = None if frame is None else frame.crs
        asked, own = ListenSettings.model_validate(self.device.values()), self.settings()
        latency, offset = float(own.get("latency") or 0.0), float(own.get("offset") or 0.0)
        spacing = asked.spacing
        self.work.follower.ask(
            lambda: _picture(heard_so_far(ear, crs, area, spacing, latency, offset), spacing),
            self._draw, LARGE + 1,
        )  # fmt: skip

    def _draw(self, answer: tuple[Heard, Preview] | MossError) -> None:
        if self._left or not self.listens:
            return
        if isinstance(answer, MossError):
            self.state.setText(str(answer))
            return
        self.heard, preview = answer
        self.figures_so_far.show_rows(_rows(self.heard, self.work.study.telling))
        self.live.emit(preview.live)


def _rows(heard: Heard, telling: Telling) -> list[tuple[str, str]]:
    """Figures of what was heard."""
    rows = [("Soundings", f"{len(heard.depths):,}")]
    if len(heard.depths):
        rows.append(("Depth now", telling.value(float(heard.depths[-1]), METRE)))
    rows += [
        ("Spikes", f"{int(heard.spikes.sum()):,}"),
        ("Told again in one place", f"{int(heard.repeats.sum()):,}"),
        ("Wrong, and not used", f"{heard.wrong:,} of {heard.sentences:,}"),
    ]
    if math.isfinite(heard.largest_gap):
        rows.append(("Farthest from a sounding", telling.value(heard.largest_gap, METRE)))
    if heard.line is not None and heard.frame is not None:
        bearing = heard.frame.bearing(heard.line[0], heard.line[1])
        rows.append(("Next line runs to", f"{bearing:.0f}°"))
    elif heard.far is not None:
        rows.append(("Next line", "none: all is covered"))
    return rows


def _picture(heard: Heard, spacing: float) -> tuple[Heard, Preview]:
    """The way, depths, gaps and the next line, as they are drawn."""
    lines, dots = [], []
    if len(heard.way) > 1:
        step = max(1, len(heard.way) // _CORNERS)
        lines.append((np.concatenate([heard.way[::step], heard.way[-1:]]), DEEP))
    if heard.line is not None:
        lines.append((heard.line, OCHRE))
    good = ~(heard.spikes | heard.repeats)
    if good.any():
        depth = heard.depths[good]
        span = float(np.ptp(depth)) or 1.0
        grades = np.clip((depth - depth.min()) / span * _COLORS, 0, _COLORS - 1).astype(int)
        dots.append(Dots(heard.places[good], grades, tuple(colors_along("tarn", _COLORS))))
    if heard.spikes.any():
        dots.append(_alike(heard.places[heard.spikes], OCHRE, "cross"))
    if heard.repeats.any():
        dots.append(_alike(heard.places[heard.repeats], VIOLET, "ring"))
    veil = None
    if heard.far is not None and heard.frame is not None:
        with np.errstate(invalid="ignore"):
            grades = np.ceil(np.nan_to_num(heard.far / (0.5 * spacing) - 1.0)).clip(0, _GRADES)
        veil = graded_veil(grades.astype(np.uint8), heard.frame, WATER, _GRADES)
    marks = (tuple(heard.way[-1].tolist()),) if len(heard.way) else ()
    return heard, Preview("", Live(tuple(lines), veil, marks, tuple(dots), heard.box))


def _alike(places: np.ndarray, color: str, shape: Literal["cross", "ring"]) -> Dots:
    return Dots(places, np.zeros(len(places), int), (color,), shape)

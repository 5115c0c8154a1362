"""The Water bench: paths and catchments that follow the pointer, pools, floods and ridges that follow a
slider.
"""

from __future__ import annotations

from functools import partial
from typing import cast

import numpy as np
import shapely
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.place import PlacePanel
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.controls import SliderControl
from moss_step.desk.parts import button, row
from moss_step.desk.plan.live import Live, Preview, mask_veil, number_veil
from moss_step.desk.plan.tools.tool import Place
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.telling import Telling
from moss_step.model.words import measured
from moss_step.scene.colors import OCHRE, WATER
from moss_step.science.water import ridges, trace
from moss_step.science.water.basins import divided
from moss_step.science.water.drainage import Drainage, prepare, prepared
from moss_step.science.water.indices import stage_curve
from moss_step.science.water.kernels.trace import longest_up, path_down


class WaterPanel(PlacePanel):
    """A step about water, over a ground that is prepared in the background."""

    def build(self, layout: QVBoxLayout) -> None:
        """Nothing is being prepared yet."""
        self._preparing: Surface | None = None
        super().build(layout)

    @property
    def drainage(self) -> Drainage | None:
        """The ground chosen, prepared; None while it is being prepared in the background."""
        dem = self.ground()
        if dem is None:
            return None
        result = prepared(dem)
        if result is None and self._preparing is not dem:
            self._preparing = dem
            self.said.setText("Preparing the ground …")
            self.work.helper.ask_long(lambda progress: prepare(dem, progress), self._on_prepared)
        return result

    def _on_prepared(self, answer: Drainage | MossError) -> None:
        if not self._left:
            self.said.setText(str(answer) if isinstance(answer, MossError) else "")
            if isinstance(answer, MossError):
                self._preparing = None  # it may be asked again
            if isinstance(answer, Drainage):
                self.on_ready(answer)

    def on_ready(self, drainage: Drainage) -> None:
        """The ground was prepared."""

    def draw_path(self, place: Place | None, up: bool) -> None:
        """Draw the way of the water from the pointer, or the longest to it, with its length and drop."""
        drainage = self.drainage
        if drainage is None or place is None:
            self.draw_nothing()
            return
        try:
            cell = trace.cell_at(drainage.dem, *place)
        except MossError:
            self.draw_nothing()
            return
        cells = int(drainage.cells.reshape(-1)[cell]) if up else 0
        telling = self.work.study.telling
        self.work.follower.ask(lambda: _path(drainage, cell, up, place, telling), self.draw, cells)


class PathPanel(WaterPanel):
    """The path of the water from the pointer; a click keeps its start, another button cuts it."""

    places = "start"

    def build(self, layout: QVBoxLayout) -> None:
        """Cutting, and the catchment of the end."""
        super().build(layout)
        cut = button(
            "Cut it by a click",
            "The path ends at the point nearest to the next click",
            lambda: self._aim("cut"),
        )
        end = button(
            "Catchment of end", "Begin the catchment of the point that the path ends at", self._catchment
        )
        layout.addWidget(row(cut, end, gap=4))

    def follow(self, place: Place | None) -> None:
        """Draw the path from the pointer, with its length and drop."""
        self.draw_path(place, self.settings().get("side") == "up")

    def use_point(self, x: float, y: float) -> bool:
        """Take the start, or the place to cut at."""
        taken = super().use_point(x, y)
        self._aim("start")
        return taken

    def _aim(self, setting: str) -> None:
        self.places = setting

    def _catchment(self) -> None:
        outcome = self.work.outcome("draft" if self.work.draft else self.step_id)
        path = outcome.of(Shapes) if outcome is not None else None
        if path is None:
            self.work.message.emit("Click on the plan first: the path needs a start.", True)
            return
        x, y = shapely.get_coordinates(path.geometry[0])[-1]
        if self.work.draft is not None and not self.step_id:
            self.work.keep_draft()
        self.step_wanted.emit("catchment", (float(x), float(y)))


class DamPanel(WaterPanel):
    """The longest way that reaches the pointer; a click sets the dam."""

    places = "dam"

    def follow(self, place: Place | None) -> None:
        """Draw the longest way to the pointer until there is a dam."""
        self.draw_path(None if self.settings().get("dam") else place, True)

    def use_point(self, x: float, y: float) -> bool:
        """Take the dam."""
        self.draw_nothing()
        return super().use_point(x, y)


class CatchmentPanel(WaterPanel):
    """All that drains to the pointer; a click keeps it."""

    places = "at"

    def follow(self, place: Place | None) -> None:
        """Veil the catchment of the pointer."""
        drainage = self.drainage
        if drainage is None or place is None:
            self.draw_nothing()
            return
        try:
            cell = trace.cell_at(drainage.dem, *place)
            snap = float(self.settings().get("snap") or 0.0)
        except (MossError, ValueError):
            self.draw_nothing()
            return
        cells = int(drainage.cells.reshape(-1)[cell])
        if snap > 0:  # where it snaps to is not known yet: at most all of the ground drains there
            cells = drainage.cells.size
        telling = self.work.study.telling
        self.work.follower.ask(lambda: _catchment(drainage, cell, snap, telling), self.draw, cells)


def _path(drainage: Drainage, cell: int, up: bool, place: Place, telling: Telling) -> Preview:
    cells = longest_up(drainage.ways, drainage.metres, cell) if up else path_down(drainage.ways, cell)
    length = trace.path_metres(drainage, cells)[-1]
    z = drainage.z.reshape(-1)
    drop = float(z[cells[0]] - z[cells[-1]])
    long, fall = telling.length_text(float(length)), telling.value(drop, drainage.dem.unit)
    said = f"{long} long, {fall} of drop. Click to take it."
    return Preview(said, Live(((trace.centres(drainage, cells), WATER),), None, (place,)))


def _catchment(drainage: Drainage, cell: int, snap: float, telling: Telling) -> Preview:
    cell = trace.snapped(drainage, cell, snap) if snap > 0 else cell
    marks = np.zeros(drainage.ways.shape, np.uint8)
    count, r0, r1, c0, c1 = trace.mark_catchment(drainage, cell, 1, marks)
    rows, cols = slice(r0, r1 + 1), slice(c0, c1 + 1)
    area = float((marks[rows, cols].sum(axis=1) * drainage.frame.row_areas[rows]).sum())
    x, y = trace.centres(drainage, np.array([cell]))[0]
    said = f"{telling.area_text(area)} drain to the pointer ({count:,} cells). Click to take it.".replace(
        ",", " "
    )
    return Preview(
        said, Live((), mask_veil(marks[rows, cols], drainage.frame.part(rows, cols)), ((float(x), float(y)),))
    )


def _basins(drainage: Drainage, depth: float) -> Preview:
    numbered, nodes, _ = divided(drainage, depth)
    return Preview(
        f"{len(nodes):,} basins".replace(",", " "), Live((), number_veil(numbered, drainage.frame))
    )


class BasinPanel(WaterPanel):
    """Basins whose dividing pools follow a slider."""

    def build(self, layout: QVBoxLayout) -> None:
        """Watch the slider."""
        super().build(layout)
        self.form.control("min_depth", SliderControl).sliding.connect(self._slide)

    def load(self) -> None:
        """Set the slider's range by the deepest pool."""
        super().load()
        drainage = self.drainage
        if drainage is not None:
            self.on_ready(drainage)

    def on_ready(self, drainage: Drainage) -> None:
        """The deepest pool ends the slider."""
        self.form.control("min_depth", SliderControl).set_range(
            0.0, max(float(drainage.pools.depth.max()), 0.01)
        )

    def _slide(self, depth: float) -> None:
        drainage = self.drainage
        if drainage is not None:
            self.work.follower.ask(lambda: _basins(drainage, depth), self.draw, drainage.cells.size)


class FloodPanel(WaterPanel):
    """Ground under a stage that follows a slider, with its area and volume."""

    def build(self, layout: QVBoxLayout) -> None:
        """Watch the slider."""
        super().build(layout)
        self._curve: tuple[Surface, tuple[np.ndarray, np.ndarray, np.ndarray]] | None = None
        control = self.form.control("stage", SliderControl)
        control.set_range(0.1, 20.0)
        control.sliding.connect(self.slide)

    def slide(self, stage: float) -> None:
        """Veil what lies under a stage."""
        outcome = self.work.outcome(str(self._inputs["above"].currentData() or ""))
        above = outcome.of(Surface) if outcome is not None else None
        if above is None:
            return
        known = self._curve is not None and self._curve[0] is above
        self.work.follower.ask(
            lambda: self._flooded(above, stage), self.draw, 0 if known else above.values.size
        )

    def _flooded(self, above: Surface, stage: float) -> Preview:
        curve = self._curve
        if curve is None or curve[0] is not above:
            self._curve = curve = above, stage_curve(above, 400, 25.0 / above.metres_per_height)
        stages, *sums = curve[1]
        area, volume = (float(np.interp(stage, stages, v)) for v in sums)
        step = max(1, max(above.values.shape) // 1400)
        veil = mask_veil(above.values[::step, ::step] < stage, above.frame)
        said = f"{self.work.study.telling.area_text(area)} under water, {measured(volume)} m³"
        return Preview(said, Live((), veil))


_MOST_LINES = 3000
"""The longest lines, which are drawn while a slider moves."""


class RidgePanel(WaterPanel):
    """Ridges and valleys that follow two sliders."""

    def build(self, layout: QVBoxLayout) -> None:
        """Watch the sliders."""
        super().build(layout)
        self._lines: tuple[object, Shapes] | None = None
        self._asked: object = None
        for name, most in (("least_length", 1000.0), ("least_steepness", 30.0)):
            control = self.form.control(name, SliderControl)
            control.set_range(0.0, most)
            control.sliding.connect(lambda _: self.slide())

    def slide(self) -> None:
        """Draw the lines that are long and steep enough now."""
        dem, settings = self.ground(), self.settings()
        if dem is None:
            return
        which, detail = str(settings["which"]), float(settings.get("detail") or ridges.usual_detail(dem))
        wanted = (id(dem), which, detail)
        if self._lines is None or self._lines[0] != wanted:
            if self._asked != wanted:
                self._asked = wanted
                find = partial(ridges.ridges_and_valleys, dem, cast(ridges.Which, which), detail)
                self.work.helper.ask(find, lambda result: self._on_lines(wanted, result))
            return
        lines = self._lines[1]
        rows = ridges.strong_enough(
            lines, float(settings["least_length"]), float(settings["least_steepness"])
        )
        self.said.setText(f"{len(rows):,} of {len(lines):,} lines".replace(",", " "))
        kinds = lines.columns["kind"]
        if len(rows) > _MOST_LINES:  # the plan draws all of them once they are kept
            rows = rows[np.argsort(-lines.columns["length_m"][rows])[:_MOST_LINES]]
        drawn = [
            (shapely.get_coordinates(lines.geometry[k]), WATER if kinds[k] == "valley" else OCHRE)
            for k in rows
        ]
        self.live.emit(Live(tuple(drawn)))

    def _on_lines(self, wanted: object, result: Shapes | MossError) -> None:
        if not isinstance(result, MossError) and not self._left:
            self._lines = (wanted, result)
            self.slide()


class WaterBench(StepBench):
    """Paths, catchments and pools that follow the pointer or a slider."""

    name = "water"
    usual = WaterPanel
    panels = {
        "flow_path": PathPanel,
        "catchment": CatchmentPanel,
        "dam_catchment": DamPanel,
        "basins": BasinPanel,
        "flood": FloodPanel,
        "ridges_valleys": RidgePanel,
    }

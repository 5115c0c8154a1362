"""The section drawer under the plan: the ground and every surface shown along a line, linked with the
plan.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import shapely
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from moss_step.desk.chart import CHART_FILES
from moss_step.desk.parts import label, tool
from moss_step.desk.plain import speak
from moss_step.desk.section.chart import EMPTY, SectionChart
from moss_step.desk.work import Work
from moss_step.model.surface import Surface
from moss_step.scene.layers import Scene
from moss_step.science.relief.profile import profile
from moss_step.science.sight.line import SightLine
from moss_step.steps.catalogue import keeper

Line = tuple[float, float, float, float]
_POINTS = 1500


class SectionDrawer(QWidget):
    """The chart with what is under the pointer, vertical exaggeration and export."""

    marked = Signal(object)
    """A place of the line to mark on the plan, as an array of one point; None ends that."""
    line_wanted = Signal()
    """Another line is to be drawn."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.setObjectName("panel")
        self.chart = SectionChart()
        self.chart.pointed.connect(self._say)
        self.said = label("", "muted")
        head = QHBoxLayout()
        head.setContentsMargins(14, 6, 10, 0)
        head.addWidget(label("Section", "head"))
        head.addWidget(self.said, 1)
        for part in (
            tool("chart-line", "Draw another line on the plan", self.line_wanted.emit),
            tool("plus", "Keep the section as a step", self.keep),
            tool("download-simple", "Hand the section on: CSV, PNG or SVG", self._ask),
        ):
            head.addWidget(part)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(head)
        layout.addWidget(self.chart, 1)
        work.published.connect(self._tell)
        self.line: Line | None = None
        self._steps: list[str] = []

    def show_line(self, line: Line, scene: Scene) -> None:
        """Show every surface of a scene along a straight line."""
        self.line = line
        x1, y1, x2, y2 = line
        self.show_path(np.array([(x1, y1), (x2, y2)]), scene)

    def show_path(self, xy: np.ndarray, scene: Scene) -> None:
        """Show every surface of a scene along a path of coordinates."""
        surfaces: dict[str, Surface] = {}
        self._steps = []
        if scene.ground is not None:
            surfaces["Ground"] = scene.ground.value
        for layer in scene.layers:
            if (picture := layer.picture.surface) is not None and picture is not scene.ground:
                surfaces.setdefault(layer.name, picture.value)
        path = shapely.LineString(xy) if len(xy) > 1 else shapely.LineString()
        if not surfaces or path.length == 0:
            self.chart.show_table(None, [])
            return
        table = profile(surfaces, path, path.length / _POINTS)
        self.chart.show_table(table, list(surfaces))
        self._say(-1)

    def show_sight(self, seen: SightLine) -> None:
        """Show a sight line with its ray and what stands in the way."""
        self.line = (float(seen.x[0]), float(seen.y[0]), float(seen.x[-1]), float(seen.y[-1]))
        self.chart.show_table(seen.chart(), ["ground"], seen)
        self._say(-1)

    def _tell(self) -> None:
        """Follow the units of the study."""
        if self.work.study.telling != self.chart.telling:
            self.chart.tell_in(self.work.study.telling)
            self._say(self.chart.at)

    def keep(self) -> None:
        """Keep the section of the shaded ground as a step."""
        ground = self.work.study.shading.ground
        if self.line is not None and ground:
            kind = keeper("section")
            self.work.add_step(
                kind.kind, {kind.inputs[0].name: ground}, {kind.setting_by("line"): list(self.line)}
            )

    def write(self, path: Path) -> None:
        """Write the section; the ending chooses CSV, PNG or SVG."""
        if self.chart.table is None:
            return
        table = self.chart.table
        symbols = {n: table.unit(n).symbol for n in table.columns}
        self.chart.hand_on(self.work, path, table.columns, symbols)

    def _ask(self) -> None:
        path = self.work.folder.ask_save(self, "Hand the section on", "section.csv", CHART_FILES, ".csv")
        if path is not None:
            self.write(path)

    def _say(self, at: int) -> None:
        """Say distance, values and slope under the pointer, or the whole line's length."""
        self._say_in_words(at)
        speak(self.chart, self.said.text() or EMPTY)

    def _say_in_words(self, at: int) -> None:
        table, names = self.chart.table, self.chart.names
        if table is None:
            self.said.setText("")
            return
        distance, telling = table.columns["distance"], self.work.study.telling
        stated = f"heights drawn {self.chart.exaggeration:.1f} times"
        sight = self.chart.sight
        if at < 0 and sight is not None:
            first = (
                f"first obstacle at {telling.length_text(sight.obstacles[0][0])}"
                if sight.obstacles
                else f"open, {telling.length_text(sight.clearance)} clear"
            )
            bend = float(np.interp(distance[-1], sight.distance, sight.fall))
            stated = (
                f"{first} · {sight.share_seen:.0%} seen · the earth's bend takes "
                f"{telling.length_text(bend)} at its end · {stated}"
            )
        if at < 0:
            self.said.setText(f"{telling.length_text(float(distance[-1]))} long · {stated}")
            self.marked.emit(None)
            return
        parts = [telling.length_text(float(distance[at]))]
        if sight is not None:
            parts.append("seen" if sight.seen[at] else "hidden")
            clear = float(sight.ray[at] - max(sight.top[at], sight.ground[at]))
            parts.append(
                f"ray {telling.length_text(abs(clear))} {'above' if clear >= 0 else 'below the top of'} what "
                "stands there"
            )
        parts += [f"{n} {telling.value(float(table.columns[n][at]), table.unit(n))}" for n in names]
        a, b = max(at - 1, 0), min(at + 1, len(table) - 1)
        unit = table.unit(names[0])
        rise = (table.columns[names[0]][b] - table.columns[names[0]][a]) * (
            unit.factor if unit.kind == "length" else 1.0
        )
        if distance[b] > distance[a] and rise == rise:
            parts.append(
                f"slope along the line {np.degrees(np.arctan(rise / (distance[b] - distance[a]))):.1f}°"
            )
        self.said.setText(" · ".join([*parts, stated]))
        self.marked.emit(np.array([shapely.Point(table.columns["x"][at], table.columns["y"][at])]))

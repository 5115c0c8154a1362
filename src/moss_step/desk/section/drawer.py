"""The section drawer under the plan: the ground and every surface shown along a line, linked with the
plan.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import shapely
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QVBoxLayout, QWidget

from moss_step.desk.chart import CHART_FILES
from moss_step.desk.parts import label, tool
from moss_step.desk.plain import set_tip, speak
from moss_step.desk.section.chart import EMPTY, SectionChart
from moss_step.desk.work import Work
from moss_step.model.shapes import free_name
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.scene.corridor import beside, clouds_of
from moss_step.scene.kinds.cloud import CloudPicture, said_of
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.layers import Scene
from moss_step.scene.pairs import Pair, pair_of
from moss_step.science.relief.profile import profile
from moss_step.science.sight.line import SightLine
from moss_step.steps.catalogue import keeper

Line = tuple[float, float, float, float]
_POINTS, _WIDTH = 1500, 4.0
"""Places along a line, and metres that a section with points is wide at first."""
_LOWEST = "Lowest points"


class SectionDrawer(QWidget):
    """The chart with what is under the pointer, vertical exaggeration and export."""

    marked = Signal(object)
    """A place of the line to mark on the plan, as an array of one point; None ends that."""
    line_wanted = Signal()
    """Another line is to be drawn."""
    classes_wanted = Signal(str, object)
    """Points of a cloud that a lasso holds are to get another class: the cloud's result, and settings."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.setObjectName("panel")
        self.chart = SectionChart()
        self.chart.pointed.connect(self._say)
        self.chart.stretched.connect(self._say_again)
        self.said = label("", "muted")
        head = QHBoxLayout()
        head.setContentsMargins(14, 6, 10, 0)
        head.addWidget(label("Section", "head"))
        head.addWidget(self.said, 1)
        self.width_field = QDoubleSpinBox()
        self.width_field.setRange(0.1, 1000.0)
        self.width_field.setDecimals(1)
        self.width_field.setValue(_WIDTH)
        self.width_field.setSuffix(" m")
        self.width_field.setAccessibleName("Width of the section")
        set_tip(self.width_field, "Points within half of it to both sides of the line are drawn")
        self.width_field.setKeyboardTracking(False)
        self.width_field.valueChanged.connect(lambda _: self._again())
        self.lasso_button = tool(
            "polygon", "Draw around points, to give them another class", self.draw_around
        )
        self.lasso_button.setCheckable(True)
        for part in (self.width_field, self.lasso_button):
            part.hide()
            head.addWidget(part)
        self.chart.lassoed.connect(self._catch)
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
        self._path: np.ndarray | None = None
        self._scene: Scene | None = None

    def show_line(self, line: Line, scene: Scene) -> None:
        """Show every surface of a scene along a straight line."""
        self.line = line
        x1, y1, x2, y2 = line
        self.show_path(np.array([(x1, y1), (x2, y2)]), scene)

    def show_path(self, xy: np.ndarray, scene: Scene) -> None:
        """Show every surface of a scene along a path of coordinates."""
        self._path, self._scene = xy, scene
        clouds = clouds_of(scene)
        for part in (self.width_field, self.lasso_button):
            part.setVisible(bool(clouds))
        path = shapely.LineString(xy) if len(xy) > 1 else shapely.LineString()
        pair = pair_of(self.work)
        surfaces = _surfaces(scene, pair)
        if path.length == 0 or not (surfaces or clouds):
            self.chart.show_table(None, [])
            return
        tops = _tops(scene)
        own = scene.ground is None or scene.ground in tops
        if own and tops:  # the ground line is that of the lowest points
            surfaces = {_LOWEST: tops[0].value, **surfaces}
        table = profile(surfaces, path, path.length / _POINTS)
        points = [beside(c, xy, self.width_field.value(), table.unit(next(iter(surfaces)))) for c in clouds]
        if own and points:
            table.columns[_LOWEST][:] = points[0].lowest(table.columns["distance"])
        named = {id(s): n for n, s in surfaces.items()}
        moved = () if pair is None else (named[id(pair.before)], named[id(pair.after)])
        self.chart.show_table(table, list(surfaces), points=points, alike=_alike(surfaces), moved=moved)
        self._say(-1)

    def _again(self) -> None:
        """Draw the same line with another width."""
        if self._path is not None and self._scene is not None and self.chart.table is not None:
            self.show_path(self._path, self._scene)

    def follow(self, scene: Scene) -> None:
        """Draw the same line through what the plan draws now; what was drawn around points stays."""
        held = self._scene
        if held is None or self._path is None or self.chart.table is None or held.looks == scene.looks:
            return
        corners = self.chart.corners
        self.show_path(self._path, scene)
        if self.chart.points:
            self.chart.show_lasso(corners)

    def draw_around(self) -> None:
        """Let the next pull in the chart draw around points, or not."""
        self.chart.use_lasso(self.lasso_button.isChecked())

    def _catch(self, corners: list[tuple[float, float]]) -> None:
        """Offer another class for the points that were drawn around."""
        self.lasso_button.setChecked(False)
        self.chart.use_lasso(False)
        straight = self._path is not None and len(self._path) == 2
        if not self.chart.points or self._path is None or not straight:
            self.work.message.emit("A lasso needs a straight line. Draw one on the plan.", True)
            return
        drawn = self.chart.points[0]
        unit = METRE if self.chart.table is None else self.chart.table.unit(self.chart.names[0])
        factor = unit.metres / drawn.cloud.unit.metres
        settings = {
            "line": tuple(float(v) for v in self._path.reshape(-1)),
            "width": self.width_field.value(),
            "lasso": tuple((x, y * factor) for x, y in corners),
        }
        self.classes_wanted.emit(drawn.step, settings)

    def show_sight(self, seen: SightLine) -> None:
        """Show a sight line with its ray and what stands in the way."""
        self.line = (float(seen.x[0]), float(seen.y[0]), float(seen.x[-1]), float(seen.y[-1]))
        self._path = None
        for part in (self.width_field, self.lasso_button):
            part.hide()
        self.chart.show_table(seen.chart(), ["ground"], seen)
        self._say(-1)

    def _tell(self) -> None:
        """Follow the units of the study."""
        if self.work.study.telling != self.chart.telling:
            self.chart.tell_in(self.work.study.telling)
            self._say(self.chart.at)

    def _say_again(self) -> None:
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
            counted = [f"{sum(p.count for p in self.chart.points):,} points"] if self.chart.points else []
            whole = [f"{telling.length_text(float(distance[-1]))} long", *counted, stated]
            self.said.setText(" · ".join(whole))
            self.marked.emit(None)
            return
        parts = [telling.length_text(float(distance[at]))]
        if self.chart.near is not None:
            drawn, place = self.chart.near
            point = int(drawn.rows[place])
            parts = [telling.length_text(float(drawn.along[place])), *said_of(drawn.cloud, point, telling)]
            self.said.setText(" · ".join(parts))
            self.marked.emit(np.array([shapely.Point(drawn.cloud.x[point], drawn.cloud.y[point])]))
            return
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
        rise = (table.columns[names[0]][b] - table.columns[names[0]][a]) * unit.metres
        if distance[b] > distance[a] and rise == rise:
            parts.append(
                f"slope along the line {np.degrees(np.arctan(rise / (distance[b] - distance[a]))):.1f}°"
            )
        self.said.setText(" · ".join([*parts, stated]))
        self.marked.emit(np.array([shapely.Point(table.columns["x"][at], table.columns["y"][at])]))


def _alike(surfaces: dict[str, Surface]) -> dict[str, float]:
    """Surfaces that measure what the first one does, with the factor that brings each to its unit."""
    (_, first), *others = surfaces.items()
    kind = first.unit.kind
    return {
        name: other.unit.factor / first.unit.factor
        for name, other in others
        if other.quantity == first.quantity and other.unit.kind == kind and kind == "length"
    }


def _surfaces(scene: Scene, pair: Pair | None) -> dict[str, Surface]:
    """The ground and every surface that is drawn, by name; a cloud's highest points are none. Of two that are
    compared both stand for their difference.
    """
    tops = _tops(scene)
    surfaces: dict[str, Surface] = {}
    if scene.ground is not None and scene.ground not in tops:
        surfaces["Ground"] = scene.ground.value
    for layer in scene.layers:
        picture = layer.picture.surface
        stands = pair is not None and picture is not None and picture.value.quantity == "difference"
        if picture is not None and picture is not scene.ground and picture not in tops and not stands:
            surfaces.setdefault(layer.name, picture.value)
    if pair is not None:
        there = {id(s) for s in surfaces.values()}
        both = zip(pair.names, (pair.before, pair.after), strict=True)
        surfaces |= {free_name(n, surfaces): s for n, s in both if id(s) not in there}
    return surfaces


def _tops(scene: Scene) -> list[SurfacePicture]:
    """The highest points of the clouds that are drawn."""
    return [la.picture.surface for la in scene.layers if isinstance(la.picture, CloudPicture)]

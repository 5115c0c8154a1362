"""The section drawer under the plan: the ground and every surface shown along a line, linked with the
plan.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import shapely
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from moss_step.desk.parts import label, tool
from moss_step.desk.section.sight import heights_in, paint_sight
from moss_step.desk.theme import font
from moss_step.desk.work import Work
from moss_step.formats.columns_csv import table_text
from moss_step.formats.whole import write_text
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.model.words import value_text
from moss_step.scene.colors import DEEP, GROUND, INK, LICHEN, MOSS, MUTED, OCHRE, RULED, VIOLET, WATER
from moss_step.scene.layers import Scene
from moss_step.science.relief.profile import profile
from moss_step.science.sight.line import SightLine
from moss_step.steps.results import measured

Line = tuple[float, float, float, float]
_LEFT, _RIGHT, _TOP, _FOOT = 66, 42, 10, 24
_OTHERS = (OCHRE, WATER, MOSS, VIOLET)
_POINTS = 1500


class SectionChart(QWidget):
    """Draws the values along a line; tells the place under the pointer."""

    pointed = Signal(int)
    """Number of the point under the pointer; -1 outside."""

    def __init__(self) -> None:
        super().__init__()
        self.table: Table | None = None
        self.names: list[str] = []
        self.sight: SightLine | None = None
        self.at = -1
        self.setMouseTracking(True)
        self.setMinimumHeight(110)
        self.setAccessibleName("Section")

    def show_table(self, table: Table | None, names: list[str], sight: SightLine | None = None) -> None:
        """Show the values of a profile, the ground first, or those of a sight line."""
        self.table, self.names, self.at, self.sight = table, names, -1, sight
        self.update()

    @property
    def exaggeration(self) -> float:
        """How many times heights are drawn larger than distances."""
        span = self._span()
        if self.table is None or span is None or self.table.unit(self.names[0]).kind != "length":
            return 1.0
        factor = self.table.unit(self.names[0]).factor
        across = (self.width() - _LEFT - _RIGHT) / max(float(self.table.columns["distance"][-1]), 1e-9)
        up = (self.height() - _TOP - _FOOT) / max((span[1] - span[0]) * factor, 1e-9)
        return up / across

    def _span(self) -> tuple[float, float] | None:
        if self.table is None or not self.names:
            return None
        values = self.table.columns[self.names[0]] if self.sight is None else heights_in(self.sight)
        if np.isnan(values).all():
            return None
        low, high = float(np.nanmin(values)), float(np.nanmax(values))
        pad = (high - low) * 0.08 or 1.0
        return low - pad, high + pad * (
            1 if self.sight is None else 3
        )  # marks of obstacles stand over the ground

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw axes, ground, other surfaces and the place that is pointed at."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        span = self._span()
        if self.table is None or span is None:
            painter.setPen(QColor(MUTED))
            painter.drawText(
                self.rect(), Qt.AlignmentFlag.AlignCenter, "Draw a line on the plan: press, pull, let go."
            )
            return
        distance = self.table.columns["distance"]
        plot = QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - _FOOT)
        xs = plot.left() + distance / max(float(distance[-1]), 1e-9) * plot.width()
        self._paint_axes(painter, plot, span, float(distance[-1]))
        for k, name in enumerate(self.names[1:] if self.sight is None else ()):
            self._paint_curve(painter, plot, xs, self.table.columns[name], QColor(_OTHERS[k % len(_OTHERS)]))
        ground = self.table.columns[self.names[0]]

        def y_of(heights: np.ndarray) -> np.ndarray:
            return plot.bottom() - (heights - span[0]) / (span[1] - span[0]) * plot.height()

        ys = y_of(ground)
        known = ~np.isnan(ys)
        line = [QPointF(x, y) for x, y in zip(xs[known], ys[known], strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        fill = QColor(GROUND)
        fill.setAlpha(150)
        painter.setBrush(fill)
        painter.drawPolygon(
            QPolygonF([QPointF(line[0].x(), plot.bottom()), *line, QPointF(line[-1].x(), plot.bottom())])
        )
        painter.setPen(QPen(QColor(DEEP), 2.0))
        painter.drawPolyline(line)
        if self.sight is not None:
            paint_sight(painter, plot, xs, y_of, self.sight)
        if 0 <= self.at < len(xs):
            painter.setPen(QPen(QColor(INK), 1.0, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(xs[self.at], plot.top()), QPointF(xs[self.at], plot.bottom()))
            if known[self.at]:
                painter.setBrush(QColor(LICHEN))
                painter.drawEllipse(QPointF(xs[self.at], ys[self.at]), 5, 5)

    def _paint_axes(self, painter: QPainter, plot: QRectF, span: tuple[float, float], length: float) -> None:
        table = as_kind(self.table, Table)
        painter.setFont(font(11))
        unit = table.unit(self.names[0])
        for k in range(4):
            value = span[0] + (span[1] - span[0]) * k / 3
            y = plot.bottom() - plot.height() * k / 3
            painter.setPen(QColor(RULED))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(QColor(MUTED))
            painter.drawText(
                QRectF(0, y - 8, _LEFT - 8, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                value_text(value, unit),
            )
        for k in range(6):
            x = plot.left() + plot.width() * k / 5
            painter.drawText(
                QRectF(x - 40, plot.bottom() + 5, 80, 16),
                Qt.AlignmentFlag.AlignCenter,
                f"{length * k / 5:,.0f} m".replace(",", " "),
            )

    def _paint_curve(
        self, painter: QPainter, plot: QRectF, xs: np.ndarray, values: np.ndarray, color: QColor
    ) -> None:
        """Another surface, on a scale of its own."""
        if np.isnan(values).all():
            return
        low, high = np.nanmin(values), np.nanmax(values)
        ys = plot.bottom() - (values - low) / ((high - low) or 1.0) * plot.height() * 0.9
        known = ~np.isnan(ys)
        painter.setPen(QPen(color, 1.3))
        painter.drawPolyline([QPointF(x, y) for x, y in zip(xs[known], ys[known], strict=True)])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Point at a place of the line."""
        if self.table is None:
            return
        share = (event.position().x() - _LEFT) / max(self.width() - _LEFT - _RIGHT, 1)
        self.at = min(max(round(share * (len(self.table) - 1)), 0), len(self.table) - 1)
        self.update()
        self.pointed.emit(self.at)


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
            tool("download-simple", "Hand the section on as CSV", self._ask),
        ):
            head.addWidget(part)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(head)
        layout.addWidget(self.chart, 1)
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

    def keep(self) -> None:
        """Keep the section of the shaded ground as a step."""
        ground = self.work.study.shading.ground
        if self.line is not None and ground:
            self.work.add_step("profile", {"surface": ground}, {"line": list(self.line)})

    def write(self, path: Path) -> None:
        """Write the section as CSV."""
        if self.chart.table is None:
            return
        columns = self.chart.table.columns
        self.work.write(lambda: write_text(path, table_text(columns)), path)

    def _ask(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Hand the section on", "section.csv", "CSV (*.csv)")
        if name:
            self.write(Path(name))

    def _say(self, at: int) -> None:
        """Say distance, values and slope under the pointer, or the whole line's length."""
        table, names = self.chart.table, self.chart.names
        if table is None:
            self.said.setText("")
            return
        distance = table.columns["distance"]
        stated = f"heights drawn {self.chart.exaggeration:.1f} times"
        sight = self.chart.sight
        if at < 0 and sight is not None:
            first = (
                f"first obstacle at {measured(sight.obstacles[0][0])} m"
                if sight.obstacles
                else f"open, {measured(sight.clearance)} m clear"
            )
            bend = float(np.interp(distance[-1], sight.distance, sight.fall))
            stated = (
                f"{first} · {sight.share_seen:.0%} seen · the earth's bend takes {measured(bend)} m at "
                f"its end · {stated}"
            )
        if at < 0:
            self.said.setText(f"{distance[-1]:,.0f} m long · {stated}".replace(",", " "))
            self.marked.emit(None)
            return
        parts = [f"{distance[at]:,.0f} m".replace(",", " ")]
        if sight is not None:
            parts.append("seen" if sight.seen[at] else "hidden")
            clear = float(sight.ray[at] - max(sight.top[at], sight.ground[at]))
            parts.append(
                f"ray {measured(abs(clear))} m {'above' if clear >= 0 else 'below the top of'} what "
                "stands there"
            )
        parts += [f"{n} {value_text(float(table.columns[n][at]), table.unit(n))}" for n in names]
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

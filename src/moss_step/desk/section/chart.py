"""The chart of a section: the ground along a line, other surfaces over it, or a sight line with its ray."""

from __future__ import annotations

import html
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QMouseEvent

from moss_step.desk.chart import PlotFrame
from moss_step.desk.plain import speak
from moss_step.desk.section.points import Lasso, points_item
from moss_step.desk.section.sight import heights_in, sight_items
from moss_step.desk.tones import shade, tone
from moss_step.model.table import Table
from moss_step.model.telling import USUAL, Telling
from moss_step.model.units import METRE
from moss_step.scene.colors import CARD, DEEP, GROUND, INK, LICHEN, MOSS, OCHRE, VIOLET, WATER
from moss_step.scene.corridor import Beside
from moss_step.science.sight.line import SightLine

_OTHERS = (OCHRE, WATER, MOSS, VIOLET)
_SHADED = 150
"""How dense cut and fill are drawn."""
_REACH = 8.0
"""Pixels within which a point is read."""
EMPTY = "Draw a line on the plan: press, pull, let go."


class SectionChart(PlotFrame):
    """Draws the values along a line; tells the place under the pointer."""

    pointed = Signal(int)
    """Number of the point under the pointer; -1 outside."""
    lassoed = Signal(object)
    """Corners that were drawn around points: metres along the line, and heights."""
    clicked = Signal(object, int)
    """A point of a cloud was clicked: the points that are drawn, and its place among them."""
    stretched = Signal()
    """The room for curves is another, and so is how many times heights are drawn."""

    def __init__(self) -> None:
        super().__init__()
        self.table: Table | None = None
        self.names: list[str] = []
        self.sight: SightLine | None = None
        self.points: list[Beside] = []
        self.alike: dict[str, float] = {}
        self.moved: tuple[str, ...] = ()
        self.near: tuple[Beside, int] | None = None
        self.lasso: Lasso | None = None
        self.lassoing = False
        self.corners: tuple[tuple[float, float], ...] = ()
        self.at = -1
        self.level: float | None = None
        self.telling = USUAL
        self._items: list[Any] = []
        self._drawn: tuple[object, ...] = ()
        self.setMouseTracking(True)
        self.setMinimumHeight(110)
        self.setAccessibleName("Section")
        speak(self, EMPTY)
        self.ask()

    def show_table(
        self,
        table: Table | None,
        names: list[str],
        sight: SightLine | None = None,
        points: list[Beside] | None = None,
        alike: Mapping[str, float] | None = None,
        moved: Sequence[str] = (),
    ) -> None:
        """Show the values of a profile, the ground first, or those of a sight line; and points beside it.

        ``alike`` are the names of those that measure what the ground does, and are drawn on its scale, with
        the factor that brings each to its unit; all others have a scale of their own. Between the two of
        ``moved``, the ground before and after, cut and fill are shaded.
        """
        self.alike, self.moved = dict(alike or {}), tuple(moved)
        self.table, self.names, self.at, self.sight = table, names, -1, sight
        self.points, self.near = points or [], None
        self.show_lasso(())
        self.ask()

    def show_lasso(self, corners: Sequence[tuple[float, float]]) -> None:
        """Show what was drawn around points."""
        self.corners = tuple(corners)
        if self.lasso is not None:
            self.lasso.show(self.corners)

    def _keep_lasso(self, corners: Sequence[tuple[float, float]]) -> None:
        self.corners = tuple(corners)
        self.lassoed.emit(corners)

    def show_level(self, level: float | None) -> None:
        """Draw a level over the ground, such as that of water, or none."""
        if level != self.level:
            self.level = level
            self.ask()

    def use_lasso(self, on: bool) -> None:
        """Let a pull draw around points, or point at the line again."""
        self.lassoing = on
        if self.lasso is not None:
            self.lasso.on = on
        self.setCursor(Qt.CursorShape.CrossCursor if on else Qt.CursorShape.ArrowCursor)

    def tell_in(self, telling: Telling) -> None:
        """Tell distances and heights in other units."""
        self.telling = telling
        self.ask()

    def point_at(self, at: int) -> None:
        """Mark a point of the line."""
        self.at = at
        self.ask()

    @property
    def exaggeration(self) -> float:
        """How many times heights are drawn larger than distances."""
        span = self._span()
        if self.table is None or span is None or self.table.unit(self.names[0]).kind != "length":
            return 1.0
        factor = self.table.unit(self.names[0]).factor
        box = self.plot.getViewBox().rect() if self.plot is not None else self.rect()
        across = box.width() / max(float(self.table.columns["distance"][-1]), 1e-9)
        return (box.height() / max((span[1] - span[0]) * factor, 1e-9)) / across

    def _span(self) -> tuple[float, float] | None:
        if self.table is None or not self.names:
            return None
        values = self.table.columns[self.names[0]] if self.sight is None else heights_in(self.sight)
        same = [self.table.columns[n] * factor for n, factor in self.alike.items()]
        values = np.concatenate([values, *same, *(p.heights for p in self.points)])
        if np.isnan(values).all():
            return None
        low, high = float(np.nanmin(values)), float(np.nanmax(values))
        pad = (high - low) * 0.08 or 1.0
        if self.points:
            return low - pad, high + pad
        room = 6 if self.sight is not None else 3 if len(self.names) > 1 + len(self.alike) else 1
        return low - pad, high + pad * room  # marks of obstacles and names of curves stand above

    # --- drawing

    def furnish(self) -> None:
        """The ground, what is pointed at, and what to do while there is nothing."""
        pens = self.library
        fill = shade(GROUND)
        fill.setAlpha(150)
        self._ground = self.plot.plot(pen=pens.mkPen(tone(DEEP), width=2), brush=fill, connect="finite")
        self._here = pens.InfiniteLine(0.0, pen=pens.mkPen(tone(INK), style=pens.QtCore.Qt.PenStyle.DashLine))
        self._spot = pens.ScatterPlotItem(size=10, brush=LICHEN, pen=pens.mkPen(tone(INK)))
        self._hint = pens.LabelItem(EMPTY)
        self._hint.setParentItem(self.plot.getViewBox())
        self._hint.anchor(itemPos=(0.5, 0.5), parentPos=(0.5, 0.5))
        self._level = pens.InfiniteLine(0.0, angle=0, pen=pens.mkPen(tone(WATER), width=2))
        for item in (self._here, self._spot, self._level):
            item.setZValue(5)
            self.plot.addItem(item)
        self.plot.showGrid(y=True, alpha=0.18)
        self.plot.getPlotItem().setContentsMargins(0, 6, 18, 4)
        self._add_legend()
        self.plot.getViewBox().sigResized.connect(self._on_resized)
        self.plot.scene().sigMouseMoved.connect(self._on_moved)
        self.plot.scene().sigMouseClicked.connect(self._on_clicked)
        self.lasso = Lasso(self.library, self.plot)
        self.lasso.on = self.lassoing
        self.lasso.drawn.connect(self._keep_lasso)

    def _on_resized(self, _box: object) -> None:
        self.stretched.emit()

    def _add_legend(self) -> None:
        """Put the legend beside the title of the axis: in the plot it would lie over ground and names."""
        legend = self.plot.addLegend(labelTextColor=tone(INK), brush=tone(CARD), colCount=4, verSpacing=-8)
        legend.setParentItem(self.plot.getPlotItem())
        legend.anchor(itemPos=(1, 1), parentPos=(1, 1), offset=(-6, 6))

    def draw(self) -> None:
        """Bring the plot up to date."""
        span = self._span()
        self._hint.setVisible(span is None)
        if (self.table, self.sight, self.telling) != self._drawn:  # points come with a table of their own
            self._drawn = (self.table, self.sight, self.telling)
            for item in self._items:
                self.plot.removeItem(item)
            self._items = []
            if self.table is None or span is None:
                self._ground.setData([], [])
            else:
                self._draw_line(self.table, span)
        self._level.setVisible(self.level is not None and self.table is not None)
        if self.level is not None:
            self._level.setValue(self.level)
        self._draw_pointer()

    def _draw_line(self, table: Table, span: tuple[float, float]) -> None:
        distance, unit = table.columns["distance"], table.unit(self.names[0])
        for side, of in (("left", unit), ("bottom", METRE)):
            self.plot.getAxis(side).setScale(self.telling.factor(of))
            self.plot.getAxis(side).setLabel(self.telling.unit(of).symbol)
        self._ground.setFillLevel(span[0])
        self._ground.setData(distance, table.columns[self.names[0]])
        if self.sight is not None:
            self._items = sight_items(self.library, self.sight, self.telling, self.width())
        else:
            for k, name in enumerate(self.names[1:]):
                pen = self.library.mkPen(tone(_OTHERS[k % len(_OTHERS)]), width=1.3)
                self._items.append(
                    self.library.PlotDataItem(
                        distance,
                        table.columns[name] * self.alike[name]
                        if name in self.alike
                        else _beside(table.columns[name], span),
                        pen=pen,
                        connect="finite",
                        name=html.escape(name),
                    )
                )
            self._items += self._shades(table)
        self._items += [points_item(self.library, p) for p in self.points]
        for item in self._items:
            self.plot.addItem(item)
        self.plot.setRange(xRange=(0.0, float(distance[-1])), yRange=span, padding=0.0)

    def _shades(self, table: Table) -> list[Any]:
        """Cut and fill between two heights of the ground."""
        if not self.moved:
            return []
        before, after = (table.columns[n] * self.alike.get(n, 1.0) for n in self.moved)
        known = np.isfinite(before) & np.isfinite(after)
        if not known.any():
            return []
        distance, items = table.columns["distance"], []
        # Where one is not known there is nothing to shade: both lie on one line.
        line = np.interp(distance, distance[known], before[known])
        became = np.where(known, after, line)
        for side, color in ((np.minimum(line, became), OCHRE), (np.maximum(line, became), WATER)):
            curves = [self.library.PlotDataItem(distance, z) for z in (line, side)]
            fill = shade(color)
            fill.setAlpha(_SHADED)
            items.append(self.library.FillBetweenItem(*curves, brush=fill))
        return items

    def _draw_pointer(self) -> None:
        inside = self.table is not None and 0 <= self.at < len(self.table)
        self._here.setVisible(inside)
        self._spot.setVisible(inside)
        if self.table is not None and inside:
            x, y = float(self.table.columns["distance"][self.at]), self.table.columns[self.names[0]][self.at]
            if self.near is not None:
                beside, place = self.near
                x, y = float(beside.along[place]), beside.heights[place]
            self._here.setValue(x)
            self._spot.setData([x], [float(y)] if y == y else [float("nan")])

    # --- pointing

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Point at a place of the line."""
        if self.plot is not None:
            at = QPoint(round(event.position().x()), round(event.position().y()))
            self._on_moved(self.plot.mapToScene(self.plot.mapFromParent(at)))

    def _on_moved(self, place: Any) -> None:
        if self.table is None:
            return
        distance = self.table.columns["distance"]
        at = self.plot.getViewBox().mapSceneToView(place)
        x = float(at.x())
        self.near = self._nearest(x, float(at.y()))
        self.point_at(int(np.clip(np.searchsorted(distance, x), 0, len(distance) - 1)))
        self.pointed.emit(self.at)

    def _on_clicked(self, event: Any) -> None:
        self._on_moved(event.scenePos())
        if self.near is not None and event.button() == Qt.MouseButton.LeftButton:
            self.clicked.emit(*self.near)

    def _nearest(self, along: float, height: float) -> tuple[Beside, int] | None:
        """The point within some pixels of a place of the chart."""
        wide, high = (abs(v) * _REACH for v in self.plot.getViewBox().viewPixelSize())
        for beside in self.points:
            place = beside.nearest(along, height, wide, high)
            if place >= 0:
                return beside, place
        return None


def _beside(values: np.ndarray, span: tuple[float, float]) -> np.ndarray:
    """Another surface, on a scale of its own: from the foot of the chart to nine tenths of it."""
    if np.isnan(values).all():
        return np.full(len(values), np.nan)
    low, high = np.nanmin(values), np.nanmax(values)
    return np.asarray(span[0] + (values - low) / ((high - low) or 1.0) * (span[1] - span[0]) * 0.9)

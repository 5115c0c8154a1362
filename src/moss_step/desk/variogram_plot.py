"""A variogram whose nugget and plateau are dragged by hand."""

from __future__ import annotations

import html
from typing import Any

import numpy as np
from PySide6.QtCore import QRectF, Signal

from moss_step.desk.chart import PlotFrame
from moss_step.desk.plain import speak
from moss_step.desk.tones import tone
from moss_step.model.telling import USUAL, Telling
from moss_step.model.units import METRE
from moss_step.scene.colors import CARD, DEEP, LICHEN, MOSS, MUTED, OCHRE
from moss_step.scene.ramps import ramp
from moss_step.science.interpolate.variogram import Experimental, Variogram, VariogramMap

_RAMP, _WIDE = "spectrum", 280
_POINTS, _ROOM, _HANDLE = 120, 1.15, 13
"""Points of the curve, room beside what pairs show, and pixels of a handle."""


class MapPlot(PlotFrame):
    """What pairs show by their way to the east and north, as a picture: light is alike, dark differs."""

    def __init__(self) -> None:
        super().__init__()
        self.held: VariogramMap | None = None
        self.setMinimumHeight(150)
        self.setFixedWidth(_WIDE)
        self.setAccessibleName("Variogram by way")
        speak(
            self, "Pairs by their way to the east and north: an ellipse around the middle is an anisotropy."
        )

    def show_map(self, held: VariogramMap) -> None:
        """Show another map."""
        self.held = held
        self.ask()

    def furnish(self) -> None:
        """The picture, with both axes on one scale."""
        self._image = self.library.ImageItem(axisOrder="row-major")
        self._image.setLookupTable(ramp(_RAMP, reverse=True))
        self.plot.addItem(self._image)
        self.plot.setAspectLocked(True)

    def draw(self) -> None:
        """Bring the picture up to date."""
        if self.held is None:
            return
        for side, title in (("bottom", "to the east, m"), ("left", "to the north, m")):
            self.plot.getAxis(side).setLabel(title, color=tone(MUTED), **{"font-size": "11px"})
        lag, values = self.held.lag, self.held.semivariance
        step = float(lag[1] - lag[0])
        self._image.setImage(np.where(np.isnan(values), np.nan, values))
        self._image.setRect(QRectF(lag[0] - step / 2, lag[0] - step / 2, step * lag.size, step * lag.size))
        self.plot.autoRange(padding=0.03)


class VariogramPlot(PlotFrame):
    """What pairs show as dots, the model as a curve, and two handles: nugget, and plateau at its range."""

    dragged = Signal(float, float, float, bool)
    """Nugget, plateau and practical range; whether the handle was let go."""

    def __init__(self) -> None:
        super().__init__()
        self.seen: Experimental | None = None
        self.model: Variogram | None = None
        self.telling: Telling = USUAL
        self._fresh = True
        self._setting = False
        self.setMinimumHeight(150)
        self.setAccessibleName("Variogram")
        speak(self, "Drag the nugget at the left, and the plateau at its range. The fields do the same.")

    def show(self, seen: Experimental | None = None, model: Variogram | None = None) -> None:
        """Show pairs and a model; without them, the widget."""
        if seen is None or model is None:
            super().show()
            return
        known = self.seen is not None and np.array_equal(self.seen.semivariance, seen.semivariance)
        self._fresh = self._fresh or not known
        self.seen, self.model = seen, model
        self.ask()

    def furnish(self) -> None:
        """Dots, curve and handles."""
        pens = self.library
        self._dots = pens.ScatterPlotItem(size=7, brush=tone(OCHRE), pen=None)
        self.plot.addItem(self._dots)
        self._curve = self.plot.plot(pen=pens.mkPen(tone(MOSS), width=2))
        edge, fill = pens.mkPen(tone(DEEP), width=2), pens.mkBrush(tone(LICHEN))
        self.nugget = pens.TargetItem((0, 0), _HANDLE, "o", edge, edge, fill, fill, label=None)
        self.plateau = pens.TargetItem((0, 0), _HANDLE, "s", edge, edge, fill, fill, label=None)
        for handle in (self.nugget, self.plateau):
            self.plot.addItem(handle, ignoreBounds=True)
            handle.setZValue(5)
            handle.sigPositionChanged.connect(lambda _: self._moved(False))
            handle.sigPositionChangeFinished.connect(lambda _: self._moved(True))
        self.plot.showGrid(y=True, alpha=0.18)

    def draw(self) -> None:
        """Bring the plot up to date; the scale stays while a handle is dragged."""
        if self.seen is None or self.model is None:
            return
        factor = self.telling.factor(METRE)
        titles = ("distance, " + self.telling.unit(METRE).symbol, "semivariance")
        for side, title in zip(("bottom", "left"), titles, strict=True):
            self.plot.getAxis(side).setLabel(html.escape(title), color=tone(MUTED), **{"font-size": "11px"})
        self.plot.getAxis("bottom").setScale(factor)
        self.plot.setBackground(tone(CARD))
        reach = max(s.range for s in self.model.structures)
        if self._fresh:
            self._fresh = False
            longest = _ROOM * max(float(self.seen.distance.max()), min(reach, 3.0 * self.seen.distance.max()))
            highest = _ROOM * max(float(np.nanmax(self.seen.semivariance)), self.model.sill)
            self.plot.setRange(xRange=(0.0, longest), yRange=(-0.05 * highest, highest), padding=0.02)
        self._dots.setData(self.seen.distance, self.seen.semivariance)
        at = np.linspace(0.0, max(self.plot.viewRange()[0][1], reach), _POINTS)[1:]
        self._curve.setData(
            np.concatenate([[0.0], at]), np.concatenate([[self.model.nugget], self.model.semivariance(at)])
        )
        self._setting = True
        self.nugget.setPos(0.0, self.model.nugget)
        self.plateau.setPos(self.model.structures[0].range, self.model.sill)
        self._setting = False

    def _moved(self, ended: bool) -> None:
        """A handle is dragged: the nugget stays at no distance, and below the plateau."""
        if self._setting or self.model is None:
            return
        place: Any = self.plateau.pos()
        reach, sill = max(float(place.x()), 1e-9), float(place.y())
        nugget = max(float(self.nugget.pos().y()), 0.0)
        above = sum(s.sill for s in self.model.structures[1:])
        sill = max(sill, above, 1e-12)
        nugget = min(nugget, 0.999 * max(sill - above, 0.0))
        self.dragged.emit(nugget, sill, reach, ended)

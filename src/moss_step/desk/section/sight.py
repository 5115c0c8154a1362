"""A sight line in the section: what blocks, the ray, seen and hidden ground, and each obstacle."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Qt

from moss_step.desk.tones import shade, tone
from moss_step.model.telling import Telling
from moss_step.scene.colors import DEEP, INK, LICHEN, OCHRE, SLATE
from moss_step.science.sight.line import SightLine

_MOST_NAMED, _NEAR, _NAME = 8, 0.15, 160.0
"""Obstacles that are named, the share of the line within which a name stands beside its mark, and pixels
that a name takes.
"""


def heights_in(seen: SightLine) -> np.ndarray:
    """All heights that the picture must hold."""
    return np.concatenate([seen.ground, seen.ray, np.where(np.isfinite(seen.top), seen.top, np.nan)])


def sight_items(library: Any, seen: SightLine, telling: Telling, width: float) -> list[Any]:
    """What is drawn of a sight line over its ground, in a plot of some pixels, as items of the chart
    library.
    """
    items = [_standing(library, seen)] if np.isfinite(seen.top).any() else []
    items += [_stretches(library, seen, True), _stretches(library, seen, False)]
    style = Qt.PenStyle.SolidLine if seen.open else Qt.PenStyle.DashLine
    ends = [0, -1]
    items.append(
        library.PlotDataItem(
            seen.distance[ends], seen.ray[ends], pen=library.mkPen(tone(INK), width=1.4, style=style)
        )
    )
    for end in ends:
        up = [seen.ground[end], seen.ray[end]]
        items.append(
            library.PlotDataItem([seen.distance[end]] * 2, up, pen=library.mkPen(tone(INK), width=3))
        )
    items.append(
        library.ScatterPlotItem([seen.distance[0]], [seen.ray[0]], size=12, brush=tone(DEEP), pen=None)
    )
    return items + _obstacles(library, seen, telling, width)


def _stretches(library: Any, seen: SightLine, state: bool) -> Any:
    """The ground that is seen, gold; or that is hidden, slate and dotted."""
    own = np.where(seen.seen == state, seen.ground, np.nan)
    for a, b in seen.stretches:
        if bool(seen.seen[a]) == state:
            own[a : b + 1] = seen.ground[a : b + 1]  # up to where the next begins
    pen = (
        library.mkPen(LICHEN, width=4)
        if state
        else library.mkPen(tone(SLATE), width=3.5, style=Qt.PenStyle.DotLine)
    )
    return library.PlotDataItem(
        seen.distance, own, pen=pen, connect="finite", name="seen" if state else "hidden"
    )


def _standing(library: Any, seen: SightLine) -> Any:
    """What stands on the ground."""
    color = shade(OCHRE)
    color.setAlpha(110)
    top = np.where(np.isfinite(seen.top), np.maximum(seen.top, seen.ground), seen.ground)
    curves = [
        library.PlotCurveItem(seen.distance, np.nan_to_num(y, nan=float(np.nanmin(seen.ground))), pen=None)
        for y in (top, seen.ground)
    ]
    return library.FillBetweenItem(*curves, brush=color)


def _obstacles(library: Any, seen: SightLine, telling: Telling, width: float) -> list[Any]:
    """A mark on each obstacle, with its height above the ray where there is room."""
    peaks = np.array([o.peak for o in seen.obstacles])
    if not len(peaks):
        return []
    tops = np.interp(peaks, seen.distance, seen.ray) + np.array([o.over for o in seen.obstacles])
    items = [library.ScatterPlotItem(peaks, tops, symbol="t", size=11, brush=tone(OCHRE), pen=None)]
    room, taken = float(seen.distance[-1]) * _NAME / max(width, _NAME), -np.inf
    for obstacle, peak, top in list(zip(seen.obstacles, peaks, tops, strict=True))[:_MOST_NAMED]:
        if peak - taken > room:
            share = peak / float(seen.distance[-1])
            aside = 0.0 if share < _NEAR else 1.0 if share > 1 - _NEAR else 0.5
            said = f"{telling.length_text(obstacle.over)} above the ray"
            text = library.TextItem(said, tone(INK), anchor=(aside, 1.4))
            text.setPos(peak, top)
            items.append(text)
            taken = peak
    return items

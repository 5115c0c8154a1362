"""What is shown of a device while it is heard: the way, the soundings, what they cover, and the next line."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import shapely

from moss_step.formats.listening import Listening
from moss_step.formats.nmea import Fix
from moss_step.formats.vector import in_system
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, Frame, carried
from moss_step.model.shapes import Shapes
from moss_step.science.interpolate.coverage import (
    bearing_of_lines,
    cells_for,
    cells_to_cover,
    next_line,
    to_nearest,
)
from moss_step.science.interpolate.table_check import far_from_rest, metric_system
from moss_step.steps.recordings import told_again

_CELLS = 60_000
"""Cells of the coverage while it grows: it is worked out twice a second."""


@dataclass(frozen=True, eq=False)
class Heard:
    """What was heard, in coordinates of the plan: the way (m, 2), soundings (n, 2) with depths in metres,
    which of them are spikes or repeats, distances to the nearest (rows, cols) in a frame, and the next line.
    """

    crs: str | None = None
    way: np.ndarray = field(default_factory=lambda: np.empty((0, 2)))
    places: np.ndarray = field(default_factory=lambda: np.empty((0, 2)))
    depths: np.ndarray = field(default_factory=lambda: np.empty(0))
    spikes: np.ndarray = field(default_factory=lambda: np.empty(0, bool))
    repeats: np.ndarray = field(default_factory=lambda: np.empty(0, bool))
    frame: Frame | None = None
    far: np.ndarray | None = None
    line: np.ndarray | None = None
    sentences: int = 0
    wrong: int = 0

    @property
    def box(self) -> Box | None:
        """The box around the way."""
        if not len(self.way):
            return None
        (xmin, ymin), (xmax, ymax) = self.way.min(axis=0), self.way.max(axis=0)
        return float(xmin), float(ymin), float(xmax), float(ymax)

    @property
    def largest_gap(self) -> float:
        """Metres to the nearest sounding where that is farthest; NaN unknown."""
        return float(np.nanmax(self.far)) if self.far is not None and len(self.places) else float("nan")


def heard_so_far(
    listening: Listening, crs: str | None, area: Shapes | None, spacing: float, latency: float, offset: float
) -> Heard:
    """What a device told until now.

    ``crs`` is the reference system of the plan (None takes the metric one around the first place), ``area``
    what is to be covered (None takes the hull of the soundings), ``spacing`` metres from line to line;
    ``latency`` in seconds and ``offset`` in metres are of the transducer.
    """
    with listening.said() as said:
        held = said.soundings(latency, offset)
        fixes, sentences, wrong = list(said.fixes), said.sentences, said.wrong
    if not fixes:
        return Heard(crs, sentences=sentences, wrong=wrong)
    crs = crs or (None if area is None else area.crs) or _system_of(fixes)
    way = np.column_stack(
        carried("EPSG:4326", crs, *(np.array([getattr(f, n) for f in fixes]) for n in ("lon", "lat")))
    )
    places = np.column_stack(carried("EPSG:4326", crs, held["lon"], held["lat"]))
    depths = held["depth"]
    x, y = places[:, 0], places[:, 1]
    spikes = far_from_rest(x, y, depths) if len(depths) else np.empty(0, bool)
    repeats = told_again(x, y, depths)
    frame, far, line = _covered(way, places[~spikes], crs, area, spacing)
    return Heard(crs, way, places, depths, spikes, repeats, frame, far, line, sentences, wrong)


def _system_of(fixes: list[Fix]) -> str:
    first = fixes[0]
    return metric_system(np.array([first.lon]), np.array([first.lat]))


def _covered(
    way: np.ndarray, places: np.ndarray, crs: str, area: Shapes | None, spacing: float
) -> tuple[Frame | None, np.ndarray | None, np.ndarray | None]:
    """Cells with their distances, and the line that comes next; none while nothing has an extent."""
    points = Shapes(np.asarray(shapely.points(places)), {}, crs)
    held = points if area is None else in_system(area, crs)
    if not len(places) or held.box is None:
        return None, None, None
    try:
        frame = cells_for(crs, held.box, spacing, _CELLS)
        wanted = cells_to_cover(frame, points, None if area is None else held)
    except MossError:  # too few soundings to enclose anything yet
        return None, None, None
    if not wanted.any():
        return None, None, None
    far = to_nearest(frame, wanted, places[:, 0], places[:, 1])
    bearing = bearing_of_lines(frame, way, held)
    return frame, far, next_line(far, frame, spacing, bearing, (float(way[-1, 0]), float(way[-1, 1])))

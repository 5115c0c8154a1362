"""Kriging with another variogram on coarse cells: what is seen while the variogram is dragged."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import cast

import numpy as np

from moss_step.model.arrays import as_short
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import Unit
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.surfaces import Interpolator
from moss_step.science.interpolate.variogram import (
    Experimental,
    Variogram,
    VariogramMap,
    experimental,
    variogram_map,
)
from moss_step.steps.between import Between, InterpolateSettings, frame_of, wanted_cells
from moss_step.steps.declare import Inputs, optional
from moss_step.steps.places import gathered, prepared

_PLACES, _CELLS = 900, 3_000
"""Places and cells of a trial: it follows a drag."""


@dataclass(frozen=True, eq=False)
class Trial:
    """Some of the places, ready to be asked with one variogram after the other.

    ``seen`` is what their pairs show, ``model`` the variogram as the settings have it, ``wanted`` the cells
    (rows, cols) of ``frame`` that get a value, ``of`` how many places there are.
    """

    base: Interpolator
    seen: Experimental
    model: Variogram
    frame: Frame
    wanted: np.ndarray
    there: np.ndarray | None
    unit: Unit
    of: int

    def with_parts(self, nugget: float, sill: float, reach: float) -> Variogram:
        """The model with another nugget, plateau and practical range of its first structure."""
        first, *others = self.model.structures
        above = sum(s.sill for s in others)
        least = nugget + above
        sill = max(sill, least + 1e-9 * max(least, 1e-300) + 1e-12)
        first = replace(first, sill=sill - least, range=reach)
        return replace(self.model, nugget=nugget, structures=(first, *others))

    def by_way(self) -> VariogramMap:
        """What pairs show by their way to the east and north."""
        own = self.base.held.noises > 0
        return variogram_map(self.base.x[own], self.base.y[own], self.base.held.values[own])

    def surface(self, model: Variogram) -> Surface:
        """The surface by a variogram, on the coarse cells.

        Raises MossError for equations without a solution.
        """
        made = Interpolator(
            self.base.held, self.base.plane, replace(self.base.choice, model=model), self.base.external
        )
        values = np.full(self.frame.shape, np.nan)
        values[self.wanted] = made.at(*self.frame.middles(self.wanted), self.there)
        return Surface(as_short(values), self.frame, self.unit)


def trial_of(settings: InterpolateSettings, inputs: Inputs) -> Trial:
    """Make trials ready for the settings of interpolate as they stand.

    Raises MossError where interpolate itself would.
    """
    got = gathered(settings, inputs, settings.edge_value)
    whole, of = frame_of(settings, inputs, got), len(got.held)
    frame = coarse(whole)
    some = np.zeros(of, bool)
    some[:: max(1, math.ceil(of / _PLACES))] = True
    got = replace(got, held=got.held.part(some))
    drift = optional(inputs, "drift", Surface)
    made, got = prepared(settings, got, Plane.of(whole), drift)
    cells = Between(settings, got, made, frame, optional(inputs, "area", Shapes), drift)
    wanted = wanted_cells(cells)
    there = cells.drift_at(*frame.middles(wanted))
    own = got.held.noises > 0
    seen = made.seen or experimental(made.x[own], made.y[own], got.held.values[own])
    return Trial(made, seen, cast(Variogram, made.model), frame, wanted, there, got.unit, of)


def coarse(frame: Frame, most: int = _CELLS) -> Frame:
    """The same ground in cells so large that there are about ``most`` at most."""
    k = max(1, math.ceil(math.sqrt(frame.rows * frame.cols / most)))
    rows, cols = math.ceil(frame.rows / k), math.ceil(frame.cols / k)
    return Frame(rows, cols, frame.x0, frame.y0, frame.dx * k, frame.dy * k, frame.crs)

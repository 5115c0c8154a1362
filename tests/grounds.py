"""The grounds that every step is tried on, and what may be done to a ground without changing what is measured on it.

Cells as wide as high and four to one both ways, degrees at 5 and 65 north, holes and a rim of no-data, feet over metres, and small relief
on a large base; mirrored, turned over, and laid into a larger frame of no-data.
"""

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from tests.conftest import UTM

ROWS, COLS = 36, 42


def relief(seed: int = 5, rows: int = ROWS, cols: int = COLS) -> np.ndarray:
    """A ground of hills over a tilt, in metres for cells of about 10 m, without level cells; it falls to its rim but for one hollow cell."""
    rng = np.random.default_rng(seed)
    r, c = np.mgrid[0:rows, 0:cols]
    hills = gaussian_filter(rng.normal(size=(rows, cols)), 3.0) * 60.0
    z = 40.0 + hills + 2.1 * r + 0.9 * c - 30.0 * np.hypot((r - rows / 2) / rows, (c - cols / 2) / cols)
    return z + rng.normal(size=z.shape) * 0.02


def holed(values: np.ndarray) -> np.ndarray:
    """The same with a rim of no-data, a hole of several cells and one of a single cell."""
    made = values.copy()
    made[[0, -1]] = np.nan
    made[:, [0, -1]] = np.nan
    made[9:12, 20:24] = np.nan
    made[25, 8] = np.nan
    return made


def metric(values: np.ndarray, dx: float = 10.0, dy: float = 10.0) -> Surface:
    """A ground in metres."""
    return Surface(
        values.astype(np.float32), Frame(*values.shape, 412_000.0, 5_872_000.0, dx, dy, UTM), METRE
    )


def in_degrees(values: np.ndarray, latitude: float) -> Surface:
    """A ground on longitude and latitude with cells of 0.0001 degrees, its upper edge at a latitude."""
    return Surface(
        values.astype(np.float32), Frame(*values.shape, -3.0, latitude, 1e-4, 1e-4, "EPSG:4326"), METRE
    )


GROUNDS: dict[str, Surface] = {
    "square cells": metric(relief()),
    "cells four times as wide as high": metric(relief(6), 20.0, 5.0),
    "cells four times as high as wide": metric(relief(7), 5.0, 20.0),
    "degrees at 5 north": in_degrees(relief(8), 5.0),
    "degrees at 65 north": in_degrees(relief(9), 65.0),
    "holes and a rim of no-data": metric(holed(relief(10))),
    "feet over metres": replace(metric(relief(11) / 0.3048), unit=FOOT),
    "small relief on a large base": replace(metric(relief()), values=4000.0 + relief(12) * 1e-4),
}


@dataclass(frozen=True)
class Turn:
    """Something done to a ground: how its values, its frame and a cell of it go along, and what becomes of a bearing."""

    values: Callable[[np.ndarray], np.ndarray]
    frame: Callable[[Frame], Frame]
    cell: Callable[[tuple[float, float], Frame], tuple[float, float]]
    back: Callable[[np.ndarray], np.ndarray]
    bearing: Callable[[np.ndarray], np.ndarray] = lambda a: a

    def of(self, ground: Surface) -> Surface:
        """The ground with this done to it."""
        return replace(
            ground, values=np.ascontiguousarray(self.values(ground.values)), frame=self.frame(ground.frame)
        )


_RIM = 7


def _padded(values: np.ndarray) -> np.ndarray:
    return np.pad(values, _RIM, constant_values=np.nan)


TURNS: dict[str, Turn] = {
    "mirrored east to west": Turn(lambda z: z[:, ::-1], lambda f: f, lambda at, f: (at[0], f.cols - 1 - at[1]), lambda z: z[:, ::-1], lambda a: (360.0 - a) % 360.0),
    "mirrored north to south": Turn(lambda z: z[::-1], lambda f: f, lambda at, f: (f.rows - 1 - at[0], at[1]), lambda z: z[::-1], lambda a: (540.0 - a) % 360.0),
    "turned over": Turn(
        lambda z: z.T, lambda f: replace(f, rows=f.cols, cols=f.rows, dx=f.dy, dy=f.dx), lambda at, f: (at[1], at[0]), lambda z: z.T,
        lambda a: (630.0 - a) % 360.0,
    ),
    "laid into no-data": Turn(
        _padded, lambda f: replace(f, rows=f.rows + 2 * _RIM, cols=f.cols + 2 * _RIM, x0=f.x0 - _RIM * f.dx, y0=f.y0 + _RIM * f.dy),
        lambda at, f: (at[0] + _RIM, at[1] + _RIM), lambda z: z[_RIM:-_RIM, _RIM:-_RIM],
    ),
}  # fmt: skip


def first(cases: Collection[Any], *always: Any) -> list[Any]:
    """Cases for a test that takes long on each: some always, the others where tests are thorough."""
    marked = [case if case in always else pytest.param(case, marks=pytest.mark.thorough) for case in cases]
    assert set(always) <= set(cases), always
    return marked


def large_grounds(rows: int, cols: int) -> dict[str, Callable[[], Surface]]:
    """Three grounds of a size, made when they are asked for: what tells most apart, where each takes a while."""
    return {
        "oblong cells, holes, feet": lambda: replace(
            metric(holed(relief(3, rows, cols)), 20.0, 5.0), unit=FOOT
        ),
        "degrees at 65 north, mirrored": lambda: in_degrees(relief(4, rows, cols)[:, ::-1].copy(), 65.0),
        "small relief on a large base": lambda: Surface(
            4000.0 + np.round(relief(5, rows, cols) * 1e-4, 5), metric(relief(5, rows, cols)).frame
        ),
    }

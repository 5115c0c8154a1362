"""Sight: previews, exact views against one plain ray a target, and best places."""

from __future__ import annotations

import time

import numba
import numpy as np

from benchmarks.measure import Line, best
from moss_step.demo import DATA
from moss_step.formats.raster import read_surface
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.sight.observer import Observer, Sight, place_of, prepare_sight
from moss_step.science.sight.places import lazy_greedy
from moss_step.science.sight.viewshed import seen_by, seen_fast


@numba.njit(nogil=True, parallel=True)
def _plain(
    z: np.ndarray,
    r0: int,
    c0: int,
    eye: float,
    target: float,
    bend: float,
    size: float,
    reach: float,
    out: np.ndarray,
) -> None:
    """One ray a target written plainly: every crossing until one blocks."""
    for r in numba.prange(z.shape[0]):
        for c in range(z.shape[1]):
            d = np.hypot((r - r0) * size, (c - c0) * size)
            n = max(abs(r - r0), abs(c - c0))
            if d > reach:
                continue
            out[r, c] = 1
            if n < 2:
                continue
            limit = (np.float64(z[r, c]) + target - bend * d * d - eye) / n
            by_rows = abs(r - r0) >= abs(c - c0)
            sign = (1 if r > r0 else -1) if by_rows else (1 if c > c0 else -1)
            slope = ((c - c0) if by_rows else (r - r0)) / n
            for i in range(1, n):
                minor = (c0 if by_rows else r0) + slope * i
                j = int(np.floor(minor))
                f = minor - j
                if by_rows:
                    v = np.float64(z[r0 + sign * i, j])
                    if f > 0.0:
                        v = v * (1.0 - f) + z[r0 + sign * i, j + 1] * f
                else:
                    v = np.float64(z[j, c0 + sign * i])
                    if f > 0.0:
                        v = v * (1.0 - f) + z[j + 1, c0 + sign * i] * f
                if (v - bend * (i * (d / n)) ** 2 - eye) / i > limit:
                    out[r, c] = 0
                    break


def _middle(sight: Sight, reach: float, height: float = 20.0) -> Observer:
    frame = sight.frame
    return Observer(frame.x_of(frame.cols // 2), frame.y_of(frame.rows // 2), "", height, 2.0, reach=reach)


def lines(z: np.ndarray) -> list[Line]:
    """Measure on 2001 x 2001 cells, then best places on the demo."""
    part = np.ascontiguousarray(z[:2001, :2001])
    dem = Surface(part, Frame(2001, 2001, 0, 4002.0, 2.0, 2.0, "EPSG:32628"), METRE)
    sight = prepare_sight(dem)
    half, whole = _middle(sight, 1000.0), _middle(sight, 2000.0)
    fast_half, fast = best(lambda: seen_fast(sight, half)), best(lambda: seen_fast(sight, whole))
    exact = best(lambda: seen_by(sight, whole), 2)
    seen, preview = seen_by(sight, whole), seen_fast(sight, whole)
    cell, eye = place_of(sight, whole)

    def plainly() -> np.ndarray:
        out = np.full(part.shape, 2, np.uint8)
        _plain(sight.ground, *cell, eye, 2.0, sight.bend, 2.0, 2000.0, out)
        return out

    theirs = best(plainly, 1)
    assert np.array_equal(plainly(), seen)
    agree = float((seen == preview)[seen != 2].mean())
    return [
        Line(
            "preview over 500 cells' reach",
            f"{fast_half * 1000:.0f} ms",
            "",
            "within 33 ms",
            fast_half <= 0.033,
        ),
        Line(
            "preview over 1,000 cells' reach",
            f"{fast * 1000:.0f} ms",
            f"{agree:.2%} as the exact view",
            "within 100 ms, 99.5 %",
            fast <= 0.1 and agree >= 0.995,
        ),
        Line(
            f"exact view, {np.count_nonzero(seen != 2):,} targets",
            f"{exact:.2f} s",
            f"{theirs / exact:.1f} times one plain ray a target",
            "at least 3 times, the same result",
            theirs / exact >= 3,
        ),
        *_places(),
    ]


def _places() -> list[Line]:
    demo, _ = read_surface(DATA / "harrow_ground.tif")
    sight = prepare_sight(demo)
    rng = np.random.default_rng(0)
    start = time.perf_counter()
    views = np.empty((200, demo.values.size), bool)
    for k in range(200):
        at = Observer(
            demo.frame.x_of(int(rng.integers(1000))), demo.frame.y_of(int(rng.integers(1000))), "", 4.0
        )
        views[k] = seen_by(sight, at).ravel() == 1
    choice = lazy_greedy(views, np.full(demo.values.size, 4.0), 20)
    took, fewer = time.perf_counter() - start, 200 * 20 / choice.evaluations
    return [
        Line(
            "20 best of 200 candidates over a million targets",
            f"{took:.0f} s",
            f"{fewer:.1f} times fewer evaluations",
            "within 60 s, at least 5 times",
            took <= 60 and fewer >= 5,
        )
    ]

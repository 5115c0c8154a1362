"""Slope, aspect, hillshade, classes and breaks on 16 million cells."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from scipy import ndimage

from benchmarks.measure import Line, best, in_metres, peak_extra_bytes
from moss_step.science.classes.breaks import breaks
from moss_step.science.classes.classify import classify
from moss_step.science.classes.presets import fao_slope
from moss_step.science.relief.gradient import aspect, hillshade, slope


def by_library(z: np.ndarray) -> dict[str, Callable[[], np.ndarray]]:
    """The same measures with scipy.ndimage.sobel and NumPy."""

    def gradient() -> tuple[np.ndarray, np.ndarray]:
        return ndimage.sobel(z, 1) / np.float32(16), -ndimage.sobel(z, 0) / np.float32(16)

    def library_slope() -> np.ndarray:
        gx, gy = gradient()
        steep: np.ndarray = np.degrees(np.arctan(np.hypot(gx, gy)))
        return steep

    def library_aspect() -> np.ndarray:
        gx, gy = gradient()
        bearing: np.ndarray = np.degrees(np.arctan2(-gx, -gy)) % np.float32(360)
        return bearing

    def library_hillshade() -> np.ndarray:
        gx, gy = gradient()
        lit = (np.float32(0.7071) + np.float32(0.5) * gx - np.float32(0.5) * gy) / np.sqrt(
            1 + gx * gx + gy * gy
        )
        shaded: np.ndarray = np.clip(lit, 0, None) * np.float32(255)
        return shaded

    return {"slope": library_slope, "aspect": library_aspect, "hillshade": library_hillshade}


def lines(z: np.ndarray) -> list[Line]:
    """Measure everything on one ground."""
    dem = in_metres(z)
    copy = best(z.copy)
    found = [Line("plain copy of the grid", f"{copy * 1000:.0f} ms", "", "", True)]
    library = by_library(z)
    for name, ours in (("slope", slope), ("aspect", aspect), ("hillshade", hillshade)):
        theirs = best(library[name], 2)
        time = best(partial(ours, dem))
        found.append(
            _line(f"{name}, against SciPy and NumPy", time, theirs / time, "times faster", 6, at_least=True)
        )
        found.append(_line(f"{name}, against the copy", time, time / copy, "copies", 10, at_least=False))
        extra = peak_extra_bytes(partial(ours, dem)) / z.nbytes
        found.append(
            Line(f"{name}, peak extra memory", f"{extra:.2f} outputs", "", "at most 1.5", extra <= 1.5)
        )
    steep = slope(dem, "percent")
    rules = fao_slope(steep)
    found.append(
        _line(
            "classify, ten FAO classes",
            t := best(lambda: classify(steep, rules)),
            t / copy,
            "copies",
            4,
            False,
        )
    )
    natural = best(lambda: breaks(steep, "natural", 5), 3)
    found.append(
        Line(
            "natural breaks of all cells, five classes",
            f"{natural * 1000:.0f} ms",
            "",
            "under 2 s",
            natural < 2,
        )
    )
    return found


def _line(what: str, time: float, ratio: float, unit: str, bound: float, at_least: bool) -> Line:
    holds = ratio >= bound if at_least else ratio <= bound
    word = "at least" if at_least else "at most"
    return Line(what, f"{time * 1000:.0f} ms", f"{ratio:.1f} {unit}", f"{word} {bound:g}", holds)

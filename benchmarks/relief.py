"""Slope, aspect, hillshade, classes and breaks on 16 million cells."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from benchmarks.measure import Line, best, peak_extra_bytes
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.classes.breaks import breaks
from moss_step.science.classes.classify import classify
from moss_step.science.classes.presets import fao_slope
from moss_step.science.relief.gradient import aspect, hillshade, slope


def by_library(z: np.ndarray) -> dict[str, object]:
    """The same measures with scipy.ndimage.sobel and NumPy."""

    def gradient() -> tuple[np.ndarray, np.ndarray]:
        return ndimage.sobel(z, 1) / np.float32(16), -ndimage.sobel(z, 0) / np.float32(16)

    def library_slope() -> np.ndarray:
        gx, gy = gradient()
        return np.degrees(np.arctan(np.hypot(gx, gy)))

    def library_aspect() -> np.ndarray:
        gx, gy = gradient()
        return np.degrees(np.arctan2(-gx, -gy)) % np.float32(360)

    def library_hillshade() -> np.ndarray:
        gx, gy = gradient()
        lit = (np.float32(0.7071) + np.float32(0.5) * gx - np.float32(0.5) * gy) / np.sqrt(
            1 + gx * gx + gy * gy
        )
        return np.clip(lit, 0, None) * np.float32(255)

    return {"slope": library_slope, "aspect": library_aspect, "hillshade": library_hillshade}


def lines(z: np.ndarray) -> list[Line]:
    """Measure everything on one ground."""
    dem = Surface(z, Frame(*z.shape, 0.0, z.shape[0] * 2.0, 2.0, 2.0, "EPSG:32628"), METRE)
    copy = best(z.copy)
    found = [Line("plain copy of the grid", f"{copy * 1000:.0f} ms", "", "", True)]
    for name, ours in (("slope", slope), ("aspect", aspect), ("hillshade", hillshade)):
        theirs = best(by_library(z)[name], 2)
        time = best(lambda f=ours: f(dem))
        found.append(
            _line(f"{name}, against SciPy and NumPy", time, theirs / time, "times faster", 6, at_least=True)
        )
        found.append(_line(f"{name}, against the copy", time, time / copy, "copies", 10, at_least=False))
        extra = peak_extra_bytes(lambda f=ours: f(dem)) / z.nbytes
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

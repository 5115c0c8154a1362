"""Whether the colours of a key still tell apart when they are printed in grey.

Lightness is L* of CIE 1976; two classes are told apart from 8 of it on, a ramp when it runs one way and
spans 30: common practice.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from moss_step.scene.picture import Legend

LEAST_STEP, LEAST_SPAN = 8.0, 30.0


def lightness(rgb: np.ndarray) -> np.ndarray:
    """L* (0 to 100) of sRGB bytes of shape (n, 3)."""
    c = np.asarray(rgb, np.float64) / 255.0
    linear = np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
    y = linear @ np.array([0.2126, 0.7152, 0.0722])
    result: np.ndarray = np.where(y > 216 / 24389, 116.0 * np.cbrt(y) - 16.0, y * 24389 / 27)
    return result


def alike_in_grey(name: str, legend: Legend) -> str:
    """Which classes of a legend print alike in grey, or that its ramp does not run one way; empty when all
    is well.
    """
    if legend.ramp is not None:
        steps = lightness(legend.ramp.colors)
        one_way = np.all(np.diff(steps) >= -0.6) or np.all(np.diff(steps) <= 0.6)
        if one_way and np.ptp(steps) >= LEAST_SPAN:
            return ""
        return f"{name}: low and high values print alike in grey. Choose a ramp that runs from dark to light."
    pairs = _alike(legend.classes)
    if not pairs:
        return ""
    shown = " and ".join(f"'{n}'" for n in pairs[0])
    more = f", and {len(pairs) - 1} more pairs" if len(pairs) > 1 else ""
    return f"{name}: {shown}{more} print alike in grey."


def _alike(classes: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
    inks = [(n, c) for n, c in classes if c.startswith("#") and len(c) == 7]
    if len(inks) < 2:
        return []
    values = lightness(np.array([[int(c[k : k + 2], 16) for k in (1, 3, 5)] for _, c in inks]))
    return [
        (a[0], b[0])
        for (a, u), (b, v) in itertools.combinations(zip(inks, values.tolist(), strict=True), 2)
        if abs(u - v) < LEAST_STEP and a[1] != b[1]
    ]

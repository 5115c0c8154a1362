"""Areas and shares of whole counts and of classes, for the Key."""

from __future__ import annotations

import numpy as np

from moss_step.model.class_map import NO_CLASS
from moss_step.model.frame import Frame
from moss_step.science.classes.classify import count_codes


def shares_of(codes: np.ndarray, frame: Frame) -> tuple[tuple[int, float, float], ...]:
    """Each code (uint8) that occurs, with its area in square metres and its share of what has one."""
    cells, areas = count_codes(codes, frame)
    whole = float(areas[:NO_CLASS].sum())
    there = np.flatnonzero(cells[:NO_CLASS]).tolist()
    return tuple((k, float(areas[k]), float(areas[k]) / whole) for k in there)

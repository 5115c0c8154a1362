"""The block: frames while it turns and at rest, in software, off screen."""

from __future__ import annotations

import time

import numpy as np

from benchmarks.measure import Line
from moss_step.desk.block.eye import Eye
from moss_step.desk.block.stage import Ground, Stage, Wish


def lines(z: np.ndarray) -> list[Line]:
    """Measure at 900 x 600 over a ground of 16 million cells with a picture of 4 million pixels."""
    heights = np.ascontiguousarray(z[::4, ::4])
    picture = np.random.default_rng(0).integers(0, 255, (2048, 2048, 3), dtype=np.uint8)
    ground, stage = Ground(heights - heights.mean(), (8192.0, 8192.0), picture), Stage()
    took = {}
    for moving in (True, False):
        times = []
        for k in range(20):
            start = time.perf_counter()
            stage.draw(Wish(ground, Eye(30.0 + 4 * k, 35.0, 14_000.0), 900, 600, moving))
            times.append(time.perf_counter() - start)
        if moving:
            points = stage.moving_points
        took[moving] = float(np.median(times[4:]))
    stage.close()
    rate = 1.0 / took[True]
    return [
        Line(
            "block over 16 million cells, turning at 900 x 600",
            f"{took[True] * 1000:.0f} ms, {points} points a side",
            f"{rate:.0f} frames a second",
            "at least 12",
            rate >= 12,
        ),
        Line("block, the frame at rest", f"{took[False] * 1000:.0f} ms", "", "", True),
    ]  # fmt: skip

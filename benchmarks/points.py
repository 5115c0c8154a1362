"""Clouds of ten million points: reading, ground, grids and heights above ground."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import laspy
import numpy as np
from scipy.stats import binned_statistic_2d

from benchmarks.measure import Line, best
from moss_step.demo import DATA
from moss_step.demo.lidar import SIDE
from moss_step.formats.las import read_cloud, write_cloud
from moss_step.model.cloud import Cloud
from moss_step.model.surface import Surface
from moss_step.science.points.cells import cells_of, counts, extremes, means
from moss_step.science.points.grids import frame_for, heights_above
from moss_step.science.points.ground import SETS, ground_points

_POINTS = 10_000_000


def lines() -> list[Line]:
    """Measure everything on the demo's survey, laid side by side until there are ten million points."""
    cloud = _many()
    ground = best(lambda: ground_points(cloud, SETS["upland"]), 2)
    found = [
        _reading(cloud),
        _line("ground among ten million points, morphological", ground, "at most 8 s", ground <= 8.0),
    ]
    frame = frame_for(cloud, 1.0)
    numbers = cells_of(cloud, frame)
    edges = [
        np.linspace(frame.box[1], frame.box[3], frame.rows + 1),
        np.linspace(frame.box[0], frame.box[2], frame.cols + 1),
    ]
    for name, kind, run in (
        ("counts", "count", lambda: counts(cells_of(cloud, frame), frame)),
        ("means", "mean", lambda: means(cells_of(cloud, frame), cloud.z, frame)),
        ("highest", "max", lambda: extremes(cells_of(cloud, frame), cloud.z, frame, highest=True)),
    ):
        found.append(_grid(name, kind, run, cloud, edges))
    floor = Surface(np.full(frame.shape, 500.0, np.float32), frame, cloud.unit)
    above = best(lambda: heights_above(cloud, floor), 2)
    found.append(_line("heights above ground of ten million points", above, "at most 2 s", above <= 2.0))
    assert numbers.min() >= 0
    return found


def _many() -> Cloud:
    survey, _ = read_cloud(DATA / "harrow_survey.laz")
    times = -(-_POINTS // len(survey))
    side = int(np.ceil(times**0.5))
    places = [(k % side, k // side) for k in range(times)]
    x = np.concatenate([survey.x + c * SIDE for c, _ in places])[:_POINTS]
    y = np.concatenate([survey.y + r * SIDE for _, r in places])[:_POINTS]
    held = {n: np.tile(v, times)[:_POINTS] for n, v in survey.attributes.items()}
    return replace(survey, x=x, y=y, z=np.tile(survey.z, times)[:_POINTS], attributes=held)


def _reading(cloud: Cloud) -> Line:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "many.laz"
        write_cloud(path, cloud)
        ours = best(lambda: read_cloud(path), 2)

        def decode() -> None:
            with laspy.open(path) as reader:
                for _ in reader.chunk_iterator(1_000_000):
                    pass

        alone = best(decode, 2)
    share = ours / alone
    return Line(
        "reading ten million points from LAZ, with every attribute", f"{ours:.1f} s",
        f"{share:.2f} times the decoder alone", "at most 1.2 times", share <= 1.2,
    )  # fmt: skip


def _grid(name: str, kind: str, run: Callable[[], object], cloud: Cloud, edges: list[np.ndarray]) -> Line:
    ours = best(run, 3)
    theirs = best(lambda: binned_statistic_2d(cloud.y, cloud.x, cloud.z, kind, edges), 1)
    return Line(
        f"{name} of ten million points in cells of 1 m", f"{ours:.2f} s", f"{theirs / ours:.1f} times SciPy",
        "within 1 s, at least 5 times", ours <= 1.0 and theirs >= 5.0 * ours,
    )  # fmt: skip


def _line(what: str, seconds: float, wanted: str, holds: bool) -> Line:
    return Line(what, f"{seconds:.2f} s", "", wanted, holds)

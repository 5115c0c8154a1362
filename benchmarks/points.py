"""Clouds of ten million points: reading, ground, grids and heights above ground."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import laspy
import numpy as np
from scipy.spatial import Delaunay
from scipy.stats import binned_statistic_2d

from benchmarks.measure import Line, best
from moss_step.demo import DATA
from moss_step.demo.lidar import SIDE
from moss_step.formats.las import read_cloud
from moss_step.formats.las_write import write_cloud
from moss_step.model.cloud import Cloud
from moss_step.model.surface import Surface
from moss_step.scene.camera import Camera
from moss_step.scene.kinds.cloud import CloudPicture
from moss_step.science.interpolate.triangles import delaunay
from moss_step.science.points.cells import cells_of, counts, extremes
from moss_step.science.points.grids import frame_for, grid_points, heights_above
from moss_step.science.points.ground import SETS, ground_points
from moss_step.study.graph import KeyRow

_POINTS = 10_000_000


def lines() -> list[Line]:
    """Measure everything on the demo's survey, laid side by side until there are ten million points."""
    cloud = many()
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
        ("means", "mean", lambda: grid_points(cloud, frame, "mean", 0.0)),
        ("highest", "max", lambda: extremes(cells_of(cloud, frame), cloud.z, frame, highest=True)),
    ):
        found.append(_grid(name, kind, run, cloud, edges))
    floor = Surface(np.full(frame.shape, 500.0, np.float32), frame, cloud.unit)
    above = best(lambda: heights_above(cloud, floor), 2)
    found.append(_line("heights above ground of ten million points", above, "at most 2 s", above <= 2.0))
    assert numbers.min() >= 0
    cloth = best(lambda: ground_points(cloud, SETS["upland"], method="cloth"), 2)
    found.append(_line("ground among ten million points, by a cloth", cloth, "at most 8 s", cloth <= 8.0))
    return [*found, _cloth_of_the_library(), *_triangles(cloud), *_drawing(cloud)]


def _cloth_of_the_library() -> Line:
    """Ground of the survey by the library of the cloth's authors, against our two ways."""
    import CSF  # the benchmarks alone need it

    survey, _ = read_cloud(DATA / "harrow_survey.laz")
    places = np.column_stack([survey.x - survey.x.min(), survey.y - survey.y.min(), survey.z])

    def theirs() -> None:
        cloth = CSF.CSF()
        cloth.params.cloth_resolution, cloth.params.rigidness, cloth.params.bSloopSmooth = 1.0, 2, False
        cloth.setPointCloud(places)
        cloth.do_filtering(CSF.VecInt(), CSF.VecInt(), False)

    library = best(theirs, 2)
    ours = best(lambda: ground_points(survey, SETS["upland"]), 3)
    cloth = best(lambda: ground_points(survey, SETS["upland"], method="cloth"), 3)
    return Line(
        "ground of the survey, morphological", f"{ours:.2f} s",
        f"{library / ours:.1f} times a cloth by its library; our cloth {library / cloth:.1f} times",
        "at least 4 times", library >= 4.0 * ours,
    )  # fmt: skip


def _triangles(cloud: Cloud) -> Iterator[Line]:
    """A ground on triangles against their triangulation alone, ours and the general library's."""
    part = cloud.part(slice(0, 1_000_000))
    frame = frame_for(part, 1.0)
    alone = best(lambda: delaunay(part.x - part.x[0], part.y - part.y[0]), 2)
    library = best(lambda: Delaunay(np.column_stack([part.x - part.x[0], part.y - part.y[0]])), 1)
    grid = best(lambda: grid_points(part, frame, "ground", 20.0), 2)
    yield Line(
        "triangles between a million points", f"{alone:.2f} s", f"{library / alone:.1f} times SciPy",
        "faster", library > alone,
    )  # fmt: skip
    yield Line(
        "ground on them", f"{grid:.2f} s", f"{grid / alone:.2f} times the triangles alone",
        "at most 1.3 times", grid <= 1.3 * alone,
    )  # fmt: skip


def _drawing(cloud: Cloud) -> Iterator[Line]:
    """Pictures of 1280 x 800 pixels while it is panned and zoomed from all of it down to single points."""
    start = time.perf_counter()
    picture = CloudPicture.from_value(cloud)
    made = time.perf_counter() - start
    (xmin, ymin, xmax, ymax), _ = cloud.bounds or ((0.0,) * 4, (0.0, 0.0))
    camera = Camera(width=1280, height=800).fitted((xmin, ymin, xmax, ymax))
    took, row, pixels = [], KeyRow(step="a", column="classification"), np.zeros((800, 1280), np.uint32)
    for turn in range(120):
        near = camera.zoomed(1.06**turn, 500.0, 300.0).moved(7.0 * turn, 3.0 * turn)
        start = time.perf_counter()
        picture.paint(row, None, near, 1.0, pixels)
        took.append(time.perf_counter() - start)
    slow = float(np.quantile(took[3:], 0.95)) * 1e3
    yield Line(
        "a picture of ten million points, panned and zoomed", f"{slow:.0f} ms at the 95th percentile",
        f"made in {made:.1f} s", "33 ms", slow <= 33.0,
    )  # fmt: skip
    bytes_each = picture.nbytes / len(cloud)
    yield Line(
        "memory of a cloud's picture", f"{bytes_each:.0f} bytes a point", "beside the points themselves",
        "at most 60", bytes_each <= 60.0,
    )  # fmt: skip


def many() -> Cloud:
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

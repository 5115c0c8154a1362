"""Grounds larger than memory: ``python -m benchmarks.large [SIDE [alone] [sight] [over] [between] [two]]``,
SIDE rows and columns (30,000 when left out; an hour), or ``growth``. Each run is a process of its own, whose
memory is watched with that of its workers.
"""

from __future__ import annotations

import itertools
import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
import psutil
import rasterio
import shapely
from rasterio.transform import from_origin
from rasterio.windows import Window

from benchmarks.measure import Line
from moss_step.formats.vector import write_shapes
from moss_step.model.mapped import roomy_folder
from moss_step.model.shapes import Shapes

TILED = ("--tile-cells", "8000000")
SIDE, BLOCK = 30_000, 512
SLOPE = ({"id": "slope", "kind": "slope", "inputs": {"dem": "ground"}},)
CLASSES = (
    *SLOPE,
    {
        "id": "steep",
        "kind": "classify",
        "inputs": {"surface": "slope"},
        "settings": {"rules": "fao_slope"},
    },
)
ZONES = (
    *CLASSES,
    {"id": "areas", "kind": "open_shapes", "settings": {"source": "areas.geojson"}},
    {"id": "zones", "kind": "zone_classes", "inputs": {"classes": "steep", "zones": "areas"}},
)
CORNER = 412_000.0, 5_872_000.0
"""Upper left corner of the ground, whose cells are a metre wide."""
WATER = ({"id": "flow", "kind": "flow_accumulation", "inputs": {"dem": "ground"}},)


def write_ground(path: Path, side: int) -> None:
    """A rough ground, tiled and not compressed: hills of several sizes, made band by band."""
    rng = np.random.default_rng(1)
    coarse = [
        (s, rng.normal(size=(side // s + 3, side // s + 3)).astype(np.float32)) for s in (2000, 400, 80)
    ]
    layout = {"tiled": True, "blockxsize": BLOCK, "blockysize": BLOCK, "BIGTIFF": "YES"}
    with rasterio.open(
        path, "w", driver="GTiff", height=side, width=side, count=1, dtype="float32", crs="EPSG:32628",
        transform=from_origin(*CORNER, 1, 1), nodata=-9999.0, **layout,
    ) as file:  # fmt: skip
        file.units = ("metre",)
        for top in range(0, side, BLOCK):
            rows = np.arange(top, min(top + BLOCK, side))
            z = rng.normal(size=(len(rows), side)).astype(np.float32) * 0.05
            for size, values in coarse:
                z += _between(values, rows, side, size) * size / 40.0
            file.write(z, 1, window=Window(0, top, side, len(rows)))


def _between(values: np.ndarray, rows: np.ndarray, cols: int, size: int) -> np.ndarray:
    """Bilinear values between coarse ones."""
    r, c = rows / size, np.arange(cols) / size
    i, j = r.astype(int), c.astype(int)
    u, v = (r - i).astype(np.float32)[:, None], (c - j).astype(np.float32)[None]
    low = values[i][:, j] * (1 - v) + values[i][:, j + 1] * v
    high = values[i + 1][:, j] * (1 - v) + values[i + 1][:, j + 1] * v
    result: np.ndarray = low * (1 - u) + high * u
    return result


def copied(source: Path, target: Path) -> None:
    """What the raster library takes to copy a file in windows."""
    with rasterio.open(source) as file:
        profile = file.profile
        with rasterio.open(target, "w", **{**profile, "BIGTIFF": "YES"}) as out:
            for top in range(0, file.height, BLOCK):
                window = Window(0, top, file.width, min(BLOCK, file.height - top))
                out.write(file.read(1, window=window), 1, window=window)


class Taken(NamedTuple):
    """Seconds of a process with all that it begins, most bytes of all of them at once and of the largest that
    it began, where shared pages of files do not count, and bytes that went over the loopback meanwhile.
    """

    seconds: float
    most: float
    of_one: float
    moved: float


def timed(words: Sequence[str], **env: str) -> Taken:
    """What a process takes.

    Raises RuntimeError where it fails.
    """
    moved = _over_loopback()
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, env=os.environ | env)
    most, start, over = [0, 0], time.perf_counter(), threading.Event()

    def watch() -> None:
        while not over.wait(0.05):
            try:
                first = psutil.Process(process.pid)
                begun = [_own(p) for p in first.children(recursive=True)]
                most[:] = max(most[0], _own(first) + sum(begun)), max(most[1], *begun, 0)
            except psutil.Error:
                continue

    watcher = threading.Thread(target=watch)
    watcher.start()
    code = process.wait()
    seconds = time.perf_counter() - start
    over.set()
    watcher.join()
    if code:
        raise RuntimeError(f"{' '.join(words)} ended with {code}")
    return Taken(seconds, float(most[0]), float(most[1]), _over_loopback() - moved)


def _over_loopback() -> float:
    return float(psutil.net_io_counters(pernic=True)["lo"].bytes_sent)


def _own(process: psutil.Process) -> int:
    memory = process.memory_info()
    return int(memory.rss - memory.shared)


def study(folder: Path, name: str, steps: Sequence[object]) -> Path:
    """A study on the ground of a folder."""
    path = folder / f"{name}.moss"
    ground = {"id": "ground", "kind": "open_grid", "settings": {"source": "ground.tif"}}
    path.write_text(json.dumps({"moss_step_study": 2, "name": name, "steps": [ground, *steps]}))
    return path


def run(folder: Path, name: str, result: str, *options: str, **env: str) -> Taken:
    """What ``moss-step run`` takes for one result of a study."""
    out = folder / "out"
    shutil.rmtree(out, ignore_errors=True)
    words = [sys.executable, "-m", "moss_step", "run", str(folder / f"{name}.moss"), "-o", str(out), "-q"]
    taken = timed([*words, "--only", result, *options], **env)
    shutil.rmtree(out, ignore_errors=True)
    return taken


def in_one_piece(folder: Path) -> Taken:
    """What drainage takes as ``moss-step do`` works it out: in one piece."""
    out = folder / "whole.tif"
    words = [sys.executable, "-m", "moss_step", "do", "flow_accumulation", f"dem={folder / 'ground.tif'}"]
    taken = timed([*words, "-o", str(out), "-q"])
    for written in folder.glob("whole.*"):
        written.unlink()
    return taken


def write_areas(folder: Path, side: int) -> None:
    """Areas that cover the ground, some hundred of them."""
    edges = np.linspace(0, side, 13)
    boxes = [
        shapely.box(CORNER[0] + a, CORNER[1] - d, CORNER[0] + b, CORNER[1] - c)
        for a, b in itertools.pairwise(edges)
        for c, d in itertools.pairwise(edges)
    ]
    write_shapes(folder / "areas.geojson", Shapes(np.array(boxes), {}, "EPSG:32628"), "areas")


def lines(side: int, parts: Sequence[str]) -> list[Line]:
    """Measure some parts of it, or all, on a ground of a side."""
    measured = {
        "alone": _alone,
        "sight": _sight,
        "over": _overlooked,
        "between": _between_places,
        "volumes": _volumes,
        "two": _by_two,
    }
    with tempfile.TemporaryDirectory(dir=roomy_folder()) as name:
        folder = Path(name)
        write_ground(folder / "ground.tif", side)
        write_areas(folder, side)
        for of, steps in (("slope", SLOPE), ("classes", CLASSES), ("zones", ZONES), ("water", WATER)):
            study(folder, of, steps)
        return [line for part in parts or measured for line in measured[part](folder, side)]


def _sight(folder: Path, side: int) -> list[Line]:
    """What eight observers see who look 1,500 metres far: by this process, and by workers of one core."""
    shift = ((np.arange(8) + 0.5) / 8 * side).tolist()
    at = [[CORNER[0] + s, CORNER[1] - t] for s, t in zip(shift, shift[3:] + shift[:3], strict=True)]
    asked = {"at": at, "observer_height": 30.0, "reach": 1500.0}
    view = {"id": "view", "kind": "viewshed", "inputs": {"dem": "ground"}, "settings": asked}
    study(folder, "sight", [view])
    what = f"viewshed of eight observers with a reach of 1,500 m, {side:,} x {side:,} cells"
    return _by_all(folder, "sight", "view", what)


def _overlooked(folder: Path, side: int) -> list[Line]:
    """What one observer sees of all of the ground: by this process, and by workers."""
    asked = {"at": [[CORNER[0] + 0.4 * side, CORNER[1] - 0.6 * side]], "observer_height": 30.0}
    view = {"id": "view", "kind": "viewshed", "inputs": {"dem": "ground"}, "settings": asked}
    study(folder, "over", [view])
    what = f"viewshed of one observer over all of {side:,} x {side:,} cells"
    return _by_all(folder, "over", "view", what)


def _between_places(folder: Path, side: int) -> list[Line]:
    """A surface between 20,000 places in the cells of the ground: by this process, and by workers."""
    dice = np.random.default_rng(1)
    x, y = dice.uniform(0, side, (2, 20_000))
    heights = 40.0 + 20.0 * np.sin(x / 900.0) * np.cos(y / 700.0)
    places = np.asarray(shapely.points(CORNER[0] + x, CORNER[1] - y))
    write_shapes(folder / "places.gpkg", Shapes(places, {"z": heights}, "EPSG:32628"), "places")
    asked = {"column": "z", "method": "inverse_distance"}
    fed = {"points": "places", "like": "ground"}
    opened = {"id": "places", "kind": "open_shapes", "settings": {"source": "places.gpkg"}}
    study(
        folder, "between", [opened, {"id": "made", "kind": "interpolate", "inputs": fed, "settings": asked}]
    )
    what = f"inverse distance between 20,000 places, {side:,} x {side:,} cells"
    return _by_all(folder, "between", "made", what)


def _volumes(folder: Path, side: int) -> list[Line]:
    """Cut and fill of sixteen outlines that cover the ground: by this process, and by workers."""
    edges = np.linspace(3, side - 3, 5)
    boxes = [
        shapely.box(CORNER[0] + a, CORNER[1] - d, CORNER[0] + b, CORNER[1] - c)
        for a, b in itertools.pairwise(edges)
        for c, d in itertools.pairwise(edges)
    ]
    write_shapes(folder / "outlines.gpkg", Shapes(np.array(boxes), {}, "EPSG:32628"), "outlines")
    opened = {"id": "outlines", "kind": "open_shapes", "settings": {"source": "outlines.gpkg"}}
    found = []
    for against in ("level", "edge"):
        asked = {"against": against} | ({"level": 0.0} if against == "level" else {})
        fed = {"surface": "ground", "area": "outlines"}
        study(
            folder, against, [opened, {"id": "depth", "kind": "cut_fill", "inputs": fed, "settings": asked}]
        )
        what = (
            f"cut and fill of sixteen outlines against {'a level' if against == 'level' else 'their edges'}"
        )
        found += _by_all(folder, against, "depth", f"{what}, {side:,} x {side:,} cells")
    return found


def _by_all(folder: Path, name: str, result: str, what: str) -> list[Line]:
    """A result of a study by this process, and by one and two workers of one core."""
    alone = run(folder, name, result, *TILED)
    one, two = (run(folder, name, result, "--workers", str(n), *TILED, NUMBA_NUM_THREADS="1") for n in (1, 2))
    times = one.seconds / two.seconds
    said = f"{one.seconds:.1f} s, {two.seconds:.1f} s; {two.of_one / 1e9:.2f} GB a worker"
    return [
        Line(what, f"{alone.seconds:.0f} s, {alone.most / 1e9:.2f} GB", "", "", True),
        Line("the same: two workers of one core against one", said, f"{times:.2f} times as fast", "", True),
    ]


def _alone(folder: Path, side: int) -> list[Line]:
    """In one process: against what the raster library takes to copy the file, and within bounds."""
    for _ in range(2):  # the first time reads it from the disk
        began = time.perf_counter()
        copied(folder / "ground.tif", folder / "copy.tif")
        copy = time.perf_counter() - began
    (folder / "copy.tif").unlink()
    what = f"{side:,} x {side:,} cells"
    slope, held, *_ = run(folder, "slope", "slope", *TILED)
    both, more, *_ = run(folder, "classes", "steep", *TILED)
    water, most, *_ = run(folder, "water", "flow", *TILED)
    copies, each = slope / copy, water / side / side * 1e9
    return [
        Line(
            f"slope, {what}, tile by tile, the process with its start and the hash of the source",
            f"{slope:.1f} s, {held / 1e9:.2f} GB", f"{copies:.2f} copies of the file in windows",
            "at most 1.3", copies <= 1.3,
        ),
        Line(
            "slope and its classes in one pass", f"{both:.1f} s, {more / 1e9:.2f} GB",
            f"{both / copy:.2f} copies", "", True,
        ),
        Line(
            f"drainage, {what}", f"{water:.0f} s, {most / 1e9:.2f} GB", f"{each:.0f} ns a cell",
            "within 300 s and 2 GB", water <= 300 and most <= 2e9,
        ),
    ]  # fmt: skip


def growth() -> list[Line]:
    """Drainage on grounds of 17, 67 and 268 million cells in tiles; and of 67 million in one piece."""
    found, seconds = [], list[float]()
    for side in (4096, 8192, 16_384):
        with tempfile.TemporaryDirectory(dir=roomy_folder()) as name:
            folder = Path(name)
            write_ground(folder / "ground.tif", side)
            study(folder, "water", WATER)
            taken, most, *_ = run(folder, "water", "flow", *TILED)
            seconds.append(taken)
            said = f"{taken:.1f} s, {most / 1e9:.2f} GB", f"{taken / side / side * 1e9:.0f} ns a cell"
            found.append(Line(f"drainage, {side:,} x {side:,}, in tiles", *said, "", True))
            if side == 8192:
                whole, most, *_ = in_one_piece(folder)
                times = whole / taken
                found.append(
                    Line(
                        f"drainage, {side:,} x {side:,}, in one piece",
                        f"{whole:.1f} s, {most / 1e9:.2f} GB",
                        f"tiles are {times:.2f} times as fast",
                        "at least 1.7",
                        times >= 1.7,
                    )
                )
                study(folder, "slope", SLOPE)
                tiles, one = (run(folder, "slope", "slope", *o).seconds for o in (TILED, ()))
                found.append(
                    Line(
                        f"slope, {side:,} x {side:,}, with its file: tiles against one piece",
                        f"{tiles:.1f} s",
                        f"{tiles / one:.2f} times as long",
                        "at most 1.1",
                        tiles <= 1.1 * one,
                    )
                )
    power = float(np.log(seconds[2] / seconds[0]) / np.log(16.0))
    found.append(
        Line("growth from 17 to 268 million cells", f"{power:.2f}", "", "at most 1.03", power <= 1.03)
    )
    return found


def _by_two(folder: Path, _: int) -> list[Line]:
    """Two workers against one, each with one core, as two machines against one."""
    found = []
    for of, result, said in (("zones", "zones", "slope, classes, zones"), ("water", "flow", "drainage")):
        one, two = (
            run(folder, of, result, "--workers", str(n), *TILED, NUMBA_NUM_THREADS="1").seconds
            for n in (1, 2)
        )
        times = f"{one / two:.2f} times as fast"
        name = f"{said}: two workers of one core against one"
        found.append(Line(name, f"{one:.1f} s, {two:.1f} s", times, "at least 1.6", one / two >= 1.6))
    return found


def main() -> int:
    """Measure and print."""
    said = sys.argv[1:]
    some = growth() if said == ["growth"] else lines(int(said[0]) if said else SIDE, said[1:])
    for line in some:
        holds = "yes" if line.holds else "NO"
        print(f"| {line.what} | {line.measured} | {line.against} | {line.wanted} | {holds} |", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())

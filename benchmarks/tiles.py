"""A cloud of 200 million points in 20 files, from files to a ground grid, with the memory that it takes:
``python -m benchmarks.tiles``, a quarter of an hour.
"""

from __future__ import annotations

import shutil
import struct
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from benchmarks.measure import Line
from moss_step.model.progress import silent
from moss_step.model.typed import as_kind

TILES, MOST_BYTES = 20, 2_000_000_000
_OFFSETS, _EXTENT = 155, 179
"""Where the offsets and the extent stand in the head of a LAS file (ASPRS LAS 1.4 R15, table 2)."""


def lines() -> list[Line]:
    """Measure it in a process of its own, so that nothing else counts."""
    with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
        count = write_tiles(Path(folder))
        done = subprocess.run(
            [sys.executable, "-m", "benchmarks.tiles", folder], check=True, capture_output=True, text=True
        )
    seconds, held, cells = (float(v) for v in done.stdout.split()[-3:])
    return [
        Line(
            f"{count / 1e6:.0f} million points, {TILES} files, to a grid of {cells / 1e6:.0f} million cells",
            f"{seconds / 60:.1f} min", f"{held / 1e9:.2f} GB of its own at the most", "under 2 GB, flat",
            held < MOST_BYTES,
        )
    ]  # fmt: skip


def write_tiles(folder: Path, tiles: int = TILES) -> int:
    """Write tiles beside each other: one is written, the others are the same points at another place. Gives
    the number of all points.
    """
    from benchmarks.points import many
    from moss_step.formats.las_write import write_cloud

    cloud = many()
    first = folder / "tile_00.laz"
    write_cloud(first, cloud)
    (xmin, ymin, xmax, ymax), _ = cloud.bounds or ((0.0,) * 4, (0.0, 0.0))
    for k in range(1, tiles):
        _moved(first, folder / f"tile_{k:02}.laz", (k % 5) * (xmax - xmin), (k // 5) * (ymax - ymin))
    return len(cloud) * tiles


def _moved(source: Path, target: Path, east: float, north: float) -> None:
    """Copy a file with its points moved: the head says where they lie."""
    shutil.copyfile(source, target)
    with target.open("r+b") as file:
        head = bytearray(file.read(375))
        x, y, z = struct.unpack_from("<3d", head, _OFFSETS)
        struct.pack_into("<3d", head, _OFFSETS, x + east, y + north, z)
        right, left, top, bottom = struct.unpack_from("<4d", head, _EXTENT)
        struct.pack_into("<4d", head, _EXTENT, right + east, left + east, top + north, bottom + north)
        file.seek(0)
        file.write(head)


def own_memory() -> int:
    """Bytes of this process that are no copy of a file."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("RssAnon:"):
            return int(line.split()[1]) * 1024
    return 0


def to_ground(folder: str) -> tuple[float, int, int]:
    """Seconds, largest memory and cells of the way from files to a ground grid; tells of each step."""
    from moss_step.model.cloud import Cloud
    from moss_step.model.surface import Surface
    from moss_step.steps.catalogue import step_kind
    from moss_step.study.declared import run_declared

    most, over = [0], threading.Event()

    def watch() -> None:
        while not over.wait(0.1):
            most[0] = max(most[0], own_memory())

    threading.Thread(target=watch, daemon=True).start()
    start = last = time.perf_counter()
    cloud = as_kind(run_declared(step_kind("open_cloud"), {"source": folder}, {}, silent()).value, Cloud)
    print(f"open {time.perf_counter() - last:.0f} s, {most[0] / 1e9:.2f} GB", file=sys.stderr)
    last = time.perf_counter()
    bare = run_declared(step_kind("ground_points"), {}, {"cloud": cloud}, silent()).value
    print(f"ground {time.perf_counter() - last:.0f} s, {most[0] / 1e9:.2f} GB", file=sys.stderr)
    last = time.perf_counter()
    grid = run_declared(step_kind("grid_points"), {"cell": 1.0}, {"cloud": bare}, silent()).value
    print(f"grid {time.perf_counter() - last:.0f} s, {most[0] / 1e9:.2f} GB", file=sys.stderr)
    over.set()
    return time.perf_counter() - start, most[0], as_kind(grid, Surface).values.size


if __name__ == "__main__":
    if len(sys.argv) > 1:
        print(*to_ground(sys.argv[1]))
    else:
        for line in lines():
            print(line)

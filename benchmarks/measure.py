"""Timing in one run: the best of a few tries, and memory beside the inputs."""

from __future__ import annotations

import gc
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import psutil

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE


@dataclass(frozen=True)
class Line:
    """One row of the table: what, its measure, what it is held against, and whether it holds."""

    what: str
    measured: str
    against: str
    wanted: str
    holds: bool


def best(run: Callable[[], object], tries: int = 5) -> float:
    """Shortest time of several tries in seconds, after one that does not count."""
    run()
    times = []
    for _ in range(tries):
        gc.collect()
        start = time.perf_counter()
        run()
        times.append(time.perf_counter() - start)
    return min(times)


def peak_extra_bytes(run: Callable[[], object]) -> int:
    """Most memory of the process while something runs, beyond what it had before."""
    process = psutil.Process()
    gc.collect()
    before, most, done = process.memory_info().rss, [0], threading.Event()

    def watch() -> None:
        while not done.wait(0.002):
            most[0] = max(most[0], process.memory_info().rss)

    watcher = threading.Thread(target=watch)
    watcher.start()
    kept = run()
    most[0] = max(most[0], process.memory_info().rss)
    done.set()
    watcher.join()
    del kept
    return max(most[0] - before, 0)


def in_metres(z: np.ndarray) -> Surface:
    """Heights as a ground of cells of 2 m."""
    rows, cols = z.shape
    return Surface(z, Frame(rows, cols, 0.0, rows * 2.0, 2.0, 2.0, "EPSG:32628"), METRE)


def rough_ground(n: int, seed: int = 0) -> np.ndarray:
    """A rough float32 ground of n x n cells, made of smooth noise at several scales."""
    from moss_step.demo.landscape import noise

    rng = np.random.default_rng(seed)
    z = 120.0 * noise(rng, (n, n), 5) + 30.0 * noise(rng, (n, n), 33) + 4.0 * noise(rng, (n, n), 257)
    return np.ascontiguousarray(z + 500.0 + rng.random((n, n)), np.float32)

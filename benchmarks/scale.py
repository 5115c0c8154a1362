"""What a country would take: costs of a tile fitted to runs with tiles of several sizes, and the graph of a
country at one metre given to a scheduler that is simulated: ``python -m benchmarks.scale``, some minutes.
``docs/scale.md`` has its figures.
"""

from __future__ import annotations

import heapq
import pickle
import random
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numba
import numpy as np

from benchmarks.large import WATER, Taken, run, study, write_ground
from moss_step.formats.windows import GridSource
from moss_step.large.crew import Line, TileWork, in_line, whole_work
from moss_step.large.held import OnDisk
from moss_step.large.scratch import scratch_in
from moss_step.large.tiling import Tile, squares
from moss_step.large.water import flow, passes
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import water_tiles
from moss_step.model.mapped import roomy_folder
from moss_step.model.progress import Progress, silent
from moss_step.model.units import METRE

SIDE, TILE_SIDES = 4096, (512, 1024, 2048)
COUNTRY = 10**12
"""Cells of a country at one metre: a million square kilometres."""
WORKERS = (10, 100, 1_000)
DISPATCH = 0.012
"""Seconds of a core that a tile takes to hand out and to hear of: a hundred messages one after another, to
two workers here, with client, scheduler and TLS in one process.
"""
RUN_SIDE, RUN_TILES, RUN_WORKERS = 8192, (512, 1024, 2048), (1, 2, 4)
CORES = 2
"""Of this machine: more workers than these take turns."""
MEMORY_A_CELL = 24.0
"""Bytes a cell of a tile that finding pools takes at the most: 20 were measured at tiles of 2048 and 4096."""


@dataclass(frozen=True)
class Phase:
    """What tiles cost in one phase of the work: seconds for each tile and for each of its cells, and bytes
    that come back for each cell of its rim.
    """

    name: str
    a_tile: float
    a_cell: float
    bytes_a_rim_cell: float

    def seconds(self, cells: int) -> float:
        """Seconds for one tile."""
        return self.a_tile + self.a_cell * cells


class Timed:
    """One worker, who says how long each tile took and how many bytes came back, by what was worked on."""

    def __init__(self) -> None:
        self.took: dict[str, list[tuple[float, int]]] = {}

    def each(
        self, work: TileWork[Any], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, Any]]:
        """Work on tiles one after another."""
        waiting = in_line(tiles)
        while waiting:
            tile = waiting.popleft()
            began = time.perf_counter()
            (result,) = whole_work([(work, tile)], "")
            took = time.perf_counter() - began
            self.took.setdefault(type(work).__name__, []).append((took, len(pickle.dumps(result))))
            yield tile, result


def run_once(path: Path, side: int) -> tuple[Timed, float, int, int]:
    """Drain a ground with tiles of a side; gives what each took, seconds for the graph of the rims, and its
    nodes and passes.
    """
    with tempfile.TemporaryDirectory(dir=roomy_folder()) as folder:
        source = GridSource(path)
        held = OnDisk(source, "surface", {"unit": asdict(METRE), "quantity": "elevation"})
        ground, crew = (
            Ground(held, scratch_in(Path(folder), squares(source.frame.shape, side * side))),
            Timed(),
        )
        rims = passes.pool_rims(ground, crew, silent())
        began = time.perf_counter()
        graph = passes.RimGraph(ground.tiling, rims)
        levels, edges = graph.solved()
        solved = time.perf_counter() - began
        for _ in crew.each(passes.FillWork(ground, levels), list(ground.tiling), silent(), ""):
            pass
        flow.find_ways(ground, crew, silent())
        flow.added_rims(ground, ("cells", "edge"), crew, silent())
    return crew, solved, graph.nodes, edges


def fitted(runs: dict[int, Timed]) -> list[Phase]:
    """Fit seconds of a tile to its cells, phase by phase: the middle of each size, by least squares."""
    phases = []
    for name in runs[TILE_SIDES[-1]].took:
        sides = [s for s in TILE_SIDES if name in runs[s].took]
        cells = np.array([s * s for s in sides], float)
        seconds = np.array([np.median([t for t, _ in runs[s].took[name]]) for s in sides])
        back = max(np.mean([b for _, b in runs[s].took[name]]) / (4 * s) for s in sides)
        a_cell, a_tile = np.polyfit(cells, seconds, 1) if len(sides) > 1 else (seconds[0] / cells[0], 0.0)
        phases.append(Phase(name, max(float(a_tile), 0.0), float(a_cell), float(back)))
    return phases


def simulate(
    phases: Sequence[Phase], tiles: int, cells: int, workers: int, graph: float, seed: int = 1
) -> tuple[float, float]:
    """Hours that the graph takes on a number of workers, and the share of these in which they work: phase
    by phase, each tile by the next who is free, not before the scheduler has handed it out; durations
    differ by a fifth.
    """
    dice, now, busy = random.Random(seed), 0.0, 0.0
    for phase in phases:
        free, handed, last = [now] * min(workers, tiles), now, now
        heapq.heapify(free)
        for _ in range(tiles):
            handed += DISPATCH
            seconds = phase.seconds(cells) * dice.uniform(0.8, 1.2)
            end = max(heapq.heappop(free), handed) + seconds
            heapq.heappush(free, end)
            busy += seconds
            last = max(last, end)
        now = last
        if phase.name in ("DescendWork", "AddWork"):
            now += graph  # what one process does for all of them meanwhile
    return now / 3600.0, busy / (now * workers)


def with_workers(phases: Sequence[Phase], solved: float) -> list[str]:
    """Rows for runs with some workers of one core each and tiles of some sizes: what they took, what the
    costs of a tile foretell with the start of processes, memory of the largest worker, and bytes moved.
    """
    rows = []
    with tempfile.TemporaryDirectory(dir=roomy_folder()) as name:
        folder = Path(name)
        write_ground(folder / "ground.tif", RUN_SIDE)
        study(folder, "water", WATER)
        start = [started(folder, workers) for workers in RUN_WORKERS]
        for side in RUN_TILES:
            tiles = (RUN_SIDE // side) ** 2
            for workers, begun in zip(RUN_WORKERS, start, strict=True):
                taken = drained(folder, workers, side)
                hours, _ = simulate(phases, tiles, side * side, min(workers, CORES), solved)
                rows.append(
                    f"| {workers} | {side} | {tiles} | {taken.seconds:.1f} s | {begun + hours * 3600:.1f} s "
                    f"| {taken.of_one / 1e9:.2f} GB | {taken.moved / 1e6:.0f} MB |"
                )
    return rows


def drained(folder: Path, workers: int, side: int) -> Taken:
    """What drainage of the ground of a folder takes with workers of one core each, in tiles of a side."""
    cells = 2 * side * side
    if water_tiles((RUN_SIDE, RUN_SIDE), cells).high != side:
        raise ValueError(f"no tiles of {side} rows")
    asked = "--workers", str(workers), "--tile-cells", str(cells)
    return run(folder, "water", "flow", *asked, NUMBA_NUM_THREADS="1")


def started(folder: Path, workers: int) -> float:
    """Seconds that processes take to begin, and to end: a run on a ground of one small tile."""
    small = folder / f"small{workers}"
    small.mkdir()
    write_ground(small / "ground.tif", RUN_TILES[0])
    study(small, "water", WATER)
    return drained(small, workers, RUN_TILES[0]).seconds


def country(phases: Sequence[Phase], graph: tuple[float, int, int], side: int, workers: int) -> str:
    """A row for a country in tiles of a side: the graph of its rims grows as these do."""
    tiles = COUNTRY // side**2
    ours = 4 * TILE_SIDES[-1] * (SIDE // TILE_SIDES[-1]) ** 2
    more = 4 * side * tiles / ours
    seconds, nodes, edges = (v * more for v in graph)
    back = sum(p.bytes_a_rim_cell for p in phases) * 4 * side * tiles
    hours, share = simulate(phases, tiles, side * side, workers, seconds)
    rim = f"{seconds / 60:.0f} min, {edges * 24 / 1e9:,.0f} GB"
    head = f"| {workers:,} | {side} | {tiles:,} | {back / 1e9:,.0f} GB | {nodes / 1e6:,.0f} million"
    return f"{head} | {rim} | {hours:,.1f} | {share:.0%} |"


def main() -> int:
    """Measure, fit, simulate, and print what the page of the docs has."""
    numba.set_num_threads(1)  # as a worker has
    runs: dict[int, Timed] = {}
    graphs: dict[int, tuple[float, int, int]] = {}
    with tempfile.TemporaryDirectory(dir=roomy_folder()) as folder:
        path = Path(folder) / "ground.tif"
        write_ground(path, SIDE)
        run_once(path, TILE_SIDES[-1])  # compiles what was not yet
        for side in TILE_SIDES:
            runs[side], solved, nodes, passed = run_once(path, side)
            graphs[side] = (solved, nodes, passed)
    phases = fitted(runs)
    print("| phase | a tile | a cell | bytes back for a rim cell |\n|---|---:|---:|---:|")
    for p in phases:
        print(f"| {p.name} | {p.a_tile * 1e3:.1f} ms | {p.a_cell * 1e9:.0f} ns | {p.bytes_a_rim_cell:.1f} |")
    print("\n| tile | rim cells | nodes | passes | solved in |\n|---|---:|---:|---:|---:|")
    for side, (solved, nodes, edges) in graphs.items():
        rim = 4 * side * (SIDE // side) ** 2
        print(f"| {side} x {side} | {rim:,} | {nodes:,} | {edges:,} | {solved:.2f} s |")
    head = "| workers | tile | tiles | took | foretold | a worker holds | moved |"
    print(f"\n{head}\n{'|---:' * 7}|")
    for row in with_workers(phases, graphs[TILE_SIDES[-1]][0] * (RUN_SIDE / SIDE) ** 2):
        print(row, flush=True)
    print(f"\n| workers | tile | tiles | bytes back | nodes | graph | hours | at work |\n{'|---:' * 8}|")
    for side in (2048, 8192):
        for workers in WORKERS:
            print(country(phases, graphs[TILE_SIDES[-1]], side, workers))
    for side in (2048, 8192):
        print(f"\nA worker holds {MEMORY_A_CELL * side * side / 1e9:.1f} GB at a tile of {side} x {side}.")
    return 0


if __name__ == "__main__":
    sys.exit(main())

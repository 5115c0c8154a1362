"""Every step on one large ground: its time, the longest it is silent for, and the memory it takes: ``python
-m benchmarks.every_step``.

Each step runs in a process of its own, on a small ground first: what is compiled then counts for nothing.
"""

from __future__ import annotations

import argparse
import itertools
import json
import multiprocessing
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path

import numpy as np
import psutil
from tests.cases import RESULTS, Place, given_for, inputs_for
from tests.grounds import COLS, ROWS, metric

from benchmarks.measure import rough_ground
from moss_step.model.errors import MossError
from moss_step.model.memory import give_back
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.steps.catalogue import step_kind
from moss_step.steps.declare import StepKind
from moss_step.study.declared import run_declared

SIDE, SMALL, CLOUD_SMALL = 4096, 300, 100
LONGEST = 1.0
"""Seconds that a step may be silent for."""


@dataclass(frozen=True)
class Measured:
    """What one step did: seconds in all, the longest without a report and what it did then, bytes beside its
    inputs, of its result, and those that it said that it would take.
    """

    kind: str
    seconds: float
    silence: float
    doing: str
    extra: int
    result: int
    said: int
    failed: str = ""


class Listener:
    """Hears the reports of a step, and keeps the longest time between two."""

    def __init__(self) -> None:
        self.begun = self.last = time.perf_counter()
        self.longest, self.during, self._doing = 0.0, "", "before the first report"

    def hear(self, fraction: float, doing: str) -> None:
        """Take a report."""
        now = time.perf_counter()
        if now - self.last > self.longest:
            self.longest, self.during = now - self.last, self._doing
        self.last, self._doing = now, f"{doing} {fraction:.0%}"


class Peak:
    """The most memory of this process while it is entered, beyond what it held before."""

    def __enter__(self) -> Peak:
        give_back()
        Path("/proc/self/clear_refs").write_text("5")  # the kernel's own record of the most, begun anew
        self.before = psutil.Process().memory_info().rss
        return self

    def __exit__(self, *_: object) -> None:
        lines = Path("/proc/self/status").read_text().splitlines()
        most = next(int(line.split()[1]) * 1024 for line in lines if line.startswith("VmHWM:"))
        self.extra = max(most - self.before, 0)


def place_on(ground: Surface) -> Place:
    """Places of the small common ground, spread over a large one."""
    down, across = ground.frame.rows / ROWS, ground.frame.cols / COLS
    return lambda at: (ground.frame.x_of(at[1] * across), ground.frame.y_of(at[0] * down))


@lru_cache(maxsize=2)
def ground_of(side: int) -> Surface:
    """A rough ground with holes of some cells, as grids from the air have them."""
    heights = rough_ground(side)
    for k in range(1, 8):
        heights[k * side // 8 : k * side // 8 + 5, :: side // 9][:, :3] = np.nan
    ground = metric(heights)
    _ = ground.summary
    return ground


def measure(name: str, side: int, more: dict[str, str]) -> Measured:
    """Work out one result here, written ``step`` or ``step.name``, with ``more`` settings than the step's
    own.
    """
    return measure_of_one([name], side, more)[0]


def measure_of_one(names: Sequence[str], side: int, more: dict[str, str]) -> list[Measured]:
    """The same of some results of one step, which runs once for all of them."""
    kind, found = step_kind(names[0].partition(".")[0]), list[Measured]()
    for n in (CLOUD_SMALL if takes_cloud(kind) else SMALL, side):
        ground = ground_of(n)
        ground.derived.clear()
        given, inputs = given_for(kind, place_on(ground), ground), inputs_for(kind, ground, place_on(ground))
        if kind.kind == "stream_basins":  # up to 2,000 outlets are taken at a time
            given["min_area"] = ground.area / 500.0
        for value in inputs.values():
            _ = getattr(value, "summary", None)
        given |= {k: v for k, v in more.items() if k in kind.settings.listed()}
        said, heard, main = kind.bytes_needed(kind.checked(given), inputs), Listener(), Peak()
        try:
            with main:
                outcome = run_declared(kind, given, inputs, Progress(heard.hear))
        except (MossError, MemoryError) as error:  # the table says it
            return [failed(name, heard, error) for name in names]
        found = [_measured(name, kind, outcome, said, heard, main) for name in names]
    return found


def _measured(
    name: str, kind: StepKind, outcome: Outcome, said: int, heard: Listener, main: Peak
) -> Measured:
    """What a result takes together with the run that it comes of."""
    own = Peak()
    try:
        with own:
            result = kind.outcome_of(outcome, name.partition(".")[2])
    except (MossError, MemoryError) as error:
        return failed(name, heard, error)
    heard.hear(1.0, "")
    extra = max(main.extra, own.before - main.before + own.extra)
    seconds = time.perf_counter() - heard.begun
    return Measured(name, seconds, heard.longest, heard.during, extra, result.value.nbytes, said)


def failed(name: str, heard: Listener, error: Exception) -> Measured:
    """A result that could not be worked out."""
    words = str(error) or type(error).__name__
    return Measured(name, time.perf_counter() - heard.begun, 0.0, "", 0, 0, 0, words)


def _child(name: str, side: int, more: dict[str, str], answer: multiprocessing.Queue[Measured]) -> None:
    answer.put(measure(name, side, more))


def measure_apart(name: str, side: int, more: dict[str, str], at_most: float) -> Measured:
    """Run one step in a process of its own, for some seconds at most."""
    context = multiprocessing.get_context("spawn")
    answer: multiprocessing.Queue[Measured] = context.Queue()
    process = context.Process(target=_child, args=(name, side, more, answer))
    process.start()
    watch = threading.Timer(at_most, process.kill)
    watch.start()
    process.join()
    watch.cancel()
    return (
        answer.get()
        if process.exitcode == 0
        else Measured(name, at_most, at_most, "", 0, 0, 0, f"ended with {process.exitcode}")
    )


def every(
    names: list[str], side: int, cloud_side: int | None, more: dict[str, str], at_most: float
) -> Iterator[Measured]:
    """Measure steps one after another."""
    for name in names:
        yield measure_apart(name, side_of(name, side, cloud_side), more, at_most)


def here(names: list[str], side: int, cloud_side: int | None, more: dict[str, str]) -> Iterator[Measured]:
    """Measure steps one after another in this process, each once for all of its results."""
    for step, own in itertools.groupby(names, lambda name: name.partition(".")[0]):
        yield from measure_of_one(list(own), side_of(step, side, cloud_side), more)


def line(measured: Measured, side: int) -> str:
    """A line of the table."""
    held = "" if measured.silence <= LONGEST and not measured.failed else "  <-"
    return (
        f"{measured.kind:18} {measured.seconds:8.2f} s  silent {measured.silence:6.2f} s  "
        f"{measured.extra / side**2:7.1f} B/cell"
        f" of {measured.said / side**2:6.1f} said  result {measured.result / side**2:6.2f}  "
        f"{measured.failed or measured.doing}{held}"
    )


def page(found: list[Measured], side: int) -> str:
    """The page of the docs, from a run of all steps."""
    head = (
        "# Every step on a large ground\n\n"
        f"Written by `make every-step` on {datetime.now(UTC):%Y-%m-%d}: {side} x {side} cells of float32 "
        f"with holes, {psutil.cpu_count()} cores,\n"
        "one run, each step in a process of its own with the settings of the tests. A step reports as "
        "often as its longest silence, and can be\n"
        f"stopped as often: {LONGEST:g} s is the bound. Memory is the most beside the inputs, by the "
        "kernel's record; *said* is what the\n"
        "declaration says beforehand.\n\n"
        "| step | time, s | longest silence, s | bytes a cell | said | of the result |\n| --- | ---: | "
        "---: | ---: | ---: | ---: |\n"
    )
    cells, rows = side**2, []
    for t in found:
        sizes = f"{t.extra / cells:.1f} | {t.said / cells:.1f} | {t.result / cells:.2f}"
        rows.append(
            f"| {t.kind} | {t.seconds:.2f} | {t.silence:.2f} | {sizes} |{' ' + t.failed if t.failed else ''}"
        )
    return head + "\n".join(rows) + "\n"


def side_of(name: str, side: int, cloud_side: int | None) -> int:
    """Rows and columns of the ground that a result is made of."""
    return cloud_side if cloud_side and takes_cloud(step_kind(name.partition(".")[0])) else side


def takes_cloud(kind: StepKind) -> bool:
    """Whether a step works on points, of which there are four a cell."""
    return any(i.accepts == "cloud" for i in kind.inputs)


def main() -> int:
    """Measure the steps that are named, or all; say whether none is silent for too long."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("kinds", nargs="*")
    parser.add_argument("--side", type=int, default=SIDE)
    parser.add_argument("--cloud-side", type=int, help="side for steps that take clouds: four points a cell")
    parser.add_argument("--at-most", type=float, default=300.0, help="seconds for one step")
    parser.add_argument(
        "--here", action="store_true", help="all in this process: sooner, and for memory good enough"
    )
    parser.add_argument(
        "--set", nargs="*", default=[], metavar="name=value", help="settings for all steps that have them"
    )
    parser.add_argument("--json", type=Path, help="file to write what was found into")
    parser.add_argument("--page", type=Path, help="page of the docs to write")
    asked = parser.parse_args()
    found = []
    kinds, more = asked.kinds or RESULTS, dict(pair.split("=", 1) for pair in asked.set)
    for measured in (
        here(kinds, asked.side, asked.cloud_side, more)
        if asked.here
        else every(kinds, asked.side, asked.cloud_side, more, asked.at_most)
    ):
        print(line(measured, asked.side), flush=True)
        found.append(measured)
    if asked.page:
        asked.page.write_text(page(found, asked.side))
    if asked.json:
        asked.json.write_text(json.dumps([asdict(t) for t in found], indent=1) + "\n")
    return 0 if all(t.silence <= LONGEST and not t.failed for t in found) else 1


if __name__ == "__main__":
    sys.exit(main())

"""Runs all benchmarks and writes their table: ``python -m benchmarks.run``."""

from __future__ import annotations

import platform
import sys
from datetime import UTC, datetime
from pathlib import Path

import psutil

from benchmarks import (
    block,
    earthwork,
    measures,
    objects,
    pages,
    points,
    relief,
    sight,
    surfaces,
    water,
    window,
)
from benchmarks.measure import Line, rough_ground

SIDE = 4096
ACTIONS = "## Actions that whole jobs take"
TARGET = Path(__file__).parent.parent / "docs/benchmarks.md"


def main() -> int:
    """Measure, write the table, and say whether every bound holds."""
    ground = rough_ground(SIDE)
    # The window is measured first, in a process as fresh as the one that a person starts.
    of_window = window.lines(ground)
    of_water = water.lines(ground)
    found = [
        *relief.lines(ground),
        *measures.lines(ground),
        *of_water,
        *sight.lines(ground),
        *points.lines(),
        *surfaces.lines(),
        *earthwork.lines(),
        *objects.lines(),
        *pages.lines(),
        *block.lines(ground),
        *of_window,
    ]
    page = _page(found) + water.growth() + _actions()
    TARGET.write_text(page)
    print(page)
    return 0 if all(line.holds for line in found) else 1


def _actions() -> str:
    """The part of the page that tests hold, kept as it stands."""
    _, mark, rest = TARGET.read_text().partition(ACTIONS)
    return f"\n{mark}{rest}" if mark else ""


def _page(found: list[Line]) -> str:
    head = (
        "# Benchmarks\n\n"
        f"Written by `make bench` on {datetime.now(UTC):%Y-%m-%d}: {SIDE} x {SIDE} cells of float32, "
        f"{psutil.cpu_count()} cores, Python {platform.python_version()}, one run. Times are the best of "
        "a few tries.\n"
        "Ratios are against work done in the same run. Nothing here was tuned to this ground.\n\n"
        "| what | time | ratio | bound | holds |\n| --- | --- | --- | --- | --- |\n"
    )
    rows = [
        f"| {r.what} | {r.measured} | {r.against} | {r.wanted} | {'yes' if r.holds else 'NO'} |"
        for r in found
    ]
    return head + "\n".join(rows) + "\n"


if __name__ == "__main__":
    sys.exit(main())

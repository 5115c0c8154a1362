"""Two programs on one study at once, and files whose times jump: results are those of a run left alone."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

from soak.kills import PROGRAM, contents, write_ground
from soak.watch import Judge

TILED = ("--tile-cells", "300000")
_LATEST = 9_000_000_000
"""Seconds since 1970 of the latest time that a file is given: the year 2255."""


def _study(folder: Path) -> Path:
    write_ground(folder / "shared.tif", 1100)
    steps = [
        {"id": "ground", "kind": "open_grid", "settings": {"source": "shared.tif"}},
        {"id": "slope", "kind": "slope", "inputs": {"dem": "ground"}},
        {"id": "flow", "kind": "flow_accumulation", "inputs": {"dem": "ground"}},
    ]
    path = folder / "shared.moss"
    path.write_text(json.dumps({"moss_step_study": 2, "name": "Shared", "steps": steps}))
    return path


def _alone(line: list[str], out: Path) -> tuple[float, dict[str, bytes]]:
    """How long a run takes, and what it writes."""
    shutil.rmtree(out, ignore_errors=True)
    began = time.perf_counter()
    subprocess.run(line, check=True, capture_output=True)
    return time.perf_counter() - began, contents(sorted(out.glob("*.tif")))


def two_at_once(judge: Judge, rng: random.Random) -> Iterator[None]:
    """Two runs of one study into one folder a turn, begun one after the other at some moment."""
    path, out = _study(judge.inside), judge.inside / "both"
    plain = [*PROGRAM, "run", str(path), "-o", str(out), "-q"]
    lines = {"plain": plain, "in tiles": [*plain, *TILED]}
    known: dict[str, tuple[float, dict[str, bytes]]] = {}
    while True:
        name = rng.choice(sorted(lines))
        if name not in known:
            known[name] = _alone(lines[name], out)
        took, new = known[name]
        shutil.rmtree(out, ignore_errors=True)
        first = subprocess.Popen(lines[name], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        time.sleep(rng.uniform(0.0, took))
        second = subprocess.Popen(lines[name], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        said = [process.communicate()[1].strip() for process in (first, second)]
        codes = [process.returncode for process in (first, second)]
        judge.tally.tried += 1
        judge.tally.answers[f"{sum(c == 0 for c in codes)} of two done"] += 1
        for code, words in zip(codes, said, strict=True):
            refused = code == 1 and len(words.splitlines()) == 1 and words.startswith("moss-step:")
            if code != 0 and not refused:
                judge.tally.fault("noise", f"two at once, {name}: exit {code}: {words[-300:]}")
        _check(judge, f"two at once, {name}", out, new)
        yield


def jumping_clocks(judge: Judge, rng: random.Random) -> Iterator[None]:
    """A run whose sources, results and half-made tiles have the times of another day, a turn."""
    path, out = _study(judge.inside), judge.inside / "jumped"
    line = [*PROGRAM, "run", str(path), "-o", str(out), "-q", *TILED]
    took, new = _alone(line, out)
    while True:
        if rng.random() < 0.5:
            shutil.rmtree(out, ignore_errors=True)
            process = subprocess.Popen(line, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            time.sleep(rng.uniform(0.3, 1.0) * took)
            process.send_signal(signal.SIGKILL)
            process.communicate()
        for file in [path, judge.inside / "shared.tif", *(p for p in out.rglob("*") if p.is_file())]:
            if rng.random() < 0.7:
                when = rng.randrange(0, _LATEST)
                os.utime(file, (when, when))
        done = subprocess.run(line, check=False, capture_output=True, text=True)
        judge.tally.tried += 1
        judge.tally.answers["done" if done.returncode == 0 else "not done"] += 1
        if done.returncode != 0:
            judge.tally.fault("wrong", f"times that jump: {done.stderr.strip()[-300:]}")
        _check(judge, "times that jump", out, new)
        yield


def _check(judge: Judge, name: str, out: Path, new: dict[str, bytes]) -> None:
    if contents(sorted(out.glob("*.tif"))) != new:
        judge.tally.fault("wrong", f"{name}: other results than those of a run left alone")
    if any(p.name.startswith(".moss-") for p in out.iterdir()):
        judge.tally.fault("wrong", f"{name}: half-made files are left")

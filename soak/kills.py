"""Kills at random moments of a step, of a study and of the window; a full disk and little memory: what is there is old or new, and nothing is lost."""

from __future__ import annotations

import json
import os
import random
import resource
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.study.autosave import Autosave
from soak.studies import study
from soak.watch import Judge

PROGRAM = (sys.executable, "-m", "moss_step")
LOST_AFTER = 2.0
_MARGIN = 0.5
"""Seconds that a change may take to reach the file, beyond the two promised, on a machine that does other work as well."""


def write_ground(path: Path, side: int) -> None:
    """A ground large enough that a step on it can be met at work."""
    z = np.random.default_rng(3).normal(size=(side, side)).cumsum(0).astype(np.float32)
    write_surface(
        path, Surface(z, Frame(side, side, 0.0, float(side), 1.0, 1.0, "EPSG:32628"), METRE), "Ground"
    )


def kills(judge: Judge, rng: random.Random) -> Iterator[None]:
    """A kill of a step, a study, a page or a parcel being written a turn, without end."""
    folder = judge.inside
    write_ground(folder / "ground.tif", 1500)
    (folder / "study.moss").write_text(json.dumps(study("ground.tif")))
    out, results = folder / "slope.tif", folder / "results"
    page, parcel = folder / "page.pdf", folder / "study.parcel.zip"
    written = (out, page, parcel)
    lines = {
        "do": ["do", "slope", f"dem={folder / 'ground.tif'}", "-o", str(out), "--overwrite"],
        "run": ["run", str(folder / "study.moss"), "-o", str(results)],
        "sheet": [
            "sheet",
            str(folder / "study.moss"),
            "--layout",
            "plan_key",
            "-o",
            str(page),
            "--overwrite",
        ],
        "parcel": ["parcel", str(folder / "study.moss"), "-o", str(parcel), "--overwrite"],
    }
    took = {}
    for name, line in lines.items():
        began = time.perf_counter()
        subprocess.run([*PROGRAM, *line], check=True, capture_output=True)
        took[name] = time.perf_counter() - began
    new = contents([*written, *results.iterdir()])
    while True:
        name = rng.choice(sorted(lines))
        how = rng.choice((signal.SIGKILL, signal.SIGTERM, signal.SIGINT))
        for path in written:
            path.write_bytes(b"old")
        if results.exists():
            for path in results.iterdir():
                path.write_bytes(b"old")
        process = subprocess.Popen([*PROGRAM, *lines[name]], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        time.sleep(rng.uniform(0.0, took[name] * 1.05))
        process.send_signal(how)
        try:
            _, said = process.communicate(timeout=10)
        except subprocess.TimeoutExpired:
            process.kill()
            process.communicate()
            judge.tally.fault("hang", f"{name} does not end on {how.name}")
        else:
            judge_kill(judge, name, how, process.returncode, said.decode(errors="replace"))
        check_contents(
            judge,
            f"{name} after {how.name}",
            contents([*written, *results.iterdir()]),
            new,
            process.pid,
            how == signal.SIGKILL,
        )
        yield


def contents(paths: list[Path]) -> dict[str, bytes]:
    """What files hold, by their names."""
    return {p.name: p.read_bytes() for p in paths}


def judge_kill(judge: Judge, name: str, how: signal.Signals, code: int, said: str) -> None:
    """Judge how a process ended: at once, or with one line and the exit code that says why."""
    judge.tally.tried += 1
    by_itself = {signal.SIGTERM: 143, signal.SIGINT: 130, signal.SIGKILL: -9}[how]
    lines = said.strip().splitlines()
    if code == 0:
        judge.tally.answers["done before"] += 1
    elif code == -how and not lines:
        judge.tally.answers["ended at once"] += 1
    elif code == by_itself and len(lines) == 1 and lines[0].startswith("moss-step:"):
        judge.tally.answers["ended with a line"] += 1
    elif "Traceback" in said and "moss_step" not in said.replace(
        "moss_step/__main__", ""
    ):  # before the first line of ours was read
        judge.tally.answers["ended while Python began"] += 1
    else:
        judge.tally.fault(
            "traceback" if "Traceback" in said else "noise",
            f"{name} on {how.name}: exit {code}: {said.strip()[-400:]}",
        )


def check_contents(
    judge: Judge, name: str, found: dict[str, bytes], new: dict[str, bytes], pid: int, killed: bool
) -> None:
    """Every file is as it was or as it is to be; only what a kill left no time to remove may lie beside it."""
    for file, content in found.items():
        if file.startswith(".moss-"):
            if file.startswith(f".moss-{pid}-") and not killed:
                judge.tally.fault("wrong", f"{name}: {file} is left")
        elif file == "results.json":
            if content != b"old" and json.loads(content)["complete"] not in (True, False):
                judge.tally.fault("wrong", f"{name}: {file} is neither")
        elif file.endswith(".txt") and len(content) == len(new[file]):
            continue  # a record says when it was made
        elif content not in (b"old", new[file]):
            judge.tally.fault("wrong", f"{name}: {file} is neither old nor new ({len(content):,} bytes)")


WINDOW = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from moss_step.desk.app import make_app
from moss_step.desk.window import MainWindow
app = make_app()
window = MainWindow()
window.show()
window.work.add_step("open_grid", {}, {"source": sys.argv[1]})
log = open(sys.argv[2], "a", buffering=1)
count = 0
def change():
    global count
    count += 1
    window.work.rename(window.work.study.steps[0].id, f"Ground {count}")
    print(count, time.time(), file=log, flush=True)
timer = QTimer(interval=int(sys.argv[3]))
timer.timeout.connect(change)
timer.start()
app.exec()
"""


def window_kills(judge: Judge, rng: random.Random) -> Iterator[None]:
    """The window, killed while someone works in it: what was changed more than two seconds before is in its autosave."""
    folder = judge.inside
    write_ground(folder / "ground.tif", 300)
    (folder / "window.py").write_text(WINDOW)
    for number in range(10**9):
        log, state = folder / "log.txt", folder / f"state{number}"
        log.write_text("")
        environment = {
            **os.environ,
            "QT_QPA_PLATFORM": "offscreen",
            "XDG_STATE_HOME": str(state),
            "XDG_CONFIG_HOME": str(state),
            "XDG_CACHE_HOME": str(state),
        }
        words = [
            sys.executable,
            str(folder / "window.py"),
            str(folder / "ground.tif"),
            str(log),
            str(rng.choice((50, 300, 900))),
        ]
        process = subprocess.Popen(words, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        time.sleep(rng.uniform(3.0, 8.0))
        process.kill()
        killed = time.time()
        _, said = process.communicate()
        changes = [line.split() for line in log.read_text().splitlines() if len(line.split()) == 2]
        due = max((int(n) for n, at in changes if float(at) < killed - LOST_AFTER - _MARGIN), default=0)
        found = Autosave(state / "moss-step").left_behind()
        saved = max(
            (int((r.study.steps[0].name or "0 0").split()[1]) for r in found if r.study.steps), default=0
        )
        judge.tally.tried += 1
        judge.tally.answers["with changes to keep" if due else "before a change was due"] += 1
        if saved < due:
            judge.tally.fault(
                "lost",
                f"change {due} of {len(changes)} was made more than {LOST_AFTER:g} s before; {saved} was saved",
            )
        if b"Traceback" in said:
            judge.tally.fault("traceback", said.decode(errors="replace")[-300:])
        yield


def shortages(judge: Judge, rng: random.Random) -> Iterator[None]:
    """A disk that is full, in the form of a limit to the size of files, and little memory: one line, and the old file is whole."""
    folder = judge.inside
    write_ground(folder / "ground.tif", 1500)
    out = folder / "out.tif"
    kinds = ("slope", "contours", "fill_depressions", "viewshed")
    while True:
        kind = rng.choice(kinds)
        more = ["at=700,700"] if kind == "viewshed" else ["interval=200"] if kind == "contours" else []
        target = out.with_suffix(".gpkg") if kind == "contours" else out
        target.write_bytes(b"old")
        full = rng.random() < 0.5
        name = f"{kind} with {'a full disk' if full else 'little memory'}"
        limit = rng.randrange(1, 400_000) if full else rng.randrange(600, 2500) * 2**20
        words = [
            *PROGRAM,
            "do",
            kind,
            f"dem={folder / 'ground.tif'}",
            *more,
            "-o",
            str(target),
            "--overwrite",
        ]
        try:
            done = subprocess.run(
                words, capture_output=True, preexec_fn=limited(full, limit), timeout=60, check=False
            )
        except subprocess.TimeoutExpired:
            judge.tally.fault("hang", name)
        else:
            judge_shortage(
                judge,
                f"{name} of {limit:,} bytes",
                done.returncode,
                done.stderr.decode(errors="replace"),
                target,
            )
        for left in folder.glob(".moss-*"):
            judge.tally.fault("wrong", f"{name}: {left.name} is left")
            left.unlink()
        target.unlink(missing_ok=True)
        yield


def limited(full: bool, limit: int) -> Callable[[], None]:
    """What sets the limit of a process before it begins."""
    kind = resource.RLIMIT_FSIZE if full else resource.RLIMIT_AS
    return lambda: resource.setrlimit(kind, (limit, limit))


def judge_shortage(judge: Judge, name: str, code: int, said: str, target: Path) -> None:
    """Judge an end for want of room: done, or one line with the old file as it was."""
    judge.tally.tried += 1
    judge.tally.answers[{0: "done", 1: "could not be done"}.get(code, "did not begin")] += 1
    lines = said.strip().splitlines()
    if code not in (0, 1):
        judge.tally.fault("crash", f"{name}: exit {code}: {said.strip()[-300:]}")
    elif code == 1 and (len(lines) != 1 or not lines[0].startswith("moss-step:")):
        judge.tally.fault("traceback" if "Traceback" in said else "noise", f"{name}: {said.strip()[-300:]}")
    elif code == 1 and target.read_bytes() != b"old":
        judge.tally.fault("wrong", f"{name}: the old file is gone")

"""What the window's own thread must not do while the window is used: touch files, and compile kernels."""

import json
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from moss_step.desk.runner import Helper
from moss_step.model.errors import MossError
from moss_step.steps.catalogue import catalogue

ROOT = Path(__file__).parents[2]


def test_the_window_touches_no_file_and_compiles_nothing_in_its_own_thread(tmp_path):
    """Every step looked at and begun, files opened and written, autosave and recovery's lists, in a process that begins with no picture made."""
    out = tmp_path / "seen.json"
    folders = {"XDG_STATE_HOME": str(tmp_path / "state"), "XDG_CACHE_HOME": str(tmp_path / "cache")}
    done = subprocess.run(
        [sys.executable, "-m", "tests.desk.watched", str(out)], cwd=ROOT, env=os.environ | folders, capture_output=True, text=True, timeout=900,
        check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert json.loads(out.read_text()) == []
    written = {p.name for p in tmp_path.iterdir()}
    assert {"a.moss", "slope.tif", "slope.txt", "plan.png"} <= written, "the files are there all the same"
    assert list((tmp_path / "state").rglob("old/*.json")), "and so was the autosave"


def test_an_answer_is_waited_for_while_the_window_is_painted(qtbot):

    from PySide6.QtCore import QTimer

    helper, turns, threads = Helper(), [], []
    timer = QTimer(interval=10)
    timer.timeout.connect(lambda: turns.append(1))
    timer.start()

    def slow() -> int:
        threads.append(threading.get_ident())
        time.sleep(0.3)
        return 7

    assert helper.now(slow) == 7 and len(turns) > 5 and threads != [threading.get_ident()]
    assert helper.now(lambda: 8) == 8 and helper.waiting == 0

    def refuse() -> None:
        raise MossError("Not so.", "Do otherwise.")

    with pytest.raises(MossError, match="Not so"):
        helper.now(refuse)
    with pytest.raises(MossError, match="division"):
        helper.now(lambda: 1 / 0)
    assert helper.waiting == 0
    helper.close()


def test_the_header_rests_when_the_steps_have_ended_whatever_is_written_meanwhile(demo, qtbot, settle):
    begun = threading.Event()
    demo.work.files.ask(lambda: (begun.set(), time.sleep(1.0)), lambda _: None)
    begun.wait(5)
    made = demo.work.add_step("roughness", {"dem": "ground"}, {})
    qtbot.waitUntil(lambda: demo.work.state(made) == "done", timeout=60_000)
    settle(demo)
    assert demo.header.stop.isHidden(), "nothing runs that could be stopped"


def test_the_steps_that_are_used_most_stand_first_on_their_bench(demo):
    benches = {
        b: [k.kind for k in catalogue().values() if k.bench == b]
        for b in ("shape", "water", "sight", "classes")
    }
    assert {b: kinds[0] for b, kinds in benches.items()} == {
        "shape": "slope",
        "water": "depressions",
        "sight": "viewshed",
        "classes": "classify",
    }

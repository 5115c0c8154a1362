"""Recordings of a sounder as a step, and the practice sounder on its port."""

import os
import re
import signal
import socket
import subprocess
import sys
import time

import numpy as np
import pytest
import shapely

from moss_step.demo.sounder import Sounder
from moss_step.demo.soundings import SYSTEM, depth_at
from moss_step.formats.nmea import sentence
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared


def opened(path, **settings):
    return run_declared(catalogue()["open_recording"], {"source": str(path), **settings}, {}, silent())


@pytest.fixture
def recording(tmp_path):
    lines = [t for made in Sounder().sentences() for t in made]
    path = tmp_path / "run.nmea"
    path.write_text("".join(lines), newline="")
    return path


def test_a_recording_gives_soundings_in_metres_and_the_track(recording):
    outcome = opened(recording, offset=0.3, water_level=512.4)
    found = outcome.value
    x, y = shapely.get_coordinates(found.geometry).T
    assert found.crs == SYSTEM
    off = found.columns["depth"] - 0.3 - depth_at(x, y)
    assert abs(np.median(off)) < 0.02 and np.allclose(found.columns["height"], 512.4 - found.columns["depth"])
    figures = {f.name: f.value for f in outcome.findings}
    assert figures["wrong_sentences"] > 10 and any("never" in w or "not used" in w for w in outcome.warnings)
    track = outcome.beside["track"]().value
    assert len(track) == 1 and shapely.length(track.geometry)[0] > 400.0


def test_spikes_are_marked_and_left_out_unless_they_are_kept(recording):
    lines = recording.read_text().splitlines()
    at = [k for k, t in enumerate(lines) if "SDDPT" in t]
    for k in (at[100], at[300]):
        lines[k] = sentence("SDDPT,48.0,0.0,100.0").strip()
        lines[k + 1] = sentence("SDDBT,157.5,f,48.0,M,26.2,F").strip()
    recording.write_text("\n".join(lines))
    calm, all_ = opened(recording), opened(recording, spikes=True)
    assert calm.value.columns["depth"].max() < 10.0 and all_.value.columns["depth"].max() == 48.0
    assert all_.value.columns["spike"].sum() >= 2


def test_what_tells_no_depth_is_refused(tmp_path):
    path = tmp_path / "a.nmea"
    for content in (b"rubbish\n" * 50, bytes(range(256)) * 20, sentence("SDDPT,4.0,0").encode()):
        path.write_bytes(content)
        with pytest.raises(MossError, match="no depth with a place"):
            opened(path)


def test_the_practice_sounder_tells_its_run_on_a_loopback_port():
    """The program itself, in a process of its own: who hangs up in the middle of a sentence may ask again."""
    command = [sys.executable, "-m", "moss_step", "practice", "sounder", "--hurry", "1000"]
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env={**os.environ}
    ) as device:
        try:
            said = device.stdout.readline()
            port = int(re.search(r"port (\d+)", said)[1])
            assert "127.0.0.1" in said
            with socket.create_connection(("127.0.0.1", port), timeout=60) as asked:
                assert asked.recv(11).startswith(b"$GPGGA")
            time.sleep(0.05)
            with socket.create_connection(("127.0.0.1", port), timeout=60) as asked:
                got = b""
                while got.count(b"$SDDPT") < 40 and (piece := asked.recv(4096)):
                    got += piece
            assert got.startswith(b"$GPGGA") and got.count(b"$SDDPT") >= 40
        finally:
            device.send_signal(signal.SIGINT)
            _, errors = device.communicate(timeout=60)
    assert device.returncode == 130 and "Traceback" not in errors


def test_the_practice_sounder_refuses_what_no_boat_does():
    from moss_step.cli import main

    for words in (["--rate", "0"], ["--speed", "900"], ["--port", "70000"], ["--dropouts", "2"]):
        assert main(["practice", "sounder", *words]) == 2
    assert main(["practice", "kettle"]) == 2

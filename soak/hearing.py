"""Kills of a program that listens to a sounder: what it had used of what it was told stands in its recording."""

from __future__ import annotations

import random
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import suppress
from itertools import chain
from pathlib import Path

from moss_step.demo.sounder import Sounder
from moss_step.formats.nmea import heard
from moss_step.study.recordings import unkept_recordings
from soak.watch import Judge

LISTENS = """
import sys, time
from pathlib import Path
from moss_step.formats.listening import Device, Listening
from moss_step.study.recordings import new_recording
way, where = sys.argv[1:3]
device = Device("tcp", port=int(where)) if way == "tcp" else Device("file", file=Path(where))
ear = Listening(device, new_recording(Path(sys.argv[3])))
while True:
    time.sleep(0.005)
    with ear.said() as said:
        print(len(said.depths), flush=True)
"""


class Telling:
    """Tells what a sounder says, piece by piece, over TCP or into a file that grows."""

    def __init__(self, way: str, file: Path, rng: random.Random) -> None:
        self.told, self._over = bytearray(), threading.Event()
        self._pause, self._piece = rng.choice((0.0, 0.001, 0.02)), rng.choice((7, 100, 4000))
        said = chain.from_iterable(Sounder(rate=20.0, seed=rng.randint(1, 99)).sentences())
        self._left = memoryview("".join(said).encode("ascii"))
        self._server = socket.create_server(("127.0.0.1", 0)) if way == "tcp" else None
        self.where = str(file) if self._server is None else str(self._server.getsockname()[1])
        file.write_bytes(b"")
        self._file = file
        self._teller = threading.Thread(target=self._tell, daemon=True)
        self._teller.start()

    def _asker(self, server: socket.socket) -> socket.socket | None:
        """Who asks; None where nobody did before it was over."""
        server.settimeout(0.05)
        while not self._over.is_set():
            with suppress(TimeoutError):
                return server.accept()[0]
        return None

    def _tell(self) -> None:
        link = None if self._server is None else self._asker(self._server)
        if self._server is not None and link is None:
            return
        for start in range(0, len(self._left), self._piece):
            if self._over.wait(self._pause):
                break
            piece = self._left[start : start + self._piece]
            self.told += piece
            try:
                if link is not None:
                    link.sendall(piece)
                else:
                    with self._file.open("ab") as file:
                        file.write(piece)
            except OSError:  # nobody listens any more
                break
        if link is not None:
            link.close()

    def end(self) -> None:
        """Tell no more."""
        self._over.set()
        self._teller.join()
        if self._server is not None:
            self._server.close()


def hearing_kills(judge: Judge, rng: random.Random) -> Iterator[None]:
    """A program that listens, killed at a random moment: its recording is what was told, as far as it came, holds all
    that was used, and is offered.
    """
    for number in range(10**9):
        folder, way = judge.inside / f"heard{number}", rng.choice(("tcp", "file"))
        folder.mkdir()
        telling = Telling(way, judge.inside / "told.nmea", rng)
        words = [sys.executable, "-c", LISTENS, way, telling.where, str(folder)]
        process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        time.sleep(rng.uniform(0.8, 3.0))
        process.kill()
        said, wrong = process.communicate()
        telling.end()
        used = max((int(n) for n in said.split(b"\n")[:-1]), default=0)
        left = unkept_recordings(folder)
        held = left[0].read_bytes() if left else b""
        name = f"{way} {number}"
        judge.tally.tried += 1
        judge.tally.answers["with depths" if used else "before the first depth"] += 1
        if (there := len(heard([held]).depths)) < used:
            judge.tally.fault("lost", f"{name}: {used} depths were used, and {there} stand in the recording")
        if not bytes(telling.told).startswith(held.rstrip()):  # a line ends where the device hangs up
            judge.tally.fault("wrong", f"{name}: the recording is not what was told")
        if b"Traceback" in wrong:
            judge.tally.fault("traceback", f"{name}: {wrong.decode(errors='replace')[-300:]}")
        yield

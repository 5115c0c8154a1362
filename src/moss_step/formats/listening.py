"""What a device tells while it runs: heard over TCP or UDP, or from a file that grows. Each piece is on the
disk before it is used.
"""

from __future__ import annotations

import os
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from moss_step.formats.nmea import Lines, Sounded
from moss_step.formats.whole import check_readable, make_folder
from moss_step.model.errors import MossError

Way = Literal["tcp", "udp", "file"]
_PIECE, _WAIT, _AGAIN = 65_536, 0.2, 1.0
"""Bytes of a piece; seconds without one after which it looks whether it shall stop, and between two tries to
reach a device.
"""
MOST_BYTES = 2_000_000_000
"""Of a recording: a device that floods does not fill the disk."""


@dataclass(frozen=True)
class Device:
    """Where a device is: a host and port that tell, a port of this machine that is told, or a file that
    another program writes.
    """

    way: Way
    host: str = "127.0.0.1"
    port: int = 10110
    file: Path | None = None

    def __str__(self) -> str:
        """Say where it is."""
        if self.way == "file":
            return "" if self.file is None else self.file.name
        return f"{self.host} port {self.port} ({self.way.upper()})"


class Listening:
    """Hears a device in a thread of its own, and writes all of it to a recording.

    ``state`` says in words how it stands. What a program that is killed had heard stands in the recording; it
    is flushed to the disk once a second.
    """

    def __init__(self, device: Device, recording: Path) -> None:
        """Raises MossError where nothing can be written, or the file is not there."""
        if device.way == "file":
            check_readable(device.file or Path())
        make_folder(recording)
        self.device, self.recording = device, recording
        try:
            self._out = recording.open("xb", buffering=0)
        except OSError as error:
            raise MossError(f"{recording} cannot be written: {error.strerror}.", "Free some room.") from error
        self.state, self.bytes = f"Trying {device} …", 0
        self._said, self._lock = Sounded(), threading.Lock()
        self._ending = threading.Event()
        self._synced = 0.0
        self._thread = threading.Thread(target=self._hear, name="listening", daemon=True)
        self._thread.start()

    @property
    def running(self) -> bool:
        """Whether it still listens."""
        return self._thread.is_alive()

    @contextmanager
    def said(self) -> Iterator[Sounded]:
        """What was heard so far; nothing is added while it is looked at."""
        with self._lock:
            yield self._said

    def stop(self) -> None:
        """Listen no more; all that was heard is on the disk then."""
        self._ending.set()
        self._thread.join()

    # --- in the thread

    def _hear(self) -> None:
        lines = Lines()
        hear = {"tcp": self._from_stream, "udp": self._from_packets, "file": self._from_file}
        try:
            for piece in hear[self.device.way]():
                self._keep(piece)
                with self._lock:
                    for line in lines.take(piece):
                        self._said.take(line)
                if self.bytes > MOST_BYTES:
                    self.state = f"Ended: the recording is larger than {MOST_BYTES / 1e9:g} GB."
                    return
        except OSError as error:
            self.state = f"Ended: {error.strerror or error}."
        finally:
            with suppress(OSError):
                os.fsync(self._out.fileno())
            self._out.close()

    def _keep(self, piece: bytes) -> None:
        """Write a piece whole, before it is used."""
        left = memoryview(piece)
        while left:
            left = left[self._out.write(left) or 0 :]
        self.bytes += len(piece)
        if time.monotonic() - self._synced > 1.0:
            os.fsync(self._out.fileno())
            self._synced = time.monotonic()

    def _from_stream(self) -> Iterator[bytes]:
        while not self._ending.is_set():
            try:
                with socket.create_connection((self.device.host, self.device.port), 2.0) as link:
                    self.state = f"Listening to {self.device}"
                    yield from self._pieces(link)
                    yield b"\n"  # a sentence that was cut short ends here
                self.state = f"{self.device} hung up; trying again …"
            except (OSError, UnicodeError) as error:
                reason = getattr(error, "strerror", None) or str(error) or "no answer"
                self.state = f"{self.device} does not answer ({reason}); trying again …"
            self._ending.wait(_AGAIN)

    def _pieces(self, link: socket.socket) -> Iterator[bytes]:
        link.settimeout(_WAIT)
        while not self._ending.is_set():
            try:
                piece = link.recv(_PIECE)
            except TimeoutError:
                continue
            if not piece:
                return
            yield piece

    def _from_packets(self) -> Iterator[bytes]:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as link:
            link.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                link.bind((self.device.host, self.device.port))
            except (OSError, UnicodeError) as error:
                self.state = f"Ended: {self.device} cannot be used ({getattr(error, 'strerror', error)})."
                return
            self.state = f"Listening on {self.device}"
            link.settimeout(_WAIT)
            while not self._ending.is_set():
                with suppress(TimeoutError):
                    yield link.recv(_PIECE) + b"\n"

    def _from_file(self) -> Iterator[bytes]:
        if self.device.file is None:
            return
        with self.device.file.open("rb") as file:
            self.state = f"Reading {self.device}, and what is added to it"
            while not self._ending.is_set():
                piece = file.read(_PIECE)
                if piece:
                    yield piece
                else:
                    self._ending.wait(_WAIT)

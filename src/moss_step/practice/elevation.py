"""An elevation service to practise with: tiles and their catalogue over HTTP on a loopback port, with the
faults of a network that does not work as it should.

Range requests after RFC 9110, 14; waits asked for by ``Retry-After`` (10.2.3).
"""

from __future__ import annotations

import json
import random
import re
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import ClassVar

from moss_step.demo.surroundings import Tiles
from moss_step.model.errors import MossError

_RANGE = re.compile(r"bytes=(\d*)-(\d*)")
_TILE = re.compile(r"tiles/(r\d+c\d+)\.tif")
_PIECE = 16_384
WAIT = 1
"""Seconds that a refusal asks for."""
KINDS = ("drop", "busy", "later")
"""What a failure is: a connection that ends without a word, 429 Too Many Requests, 503 Service Unavailable.
"""
WRONGS = ("cut", "long", "short")
"""What is wrong with a body: it ends early, or more or less is promised than comes."""


@dataclass
class Faults:
    """How the service fails: seconds before each answer, share of requests that fail, bytes a second at the
    most (0: as fast as it goes), and share of bodies that are wrong. Its dice are thrown from a seed.
    """

    delay: float = 0.0
    failures: float = 0.0
    slow: float = 0.0
    wrong: float = 0.0
    seed: int = 1

    def __post_init__(self) -> None:
        """Have dice of its own."""
        self._dice, self._lock = random.Random(self.seed), threading.Lock()

    def failure(self) -> str:
        """How the next request fails; empty where it does not."""
        return self._thrown(self.failures, KINDS)

    def wrongness(self) -> str:
        """What is wrong with the next body; empty where nothing is."""
        return self._thrown(self.wrong, WRONGS)

    def _thrown(self, share: float, kinds: tuple[str, ...]) -> str:
        with self._lock:
            return self._dice.choice(kinds) if self._dice.random() < share else ""


class Server(ThreadingHTTPServer):
    """Serves tiles and their catalogue on a loopback port."""

    daemon_threads = True

    def __init__(self, tiles: Tiles, faults: Faults, port: int = 0) -> None:
        self.tiles, self.faults = tiles, faults
        super().__init__(("127.0.0.1", port), _Answering)

    @property
    def address(self) -> str:
        """Where its catalogue lies."""
        return f"http://127.0.0.1:{self.server_address[1]}/catalog.json"


class _Answering(BaseHTTPRequestHandler):
    """Answers one connection."""

    server: Server
    protocol_version = "HTTP/1.1"
    server_version, sys_version = "MossStepPractice", ""
    timeout = 30
    _quiet: ClassVar[bool] = True

    def do_GET(self) -> None:
        """Answer with a body."""
        self._answer(with_body=True)

    def do_HEAD(self) -> None:
        """Answer without one."""
        self._answer(with_body=False)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing: standard error is not for this."""

    def _answer(self, with_body: bool) -> None:
        faults = self.server.faults
        time.sleep(faults.delay)
        failure = faults.failure()
        if failure == "drop":
            self.close_connection = True
            return
        if failure:
            busy = failure == "busy"
            self._refuse(HTTPStatus.TOO_MANY_REQUESTS if busy else HTTPStatus.SERVICE_UNAVAILABLE, WAIT)
            return
        found = self._content()
        if found is None:
            self._refuse(HTTPStatus.NOT_FOUND)
        else:
            self._hand_over(*found, with_body)

    def _hand_over(self, body: bytes, kind: str, with_body: bool) -> None:
        """Send a body, or the part of it that is asked for."""
        span = self._span(len(body))
        if span is None:
            self.send_response(HTTPStatus.REQUESTED_RANGE_NOT_SATISFIABLE)
            self.send_header("Content-Range", f"bytes */{len(body)}")
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        first, last = span
        whole = last - first == len(body)
        self.send_response(HTTPStatus.OK if whole else HTTPStatus.PARTIAL_CONTENT)
        self.send_header("Content-Type", kind)
        self.send_header("Accept-Ranges", "bytes")
        if not whole:
            self.send_header("Content-Range", f"bytes {first}-{last - 1}/{len(body)}")
        wrong = self.server.faults.wrongness() if with_body else ""
        self._send(body[first:last], wrong, with_body)

    def _content(self) -> tuple[bytes, str] | None:
        """The body of a path and its type; None where there is none. Paths are looked up, never joined to a
        folder.
        """
        path = self.path.split("?", 1)[0].removeprefix("/")
        tile = _TILE.fullmatch(path)
        if tile is not None:
            return (
                (self.server.tiles.file(tile[1]).read_bytes(), "image/tiff")
                if tile[1] in self.server.tiles.names
                else None
            )
        document = self.server.tiles.document(path)
        return None if document is None else (json.dumps(document).encode(), "application/json")

    def _span(self, size: int) -> tuple[int, int] | None:
        """The bytes that are asked for, first and one past the last; None for a range that there is not."""
        asked = _RANGE.fullmatch(self.headers.get("Range", "").strip())
        if asked is None or asked.groups() == ("", ""):
            return 0, size
        low, high = asked.groups()
        if not low:
            return max(size - int(high), 0), size
        first, last = int(low), min(int(high) + 1, size) if high else size
        return (first, last) if first < last else None

    def _refuse(self, status: HTTPStatus, wait: int = 0) -> None:
        body = json.dumps({"code": status.value, "description": status.phrase}).encode()
        self.send_response(status)
        if wait:
            self.send_header("Retry-After", str(wait))
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def _send(self, body: bytes, wrong: str, with_body: bool) -> None:
        promised = len(body) + {"long": 1000, "short": -min(1000, len(body) // 2)}.get(wrong, 0)
        self.send_header("Content-Length", str(promised))
        self.end_headers()
        if not with_body:
            return
        self.close_connection = self.close_connection or bool(wrong)
        rate = self.server.faults.slow
        told = body[: len(body) // 2] if wrong == "cut" else body
        try:
            for first in range(0, len(told), _PIECE):
                piece = told[first : first + _PIECE]
                self.wfile.write(piece)
                if rate:
                    time.sleep(len(piece) / rate)
        except (BrokenPipeError, ConnectionResetError):
            self.close_connection = True


def serve_elevation(faults: Faults, port: int = 0, told: Callable[[str], None] = print) -> None:
    """Serve tiles until it is stopped (Ctrl+C).

    Raises MossError when the port is taken.
    """
    with TemporaryDirectory(prefix="moss-elevation-") as folder:
        try:
            server = Server(Tiles(Path(folder)), faults, port)
        except OSError as error:
            raise MossError(
                f"Port {port} cannot be used: {error.strerror}.", "Give another, or none."
            ) from error
        with server:
            told(f"The elevation service is at {server.address}; Ctrl+C ends it.")
            server.serve_forever()

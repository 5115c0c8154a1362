"""Asking a service over HTTP: at addresses that may be asked, within limits, and again after growing waits.

Ranges after RFC 9110, 14; ``Retry-After`` after its 10.2.3. Only what a person asks for is fetched: nothing
in a study or another file makes this reach the network.
"""

from __future__ import annotations

import json
import random
import time
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

import urllib3

from moss_step.formats.whole import printable
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.progress import Progress

MOST_TRIES, FIRST_WAIT, LONGEST_WAIT = 6, 0.25, 20.0
"""How often something is asked for, and seconds between the first two times and at the most."""
CONNECT, READ = 5.0, 15.0
"""Seconds that a connection, and each piece of an answer, may take."""
MOST_TEXT, MOST_TILE = 4_000_000, 2_000_000_000
"""Bytes of a page of a catalogue, and of a file, at the most."""
_LOCAL = ("127.0.0.1", "localhost", "::1")
_PIECE = 65_536
_WHY = {
    "ConnectTimeoutError": "no connection in time",
    "ReadTimeoutError": "no answer in time",
    "NewConnectionError": "no connection",
    "ProtocolError": "the connection ended early",
}
_BUSY = (408, 429, 500, 502, 503, 504)


def check_address(address: str) -> str:
    """Give an address that may be asked: ``https``, or ``http`` on this machine.

    Raises AskedWronglyError for any other.
    """
    try:
        parts = urlsplit(address.strip())
        host, _ = parts.hostname, parts.port
    except ValueError:
        parts, host = urlsplit(""), None
    secure = parts.scheme == "https" or (parts.scheme == "http" and host in _LOCAL)
    if not secure or not host or parts.username is not None or not address.isprintable():
        raise AskedWronglyError(
            f"'{printable(address[:80])}' is no address of a service.",
            "Give one that begins with https://, or with http://127.0.0.1 for one on this machine.",
        )
    return address.strip()


class Connection:
    """Asks one service: again after growing waits, within limits, never past a redirect."""

    def __init__(self, address: str) -> None:
        self.address = check_address(address)
        self._pool = urllib3.PoolManager(
            retries=False, timeout=urllib3.Timeout(connect=CONNECT, read=READ), maxsize=4
        )

    def resolved(self, base: str, href: str) -> str:
        """The address that a page names, which has to be on the same service.

        Raises MossError for one that leads elsewhere.
        """
        found = urljoin(base, href)
        own, other = urlsplit(self.address), urlsplit(found)
        if (own.scheme, own.netloc) != (other.scheme, other.netloc):
            raise MossError(
                f"The catalogue points to {printable(found[:80])}, which is another service.",
                "It is not followed.",
            )
        return found

    def document(self, address: str, progress: Progress) -> dict[str, Any]:
        """A page of the catalogue.

        Raises MossError when it does not come, is too large, or is none.
        """
        body, _ = self.part(address, None, MOST_TEXT, progress)
        try:
            found = json.loads(body)
        except (ValueError, RecursionError):
            found = None
        if not isinstance(found, dict):
            raise MossError(f"{address} is no page of a catalogue.", "Check the address.")
        return found

    def part(
        self, address: str, span: tuple[int, int] | None, most: int, progress: Progress
    ) -> tuple[bytes, int]:
        """Bytes of an answer, all of it or from one to before another; and how many there are in all.

        Asks again after growing waits where nothing, too little or a refusal for now comes. Raises MossError
        that says why, when it does not come or is too large; StoppedError when stopped.
        """
        why = ""
        for attempt in range(MOST_TRIES):
            progress.at(0.0, "Asking the service" if not why else f"Asking again: {why}")
            wait = min(FIRST_WAIT * 2**attempt, LONGEST_WAIT) * random.uniform(0.8, 1.2)
            try:
                answer = self._asked(address, span, most, progress)
                if isinstance(answer, _Later):
                    why, wait = answer.why, max(wait, min(answer.wait, LONGEST_WAIT))
                else:
                    return answer
            except (urllib3.exceptions.HTTPError, OSError) as error:
                why = _short(error)
            if attempt + 1 < MOST_TRIES:
                _sleep(wait, progress)
        raise MossError(
            f"The service at {urlsplit(address).netloc} does not answer as it should: {why}.",
            "What was fetched before stays; try again later.",
        )

    def _asked(
        self, address: str, span: tuple[int, int] | None, most: int, progress: Progress
    ) -> tuple[bytes, int] | _Later:
        headers = {} if span is None else {"Range": f"bytes={span[0]}-{span[1] - 1}"}
        answer = self._pool.request("GET", address, headers=headers, redirect=False, preload_content=False)
        try:
            if answer.status in _BUSY:
                return _Later(f"it answers {answer.status}", _seconds(answer.headers.get("Retry-After", "")))
            if 300 <= answer.status < 400:
                raise MossError(
                    f"The service sends {printable(address[:80])} elsewhere.", "It is not followed."
                )
            if answer.status not in (200, 206):
                raise MossError(
                    f"The service has no {printable(address[:80])} ({answer.status}).", "Check the address."
                )
            return _body(answer, span, most, progress)
        finally:
            answer.close()


@dataclass(frozen=True)
class _Later:
    """The service asks to come again: why, and after how many seconds."""

    why: str
    wait: float


def _body(
    answer: urllib3.BaseHTTPResponse, span: tuple[int, int] | None, most: int, progress: Progress
) -> tuple[bytes, int] | _Later:
    """Read an answer that says how long it is, and is as long."""
    length = answer.headers.get("Content-Length", "")
    if not length.isdecimal():
        raise MossError("The service does not say how much it sends.", "It cannot be read safely.")
    whole = int(length)
    if span is not None and answer.status == 206:
        whole = int(answer.headers.get("Content-Range", "").rpartition("/")[2] or -1)
    wanted = min(span[1], whole) - span[0] if span is not None and answer.status == 206 else int(length)
    if int(length) > most or whole > MOST_TILE:
        raise MossError(
            f"The service would send {max(int(length), whole) / 1e6:,.0f} MB, which is more than is taken.",
            "Look at a smaller part.",
        )
    pieces, held = list[bytes](), 0
    while piece := answer.read(_PIECE):
        pieces.append(piece)
        held += len(piece)
        progress.at(0.0)
        if held > int(length):
            break
    if held != int(length) or held != wanted:
        return _Later("it sent another length than it said", 0.0)
    body = b"".join(pieces)
    return (body[span[0] : span[1]] if span is not None and answer.status == 200 else body), whole


def _seconds(text: str) -> float:
    return float(text) if text.strip().isdecimal() else 0.0


def _short(error: BaseException) -> str:
    return _WHY.get(type(error).__name__, "the connection failed")


def _sleep(seconds: float, progress: Progress) -> None:
    end = time.monotonic() + seconds
    while (left := end - time.monotonic()) > 0:
        progress.at(0.0)
        time.sleep(min(left, 0.1))

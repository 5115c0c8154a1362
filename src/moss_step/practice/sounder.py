"""A sounder to practise with: it tells NMEA 0183 sentences on a loopback port, as the demo's boat runs."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable

from moss_step.demo.sounder import Sounder
from moss_step.model.errors import MossError


def serve(sounder: Sounder, port: int = 0, told: Callable[[str], None] = print, hurry: float = 1.0) -> None:
    """Listen on a loopback port, and tell each who asks the whole run in its own time, one after the other.

    ``hurry`` is how much faster than in truth. It ends with the person who asked for it (Ctrl+C).

    Raises MossError when the port is taken.
    """
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as listener:
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listener.bind(("127.0.0.1", port))
        except OSError as error:
            raise MossError(
                f"Port {port} cannot be used: {error.strerror}.", "Give another, or none."
            ) from error
        listener.listen(1)
        told(f"The sounder tells NMEA 0183 on 127.0.0.1 port {listener.getsockname()[1]}; Ctrl+C ends it.")
        while True:
            asker, _ = listener.accept()
            with asker:
                _tell(sounder, asker, hurry)


def _tell(sounder: Sounder, asker: socket.socket, hurry: float) -> None:
    """Tell one run; who hangs up ends it."""
    start = time.monotonic()
    for number, made in enumerate(sounder.sentences()):
        try:
            asker.sendall("".join(made).encode("ascii"))
        except OSError:
            return
        time.sleep(max(start + (number + 1) / (sounder.rate * hurry) - time.monotonic(), 0.0))

"""Whether there is a display that a window can be opened on: asked before the window library, which ends the
program when there is none.
"""

from __future__ import annotations

import os
import re
import socket
from contextlib import suppress
from ctypes.util import find_library
from pathlib import Path

from moss_step.model.errors import MossError

_START = "Start it with 'make demo', or set DISPLAY."
_WAIT = 2.0


def check_display() -> None:
    """Raise MossError, in one line, when a window cannot be opened here."""
    if os.environ.get("QT_QPA_PLATFORM", "").partition(":")[0] not in ("", "xcb"):
        return  # a platform was asked for by name
    wayland, display = os.environ.get("WAYLAND_DISPLAY", ""), os.environ.get("DISPLAY", "")
    if wayland and not os.environ.get("QT_QPA_PLATFORM"):
        return
    if not display:
        raise MossError("There is no display to open a window on.", _START)
    if not _is_reached(display):
        raise MossError(f"The display {display} cannot be reached.", _START)
    if find_library("xcb-cursor") is None:
        raise MossError(
            "A library that a window needs is missing: libxcb-cursor0.",
            "Install it: apt install libxcb-cursor0",
        )


def _is_reached(display: str) -> bool:
    """Whether the server of an X display answers: on this machine by its socket, on another by its port."""
    match = re.fullmatch(r"(?:unix:|(?P<host>[^:]*)):(?P<number>[0-9]+)(?:\.[0-9]+)?", display)
    if match is None:
        return False
    number = int(match["number"])
    if match["host"]:
        return _connects(socket.AF_INET, (match["host"], 6000 + number))
    # X servers listen there (X(7), by every distribution); it is asked, and nothing is written.
    path = Path("/tmp/.X11-unix") / f"X{number}"  # noqa: S108 - no temporary file of ours
    abstract = f"\0{path}"
    return _connects(socket.AF_UNIX, abstract) or _connects(socket.AF_UNIX, str(path))


def _connects(family: socket.AddressFamily, address: str | tuple[str, int]) -> bool:
    with suppress(OSError), socket.socket(family, socket.SOCK_STREAM) as asked:
        asked.settimeout(_WAIT)
        asked.connect(address)
        return True
    return False

"""Judging a case: what was said, what was written outside, and who was called over the network."""

from __future__ import annotations

import socket
import threading
from pathlib import Path

from soak.child import Answer, Child
from soak.tally import Tally


class Listener:
    """Counts who connects to a port of this machine, to which hostile files point."""

    def __init__(self) -> None:
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._socket.getsockname()[1])
        self.calls = 0
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        while True:
            try:
                call, _ = self._socket.accept()
            except OSError:
                return
            self.calls += 1
            call.close()

    def close(self) -> None:
        """Stop listening."""
        self._socket.close()


def listing(folder: Path) -> set[tuple[str, int]]:
    """Files in a folder with their sizes."""
    return {(str(p.relative_to(folder)), p.stat().st_size) for p in folder.rglob("*") if p.is_file()}


class Judge:
    """Runs cases in ``folder / "in"`` and keeps faults in a tally; whatever appears elsewhere in the folder is outside."""

    def __init__(self, folder: Path, tally: Tally, child: Child, listener: Listener) -> None:
        self.inside = folder / "in"
        self.inside.mkdir(parents=True, exist_ok=True)
        self.folder, self.tally, self.child, self.listener = folder, tally, child, listener

    def case(self, words: list[str], name: str) -> Answer:
        """Run one command line and judge it."""
        before, calls = self._outside(), self.listener.calls
        answer = self.child.run(words)
        self.tally.tried += 1
        self.tally.answers[answered(answer.code)] += 1
        self.tally.took(answer.seconds, name)
        for kind, what in faults(answer):
            self.tally.fault(kind, f"{name}: {what}")
        if self._outside() != before:
            self.tally.fault("outside", f"{name}: {sorted(self._outside() ^ before)}")
        if self.listener.calls != calls:
            self.tally.fault("network", name)
        return answer

    def _outside(self) -> set[tuple[str, int]]:
        return {f for f in listing(self.folder) if not f[0].startswith("in/")}


def answered(code: int | None) -> str:
    """An exit code in words."""
    return {0: "done", 1: "could not be done", 2: "asked wrongly", None: "hang"}.get(code, "crash")


def faults(answer: Answer) -> list[tuple[str, str]]:
    """What is wrong with an answer by itself."""
    if answer.code is None:
        return [("hang", f"no answer within {answer.seconds:.0f} s")]
    if answer.code not in (0, 1, 2):
        return [("crash", f"exit {answer.code}")]
    found = []
    if "Traceback" in answer.said or "went wrong inside" in answer.said:
        found.append(("traceback", answer.said.strip()[-300:]))
    lines = [line for line in answer.said.splitlines() if line.strip()]
    if any(not line.startswith("moss-step:") for line in lines) and not found:
        found.append(("noise", answer.said.strip()[:300]))
    if answer.code and len(lines) != 1 and not found:
        found.append(("noise", f"{len(lines)} lines: {answer.said.strip()[:300]}"))
    return found

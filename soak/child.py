"""A process of its own that runs command lines one after another, so that a crash or a hang of one is seen and survived."""

from __future__ import annotations

import multiprocessing
import os
import resource
import tempfile
import time
import warnings
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from types import TracebackType

MOST_SECONDS = 10.0
_MOST_MEMORY = 8 * 2**30


@dataclass(frozen=True)
class Answer:
    """What a command line came to: its exit code (None after a hang, a negative signal after a crash), what it said, and its seconds."""

    code: int | None
    said: str
    seconds: float


class Child:
    """Runs command lines in a process that is started again when it died or hung."""

    def __init__(self, most_seconds: float = MOST_SECONDS) -> None:
        self.most_seconds = most_seconds
        self._context = multiprocessing.get_context("spawn")
        self._process: multiprocessing.process.BaseProcess | None = None
        self._pipe: Connection | None = None

    def __enter__(self) -> Child:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._end()

    def run(self, words: list[str]) -> Answer:
        """Run one command line; an answer that takes longer than the bound is a hang."""
        pipe = self._pipe or self._begin()
        began = time.perf_counter()
        pipe.send(words)
        if not pipe.poll(self.most_seconds):
            self._end()
            return Answer(None, "", time.perf_counter() - began)
        try:
            code, said = pipe.recv()
        except EOFError:
            code, said = self._died(), ""
        return Answer(code, said, time.perf_counter() - began)

    def _begin(self) -> Connection:
        self._pipe, theirs = self._context.Pipe()
        self._process = self._context.Process(target=serve, args=(theirs,), daemon=True)
        self._process.start()
        theirs.close()
        if not self._pipe.poll(120) or self._pipe.recv() != "ready":
            raise RuntimeError("The process that runs the cases did not start.")
        return self._pipe

    def _died(self) -> int | None:
        process = self._process
        if process is not None:
            process.join()
        self._end()
        return None if process is None else process.exitcode

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.join()
        if self._pipe is not None:
            self._pipe.close()
        self._process = self._pipe = None


def serve(pipe: Connection) -> None:
    """Answer command lines with the exit code and all that came on standard error, of the libraries' own code, too."""
    from moss_step.cli import main
    from moss_step.process import hush_libraries
    from moss_step.steps.catalogue import catalogue

    catalogue()
    hush_libraries()
    warnings.simplefilter("default", RuntimeWarning)  # a remark on our own arithmetic is a fault here
    resource.setrlimit(resource.RLIMIT_AS, (_MOST_MEMORY, _MOST_MEMORY))
    with tempfile.TemporaryDirectory() as folder:
        said = Path(folder) / "said"
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        os.dup2(os.open(said, os.O_RDWR | os.O_CREAT | os.O_APPEND), 2)
        pipe.send("ready")
        while True:
            try:
                words = pipe.recv()
            except EOFError:
                return
            os.truncate(said, 0)
            code = main(words)
            pipe.send((code, said.read_text(errors="replace")))

"""Workers of this machine, as ``python -m moss_step.large.hand``: the process loads what they need, and is
told by a line how many are wanted and where their scheduler is. Each is a copy of it, so that what takes
longest is done once: it has no thread then, and has run nothing with OpenMP, which would not survive in one.
All end with the process that began it.
"""

from __future__ import annotations

import asyncio
import gc
import json
import logging
import os
import select
import signal
import sys
import threading
import time
from collections.abc import Collection
from importlib import import_module
from typing import Any

NEEDED = "moss_step.formats.windows", "moss_step.formats.tiled", "moss_step.study.declared"
"""What work on any tile loads, and takes longest to: before a worker is sent a tile, as it reads what it is
sent in another thread than it works in, and two that load the same may meet half of it.
"""
LEAN = {
    "distributed.worker.profile.enabled": False,  # it looks at each worker a hundred times a second
    "distributed.admin.tick.interval": "1s",
    "distributed.admin.system-monitor.interval": "5s",
}
"""How schedulers and workers here are begun: they do without what watches them."""
_ENDING, _LOOK = 1.0, 0.05
"""Seconds that a worker has to take its leave in; between two looks whether all are there."""
_VAIN, _SOON = 3, 10.0
"""How many workers for each that is wanted may end, one after another, so many seconds after they began."""


def main() -> int:
    """Load, and keep workers for the scheduler that standard input tells of, until that is closed; 1 where
    they end as soon as they are begun.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a terminal tells all; who began it ends it
    gc.disable()  # what is made while the libraries load stays
    for module in ("distributed", *NEEDED):
        import_module(module)
    gc.freeze()
    gc.enable()
    say_less()
    asked = sys.stdin.readline()
    code = _keep(json.loads(asked)) if asked else 0
    gc.freeze()  # what is left is not looked through at the end
    return code


def _keep(asked: dict[str, Any]) -> int:
    """Have so many workers, of which each that ends is begun anew, until standard input is closed."""
    over, open_end = os.pipe()
    begun, vain, most = dict[int, float](), 0, _VAIN * asked["count"]
    closed = False
    while not closed and vain < most:
        while len(begun) < asked["count"]:
            begun[_copy(asked, over, open_end)] = time.monotonic()
        closed = bool(select.select([sys.stdin], [], [], _LOOK)[0])
        for pid in _ended(begun):
            vain = vain + 1 if time.monotonic() - begun.pop(pid) < _SOON else 0
    os.close(open_end)
    until = time.monotonic() + 2.0 * _ENDING
    while begun and time.monotonic() < until:
        for pid in _ended(begun):
            del begun[pid]
        time.sleep(0.01)
    for pid in begun:
        os.kill(pid, signal.SIGKILL)
    return 0 if closed else 1


def _ended(begun: Collection[int]) -> list[int]:
    """Those of some processes that have ended."""
    return [pid for pid in begun if os.waitpid(pid, os.WNOHANG)[0]]


def _copy(asked: dict[str, Any], over: int, open_end: int) -> int:
    """Begin a worker; gives the number of its process."""
    pid = os.fork()
    if pid:
        return pid
    code = 1
    try:
        os.close(open_end)
        asyncio.run(_work(asked, over))
        code = 0
    except Exception as error:  # noqa: BLE001 - it is all of this process: nobody else could say it
        print(f"moss-step: a worker ended: {error or type(error).__name__}", file=sys.stderr)
    finally:
        os._exit(code)


def say_less() -> None:
    """Have the cluster's library say less: what fails is said by this program."""
    for name in ("", ".core", ".nanny", ".worker", ".scheduler"):
        logging.getLogger(f"distributed{name}").setLevel(logging.CRITICAL)
    logging.getLogger("tornado.application").setLevel(logging.CRITICAL)


async def _work(asked: dict[str, Any], over: int) -> None:
    import dask
    from distributed import Worker
    from distributed.security import Security

    with dask.config.set(LEAN):
        worker = Worker(
            asked["scheduler"],
            nthreads=1,
            host="127.0.0.1",
            security=Security(**asked["keys"]),
            local_directory=asked["folder"],
            memory_limit=0,
            silence_logs=logging.CRITICAL,
        )
        async with worker:
            leaving = threading.Thread(target=_leave, args=(worker, over, asyncio.get_running_loop()))
            leaving.daemon = True
            leaving.start()
            await worker.finished()


def _leave(worker: Any, over: int, loop: asyncio.AbstractEventLoop) -> None:
    """End once the process that keeps the workers lets go of them, whatever the worker is at."""
    os.read(over, 1)
    loop.call_soon_threadsafe(lambda: loop.create_task(worker.close(executor_wait=False)))
    time.sleep(_ENDING)
    os._exit(0)


if __name__ == "__main__":
    sys.exit(main())

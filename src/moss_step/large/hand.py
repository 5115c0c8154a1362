"""A worker of this machine, as ``python -m moss_step.large.hand``: it loads what it needs, is told by a line
where its scheduler is, and ends with the process that began it.
"""

from __future__ import annotations

import asyncio
import gc
import json
import logging
import os
import signal
import sys
import threading
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
_ENDING = 1.0
"""Seconds that a worker has to take its leave in."""


def main() -> int:
    """Load, and work for the scheduler that standard input tells of, until that is closed."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a terminal tells all; who began it ends it
    gc.disable()  # what is made while the libraries load stays
    for module in ("distributed", *NEEDED):
        import_module(module)
    gc.freeze()
    gc.enable()
    say_less()
    asked = sys.stdin.readline()
    if asked:
        asyncio.run(_work(json.loads(asked)))
    gc.freeze()  # what is left is not looked through at the end
    return 0


def say_less() -> None:
    """Have the cluster's library say less: what fails is said by this program."""
    for name in ("", ".core", ".nanny", ".worker", ".scheduler"):
        logging.getLogger(f"distributed{name}").setLevel(logging.CRITICAL)
    logging.getLogger("tornado.application").setLevel(logging.CRITICAL)


async def _work(asked: dict[str, Any]) -> None:
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
            leaving = threading.Thread(target=_leave_in_time, args=(worker, asyncio.get_running_loop()))
            leaving.daemon = True
            leaving.start()
            await worker.finished()


def _leave_in_time(worker: Any, loop: asyncio.AbstractEventLoop) -> None:
    """End once nothing more can be said to this process, whatever it is at."""
    sys.stdin.read()
    loop.call_soon_threadsafe(lambda: loop.create_task(worker.close(executor_wait=False)))
    threading.Event().wait(_ENDING)
    os._exit(0)


if __name__ == "__main__":
    sys.exit(main())

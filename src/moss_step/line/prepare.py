"""``moss-step prepare``: compiles the kernels once, on all cores, so that no later run waits for them."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from functools import cache
from importlib.util import find_spec
from pathlib import Path

from moss_step.line.stored import steps
from moss_step.model.errors import MossError


def prepare() -> None:
    """Compile all that the steps run, in as many processes as there are cores, and say so; that of the window
    besides, where it is installed.

    Raises MossError when one of them ends without having done its part.
    """
    from moss_step.demo.samples import write_samples

    kinds = [k for k, s in steps().items() if s["inputs"] or s["further_inputs"]]
    count = max(os.cpu_count() or 1, 1)
    print(f"Compiling what {len(kinds)} steps run, once ...", flush=True)
    with tempfile.TemporaryDirectory() as folder:
        write_samples(Path(folder))
        parts = [Path(folder, str(k)) for k in range(count)]
        for part in parts:  # each process writes into a folder of its own
            shutil.copytree(folder, part, ignore=shutil.ignore_patterns(*map(str, range(count))))
        python = [sys.executable, "-m", "moss_step.line.compile"]
        running = [
            subprocess.Popen([*python, str(part), *kinds[k::count]])  # noqa: S603 - this very module, no shell
            for k, part in enumerate(parts)
        ]
        failed = [p.wait() for p in running]
    if not any(failed) and find_spec("PySide6") is not None:
        print("Compiling what the window runs, once ...", flush=True)
        failed = [subprocess.call([sys.executable, "-m", "moss_step.desk.warm"])]
    if any(failed):
        raise MossError("Not all could be compiled.", "Run it again.")
    print("Done: no later run waits for that.")


@cache
def tell_of_compiling() -> None:
    """Have one line say so, once, when something is compiled, as after an update: it takes up to a minute."""
    from numba.core import event

    class Teller(event.Listener):
        def __init__(self) -> None:
            self.said = False

        def on_start(self, event: object) -> None:
            if not self.said:
                self.said = True
                sys.stderr.write("moss-step: compiling, once ('moss-step prepare' does all of it).\n")

        def on_end(self, event: object) -> None:
            """Nothing more is said."""

    event.register("numba:compile", Teller())

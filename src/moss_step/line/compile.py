"""Runs the example of each step that is named, so that its kernels are compiled: ``FOLDER KIND ...``."""

from __future__ import annotations

import contextlib
import os
import shlex
import sys

from moss_step.line.doing import do
from moss_step.line.stored import described


def main() -> None:
    """Run them in a folder that holds the samples; the results go nowhere."""
    folder, *kinds = sys.argv[1:]
    with contextlib.chdir(folder):
        for kind in kinds:
            do([*shlex.split(described(kind)["example"])[1:], "--quiet", "--overwrite"])


if __name__ == "__main__":
    os.environ["XDG_STATE_HOME"] = sys.argv[1]
    main()

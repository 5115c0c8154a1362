"""Command that makes the demo's files anew: ``python -m moss_step.demo.make [FOLDER]``."""

from __future__ import annotations

import sys
from pathlib import Path

from moss_step.demo import DATA
from moss_step.demo.estate import write_estate


def main() -> None:
    """Write the files in the folder given, or where the package keeps them."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else DATA
    for path in write_estate(folder):
        print(path)


if __name__ == "__main__":
    main()

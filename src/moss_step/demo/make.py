"""Command that makes the demo's files anew: ``python -m moss_step.demo.make [FOLDER]``."""

from __future__ import annotations

import sys
from pathlib import Path

from moss_step.demo import DATA
from moss_step.demo.estate import write_estate
from moss_step.demo.lidar import survey
from moss_step.formats.las import write_cloud
from moss_step.formats.raster import read_surface


def main() -> None:
    """Write the files in the folder given, or where the package keeps them."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else DATA
    for path in write_estate(folder):
        print(path)
    points = folder / "harrow_survey.laz"
    write_cloud(points, survey(read_surface(folder / "harrow_ground.tif")[0]))
    print(points)


if __name__ == "__main__":
    main()

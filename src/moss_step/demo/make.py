"""Command that makes the demo's files anew: ``python -m moss_step.demo.make [FOLDER]``."""

from __future__ import annotations

import sys
from pathlib import Path

from moss_step.demo import DATA
from moss_step.demo.earth import write_earth
from moss_step.demo.estate import write_estate
from moss_step.demo.lidar import before_slip, survey
from moss_step.demo.soundings import write_soundings
from moss_step.formats.las_write import write_cloud
from moss_step.formats.raster import read_surface

_BEFORE = 1.25
"""Pulses a square metre and flight line of the survey before the slip: the older one is thinner."""


def main() -> None:
    """Write the files in the folder given, or where the package keeps them."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else DATA
    for path in [*write_estate(folder), *write_soundings(folder)]:
        print(path)
    ground = read_surface(folder / "harrow_ground.tif")[0]
    for path in write_earth(folder, ground):
        print(path)
    flown = {
        "harrow_survey.laz": survey(ground),
        "harrow_survey_before.laz": survey(before_slip(ground), seed=8, density=_BEFORE),
    }
    for name, cloud in flown.items():
        write_cloud(folder / name, cloud)
        print(folder / name)


if __name__ == "__main__":
    main()

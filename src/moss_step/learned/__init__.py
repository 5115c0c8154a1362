"""Classes of points that ship with the program, learned by `moss_step.demo.learn`."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from moss_step.formats.point_model import read_model
from moss_step.model.point_model import PointModel

FOLDER = Path(__file__).parent


@lru_cache(maxsize=6)
def objects(view: str, method: str) -> PointModel:
    """What was learned of buildings, plants, wires and other things, seen from an aeroplane (``air``, or
    ``air_single`` where returns do not count) or by a ``drone``, by a ``forest`` or by ``gaussian`` classes.
    """
    return read_model(FOLDER / f"objects_{view}_{method}.class.json")

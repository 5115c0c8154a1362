"""Command that teaches the shipped classes of points anew: ``python -m moss_step.demo.learn [FOLDER]``.

They are learned from simulated scenes alone; ``about`` in the files says from which, and where their limits
are.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

from moss_step.demo.scenes import SIDE, View, scene
from moss_step.formats.point_model import write_model
from moss_step.learned import FOLDER
from moss_step.model.cloud import BUILDING, GROUND, HIGH_PLANTS, LOW_PLANTS, WIRE, PointClass
from moss_step.model.point_model import REST, PointModel
from moss_step.science.points.features import ECHO, names_for
from moss_step.science.points.ground import SETS, ground_points
from moss_step.science.points.learning import ForestSet, Method, learned
from moss_step.science.points.near import plan_in_metres
from moss_step.science.points.objects import Standing, columns_of, standing

RADII: dict[View, tuple[float, ...]] = {"air": (1.0, 2.0, 4.0), "drone": (0.4, 0.8, 1.6)}
DENSITIES: dict[View, tuple[float, ...]] = {"air": (2.0, 4.0, 8.0), "drone": (20.0, 40.0)}
SEEDS: dict[View, range] = {"air": range(1, 9), "drone": range(1, 6)}
_MOST, _SIZE = 4000, ForestSet(trees=30, leaf=5, leaves=256, points=60_000)
"""Points of a class and a scene that are learned from."""
_CLASSES = (
    PointClass(HIGH_PLANTS, "Plants", "#4C6B34"),
    PointClass(BUILDING, "Building", "#B9652A"),
    PointClass(WIRE, "Wire", "#26331E"),
    REST,
)
_LIMITS = {
    "air": "Surveys from the air of 2 to 10 points a square metre, leaves on, with returns; roofs up "
    "to 14 m wide.",
    "drone": "Clouds matched from pictures or dense, from 15 points a square metre on; returns do not count.",
}


def examples(view: View) -> tuple[np.ndarray, np.ndarray]:
    """Measures of points of the scenes (n, measures), and numbers of their classes (n)."""
    values, codes = [], []
    blank = PointModel(view, "forest", _CLASSES, _measures(view), RADII[view], {})
    for seed in SEEDS[view]:
        for density in DENSITIES[view]:
            these = seen(seed * 100 + int(density), density, view)
            truth = np.asarray(these.attributes["truth"]).copy()
            truth[(truth >= LOW_PLANTS) & (truth <= HIGH_PLANTS)] = HIGH_PLANTS
            truth[truth == GROUND] = REST.code
            rng = np.random.default_rng(seed)
            held = columns_of(these, blank)
            for number, one in enumerate(_CLASSES):
                mine = np.flatnonzero(truth == one.code)
                mine = rng.choice(mine, min(len(mine), _MOST), replace=False)
                values.append(held[mine])
                codes.append(np.full(len(mine), number))
    return np.concatenate(values), np.concatenate(codes)


def seen(seed: int, density: float, view: View) -> Standing:
    """Points of a scene that stand on the ground found in it."""
    made = scene(seed, density, view)
    ground = ground_points(plan_in_metres(made), SETS["built_up"])
    return standing(made, np.where(ground, GROUND, 1))


def _measures(view: View) -> tuple[str, ...]:
    return names_for(RADII[view], (), view == "air")


def write_learned(folder: Path) -> list[Path]:
    """Teach and write all shipped classes; the same numbers every time."""
    paths = []
    for view in RADII:
        values, codes = examples(view)
        known = _measures(view)
        kinds: dict[str, tuple[str, ...]] = {view: known}
        if ECHO in known:  # and for points that do not know their returns, or had one each
            kinds[f"{view}_single"] = tuple(n for n in known if n != ECHO)
        for name, measures in kinds.items():
            held = values[:, [known.index(n) for n in measures]]
            for method in ("forest", "gaussian"):
                path = folder / f"objects_{name}_{method}.class.json"
                write_model(path, _taught(view, measures, method, held, codes))
                paths.append(path)
    return paths


def _taught(
    view: View, measures: tuple[str, ...], method: Method, values: np.ndarray, codes: np.ndarray
) -> PointModel:
    wide = values.shape[1]
    arrays = {
        **learned(values, codes, method, _SIZE),
        "low": np.full(wide, -np.inf, np.float32),
        "high": np.full(wide, np.inf, np.float32),
    }
    about = {
        "training": f"{len(codes):,} points of {len(SEEDS[view]) * len(DENSITIES[view])} simulated scenes of "
        f"{SIDE:g} m, {', '.join(f'{d:g}' for d in DENSITIES[view])} places a square metre",
        "limits": _LIMITS[view] + ("" if ECHO in measures or view == "drone" else " Returns do not count."),
    }
    return PointModel(f"Objects, {view}", method, _CLASSES, measures, RADII[view], arrays, about)


def main() -> None:
    """Write the files in the folder given, or where the package keeps them."""
    for path in write_learned(Path(sys.argv[1]) if len(sys.argv) > 1 else FOLDER):
        print(path)


if __name__ == "__main__":
    main()

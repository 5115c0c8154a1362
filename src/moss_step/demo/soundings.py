"""Soundings of the tarn of Harrow Moss: lines with noise of a known size, the shore, and a survey with
faults to find. All from one seed.
"""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import numpy as np
import shapely

from moss_step.demo.lidar import SOUTH, TARN, WEST
from moss_step.formats.vector import write_shapes
from moss_step.formats.whole import write_text
from moss_step.model.shapes import Shapes

SYSTEM = "EPSG:32628"
NOISE, DEEPEST, WATER = 0.05, 4.2, 512.4
"""Metres: spread of the soundings, deepest place, and height of the water."""
_LINES, _ALONG, _CORNERS = 3.0, 1.0, 120
"""Metres between two lines, and between soundings of one; corners of the shore."""
_BLUNDERS = ((40, 14.6), (305, 0.1), (290, 9.9))
"""Rows of the older survey with a depth that is none."""


def middle() -> tuple[float, float]:
    """Where the middle of the tarn lies."""
    return WEST + TARN[0], SOUTH + TARN[1]


def depth_at(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """True depth of the tarn in metres, 0 outside: a bowl that leans to the east, with a shallow bar."""
    cx, cy = middle()
    u, v = (np.asarray(x) - cx) / TARN[2], (np.asarray(y) - cy) / TARN[3]
    inside = np.clip(1.0 - u * u - v * v, 0.0, None)
    bar = 0.3 * np.exp(-((u + 0.3) ** 2) / 0.1)
    return np.asarray(DEEPEST * inside**1.2 * (1.0 + 0.18 * u) * (1.0 - bar))


def shore() -> Shapes:
    """The outline of the tarn."""
    angle = np.linspace(0.0, 2.0 * np.pi, _CORNERS, endpoint=False)
    cx, cy = middle()
    ring = np.column_stack([cx + TARN[2] * np.cos(angle), cy + TARN[3] * np.sin(angle)])
    return Shapes(
        np.array([shapely.Polygon(ring)], object), {"name": np.array(["Harrow tarn"], object)}, SYSTEM
    )


def true_volume(step: float = 0.05) -> float:
    """Cubic metres of water, counted on a fine grid."""
    cx, cy = middle()
    x = np.arange(cx - TARN[2], cx + TARN[2], step) + step / 2.0
    y = np.arange(cy - TARN[3], cy + TARN[3], step) + step / 2.0
    return float(sum(depth_at(x, np.full(x.size, v)).sum() for v in y) * step * step)


def sounded(seed: int = 3, noise: float = NOISE) -> dict[str, np.ndarray]:
    """Soundings along lines across the tarn, along it and near its shore: line, seconds, places, depths."""
    rng = np.random.default_rng(seed)
    cx, cy = middle()
    rows = []
    for number, x in enumerate(np.arange(cx - TARN[2] + 2.0, cx + TARN[2], _LINES), 1):
        half = TARN[3] * np.sqrt(max(1.0 - ((x - cx) / TARN[2]) ** 2, 0.0)) - 0.5
        along = np.arange(-half, half, _ALONG)
        rows += [(number, x, cy + v) for v in (along if number % 2 else along[::-1])]
    tie = np.arange(-TARN[2] + 1.0, TARN[2] - 1.0, _ALONG)
    rows += [(rows[-1][0] + 1, cx + u, cy) for u in tie]
    angle = np.linspace(0.0, 2.0 * np.pi, 96, endpoint=False)
    around = np.column_stack([cx + 0.94 * TARN[2] * np.cos(angle), cy + 0.94 * TARN[3] * np.sin(angle)])
    rows += [(rows[-1][0] + 1, x, y) for x, y in around.tolist()]
    line, x, y = (np.array(v) for v in zip(*rows, strict=True))
    x = x + rng.normal(0.0, 0.15, len(x))
    y = y + rng.normal(0.0, 0.15, len(y))
    depth = np.maximum(depth_at(x, y) + rng.normal(0.0, noise, len(x)), 0.05)
    held = depth_at(x, y) > 0.0
    time = np.arange(len(x)) * 0.8
    return {"line": line[held], "time_s": time[held], "x": x[held], "y": y[held], "depth": depth[held]}


def write_soundings(folder: Path) -> list[Path]:
    """Write the soundings, the older survey with its faults, the shore and what is true."""
    new, old = sounded(), sounded(seed=4, noise=3.0 * NOISE)
    depth = old["depth"].copy()
    for row, wrong in _BLUNDERS:
        depth[row] = wrong
    paths = [folder / n for n in ("harrow_soundings.csv", "harrow_soundings_older.csv", "harrow_tarn.gpkg")]
    write_text(paths[0], _text(new, ("line", "time_s", "easting", "northing", "depth_m"), ","))
    # The older one names its columns the wrong way round, and writes decimal commas.
    swapped = {**old, "x": old["y"], "y": old["x"], "depth": depth}
    write_text(paths[1], _text(swapped, ("line", "time_s", "easting", "northing", "depth_m"), ";"))
    write_shapes(paths[2], shore(), about="Shore of Harrow tarn")
    truth = {
        "volume_m3": round(true_volume(), 1), "area_m2": round(float(np.pi * TARN[2] * TARN[3]), 1),
        "deepest_m": round(float(depth_at(*_fine()).max()), 3), "noise_m": NOISE, "water_level_m": WATER,
        "older_lines_of_blunders": [row + 2 for row, _ in _BLUNDERS],
    }  # fmt: skip
    write_text(folder / "harrow_tarn_truth.json", json.dumps(truth, indent=1) + "\n")
    return [*paths, folder / "harrow_tarn_truth.json"]


def _fine() -> tuple[np.ndarray, np.ndarray]:
    cx, cy = middle()
    x, y = np.meshgrid(
        np.linspace(cx - TARN[2], cx + TARN[2], 600), np.linspace(cy - TARN[3], cy + TARN[3], 400)
    )
    return x.ravel(), y.ravel()


def _text(held: dict[str, np.ndarray], names: tuple[str, ...], mark: str) -> str:
    out = io.StringIO()
    table = csv.writer(out, delimiter=mark, lineterminator="\n")
    table.writerow(names)
    for line, time, x, y, depth in zip(*held.values(), strict=True):
        words = [f"{line:.0f}", f"{time:.1f}", f"{x:.2f}", f"{y:.2f}", f"{depth:.2f}"]
        table.writerow([w.replace(".", ",") for w in words] if mark == ";" else words)
    return out.getvalue()

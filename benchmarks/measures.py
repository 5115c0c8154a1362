"""Curvature, ruggedness, position, formulas, patches, zones, contours and the table."""

from __future__ import annotations

import time
from functools import partial

import contourpy
import numpy as np
from PySide6.QtCore import Qt
from rasterio.features import geometry_mask
from skimage.measure import label

from benchmarks.measure import Line, best, in_metres, peak_extra_bytes
from moss_step.desk.table.model import RowsModel
from moss_step.model.class_map import NO_CLASS
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.algebra.criteria import threshold
from moss_step.science.algebra.formula import evaluate
from moss_step.science.regrid import affine
from moss_step.science.relief.contours import contours
from moss_step.science.relief.curvature import curvature
from moss_step.science.relief.neighbourhood import ruggedness
from moss_step.science.relief.position import position
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.statistics import zone_statistics
from moss_step.science.zones.tessellate import tessellate


def lines(z: np.ndarray) -> list[Line]:
    """Measure everything on one ground."""
    dem = in_metres(z)
    copy = best(z.copy)
    found = [
        _ratio(
            "curvature, against NumPy with shifted views",
            best(lambda: curvature(dem)),
            best(lambda: _curvature_by_numpy(z), 1),
            8,
        ),
        _ratio(
            "ruggedness, against NumPy with shifted views",
            best(lambda: ruggedness(dem)),
            best(lambda: _ruggedness_by_numpy(z), 1),
            8,
        ),
    ]
    for radius in (20.0, 200.0, 1000.0):
        t = best(partial(position, dem, radius), 2)
        found.append(
            Line(
                f"position, radius {radius:g} m",
                f"{t * 1000:.0f} ms",
                f"{t / copy:.1f} copies",
                "at most 25",
                t / copy <= 25,
            )
        )
    found += [*_formula_lines(dem), *_zone_lines(dem), _contour_line(dem), *_table_lines()]
    return found


def _ratio(what: str, ours: float, theirs: float, bound: float) -> Line:
    return Line(
        what,
        f"{ours * 1000:.0f} ms",
        f"{theirs / ours:.1f} times faster",
        f"at least {bound:g}",
        theirs / ours >= bound,
    )


def _shifted(z: np.ndarray) -> list[np.ndarray]:
    rows, cols = z.shape
    return [z[1 + i : rows - 1 + i, 1 + j : cols - 1 + j] for i in (-1, 0, 1) for j in (-1, 0, 1)]


def _curvature_by_numpy(z: np.ndarray) -> np.ndarray:
    a, b, c, d, e, f, g, h, i = _shifted(z)
    p, q = (c + f + i - a - d - g) / 12, (a + b + c - g - h - i) / 12
    r = (a + c + d + f + g + i - 2 * (b + e + h)) / 12
    t = (a + b + c + g + h + i - 2 * (d + e + f)) / 12
    s = (c + g - a - i) / 16
    steep = p * p + q * q
    bent: np.ndarray = -(p * p * r + 2 * p * q * s + q * q * t) / (
        steep * (1 + steep) ** 1.5 + np.float32(1e-12)
    )
    return bent


def _ruggedness_by_numpy(z: np.ndarray) -> np.ndarray:
    parts = _shifted(z)
    middle = parts[4]
    unlike: np.ndarray = np.sqrt(sum((part - middle) ** 2 for k, part in enumerate(parts) if k != 4))
    return unlike


def _formula_lines(dem: Surface) -> list[Line]:
    other = Surface(np.ascontiguousarray(dem.values[::-1]), dem.frame, METRE)
    surfaces = {"a": dem, "b": other}
    text = "where(a > b, a - b, b * 2)"

    def by_hand() -> np.ndarray:
        a, b = dem.values, other.values
        return np.where(a > b, a - b, b * np.float32(2))

    ours, theirs = best(lambda: evaluate(text, surfaces), 3), best(by_hand, 3)
    more, their_more = (
        peak_extra_bytes(run) - dem.nbytes for run in (lambda: evaluate(text, surfaces), by_hand)
    )
    return [
        _share("formula of three terms, against NumPy by hand, ms", ours, ours / theirs, "of its time", 1.2),
        _share(
            "formula, memory beside the result, MB", more / 1e9, more / max(their_more, 1), "of NumPy's", 0.33
        ),
    ]


def _share(what: str, value: float, share: float, of: str, bound: float) -> Line:
    return Line(what, f"{value * 1000:.0f}", f"{share:.2f} {of}", f"at most {bound:g}", share <= bound)


def _zone_lines(dem: Surface) -> list[Line]:
    classes = threshold(dem, float(np.median(dem.values)), True, None, False, "high")
    ours = best(lambda: label_components(classes.codes, 8, NO_CLASS), 2)
    theirs = best(lambda: label(classes.codes, background=NO_CLASS, connectivity=2), 2)
    zones = tessellate(dem.frame, "hexagon", dem.frame.cols * 2.0 / 93.0)
    took = best(lambda: zone_statistics(zones, dem, ["max", "mean"]), 2)
    start = time.perf_counter()
    for g in zones.geometry[:12]:
        inside = ~geometry_mask([g], dem.frame.shape, affine(dem.frame))
        (dem.values[inside].max(), dem.values[inside].mean())
    each = (time.perf_counter() - start) / 12 * len(zones)
    count = f"{len(zones):,}"
    return [
        _ratio("patches, against skimage.measure.label", ours, theirs, 1),
        Line(f"max and mean in {count} hexagons", f"{took * 1000:.0f} ms", "", "under 2 s", took < 2),
        _ratio("the same, against a mask per zone (from twelve of them)", took, each, 20),
    ]


def _contour_line(dem: Surface) -> Line:
    levels = np.arange(np.ceil(dem.summary.low / 10) * 10, dem.summary.high, 10)

    def alone() -> object:
        generator = contourpy.contour_generator(z=dem.values, line_type="ChunkCombinedOffset")
        return [generator.lines(level) for level in levels]

    ours, theirs = best(lambda: contours(dem, 10.0), 3), best(alone, 3)
    return Line(
        "contours every 10 m, against contourpy alone",
        f"{ours * 1000:.0f} ms",
        f"{ours / theirs:.2f} of its time",
        "at most 1.3",
        ours <= 1.3 * theirs,
    )


def _table_lines() -> list[Line]:
    rng = np.random.default_rng(0)
    model = RowsModel()
    model.show_columns({"value": rng.normal(size=500_000), "zone": np.arange(500_000)}, {})
    sort = best(lambda: model.sort(0, Qt.SortOrder.DescendingOrder), 3)
    screen = best(lambda: [model.index(r, c).data() for r in range(40) for c in range(2)], 5)
    return [
        Line("table of 500,000 rows, sort", f"{sort * 1000:.0f} ms", "", "under 500 ms", sort < 0.5),
        Line("table, one screen of rows", f"{screen * 1000:.1f} ms", "", "under 16 ms", screen < 0.016),
    ]

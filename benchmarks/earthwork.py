"""Earthwork: an outline that is dragged over 4 million cells, two surveys of 16 million, and designs."""

from __future__ import annotations

import numpy as np
import shapely
from affine import Affine
from rasterio.features import geometry_mask

from benchmarks.measure import Line, best, rough_ground
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.earthwork.balance import ByLevel, balanced
from moss_step.science.earthwork.bases import edge_base, plane_base
from moss_step.science.earthwork.change import Counted, quantile
from moss_step.science.earthwork.design import Template, pad
from moss_step.science.earthwork.outline import Heights, Outline
from moss_step.science.earthwork.simulated import Field, simulate
from moss_step.science.earthwork.works import built
from moss_step.science.relief.profile import values_at
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

_SIDE, _LARGE = 2000, 4000


def lines() -> list[Line]:
    """Measure everything on rough ground."""
    return [*_dragged(), *_surveys(), *_designs()]


def _ground(side: int) -> Surface:
    values = rough_ground(side).astype(np.float32)
    return Surface(values, Frame(side, side, 0.0, float(side), 1.0, 1.0, "EPSG:32628"), METRE)


def _outline(side: int) -> shapely.Polygon:
    a = np.linspace(0.0, 2.0 * np.pi, 400)
    r = 0.495 * side * (1.0 + 0.005 * np.sin(20.0 * a))
    return shapely.Polygon(np.column_stack([side / 2 + r * np.cos(a), side / 2 + r * np.sin(a)]))


def _dragged() -> list[Line]:
    ground, area = _ground(_SIDE), _outline(_SIDE)
    level = float(np.nanmean(ground.values))
    heights = Heights(ground.values, level)

    def by_hand() -> tuple[float, ...]:
        mask = geometry_mask([area], ground.frame.shape, Affine(1, 0, 0, 0, -1, _SIDE), invert=True)
        off = ground.values[mask] - np.float32(level)
        up, down = off[off > 0], off[off < 0]
        return float(up.sum()), float(-down.sum()), float(up.size), float(down.size), off.max(), off.min()

    level_took = best(lambda: heights.inside(Outline(ground.frame, area)), 9)
    numpy_took = best(by_hand, 5)

    def plane() -> None:
        outline = Outline(ground.frame, area)
        outline.moved(ground.values, plane_base(ground, outline))

    def edge() -> None:
        outline = Outline(ground.frame, area)
        outline.moved(ground.values, edge_base(ground, outline))

    plane_took, edge_took = best(plane, 5), best(edge, 5)
    ratio = numpy_took / level_took
    return [
        Line("outline over 4 M cells, against a level", _ms(level_took), f"{ratio:.0f} x NumPy's mask",
             "16 ms, 20 x", level_took <= 0.016 and ratio >= 20.0),
        Line("outline over 4 M cells, against a plane", _ms(plane_took), "", "16 ms", plane_took <= 0.016),
        Line("outline over 4 M cells, against its edge", _ms(edge_took), "", "100 ms", edge_took <= 0.1),
    ]  # fmt: skip


def _surveys() -> list[Line]:
    before = _ground(_LARGE)
    after = Surface(before.values + np.float32(0.2), before.frame, METRE)
    kind = catalogue()["survey_change"]
    took = best(lambda: run_declared(kind, {}, {"before": before, "after": after}, silent()), 2)
    return [Line("two surveys of 16 M cells", f"{took:.2f} s", "", "1 s", took <= 1.0)]


def _designs() -> list[Line]:
    large, area = _ground(_LARGE), _outline(_LARGE)
    balanced_took = best(lambda: ByLevel(large.values, Outline(large.frame, area)).balanced(0.9), 3)
    share = np.linspace(0.0, 1.0, 60)
    path = tuple(
        (300.0 + 3350.0 * s, 300.0 + 3350.0 * s + 200.0 * float(np.sin(9.0 * s))) for s in share.tolist()
    )
    long = float(shapely.length(shapely.LineString(path)))
    stations = np.arange(0.0, long, 150.0)
    at = np.array([shapely.LineString(path).interpolate(s).coords[0] for s in stations.tolist()])
    heights = values_at(large, at[:, 0], at[:, 1])
    profile = "; ".join(f"{s:.1f},{z:.2f}" for s, z in zip(stations, heights, strict=True))
    kind = catalogue()["road"]
    asked = {"path": path, "width": 6.0, "lies": "profile", "heights": profile}
    road_took = best(lambda: run_declared(kind, asked, {"surface": large}, silent()), 2)
    frame = Frame(500, 500, 0.0, 500.0, 1.0, 1.0, "EPSG:32628")
    off = np.random.default_rng(2).normal(0.0, 0.3, frame.shape)
    counted = Counted(np.array([[0.05]]), quantile(0.95))
    simulated_took = best(lambda: simulate(off, frame, counted, Field(frame, 20.0, 1), 1000), 1)
    ground = _ground(_SIDE)
    corners = shapely.box(900.0, 900.0, 960.0, 940.0)
    made = balanced(ground, pad(ground.frame, corners, 0.0, Template()))[0]
    pad_took = best(lambda: built(ground, made), 9)
    return [
        Line("level that balances, 16 M cells", f"{balanced_took:.2f} s", "", "0.5 s", balanced_took <= 0.5),
        Line(f"road of {long / 1000:.1f} km, 16 M cells", f"{road_took:.2f} s", "", "2 s", road_took <= 2.0),
        Line("1,000 surveys over 250,000 cells", f"{simulated_took:.1f} s", "", "30 s",
             simulated_took <= 30.0),
        Line("pad of 60 m dragged over 4 M cells", _ms(pad_took), "", "33 ms", pad_took <= 0.033),
    ]  # fmt: skip


def _ms(seconds: float) -> str:
    return f"{seconds * 1e3:.1f} ms"


if __name__ == "__main__":
    for line in lines():
        print(line)

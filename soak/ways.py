"""Numbers against the same in another way: tile by tile, with one thread, on the mirrored ground; and runs in tiles that are killed and go on."""

from __future__ import annotations

import json
import random
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from unittest import mock

import numba
import numpy as np
import shapely

from moss_step.formats.raster import read_surface
from moss_step.kinds.registry import kind_of
from moss_step.large.crew import Alone
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun
from moss_step.model import mapped
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import map_of, room_for
from moss_step.model.outcome import Value
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import METRE
from moss_step.steps.catalogue import step_kind
from moss_step.study.declared import run_declared
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from soak.kills import PROGRAM, contents, write_ground
from soak.sources import write_somehow
from soak.watch import Judge

TILE = 512 * 512


def _radius(rng: random.Random) -> float:
    """Of a few cells, or of a good part of the ground."""
    return rng.choice((rng.uniform(15, 60), rng.uniform(60, 900)))


_BASES: tuple[dict[str, object], ...] = {"against": "lowest"}, {"against": "plane"}, {"against": "edge"}
_LOCAL: dict[str, Callable[[random.Random], dict[str, object]]] = {
    "slope": lambda rng: {"unit": rng.choice(("degrees", "percent"))},
    "aspect": lambda rng: {"method": rng.choice(("horn", "quadratic"))},
    "exposure": lambda rng: {"bearing": rng.uniform(0, 360), "weigh": rng.choice(("facing", "slope"))},
    "several_lights": lambda _: {},
    "position": lambda rng: {
        "radius": _radius(rng),
        "standardised": rng.random() < 0.5,
        **rng.choice(({}, {"window": "ring", "inner": 10.0})),
    },
    "openness": lambda rng: {"radius": rng.uniform(15, 60), "side": rng.choice(("positive", "negative"))},
    "landform": lambda rng: {"small": rng.uniform(8, 20), "large": rng.uniform(25, 60)},
    "slope_classes": lambda rng: {"closed": rng.choice(("upper", "lower"))},
    "relief_tint": lambda rng: {"interval": rng.choice((3.0, 20.0)), "base": rng.uniform(-5.0, 5.0)},
    "hillshade": lambda rng: {"azimuth": rng.uniform(0, 360)},
    "curvature": lambda rng: {"kind": rng.choice(("profile", "plan", "tangential", "mean"))},
    "ruggedness": lambda rng: {"method": rng.choice(("riley", "mean_absolute"))},
    "roughness": lambda _: {},
    "relief": lambda rng: {"radius": _radius(rng)},
    "fill_voids": lambda rng: {"most_cells": rng.choice((30, 400, 3000, 300_000))},
    "cut_fill": lambda rng: rng.choice(({"against": "level", "level": rng.uniform(-20.0, 20.0)}, *_BASES)),
}
_SHARED = "d8", "freeman", "dinf"
_KEPT: tuple[dict[str, object], ...] = {}, {"keep_depth": 1.0}, {"keep_area": 200.0}
_WATER: dict[str, Callable[[random.Random], dict[str, object]]] = {
    "fill_depressions": lambda rng: {**rng.choice(_KEPT), "gradient": rng.choice((0.0, 1e-4, 0.05))},
    "depressions": lambda rng: {"least_depth": rng.choice((0.0, 0.5)), "least_area": rng.choice((0.0, 50.0))},
    "flow_directions": lambda rng: {"method": rng.choice(("d8", "dinf"))},
    "flow_accumulation": lambda rng: {
        "unit": rng.choice(("cells", "area")),
        "method": rng.choice(_SHARED),
        "edges": rng.choice(("keep", "blank")),
    },
    "wetness": lambda rng: {"method": rng.choice(_SHARED)},
    "stream_power": lambda rng: {
        "method": rng.choice(_SHARED),
        "index": rng.choice(("power", "sediment", "length_slope")),
    },
    "flow_length": lambda rng: {"side": rng.choice(("down", "up"))},
    "drain_height": lambda rng: {"min_area": rng.choice((20.0, 2000.0))},
    "streams": lambda rng: {"min_area": rng.choice((200.0, 5000.0))},
    "stream_basins": lambda rng: {"min_area": rng.choice((5000.0, 20_000.0))},
    "basins": lambda rng: {
        "min_area": rng.choice((0.0, 500.0)),
        "min_depth": rng.choice((None, 0.2, 2.0)),
    },
    "flow_path": lambda rng: {"side": rng.choice(("down", "up"))},
    "contours": lambda rng: {"interval": rng.choice((3.0, 20.0)), "base": rng.uniform(-5.0, 5.0)},
}
_SIGHT: dict[str, Callable[[random.Random], dict[str, object]]] = {
    "viewshed": lambda rng: {"target_height": rng.choice((0.0, 5.0))},
    "mast_height": lambda _: {},
    "horizon_angle": lambda rng: {"refraction": rng.choice((0.0, 0.13))},
}
"""Steps that work on grounds that are mapped from the disk, too; observers stand at random places."""
_NEAR = {"flow_accumulation": 4e-7, "flow_length": 4e-7, "position": 1e-5}
"""Sums that are added up in another order in tiles, or run on from elsewhere, where single precision may
round the other way.
"""
_MIRRORED = ("slope", "ruggedness", "roughness", "fill_depressions", "relief")
"""Steps whose result on a mirrored ground is the mirrored one."""


def ground_at_random(rng: random.Random) -> Surface:
    """A ground of several tiles: rough or in whole metres, with holes or none, square cells or not, metres or degrees."""
    dice = np.random.default_rng(rng.getrandbits(32))
    rows, cols = rng.randint(300, 1100), rng.randint(520, 1100)
    z = dice.normal(size=(rows, cols)).cumsum(0) * rng.choice((0.05, 0.5, 5.0))
    z += np.hypot(*np.mgrid[0:rows, 0:cols]) * rng.choice((0.0, 0.1, -0.2))
    z = np.round(z, rng.choice((0, 1, 6)))
    if rng.random() < 0.5:
        z[dice.random(z.shape) < rng.choice((0.001, 0.05, 0.4))] = np.nan
    if rng.random() < 0.2:
        z = 4000.0 + z * 1e-5
    if rng.random() < 0.3:
        frame = Frame(rows, cols, -3.0, rng.choice((5.0, 65.0)), 1e-4, 1e-4, "EPSG:4326")
    else:
        dx, dy = rng.choice(((1.0, 1.0), (4.0, 1.0), (1.0, 4.0)))
        frame = Frame(rows, cols, 412_000.0, 5_872_000.0, dx, dy, "EPSG:32628")
    values = z.astype(np.float32) if rng.random() < 0.8 else z
    return Surface(values, frame, METRE)


def in_other_ways(judge: Judge, rng: random.Random) -> Iterator[None]:
    """One step on one ground a turn, in three other ways."""
    while True:
        source = judge.inside / "random.tif"
        source.unlink(missing_ok=True)
        written = write_somehow(source, ground_at_random(rng), rng)
        ground, _ = read_surface(source)  # in the precision that its file is read in
        kind = rng.choice((*_LOCAL, *_WATER, *_SIGHT))
        given = {**_LOCAL, **_WATER, **_SIGHT}[kind](rng)
        if kind in _SIGHT:
            given |= {"at": _places(rng, ground), "reach": rng.choice((None, 300.0))}
        if kind == "cut_fill":
            given |= {"outline": _nearly_all(rng, ground.frame)}
        if kind == "flow_path":
            given |= {"start": _places(rng, ground)}
        step = Step(id="step", kind=kind, inputs={step_kind(kind).inputs[0].name: "ground"}, settings=given)
        name, began = f"{kind} {given} on {ground.frame.shape}, {written}", time.perf_counter()
        whole = _tried(_in_one_piece, step, ground)
        if kind in _SIGHT:
            _held(judge, f"{name} mapped", _tried(_mapped, step, ground), whole, 0.0)
        tiles = _tried(partial(_in_tiles, source), step, ground)
        _held(judge, f"{name} in tiles", tiles, whole, _NEAR.get(kind, 0.0))
        _held(judge, f"{name} with one thread", _tried(_one_thread, step, ground), whole, 0.0)
        if kind in _MIRRORED and not isinstance(whole, str):
            turned = _in_one_piece(step, as_kind(_mirrored(ground), Surface))
            _held(judge, f"{name} mirrored", _mirrored(turned), whole, 1e-4)
        judge.tally.tried += 1
        judge.tally.answers["done"] += 1
        judge.tally.took(time.perf_counter() - began, name)
        yield


def _tried(work: Callable[[Step, Surface], Value], step: Step, ground: Surface) -> Value | str:
    """What some work gives, or how it is refused: without its numbers, which may be reckoned in another
    way.
    """
    try:
        return work(step, ground)
    except MossError as error:
        return "".join(c for c in error.what if not c.isdigit())


def _held(judge: Judge, name: str, other: Value | str, whole: Value | str, near: float) -> None:
    if isinstance(other, str) or isinstance(whole, str):
        if other != whole:
            judge.tally.fault("wrong", f"{name}: {other} against {whole}")
        return
    if isinstance(other, Shapes) and isinstance(whole, Shapes):
        differs = _shapes_differ(other, whole)
        if differs:
            judge.tally.fault("wrong", f"{name}: {differs}")
        return
    ours, theirs = (_cells(v) for v in (other, whole))
    same = np.array_equal(ours, theirs, equal_nan=True) if not near else np.allclose(
        ours, theirs, rtol=near, atol=near * max(float(np.nanmax(np.abs(theirs), initial=0.0)), 1e-6), equal_nan=True
    )  # fmt: skip
    if not same:
        judge.tally.fault(
            "wrong",
            f"{name}: {int((~((ours == theirs) | (np.isnan(ours) & np.isnan(theirs)))).sum()):,} cells differ",
        )


def _shapes_differ(other: Shapes, whole: Shapes) -> str:
    """What differs between two sets of shapes; empty where they are alike."""
    if len(other) != len(whole) or other.columns.keys() != whole.columns.keys():
        return f"{len(other):,} shapes against {len(whole):,}"
    if not shapely.equals_exact(other.geometry, whole.geometry, 1e-9).all():
        return "other geometry"
    for column, theirs in whole.columns.items():
        ours = other.columns[column]
        if theirs.dtype == object:
            if ours.tolist() != theirs.tolist():
                return f"other values in {column}"
        elif not np.allclose(ours, theirs, rtol=1e-6, atol=1e-6, equal_nan=True):
            return f"other numbers in {column}"
    return ""


def _array(value: Value) -> np.ndarray:
    array = kind_of(value).array
    return np.empty(0) if array is None else array(value)


def _cells(value: Value) -> np.ndarray:
    return _array(value).astype(np.float64)


def _in_one_piece(step: Step, ground: Surface) -> Value:
    return run_declared(step.declared, step.settings, dict.fromkeys(step.inputs, ground), silent()).value


def _nearly_all(rng: random.Random, frame: Frame) -> list[tuple[float, float]]:
    """An outline whose four corners lie some cells from those of the ground."""
    rows, cols = frame.shape
    near = [(rng.uniform(0.01, 6.0), rng.uniform(0.01, 6.0)) for _ in range(4)]
    ends = ((0, 0, 1, 1), (0, cols, 1, -1), (rows, cols, -1, -1), (rows, 0, -1, 1))
    return [
        (frame.x0 + (col + right * c) * frame.dx, frame.y0 - (row + down * r) * frame.dy)
        for (row, col, down, right), (r, c) in zip(ends, near, strict=True)
    ]


def _places(rng: random.Random, ground: Surface) -> str:
    """One to three places on the ground, some of them where cells meet."""
    xmin, ymin, xmax, ymax = ground.frame.box
    places = [(rng.uniform(xmin, xmax), rng.uniform(ymin, ymax)) for _ in range(rng.randint(1, 3))]
    if rng.random() < 0.5:
        corners = np.rint(ground.frame.in_cells(np.array(places)))
        places = [(round(x, 7), round(y, 7)) for x, y in ground.frame.places(corners).tolist()]
    return ";".join(f"{x!r},{y!r}" for x, y in places)


def _mapped(step: Step, ground: Surface) -> Value:
    """The step on the ground mapped from a file, as if memory could not hold it, a few rows at a time."""
    held = np.asarray(room_for(ground.values.size, ground.values.dtype, True)).reshape(ground.frame.shape)
    held[:] = ground.values
    with mock.patch.multiple(mapped, LARGE=1000, _BLOCK=20_000):
        found = _in_one_piece(step, replace(ground, values=held))
    if map_of(_array(found)) is None:
        raise RuntimeError(f"{step.kind} on a mapped ground is not mapped")
    return found


def _in_tiles(source: Path, step: Step, ground: Surface) -> Value:
    """The step on the ground in its file, whatever was read of that."""
    work = source.with_name("tiles")
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir()
    study = Study(steps=(Step(id="ground", kind="open_grid", settings={"source": str(source)}), step))
    cells = 4 * TILE if step.kind in _WATER else TILE
    run = LargeRun(study, Engine(), Alone(), work, left_on_disk(study, study.steps, True), cells)
    try:
        written = next(iter(run.results(["step"], silent())))
    except MossError as error:  # with the name of the step, which one piece does not know
        raise MossError(error.what.removeprefix(f"{study.name_of('step')}: ")) from error
    if written.outcome is not None:
        return written.outcome.value
    if written.file is None:
        raise RuntimeError(f"{step.kind} in tiles gave nothing")
    result = read_surface(written.file)[0]
    shutil.rmtree(work)
    return result


def _one_thread(step: Step, ground: Surface) -> Value:
    before = numba.get_num_threads()
    numba.set_num_threads(1)
    try:
        return _in_one_piece(step, replace(ground))
    finally:
        numba.set_num_threads(before)


def _mirrored(value: Value) -> Value:
    surface = value if isinstance(value, Surface) else None
    if surface is None:
        return value
    return replace(surface, values=np.ascontiguousarray(surface.values[:, ::-1]))


def tile_kills(judge: Judge, rng: random.Random) -> Iterator[None]:
    """A run in tiles is killed at a random moment, once or twice, and goes on: its results are those of a run left alone."""
    folder = judge.inside
    write_ground(folder / "wide.tif", 1100)
    steps = [
        {"id": "ground", "kind": "open_grid", "settings": {"source": "wide.tif"}},
        {"id": "slope", "kind": "slope", "inputs": {"dem": "ground"}},
        {"id": "steep", "kind": "classify", "inputs": {"surface": "slope"}, "settings": {"rules": "fao_slope"}},
        {"id": "flow", "kind": "flow_accumulation", "inputs": {"dem": "ground"}},
        {"id": "seen", "kind": "viewshed", "inputs": {"dem": "ground"}, "settings": {"at": [[300.0, 400.0], [800.0, 700.0]]}},
    ]  # fmt: skip
    (folder / "wide.moss").write_text(json.dumps({"moss_step_study": 2, "name": "Wide", "steps": steps}))
    out = folder / "tiled"
    line = [*PROGRAM, "run", str(folder / "wide.moss"), "-o", str(out), "--tile-cells", "300000", "-q"]
    began = time.perf_counter()
    subprocess.run(line, check=True, capture_output=True)
    took, new = time.perf_counter() - began, contents(sorted(out.glob("*.tif")))
    while True:
        shutil.rmtree(out)
        for _ in range(rng.randint(1, 2)):
            process = subprocess.Popen(line, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            time.sleep(rng.uniform(0.2, 1.05) * took)
            process.send_signal(rng.choice((signal.SIGKILL, signal.SIGKILL, signal.SIGTERM)))
            process.communicate()
        done = subprocess.run(line, check=False, capture_output=True, text=True)
        judge.tally.tried += 1
        judge.tally.answers["went on" if done.returncode == 0 else "could not go on"] += 1
        if done.returncode != 0:
            judge.tally.fault("lost", f"a run in tiles does not go on: {done.stderr.strip()[-300:]}")
        elif contents(sorted(out.glob("*.tif"))) != new:
            judge.tally.fault("wrong", "a run in tiles that was killed and went on gave other results")
        elif any(p.name.startswith(".moss-") for p in out.iterdir()):
            judge.tally.fault("wrong", "a run in tiles left its half-made files")
        yield

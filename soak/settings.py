"""Settings at random for every step, on a small ground: values at and beyond every limit, texts that are none."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from moss_step.formats.las_write import write_cloud
from moss_step.formats.raster_write import write_class_map, write_surface
from moss_step.formats.vector import write_shapes
from moss_step.kinds.registry import kind_named
from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import InputSpec, StepKind
from soak.watch import Judge

FRAMES = (
    Frame(60, 80, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628"),
    Frame(40, 50, -16.28, 52.99, 3e-5, 2e-5, "EPSG:4326"),
    Frame(1, 7, 0.0, 1.0, 1.0, 1.0, None),
)
NUMBERS = (
    "nan", "inf", "-inf", "1e308", "-1e308", "1e-308", "0", "-0", "1", "-1", "2", "0.5", "1e-9", "1e9", "1e-6", "1e6", "2147483648", "-2147483649",
    "9" * 40, "9" * 5000, "45", "360", "10", "100", "3", "0x10", "1_000", "1e7", "12.5",
)  # fmt: skip
TEXTS = (
    "",
    " ",
    "yes",
    "no",
    "true",
    "none",
    "all",
    "\x01",
    "\udc80",
    "a;b",
    ",",
    ";;;",
    "(" * 300,
    "../../x",
    "#",
    "a,b",
    "🜁" * 50,
    "x" * 10_000,
)


def write_inputs(folder: Path) -> None:
    """Write a value of each kind for each frame."""
    rng = np.random.default_rng(5)
    for number, frame in enumerate(FRAMES):
        there = folder / str(number)
        there.mkdir()
        values = rng.normal(size=frame.shape).cumsum(0).cumsum(1).astype(np.float32)
        values[frame.rows // 2, frame.cols // 2] = np.nan
        quantities = {
            spec.quantity or "elevation"
            for step in catalogue().values()
            for spec in specs(step)
            if spec.accepts == "surface"
        }
        for quantity in quantities:
            write_surface(there / f"{quantity}.tif", Surface(values, frame, METRE, quantity), quantity)
        codes = ((values > 0) + 1).astype(np.uint8)
        write_class_map(
            there / "classes.tif",
            ClassMap(codes, frame, (ClassEntry(1, "Low", "#336655"), ClassEntry(2, "High", "#AA7744"))),
            "Classes",
        )
        write_shapes(there / "shapes.gpkg", some_shapes(frame))
        write_cloud(there / "cloud.laz", some_points(frame, rng))


def some_points(frame: Frame, rng: np.random.Generator) -> Cloud:
    """Some thousand points over a frame: ground, things of 4 m on it, and one far below."""
    west, south, east, north = frame.box
    x, y = rng.uniform(west, east, 4000), rng.uniform(south, north, 4000)
    thing = (np.floor((x - west) / (east - west) * 9) % 3 == 1) & (rng.random(4000) < 0.5)
    z = 300.0 + 5.0 * (y - south) / (north - south) + np.where(thing, 4.0, 0.0)
    z[0] = -900.0
    held: dict[str, np.ndarray] = {
        "classification": np.where(thing, 5, 2).astype(np.uint8),
        "return_number": np.ones(4000, np.uint8),
        "number_of_returns": np.ones(4000, np.uint8),
        "height_above": np.where(thing, 4.0, 0.0).astype(np.float32),
    }
    return Cloud(x, y, z, held, frame.crs, METRE)


def some_shapes(frame: Frame) -> Shapes:
    """An area, a line and a point inside a frame."""
    west, south, east, north = frame.box
    x, y = (west + east) / 2, (south + north) / 2
    shapes = [shapely.box(west, south, x, y), shapely.LineString([(west, y), (east, y)]), shapely.Point(x, y)]
    return Shapes(
        np.array(shapes, object),
        {"name": np.array(["a", "b", "c"], object), "height": np.array([1.0, 2.0, 3.0])},
        frame.crs,
    )


def specs(step: StepKind) -> list[InputSpec]:
    """All inputs of a step with the kind of further ones."""
    return [*step.inputs, *([step.further] if step.further else [])]


def given(step: StepKind, folder: Path, rng: random.Random) -> list[str] | None:
    """Words for the inputs of a step; None for one that needs a table."""
    there = folder / str(rng.randrange(len(FRAMES)))
    words = []
    for spec in step.inputs:
        if spec.accepts == "table":
            return None
        if not spec.optional or rng.random() < 0.3:
            words.append(f"{spec.name}={source(spec, there, folder, rng)}")
    if step.further is not None and step.further.accepts != "table":
        words += [f"{name}={source(step.further, there, folder, rng)}" for name in ("a", "b")]
    return words


def source(spec: InputSpec, there: Path, folder: Path, rng: random.Random) -> Path:
    """A file for an input, at times from another ground or of another kind."""
    if rng.random() < 0.05:
        there = folder / str(rng.randrange(len(FRAMES)))
    if rng.random() < 0.03:
        return there / rng.choice(["classes.tif", "shapes.gpkg", "elevation.tif", "none.tif"])
    name = (spec.quantity or "elevation") if spec.accepts == "surface" else spec.accepts
    return there / f"{name}{kind_named(spec.accepts).endings[0]}"


def value(rng: random.Random, schema: dict[str, Any]) -> str:
    """A value for a setting: one that it may have, one beside it, or none at all."""
    choices = schema.get("choices") or []
    roll = rng.random()
    if choices and roll < 0.7:
        return str(rng.choice(choices))
    if roll < 0.12:
        return rng.choice(TEXTS)
    frame = rng.choice(FRAMES)
    west, south, east, north = frame.box
    places = [(rng.uniform(west, east), rng.uniform(south, north)) for _ in range(2)]
    if rng.random() < 0.15:
        places[1] = (float(rng.choice((1e9, -1e9, 1e300))), places[1][1])
    if schema.get("control") in ("line", "box", "points", "outline", "lasso"):
        places += [(rng.uniform(west, east), rng.uniform(south, north))] * (
            schema["control"] in ("outline", "lasso")
        )
        return ("," if schema["control"] in ("line", "box") else ";").join(
            f"{x:.9g},{y:.9g}" for x, y in places
        )
    return rng.choice(NUMBERS)


def settings_at_random(judge: Judge, rng: random.Random) -> Iterator[None]:
    """One case a turn, without end."""
    write_inputs(judge.inside)
    described = {
        name: step for name, step in catalogue().items() if given(step, judge.inside, rng) is not None
    }
    while True:
        step = described[rng.choice(sorted(described))]
        words = [*(given(step, judge.inside, rng) or [])]
        for name, field in step.settings.listed().items():
            about: Any = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
            schema = {
                "control": about.get("control", ""),
                "choices": list(getattr(field.annotation, "__args__", ())),
            }
            if field.is_required() or rng.random() < 0.35:
                words.append(
                    f"{name}={value(rng, {**schema, 'choices': [c for c in schema['choices'] if isinstance(c, str)]})}"
                )
        out = judge.inside / f"result{kind_named(step.gives).endings[0]}"
        line = ["do", step.kind, *words, "-o", str(out)]
        judge.case(line, json.dumps([w.replace(str(judge.inside) + "/", "")[:80] for w in line[1:-2]]))
        out.unlink(missing_ok=True)
        yield

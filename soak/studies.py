"""Hostile studies: the estate's study with values, names and ids at random, and a list of hand-made ones."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from moss_step.formats.raster_write import write_surface
from soak.files import GROUND
from soak.watch import Judge

ODD: tuple[Any, ...] = (
    None, True, -1, 0, 1e999, 10**40, "", "../../x", "/tmp/x", "a\0b", "\ud800", "<b>x</b><img src='http://127.0.0.1'>", "x" * 5000, [], {}, [[1]],
    {"a": {}}, "-o", "=1+1", "CON", ".", "..", "ä/ö",
)  # fmt: skip


def study(source: str) -> dict[str, Any]:
    """A sound study of three steps."""
    steps = [
        {"id": "g", "kind": "open_grid", "settings": {"source": source}, "name": "Ground"},
        {"id": "s", "kind": "slope", "inputs": {"dem": "g"}, "settings": {}, "name": "Steepness"},
        {"id": "c", "kind": "classify", "inputs": {"surface": "s"}, "settings": {"rules": "fao_slope"}},
    ]
    return {"moss_step_study": 1, "name": "Harrow", "steps": steps}


def places(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Ways to every value within plain data."""
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [path, *(p for key, part in items for p in places(part, (*path, key)))]


def changed(data: Any, path: tuple[Any, ...], value: Any) -> Any:
    """The data with another value at a place."""
    if not path:
        return value
    copy: Any = dict(data) if isinstance(data, dict) else list(data)
    copy[path[0]] = changed(data[path[0]], path[1:], value)
    return copy


def hand_made(source: str, port: int) -> Iterator[tuple[str, str]]:
    """Names and texts of studies that were made to do harm."""
    sound = study(source)
    for number, step_id in enumerate(("../../x", "/etc/x", "a/b", "", "..", "x" * 400, "a\nb", "-o")):
        yield f"id {number}", json.dumps(changed(sound, ("steps", 0, "id"), step_id))
    for number, name in enumerate(("../../x", "/x" * 200, "y" * 3000, "\u202e", "a/../../b", "")):
        yield f"name {number}", json.dumps(changed(sound, ("steps", 1, "name"), name))
    for number, place in enumerate((
        f"http://127.0.0.1:{port}/a.tif", f"/vsicurl/http://127.0.0.1:{port}/a.tif", f"WMS:http://127.0.0.1:{port}/", "/dev/zero", "/proc/self/mem",
        f"<VRTDataset rasterXSize='1' rasterYSize='1'><SourceFilename>http://127.0.0.1:{port}/x</SourceFilename></VRTDataset>", "|ls", "MEM:::",
        f"/vsizip//vsicurl/http://127.0.0.1:{port}/a.zip/x", "vrt://" + source, "STACIT:\"x\"", "GDALG:x", "\0", "/", ".",
    )):  # fmt: skip
        yield f"source {number}", json.dumps(changed(sound, ("steps", 0, "settings", "source"), place))
    chain = [
        {"id": f"n{k}", "kind": "smooth", "inputs": {"dem": f"n{k + 1}"}, "settings": {}} for k in range(3000)
    ]
    yield "long chain", json.dumps({**sound, "steps": chain})
    yield (
        "ring",
        json.dumps(
            {**sound, "steps": [{"id": "a", "kind": "slope", "inputs": {"dem": "a"}, "settings": {}}]}
        ),
    )
    yield "deep", "[" * 100_000
    yield "deep steps", json.dumps(sound)[:-1] + ', "pins": ' + "[" * 50_000 + "]" * 50_000 + "}"
    yield "digits", json.dumps(sound).replace('"moss_step_study": 1', '"moss_step_study": ' + "1" * 6000)
    yield "version", json.dumps({**sound, "moss_step_study": True})
    yield "twice", json.dumps({**sound, "steps": [sound["steps"][0]] * 2})
    yield "empty", ""
    yield "no study", "null"


def hostile_studies(judge: Judge, rng: random.Random) -> Iterator[None]:
    """First the hand-made studies, then changes at random without end."""
    folder = judge.inside
    ground = folder / "ground.tif"
    write_surface(ground, GROUND, "Ground")
    results = folder / "results"
    for name, text in hand_made(str(ground), judge.listener.port):
        run_study(judge, folder / "hostile.moss", results, text.encode("utf-8", "surrogatepass"), name)
        yield
    sound = study("ground.tif")
    ways = places(sound)
    while True:
        data: Any = sound
        for _ in range(rng.choice((1, 1, 2, 3))):
            path, odd = rng.choice(ways), rng.choice(ODD)
            try:
                data = changed(data, path, odd)
            except (KeyError, TypeError, IndexError):
                continue
        content = json.dumps(data).encode("utf-8", "surrogatepass")
        if rng.random() < 0.2:
            at = rng.randrange(len(content))
            content = content[:at] + bytes([rng.randrange(256)]) + content[at + 1 :]
        run_study(judge, folder / "hostile.moss", results, content, f"changed: {content[:200]!r}")
        yield


def run_study(judge: Judge, path: Path, results: Path, content: bytes, name: str) -> None:
    """Run one study into a folder, and clear it."""
    path.write_bytes(content)
    judge.case(["run", str(path), "-o", str(results)], name)
    for left in results.glob("*"):
        if left.name.startswith(".moss-"):
            judge.tally.fault("wrong", f"{name}: {left.name} is left")
        left.unlink()

"""Learned classes of points as JSON: numbers and words alone, held against what they must be before anything
is made of them.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from moss_step import __version__
from moss_step.formats.whole import check_readable, read_text, write_text
from moss_step.model.cloud import PointClass
from moss_step.model.errors import MossError
from moss_step.model.point_model import PointModel
from moss_step.model.typed import is_text, one_line

MARK, VERSION = "moss-step point classes", 1
_LARGEST = 200_000_000
"""Bytes of the largest file that is read."""
_MOST_MEASURES, _MOST_CLASSES = 500, 256
_FOREST = {
    "measure": np.int32, "bound": np.float32, "below": np.int32, "above": np.int32, "share": np.float32,
    "roots": np.int32,
}  # fmt: skip
_GAUSSIAN = {"mean": np.float64, "inverse": np.float64, "constant": np.float64}
_EITHER = {"weight": np.float64, "low": np.float32, "high": np.float32}
_FURTHEST = 3e38
"""What stands for no bound: JSON has no infinity."""

Line = Annotated[str, Field(max_length=200)]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


class _Class(_Strict):
    code: Annotated[int, Field(ge=0, le=255)]
    name: Annotated[str, Field(min_length=1, max_length=80)]
    color: Annotated[str, Field(pattern=r"^#[0-9A-Fa-f]{6}$")]


class _Array(_Strict):
    shape: Annotated[list[Annotated[int, Field(ge=0, le=100_000_000)]], Field(min_length=1, max_length=3)]
    values: list[float | int]


class _Written(_Strict):
    """A file as it must be."""

    format: Literal["moss-step point classes"]
    version: int
    program: Line = ""
    name: Annotated[str, Field(min_length=1, max_length=80)]
    method: Literal["forest", "gaussian"]
    classes: Annotated[list[_Class], Field(min_length=2, max_length=_MOST_CLASSES)]
    measures: Annotated[list[Line], Field(min_length=1, max_length=_MOST_MEASURES)]
    radii: Annotated[list[Annotated[float, Field(gt=0, le=1000)]], Field(max_length=20)]
    arrays: dict[Line, _Array]
    about: dict[Line, Any] = {}


def write_model(path: Path, model: PointModel) -> None:
    """Write what was learned: whole or not at all."""
    about: Mapping[str, Any] = {
        "format": MARK,
        "version": VERSION,
        "program": f"Moss Step {__version__}",
        "name": model.name,
        "method": model.method,
        "classes": [{"code": c.code, "name": c.name, "color": c.color} for c in model.classes],
        "measures": list(model.measures),
        "radii": [float(r) for r in model.radii],
        "about": dict(model.about),
        "arrays": {n: _plain(a) for n, a in model.arrays.items()},
    }
    write_text(path, json.dumps(about, allow_nan=False) + "\n")


def _plain(array: np.ndarray) -> dict[str, Any]:
    flat = array.reshape(-1)
    if flat.dtype.kind == "f":
        flat = np.clip(flat, -_FURTHEST, _FURTHEST)
    # A number of single precision is written with the digits that give it back.
    values = [float(str(v)) for v in flat] if flat.dtype == np.float32 else flat.tolist()
    return {"shape": list(array.shape), "values": values}


def read_model(path: Path) -> PointModel:
    """Read what was learned.

    Raises MossError for files that are none of ours, of a newer version, damaged, or whose numbers do not fit
    together.
    """
    check_readable(path)
    if path.stat().st_size > _LARGEST:
        raise MossError(f"{path} is too large for classes of points.", "Choose another file.")
    try:
        plain = json.loads(read_text(path))
    except (ValueError, RecursionError) as error:
        raise MossError(f"{path} is no file of classes of points.", "Choose another file.") from error
    if not isinstance(plain, dict) or plain.get("format") != MARK:
        raise MossError(f"{path} is no file of classes of points.", "Choose another file.")
    if isinstance(plain.get("version"), int) and plain["version"] > VERSION:
        raise MossError(f"{path} was written by a newer version.", "Bring this program up to date.")
    try:
        held = _Written.model_validate(plain)
        return _made(held)
    except ValidationError as error:
        where = ".".join(str(part) for part in error.errors()[0]["loc"][:3])
        raise MossError(f"{path} is damaged at {where or 'its head'}.", "Train the class again.") from error
    except _UnfitError as error:
        raise MossError(f"{path} is damaged: {error}.", "Train the class again.") from error


class _UnfitError(Exception):
    """Numbers that do not fit together."""


def _made(held: _Written) -> PointModel:
    wanted = {**(_FOREST if held.method == "forest" else _GAUSSIAN), **_EITHER}
    if held.arrays.keys() != wanted.keys():
        raise _UnfitError("arrays are missing")
    arrays = {n: _array(n, held.arrays[n], kind) for n, kind in wanted.items()}
    classes, wide = len(held.classes), len(held.measures)
    texts = [held.name, *(c.name for c in held.classes), *held.measures]
    if not all(is_text(t) and t == one_line(t) for t in texts):
        raise _UnfitError("a name cannot be shown")
    if len({c.code for c in held.classes}) != classes or len(set(held.measures)) != wide:
        raise _UnfitError("a class or a measure stands twice")
    shapes: dict[str, tuple[int, ...]] = {"weight": (wide,), "low": (wide,), "high": (wide,)}
    if held.method == "forest":
        _check_forest(arrays, wide, classes)
    else:
        shapes |= {"mean": (classes, wide), "inverse": (classes, wide, wide), "constant": (classes,)}
    for name, shape in shapes.items():
        if arrays[name].shape != shape:
            raise _UnfitError(f"{name} has another size than the measures")
    named = tuple(PointClass(c.code, c.name, c.color) for c in held.classes)
    return PointModel(
        held.name, held.method, named, tuple(held.measures), tuple(held.radii), arrays, held.about
    )


def _array(name: str, held: _Array, kind: type) -> np.ndarray:
    if int(np.prod(held.shape, dtype=np.int64)) != len(held.values):
        raise _UnfitError(f"{name} has {len(held.values):,} numbers for a shape of {held.shape}")
    values = np.array(held.values, np.float64)
    if issubclass(kind, np.integer) and not ((np.abs(values) < 2**31) & (values == np.floor(values))).all():
        raise _UnfitError(f"{name} has numbers that are not whole")
    values[values >= _FURTHEST], values[values <= -_FURTHEST] = np.inf, -np.inf
    return np.ascontiguousarray(values.reshape(held.shape).astype(kind))


def _check_forest(arrays: Mapping[str, np.ndarray], wide: int, classes: int) -> None:
    """Every way through the trees ends: nodes lead to later ones of the same forest alone."""
    nodes = arrays["measure"].size
    if any(arrays[n].shape != (nodes,) for n in ("measure", "bound", "below", "above")) or not nodes:
        raise _UnfitError("the nodes of the trees are not all there")
    if arrays["share"].shape != (nodes, classes) or arrays["roots"].ndim != 1 or not arrays["roots"].size:
        raise _UnfitError("the trees have another number of classes")
    measure, inner = arrays["measure"], arrays["measure"] >= 0
    if (measure < -1).any() or (measure >= wide).any():
        raise _UnfitError("a tree asks for a measure that is not named")
    if (arrays["roots"] < 0).any() or (arrays["roots"] >= nodes).any():
        raise _UnfitError("a tree begins at no node")
    here = np.arange(nodes)
    for name in ("below", "above"):
        if not ((arrays[name][inner] > here[inner]) & (arrays[name][inner] < nodes)).all():
            raise _UnfitError("a tree leads back to itself")

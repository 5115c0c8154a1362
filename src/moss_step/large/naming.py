"""Names that what is kept on the way lies under: what comes of something else has another one."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import shapely
from blake3 import blake3

from moss_step.large.held import OnDisk
from moss_step.model.outcome import Value
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import of_kind


def name_by(how: object, inputs: Mapping[str, OnDisk | Value]) -> str:
    """A short name of how something is worked out, as ``repr`` says it, and of what."""
    digest = blake3(repr(how).encode())
    for name, value in sorted(inputs.items()):
        digest.update(name.encode())
        if isinstance(value, OnDisk):
            digest.update(repr((value.source, value.base)).encode())
            continue
        shapes, surface = of_kind(value, Shapes), of_kind(value, Surface)
        if shapes is not None:
            _take_in(digest, shapes)
        elif surface is not None:
            digest.update(np.ascontiguousarray(surface.values).tobytes())
    return digest.hexdigest(length=8)


def _take_in(digest: blake3, shapes: Shapes) -> None:
    digest.update(repr((shapes.crs, dict(shapes.symbols))).encode())
    for geometry in shapely.to_wkb(shapes.geometry, include_srid=False):
        digest.update(geometry)
    for column, values in shapes.columns.items():
        digest.update(repr((column, values.tolist())).encode())

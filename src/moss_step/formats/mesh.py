"""Surfaces as meshes of triangles: PLY, OBJ and binary glTF 2.0 (Khronos), through a general library.

Coordinates are metres from the middle of the surface: east, up and south as glTF asks in ``.glb``; east,
north and up in the others. Where the middle lies is said in a text beside it.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from moss_step.formats.whole import in_words, whole_file, write_text
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface

ENDINGS = (".glb", ".ply", ".obj")
MOST_CELLS = 20_000_000
_FREE = "The disk may be full. Free some space, or choose another."


def mesh_of(surface: Surface) -> tuple[np.ndarray, np.ndarray, tuple[float, float, float]]:
    """Corners (n, 3) in metres from the middle, triangles (m, 3), and the middle in the surface's
    coordinates and metres of height. A cell's value stands at its middle; triangles with a missing corner
    are left out.
    """
    values = surface.values
    rows, cols = values.shape
    known = np.isfinite(values)
    number = np.full(values.shape, -1, np.int64)
    number[known] = np.arange(np.count_nonzero(known))
    widths, heights = surface.frame.row_widths, surface.frame.row_heights
    down = np.concatenate([[0.0], np.cumsum((heights[1:] + heights[:-1]) / 2)])
    r, c = np.nonzero(known)
    middle = (rows - 1) // 2
    z = values[r, c].astype(np.float64) * surface.metres_per_height
    base = float(np.floor(z.min())) if z.size else 0.0
    x, y = (c - (cols - 1) / 2.0) * widths[r], down[middle] - down[r]
    corners = np.column_stack([x, y, z - base])
    a, b, d, e = number[:-1, :-1], number[:-1, 1:], number[1:, :-1], number[1:, 1:]
    first = np.stack([a, d, b], axis=-1).reshape(-1, 3)
    second = np.stack([b, d, e], axis=-1).reshape(-1, 3)
    triangles = np.concatenate([first, second])
    place = surface.frame.x_of((cols - 1) / 2.0), surface.frame.y_of(middle), base
    return corners, triangles[(triangles >= 0).all(axis=1)], place


def write_mesh(
    path: Path,
    surface: Surface,
    name: str,
    progress: Progress | None = None,
    colors: np.ndarray | None = None,
) -> None:
    """Write a surface of heights as a mesh, whole or not at all, and beside it where its middle lies.

    ``colors`` are red, green and blue bytes of each cell, (rows, cols, 3).

    Raises MossError for a surface that is no heights, or too large.
    """
    import trimesh

    if surface.quantity != "elevation" and surface.unit.kind != "length":
        raise MossError("Only a surface of heights can be a mesh.", "Choose one, or use the ending .tif.")
    if surface.values.size > MOST_CELLS:
        raise MossError(
            f"A mesh of {surface.values.size:,} cells is too large.",
            f"Crop or resample it to {MOST_CELLS:,}.",
        )
    (progress or silent()).at(0.1, f"Writing {path.name}")
    corners, triangles, place = mesh_of(surface)
    ending = path.suffix.lower()
    if ending == ".glb":
        corners = np.column_stack([corners[:, 0], corners[:, 2], -corners[:, 1]])
    inked = None if colors is None else colors[np.isfinite(surface.values)]
    mesh = trimesh.Trimesh(corners, triangles, vertex_colors=inked, process=False)
    beside = path.with_name(f"{path.name}.place.txt")
    with (
        whole_file(path, lambda _: [beside] if beside.is_file() else []) as part,
        in_words(path, "written", _FREE),
    ):
        data = mesh.export(file_type=ending[1:])
        part.write_bytes(data.encode() if isinstance(data, str) else bytes(data))
    x, y, z = place
    write_text(
        beside,
        f"{name}\nMetres from a middle. It lies at x {x:.12g}, y {y:.12g}, height {z:.12g} m\n"
        f"Reference system: {surface.frame.system_name}\n",
    )

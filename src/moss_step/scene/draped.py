"""What a plan draws, as a colour for each cell of a ground: for meshes."""

from __future__ import annotations

import numpy as np

from moss_step.model.frame import Frame
from moss_step.scene.camera import Camera
from moss_step.scene.layers import Scene, draw_grids


def colors_of_cells(scene: Scene, frame: Frame) -> np.ndarray:
    """Red, green and blue bytes of each cell of a frame, (rows, cols, 3), as its grids are drawn."""
    west, south, east, north = frame.box
    camera = Camera(
        (west + east) / 2, (south + north) / 2, 1.0 / frame.dx, frame.dx / frame.dy, frame.cols, frame.rows
    )
    pixels = draw_grids(scene, camera, 1.0)
    return np.stack([(pixels >> shift & 0xFF).astype(np.uint8) for shift in (16, 8, 0)], axis=-1)

"""What surfaces and class maps have in common."""

from __future__ import annotations

from typing import Any

from moss_step.model.frame import Frame, describe_box


def frame_text(frame: Frame) -> str:
    """Say where a grid lies, in a line."""
    width, height = frame.cell_metres
    return (
        f"{frame.rows} rows, {frame.cols} columns, cells {width:.6g} by {height:.6g} m, "
        f"{frame.system_name}, {describe_box(frame.box)}"
    )


def cells_of(value: Any) -> int:
    """Cells of a grid."""
    return int(value.frame.rows * value.frame.cols)


def extent_text(frame: Frame) -> str:
    """Width and height of a frame on the ground."""
    width, height = frame.cell_metres
    across, up = width * frame.cols, height * frame.rows
    unit, factor = ("km", 1000.0) if max(across, up) >= 1000 else ("m", 1.0)
    return f"{across / factor:.4g} × {up / factor:.4g} {unit}"

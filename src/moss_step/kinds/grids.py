"""What surfaces and class maps have in common."""

from __future__ import annotations

from typing import Any

from moss_step.model.frame import Frame, describe_box


def frame_text(frame: Frame) -> str:
    """Say where a grid lies, in a line."""
    width, height = frame.cell_metres
    return f"{frame.rows} rows, {frame.cols} columns, cells {width:.6g} by {height:.6g} m, {frame.system_name}, {describe_box(frame.box)}"


def cells_of(value: Any) -> int:
    """Cells of a grid."""
    return int(value.frame.rows * value.frame.cols)

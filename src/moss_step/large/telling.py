"""What is said of grids that stay on the disk."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from moss_step.formats.raster import INFINITE_TAKEN, KEPT_DOUBLE
from moss_step.kinds.grids import frame_text
from moss_step.kinds.registry import kind_of
from moss_step.large.held import OnDisk, value_of
from moss_step.large.look import Looked, Measured
from moss_step.large.passing import Passing
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.outcome import Value
from moss_step.model.surface import Surface
from moss_step.model.units import COUNT, METRE, Unit
from moss_step.science.grid_check import suspicions


def like(held: OnDisk | Passing) -> Value:
    """A value of a single cell such as a grid on the disk, or one that passes, is."""
    frame = replace(held.frame, rows=1, cols=1)
    return value_of(held.kind, held.about, np.full((1, 1), np.nan, held.dtype), frame)


def one_cell(frame: Frame, unit: Unit, quantity: str = "elevation") -> Surface:
    """A single cell of a result in single precision that lies in a frame."""
    return Surface(np.zeros((1, 1), np.float32), replace(frame, rows=1, cols=1), unit, quantity)


def described(held: OnDisk) -> str:
    """What a grid on the disk is, in a line."""
    value = like(held)
    text = kind_of(value).describe(value)
    return text.replace(frame_text(replace(held.frame, rows=1, cols=1)), frame_text(held.frame))


def opened(held: OnDisk, looked: Looked) -> tuple[tuple[Finding, ...], tuple[str, ...]]:
    """Findings and warnings of a source once all of it was looked at."""
    facts, (width, height) = held.source.facts, held.frame.cell_metres
    measured = Measured(held.frame, held.source.measured_in, held.quantity, looked.summary)
    remarks = (
        facts.assumed,
        INFINITE_TAKEN if looked.infinite else "",
        KEPT_DOUBLE if held.source.dtype == np.float64 else "",
        *suspicions(measured, facts.has_position, facts.unit_text),
    )
    findings = (
        *measured.findings,
        Finding("rows", held.frame.rows, COUNT),
        Finding("columns", held.frame.cols, COUNT),
        Finding("cell_width", width, METRE),
        Finding("cell_height", height, METRE),
    )
    return findings, tuple(r for r in remarks if r)

"""What is suspicious about a cloud before anything is made from it."""

from __future__ import annotations

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.frame import Box
from moss_step.model.units import METRE, UNKNOWN
from moss_step.science.points.cells import cells_of, counts

_MOST_PAIRED = 40_000_000
"""Points among which others in the same place are looked for: of more it would take too much memory."""
_FAR = 0.5
"""Units that a point may lie beyond the box that the head of its file states."""


def suspicions(cloud: Cloud, stated: Box | None = None) -> list[str]:
    """Say what an analyst should know before using a cloud.

    Parameters
    ----------
    cloud
        Points with their attributes.
    stated
        The box that the file's head states, in the cloud's system.

    Returns
    -------
    list[str]
        Sentences; none when nothing is suspicious.

    Examples
    --------
    >>> from moss_step.science.points.check import suspicions
    >>> from moss_step.science.sample import scattered
    >>> suspicions(scattered())
    []
    """
    said: list[str] = []
    if cloud.crs is None:
        said.append("No reference system is stated: distances are taken as metres until one is.")
    if cloud.unit == UNKNOWN:
        said.append("The unit of heights is not stated: metres are taken.")
    frame = cloud.frame
    if frame is not None and cloud.crs is not None and not frame.geographic:
        plan = frame.metres_per_unit
        if cloud.unit not in (UNKNOWN,) and (abs(plan - 1.0) < 1e-6) != (cloud.unit == METRE):
            said.append(f"Heights are in {cloud.unit.key.replace('_', ' ')}, and the plan is not.")
    if stated is not None and (beyond := _beyond(cloud, stated)):
        said.append(f"{beyond:,} points lie outside the box that the file's head states.")
    said += _about_attributes(cloud)
    if len(cloud) > _MOST_PAIRED:
        said.append(f"Points in the same place are not looked for among {len(cloud):,}.")
    if (twice := _twice(cloud)) > 0:
        said.append(f"Of {twice:,} points another one stands in the same place.")
    return said


def _beyond(cloud: Cloud, box: Box) -> int:
    xmin, ymin, xmax, ymax = box
    total = 0
    for part in cloud.chunks():
        total += int(
            np.count_nonzero(
                (part.x < xmin - _FAR)
                | (part.x > xmax + _FAR)
                | (part.y < ymin - _FAR)
                | (part.y > ymax + _FAR)
            )
        )
    return total


def _about_attributes(cloud: Cloud) -> list[str]:
    said, held = [], cloud.attributes
    codes = held.get("classification")
    if codes is not None and codes.size and int(codes.max()) <= 1:
        said.append("The classes were never set.")
    for name, words in (("withheld", "are marked as withheld"), ("overlap", "are marked as overlap")):
        if name in held and (count := int(np.count_nonzero(held[name]))):
            said.append(f"{count:,} points {words}.")
    number = held.get("return_number")
    if number is not None and (zero := int((number == 0).sum())):
        said.append(f"{zero:,} points have the return number 0, which no return has.")
    return said


def _twice(cloud: Cloud) -> int:
    """Points that share all three coordinates with an earlier one; looked for in cells that hold several."""
    frame = cloud.frame
    if frame is None:
        return len(cloud) - 1 if len(cloud) else 0
    if len(cloud) > _MOST_PAIRED:
        return 0
    numbers = cells_of(cloud, frame)
    crowded = counts(numbers, frame).reshape(-1) > 1
    some = np.flatnonzero(crowded[numbers])
    places = np.column_stack([cloud.x[some], cloud.y[some], cloud.z[some]])
    order = np.lexsort(places.T)
    placed = places[order]
    return int((placed[1:] == placed[:-1]).all(axis=1).sum())

"""Buildings, vegetation, wires and water found on grids: for surveys from the air."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from moss_step.model.cloud import BUILDING, HIGH_PLANTS, LOW_PLANTS, MEDIUM_PLANTS, UNASSIGNED, WIRE, Cloud
from moss_step.model.progress import Progress, silent
from moss_step.science.points.measures import FORMS, band_statistics, forms_of
from moss_step.science.points.segments import SegmentSet, areas_of, segments_of

_LEVEL, _POND, _FLAT = 2e-4, 200.0, 0.06
"""Verticality of what is level (about a degree), square metres of a water, metres that its points scatter."""


@dataclass(frozen=True)
class ObjectSet:
    """What both ways of sorting points share, in metres: spacing of the points; least area of a roof and
    height of its eaves; bounds of low and of medium vegetation, and the height from which on it is one; and
    height, and length, of a wire.
    """

    spacing: float = 0.6
    roof: float = 20.0
    eaves: float = 2.0
    low: float = 0.5
    medium: float = 2.0
    least: float = 0.15
    wire_height: float = 4.0
    wire_length: float = 15.0


def bands_of(above: np.ndarray, how: ObjectSet) -> np.ndarray:
    """Low, medium and high vegetation by the height above the ground.

    Parameters
    ----------
    above
        Metres (n).
    how
        Bounds: what lies at one belongs to the higher band.

    Returns
    -------
    np.ndarray
        Codes (uint8, n); unassigned below the least height, and where none is known.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.roofs import ObjectSet, bands_of
    >>> bands_of(np.array([0.1, 0.3, 0.5, 2.0]), ObjectSet()).tolist()
    [1, 3, 4, 5]
    """
    known = np.nan_to_num(above, nan=-1.0)
    return np.select(
        [known < how.least, known < how.low, known < how.medium],
        [UNASSIGNED, LOW_PLANTS, MEDIUM_PLANTS],
        HIGH_PLANTS,
    ).astype(np.uint8)


def objects_by_grid(
    flat: Cloud,
    above: np.ndarray,
    echoes: np.ndarray | None,
    how: ObjectSet,
    progress: Progress | None = None,
) -> np.ndarray:
    """Classes of the points that stand on the ground.

    Roofs are smooth segments (Rabbani, van den Heuvel & Vosselman 2006) of points above the eaves whose cells
    cover the least area and whose pulses hardly pass through; what lies close to them, above the eaves, is
    theirs. Wires are straight (Demantké et al. 2011) and long, with air below. The rest is vegetation by its
    height.

    Parameters
    ----------
    flat
        n points in metres, ground and noise left out.
    above
        Heights above the ground in metres (n).
    echoes
        Returns of the pulse of each point (n), or None where they are not known.
    how
        Bounds, in metres.
    progress
        Told how far it is.

    Returns
    -------
    np.ndarray
        Codes (uint8, n).

    Examples
    --------
    >>> import numpy as np
    >>> from dataclasses import replace
    >>> from moss_step.science.points.roofs import ObjectSet, objects_by_grid
    >>> from moss_step.science.sample import scattered
    >>> flat = scattered(20)
    >>> roof = replace(flat, z=np.full(400, 5.0))
    >>> codes = objects_by_grid(roof, roof.z, None, ObjectSet(spacing=1.0))
    >>> int((codes == 6).sum())
    400
    """
    progress = progress or silent()
    codes = bands_of(above, how)
    high = np.flatnonzero(np.nan_to_num(above, nan=-1.0) >= how.eaves)
    if not high.size:
        return codes
    progress.at(0.0, "Looking for wires")
    airy = high[above[high] >= how.wire_height]
    codes[airy[_wires(flat.part(airy), how)]] = WIRE
    high = high[codes[high] != WIRE]
    part, within = flat.part(high), 2.5 * how.spacing
    smooth = SegmentSet("smooth", within, angle=15.0, residual=0.12 + 0.02 * within, least=6)
    segments = segments_of(part, smooth, progress=progress.part(0.3, 0.8))
    own = _roofs(part, segments, None if echoes is None else echoes[high], how)[segments]
    progress.at(0.9, "Looking beside roofs")
    codes[high[_beside(part, own, within)]] = BUILDING
    return codes


def _roofs(part: Cloud, segments: np.ndarray, echoes: np.ndarray | None, how: ObjectSet) -> np.ndarray:
    """Which segments are roofs (by number, 0 for none)."""
    count = int(segments.max(initial=0))
    size = np.bincount(segments, minlength=count + 1)
    area = areas_of(part, segments, max(1.5 * how.spacing, 0.5))
    roofs = (area >= how.roof) & (size > 0)
    if echoes is not None:
        through = np.bincount(segments, weights=echoes > 1, minlength=count + 1) / np.maximum(size, 1)
        roofs &= through < 0.5
    found, near = forms_of(part, 2.5 * how.spacing)
    upright = near.back(found[:, FORMS.index("verticality")], len(part))
    lean = np.bincount(segments, weights=np.nan_to_num(upright), minlength=count + 1) / np.maximum(size, 1)
    roofs &= lean < 0.7
    roofs[0] = False
    return np.asarray(roofs)


def _beside(part: Cloud, own: np.ndarray, within: float) -> np.ndarray:
    """Roofs, and what lies within a reach of them: most of the points around belong to them."""
    if not own.any():
        return own
    share = next(iter(band_statistics(part, [within], {"own": own.astype(np.float64)}).values()))
    return np.asarray(own & (share > 0.3) | (share > 0.6))


def _wires(part: Cloud, how: ObjectSet) -> np.ndarray:
    """Straight and long, with hardly anything beside."""
    if len(part) < 3:
        return np.zeros(len(part), bool)
    within = max(10.0 * how.spacing, 6.0)
    found, near = forms_of(part, within)
    line, thick, upright = (
        near.back(found[:, FORMS.index(n)], len(part)) for n in ("linearity", "thickness", "height_deviation")
    )
    straight = np.flatnonzero((line > 0.85) & (thick < 0.05 * within) & (upright < 0.25 * within))
    result = np.zeros(len(part), bool)
    if not straight.size:
        return result
    some = part.part(straight)
    joined = segments_of(some, SegmentSet("distance", within, least=5))
    for number in range(1, int(joined.max()) + 1):
        mine = joined == number
        long = np.hypot(np.ptp(some.x[mine]), np.ptp(some.y[mine]))
        if long >= how.wire_length:
            result[straight[mine]] = True
    return result


def level_water(flat: Cloud, how: ObjectSet) -> np.ndarray:
    """Which points of the ground are water: level parts that hang together and cover much ground.

    Parameters
    ----------
    flat
        n points of the ground in metres.
    how
        Spacing of the points, in metres.

    Returns
    -------
    np.ndarray
        True for water (n).

    Examples
    --------
    >>> from moss_step.science.points.roofs import ObjectSet, level_water
    >>> from moss_step.science.sample import scattered
    >>> pond = scattered(20).part(slice(0, 20))
    >>> bool(level_water(pond, ObjectSet()).any())
    False
    """
    result = np.zeros(len(flat), bool)
    if len(flat) < 3:
        return result
    within = max(4.0 * how.spacing, 2.0)
    found, near = forms_of(flat, within)
    lean = near.back(found[:, FORMS.index("verticality")], len(flat))
    rows = np.flatnonzero(lean < _LEVEL)
    if not rows.size:
        return result
    part = flat.part(rows)
    joined = segments_of(part, SegmentSet("distance", within, least=20))
    areas = areas_of(part, joined, max(1.5 * how.spacing, 0.5))
    for number in np.flatnonzero(areas >= _POND):
        mine = joined == number
        if number and float(part.z[mine].std()) < _FLAT:
            result[rows[mine]] = True
    return result

"""Cross-sections of what is built along a line, its volumes between them, and what is hauled along it."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.science.earthwork.design import Ground, Path, Template

_FIRST_REACH, _MOST_REACH = 30.0, 2000.0
"""Metres beside the bed that are looked at, at first and at the most."""
_ACROSS = 24
"""Pieces of the bed's width, and steps a cell of the ground, in which areas are added up."""
_FINE = 4
_MOST = 20_000
"""Cross-sections at the most."""


@dataclass(frozen=True, eq=False)
class Sections:
    """Cross-sections (n): metres along the line, places (x, y), heights of ground and design on it in metres,
    square metres of cut and fill, and metres to the left (below 0) and right where the works end.

    ``offsets`` (m) are metres to the right; ``ground`` and ``design`` (n, m) are heights there, NaN beyond
    the works.
    """

    stations: np.ndarray
    x: np.ndarray
    y: np.ndarray
    bearings: np.ndarray
    cut: np.ndarray
    fill: np.ndarray
    left: np.ndarray
    right: np.ndarray
    offsets: np.ndarray
    ground: np.ndarray
    design: np.ndarray

    @property
    def middle(self) -> int:
        """Place of the line itself among the offsets."""
        return int(np.argmin(np.abs(self.offsets)))

    def ends(self, surface: Surface) -> tuple[np.ndarray, np.ndarray]:
        """Coordinates (n, 2) where the works end, left and right."""
        plane = Ground.of(surface.frame)
        at = plane.places(np.column_stack([self.x, self.y]))
        turn = np.radians(self.bearings)
        across = np.column_stack([np.cos(turn), -np.sin(turn)])
        left, right = (plane.coordinates(at + across * off[:, None]) for off in (self.left, self.right))
        return left, right


def sections_at(surface: Surface, path: Path, template: Template, stations: np.ndarray) -> Sections:
    """Cross-sections at right angles to a line.

    Parameters
    ----------
    surface
        Heights (rows, cols).
    path
        The line with its heights.
    template
        What is built beside it.
    stations
        Metres along the line (n), ascending.

    Returns
    -------
    Sections
        Areas of cut and fill: no part of a section whose ground is not known counts.

    Raises
    ------
    MossError
        For more than 20,000 sections.

    Source
    ------
    Cross-sections with side slopes to their catch points: Ghilani and Wolf, Elementary Surveying (common
    practice).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.sections import sections_at
    >>> from moss_step.science.earthwork.design import Path, Template
    >>> from moss_step.science.sample import ground
    >>> flat = ground([[0.0] * 30] * 30)
    >>> xmin, ymin, xmax, ymax = flat.frame.box
    >>> line = Path(np.array([[xmin + 20.0, ymin + 30.0], [xmax - 20.0, ymin + 30.0]]), np.array([1.0, 1.0]))
    >>> found = sections_at(flat, line, Template(half=3.0, fill=(2.0, 2.0)), np.array([5.0]))
    >>> round(float(found.fill[0]), 2)  # 6 m by 1 m, and two wedges of 2 m by 1 m
    8.0
    """
    if len(stations) > _MOST:
        raise MossError(f"{len(stations):,} cross-sections are too many.", "Set them farther apart.")
    reach = max(_FIRST_REACH, template.half)
    while True:
        found, cut_off = _within(surface, path, template, stations, reach)
        if not cut_off or reach >= _MOST_REACH:
            return found
        reach *= 2.0


def _within(
    surface: Surface, path: Path, template: Template, stations: np.ndarray, reach: float
) -> tuple[Sections, bool]:
    """Sections with slopes up to so many metres from the bed; and whether that cuts any off."""
    plane = Ground.of(surface.frame)
    at, heights, ways = _along(plane, path, stations)
    offsets, bed = _offsets(surface, template, reach)
    across = np.stack([ways[:, 1], -ways[:, 0]], axis=1)  # to the right
    places = at[:, None, :] + offsets[None, :, None] * across[:, None, :]
    ground = plane.heights(surface, places.reshape(-1, 2)).reshape(places.shape[:2])
    design, cut_off = _shaped(ground, offsets, bed, heights, template)
    off = ground - design
    cut, fill = (_area(np.where(np.isfinite(off), side, 0.0), offsets) for side in (
        np.maximum(off, 0.0), np.maximum(-off, 0.0)
    ))  # fmt: skip
    there = np.isfinite(off)
    wide = np.where(there, offsets, np.nan)
    with np.errstate(all="ignore"):
        left = np.where(there.any(axis=1), np.nanmin(np.where(there, wide, np.inf), axis=1), 0.0)
        right = np.where(there.any(axis=1), np.nanmax(np.where(there, wide, -np.inf), axis=1), 0.0)
    centre = plane.coordinates(at)
    bearings = np.degrees(np.arctan2(ways[:, 0], ways[:, 1])) % 360.0
    held = Sections(
        stations, centre[:, 0], centre[:, 1], bearings, cut, fill, left, right, offsets, ground, design
    )
    return held, cut_off


def _area(heights: np.ndarray, offsets: np.ndarray) -> np.ndarray:
    return np.asarray(((heights[:, 1:] + heights[:, :-1]) * 0.5 * np.diff(offsets)).sum(axis=1))


def _along(plane: Ground, path: Path, stations: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places in metres (n, 2), heights (n) and ways ahead (n, 2) at some metres along a line; at its corners
    the way halves the turn.
    """
    places = plane.places(path.xy)
    steps = np.diff(places, axis=0)
    lengths = np.hypot(steps[:, 0], steps[:, 1])
    kept = lengths > 0
    steps, lengths = steps[kept], lengths[kept]
    places, z = np.concatenate([places[:1], places[1:][kept]]), np.concatenate([path.z[:1], path.z[1:][kept]])
    along = np.concatenate([[0.0], np.cumsum(lengths)])
    at = np.column_stack([np.interp(stations, along, places[:, k]) for k in (0, 1)])
    ahead = steps / lengths[:, None]
    tiny = 1e-9 * along[-1]
    before = np.clip(np.searchsorted(along, stations - tiny, side="right") - 1, 0, len(lengths) - 1)
    after = np.clip(np.searchsorted(along, stations + tiny, side="right") - 1, 0, len(lengths) - 1)
    ways = ahead[before] + ahead[after]
    size = np.hypot(ways[:, 0], ways[:, 1])
    ways = np.where(size[:, None] > 1e-9, ways / np.maximum(size, 1e-9)[:, None], ahead[after])
    return at, np.interp(stations, along, z), ways


def _offsets(surface: Surface, template: Template, reach: float) -> tuple[np.ndarray, slice]:
    """Metres to the right at which a section is looked at, and which of them lie on the bed."""
    step = min(surface.frame.cell_metres) / _FINE
    count = max(2 * round(template.half / step), _ACROSS)
    bed = np.linspace(-template.half, template.half, count + 1)
    beside = template.half + step * np.arange(1, int(reach / step) + 2)
    return np.concatenate([-beside[::-1], bed, beside]), slice(len(beside), len(beside) + count + 1)


def _shaped(
    ground: np.ndarray, offsets: np.ndarray, bed: slice, heights: np.ndarray, template: Template
) -> tuple[np.ndarray, bool]:
    """Heights of the design (n, m), NaN beyond it; and whether a slope runs on beyond the last offset."""
    design = np.full(ground.shape, np.nan)
    own = offsets[bed]
    falls = np.where(own < 0, template.falls[0], template.falls[1]) * np.abs(own)
    flat = heights[:, None] + falls
    design[:, bed] = np.where(ground[:, bed] < flat, flat, np.nan) if template.only_fill else flat
    cut_off = False
    for side, edge, outward in (
        (0, bed.start, slice(bed.start - 1, None, -1)), (1, bed.stop - 1, slice(bed.stop, None)),
    ):  # fmt: skip
        top = heights + template.falls[side] * template.half
        start = ground[:, edge]
        cut = start > top
        rise = np.where(cut, 1.0 / template.cut[side], -1.0 / template.fill[side])
        beyond = np.abs(offsets[outward]) - template.half
        slope, over = top[:, None] + rise[:, None] * beyond, ground[:, outward]
        with np.errstate(invalid="ignore"):
            runs = np.where(cut[:, None], over > slope, over < slope)
        runs &= (start != top)[:, None] & np.isfinite(start)[:, None]
        if template.only_fill:
            runs &= ~cut[:, None]
        runs = np.logical_and.accumulate(runs, axis=1)
        design[:, outward] = np.where(runs, slope, np.nan)
        cut_off |= bool(runs[:, -1].any())
    return design, cut_off


def average_end_area(stations: np.ndarray, areas: np.ndarray) -> np.ndarray:
    """Volumes between cross-sections, each with the mean of the areas at both ends.

    Parameters
    ----------
    stations
        Metres along the line (n).
    areas
        Square metres (n).

    Returns
    -------
    np.ndarray
        Cubic metres (n - 1).

    Raises
    ------
    ValueError
        For arrays of several lengths.

    Source
    ------
    Ghilani and Wolf, Elementary Surveying, volumes.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.sections import average_end_area
    >>> average_end_area(np.array([0.0, 10.0]), np.array([2.0, 4.0])).tolist()
    [30.0]
    """
    return np.asarray(np.diff(stations) * (areas[1:] + areas[:-1]) / 2.0)


def prismoidal(stations: np.ndarray, areas: np.ndarray, middles: np.ndarray) -> np.ndarray:
    """Volumes between cross-sections by the prismoidal formula.

    Parameters
    ----------
    stations
        Metres along the line (n).
    areas
        Square metres (n).
    middles
        Areas half-way between (n - 1).

    Returns
    -------
    np.ndarray
        Cubic metres (n - 1): exact for prismoids, such as wedges and pyramids.

    Raises
    ------
    ValueError
        For arrays of lengths that do not fit.

    Source
    ------
    Ghilani and Wolf, Elementary Surveying, volumes: L (A1 + 4 Am + A2) / 6.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.sections import prismoidal
    >>> prismoidal(np.array([0.0, 9.0]), np.array([0.0, 4.0]), np.array([1.0])).tolist()  # a pyramid
    [12.0]
    """
    return np.asarray(np.diff(stations) * (areas[1:] + 4.0 * middles + areas[:-1]) / 6.0)


@dataclass(frozen=True, eq=False)
class Haul:
    """What is hauled along a line: cubic metres of cut, once compacted, less fill, added up from its start
    (n); cubic metres that are hauled, and the mean way in metres; and the stations where nothing is left
    over.
    """

    mass: np.ndarray
    hauled: float
    mean_way: float
    even: np.ndarray


def haul_along(stations: np.ndarray, cut: np.ndarray, fill: np.ndarray, factor: float = 1.0) -> Haul:
    """The mass-haul curve of a line.

    Parameters
    ----------
    stations
        Metres along the line (n).
    cut
        Cubic metres between stations (n - 1).
    fill
        Cubic metres between stations (n - 1).
    factor
        Volume of fill from a cubic metre of cut.

    Returns
    -------
    Haul
        The curve over the stations. What lies between it and zero is moved along the line; what is left over
        at the end goes elsewhere, and is not hauled.

    Raises
    ------
    ValueError
        For arrays of lengths that do not fit.

    Source
    ------
    Mass-haul diagram: common practice.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.sections import haul_along
    >>> found = haul_along(np.array([0.0, 10.0, 20.0]), np.array([5.0, 0.0]), np.array([0.0, 5.0]))
    >>> found.mass.tolist(), found.hauled, found.mean_way
    ([0.0, 5.0, 0.0], 5.0, 10.0)
    """
    mass = np.concatenate([[0.0], np.cumsum(cut * factor - fill)])
    moment, even = 0.0, [0.0]
    for (s0, m0), (s1, m1) in itertools.pairwise(zip(stations, mass, strict=True)):
        if m0 * m1 < 0.0:
            share = m0 / (m0 - m1)
            even.append(float(s0 + share * (s1 - s0)))
            moment += (abs(m0) * share + abs(m1) * (1.0 - share)) * (s1 - s0) / 2.0
        else:
            moment += (abs(m0) + abs(m1)) * (s1 - s0) / 2.0
            if m1 == 0.0 and m0 != 0.0:
                even.append(float(s1))
    last = int(np.searchsorted(stations, even[-1], side="right")) - 1
    # Beyond the last even place what is left over is not brought back.
    moment -= _moment(stations[last:], mass[last:], even[-1])
    hauled = sum(_most(stations, mass, a, b) for a, b in itertools.pairwise(even))
    return Haul(mass, hauled, float(moment) / hauled if hauled > 0 else 0.0, np.array(even))


def _moment(stations: np.ndarray, mass: np.ndarray, start: float) -> float:
    """Area under a curve from a place where it is zero on."""
    if len(stations) < 2:
        return 0.0
    s, m = np.concatenate([[start], stations[1:]]), np.concatenate([[0.0], np.abs(mass[1:])])
    return float((np.diff(s) * (m[1:] + m[:-1]) / 2.0).sum())


def _most(stations: np.ndarray, mass: np.ndarray, start: float, end: float) -> float:
    """The greatest mass between two places where it is zero: what is hauled there."""
    between = np.abs(mass[(stations > start) & (stations < end)])
    return float(between.max()) if between.size else 0.0

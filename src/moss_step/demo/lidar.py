"""A lidar survey of a part of Harrow Moss, made by code from one seed; each point's true class is kept
beside.

Two flight lines with overlap and scan angle; up to five returns through birch and pine; two barns with
pitched roofs; dry-stone walls; a tarn without returns; a few birds, and echoes that came late.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.surface import Surface
from moss_step.science.relief.profile import values_at

SIDE = 320.0
WEST, SOUTH = 412_880.0, 5_870_480.0
"""Metres on a side of the survey, and its lower left corner."""
WALL = 64
"""Code of the survey's own for dry-stone walls."""
_ALTITUDE, _PULSES, _NOISE = 800.0, 2.2, 0.03
_BARNS = ((70.0, 60.0, 24.0, 12.0, 4.0, 2.5, 0.4), (110.0, 95.0, 14.0, 9.0, 3.2, 2.0, 1.1))
"""Place, length, width, height of the eaves, rise of the roof, and turn of each barn."""
_WALLS = (((10.0, 150.0), (150.0, 165.0), (210.0, 120.0), (310.0, 140.0)), ((150.0, 165.0), (140.0, 300.0)))
_SCAR, _DEBRIS = (283.0, 84.0, 15.0, 9.0, 1.8), (292.0, 62.0, 17.0, 11.0, 1.3)
"""Where the bank slipped in spring, and where it came to lie: middle, half axes down and across the slope,
and greatest depth; both are caps of paraboloids.
"""
_FALL_LINE = np.radians(158.0)
_WOOD, TARN = (230.0, 235.0, 70.0), (60.0, 250.0, 28.0, 18.0)
"""Middle and radius of the wood; middle and half axes of the tarn."""


@dataclass(frozen=True)
class Tree:
    """A tree: place, height above the ground and radius of its crown, in metres."""

    x: float
    y: float
    height: float
    crown: float


def trees(seed: int = 7) -> list[Tree]:
    """The trees of the survey, whose crowns lean into one another by a tenth at the most."""
    rng = np.random.default_rng(seed)
    x0, y0, radius = _WOOD
    result: list[Tree] = []
    stood = np.empty((3, 4000))
    for _ in range(4000):
        r, turn = radius * rng.random() ** 0.5, rng.random() * 2 * np.pi
        height = rng.uniform(6.0, 17.0)
        one = Tree(x0 + r * np.cos(turn), y0 + r * np.sin(turn), height, 0.9 + 0.13 * height)
        x, y, crown = stood[:, : len(result)]
        if (np.hypot(one.x - x, one.y - y) > (one.crown + crown) * 0.9).all():
            stood[:, len(result)] = one.x, one.y, one.crown
            result.append(one)
    return result


def before_slip(ground: Surface, west: float = WEST, south: float = SOUTH) -> Surface:
    """The ground before the bank slipped in spring: what slipped lies where it was, and the debris is gone.

    ``slip_volumes`` says how much both are.
    """
    frame = ground.frame
    rows, cols = np.mgrid[0 : frame.rows, 0 : frame.cols]
    u, v = frame.x0 + (cols + 0.5) * frame.dx - west, frame.y0 - (rows + 0.5) * frame.dy - south
    change = _cap(u, v, _SCAR) - _cap(u, v, _DEBRIS)
    return replace(ground, values=(ground.values + change).astype(ground.values.dtype))


def slip_volumes() -> tuple[float, float]:
    """Cubic metres that slipped away, and that came to lie below: half of base and height of each cap."""
    away, below = (float(np.pi / 2.0 * a * b * deep) for _, _, a, b, deep in (_SCAR, _DEBRIS))
    return away, below


def _cap(u: np.ndarray, v: np.ndarray, of: tuple[float, float, float, float, float]) -> np.ndarray:
    """Metres of a cap of a paraboloid over places, its long axis down the slope."""
    x, y, along, across, deep = of
    down = (u - x) * np.sin(_FALL_LINE) + (v - y) * np.cos(_FALL_LINE)
    aside = (u - x) * np.cos(_FALL_LINE) - (v - y) * np.sin(_FALL_LINE)
    return np.asarray(deep * np.maximum(1.0 - (down / along) ** 2 - (aside / across) ** 2, 0.0))


def survey(
    ground: Surface, west: float = WEST, south: float = SOUTH, seed: int = 7, density: float = _PULSES
) -> Cloud:
    """Points of the survey, ``SIDE`` metres on a side from a corner; the attribute ``truth`` holds true
    classes.

    ``density`` is pulses for each square metre and flight line. The classes of the file itself were
    never set.
    """
    rng = np.random.default_rng(seed)
    parts = [_flight(ground, west, south, line, rng, density) for line in (1, 2)]
    parts.append(_strays(ground, west, south, rng))
    held = {n: np.concatenate([p[n] for p in parts]) for n in parts[0]}
    order = np.argsort(held["gps_time"], kind="stable")
    held = {n: v[order] for n, v in held.items()}
    x, y, z = (np.round(held.pop(n), 2) for n in "xyz")
    return Cloud(x, y, z, held, ground.frame.crs, ground.unit)


def _flight(
    ground: Surface, west: float, south: float, line: int, rng: np.random.Generator, density: float
) -> dict[str, np.ndarray]:
    """All returns of one flight line, which runs north over a part of the survey."""
    wide = 0.65 * SIDE
    start = 0.0 if line == 1 else SIDE - wide
    n = int(wide * SIDE * density)
    u, v = start + wide * rng.random(n), np.sort(SIDE * rng.random(n))
    angle = np.degrees(np.arctan((u - (start + wide / 2)) / _ALTITUDE))
    floor = values_at(ground, west + u, south + v).astype(np.float64)
    kept = np.isfinite(floor) & ~_in_tarn(u, v)
    u, v, floor, angle = u[kept], v[kept], floor[kept], angle[kept]
    top, code = _standing(u, v)
    number, of, above, truth, pulse = _returns(top, code, rng)
    strength = (
        np.select([truth == 2, truth == 6, truth == WALL, truth >= 3], [160.0, 230.0, 205.0, 95.0], 120.0)
        / of[:]
    )
    count = len(pulse)
    return {
        "x": west + u[pulse] + rng.normal(0.0, 0.02, count),
        "y": south + v[pulse] + rng.normal(0.0, 0.02, count),
        "z": floor[pulse] + above + rng.normal(0.0, _NOISE, count),
        "intensity": np.clip(strength * rng.normal(1.0, 0.12, count) * 100, 0, 65535).astype(np.uint16),
        "return_number": number.astype(np.uint8),
        "number_of_returns": of.astype(np.uint8),
        "classification": np.ones(count, np.uint8),
        "scan_angle": np.round(angle[pulse] / 0.006).astype(np.int16),
        "point_source_id": np.full(count, line, np.uint16),
        "gps_time": 1000.0 * line + v[pulse] / 60.0 + pulse * 1e-7 + number * 1e-9,
        "truth": truth.astype(np.uint8),
    }


def _in_tarn(u: np.ndarray, v: np.ndarray) -> np.ndarray:
    x, y, a, b = TARN
    return np.asarray(((u - x) / a) ** 2 + ((v - y) / b) ** 2 < 1.0)


def _standing(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Height above the ground of what a pulse meets first, and its class; ``v`` ascends."""
    top, code = np.zeros(len(u)), np.full(len(u), 2)
    for tree in trees():
        near = slice(*np.searchsorted(v, (tree.y - tree.crown, tree.y + tree.crown)))
        off = np.hypot(u[near] - tree.x, v[near] - tree.y) / tree.crown
        crown = tree.height * (1.0 - 0.45 * off**2)
        higher = (off < 1.0) & (crown > top[near])
        top[near][higher], code[near][higher] = crown[higher], 5
    for wall in _WALLS:
        for (ax, ay), (bx, by) in itertools.pairwise(wall):
            along = np.clip(
                ((u - ax) * (bx - ax) + (v - ay) * (by - ay)) / ((bx - ax) ** 2 + (by - ay) ** 2), 0, 1
            )
            off = np.hypot(u - ax - along * (bx - ax), v - ay - along * (by - ay))
            top[off < 0.4], code[off < 0.4] = 1.2, WALL
    for x, y, length, width, eaves, rise, turn in _BARNS:
        s = (u - x) * np.cos(turn) + (v - y) * np.sin(turn)
        t = -(u - x) * np.sin(turn) + (v - y) * np.cos(turn)
        roof = (np.abs(s) < length / 2) & (np.abs(t) < width / 2)
        top[roof], code[roof] = (eaves + rise * (1.0 - np.abs(t) / (width / 2)))[roof], 6
    return top, code


def _returns(
    top: np.ndarray, code: np.ndarray, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Number, count, height above the ground, true class and pulse of each return."""
    n = len(top)
    through = code == 5
    heath = (code == 2) & (rng.random(n) < 0.04)
    inner = np.where(through, rng.integers(0, 3, n), 0)
    reached = np.where(through, rng.random(n) < 0.55, True)
    of = np.where(through, 1 + inner + reached, 1)
    pulse = np.repeat(np.arange(n), of)
    number = np.arange(len(pulse)) - np.repeat(np.cumsum(of) - of, of) + 1
    last = number == of[pulse]
    share = np.where(number == 1, 1.0, rng.uniform(0.25, 0.95, len(pulse)) / np.maximum(number - 0.5, 1.0))
    above = top[pulse] * share
    on_ground = through[pulse] & last & reached[pulse]
    above[on_ground] = 0.0
    low = heath[pulse]
    above[low] = rng.uniform(0.2, 0.7, int(low.sum()))
    truth = code[pulse].copy()
    truth[on_ground] = 2
    green = (through[pulse] & ~on_ground) | low
    truth[green] = np.select([above[green] < 0.5, above[green] < 2.0], [3, 4], 5)
    return number, of[pulse], above, truth, pulse


def _strays(ground: Surface, west: float, south: float, rng: np.random.Generator) -> dict[str, np.ndarray]:
    """Birds, and echoes that came late."""
    n_birds, n_late = 14, 18
    n = n_birds + n_late
    u, v = rng.uniform(5, SIDE - 5, n), rng.uniform(5, SIDE - 5, n)
    off = np.concatenate([rng.uniform(25.0, 70.0, n_birds), rng.uniform(-14.0, -3.0, n_late)])
    floor = values_at(ground, west + u, south + v).astype(np.float64)
    return {
        "x": west + u, "y": south + v, "z": floor + off, "intensity": np.full(n, 900, np.uint16),
        "return_number": np.ones(n, np.uint8), "number_of_returns": np.ones(n, np.uint8),
        "classification": np.ones(n, np.uint8), "scan_angle": np.zeros(n, np.int16),
        "point_source_id": np.ones(n, np.uint16), "gps_time": 1000.0 + v / 60.0,
        "truth": np.where(off > 0, 18, 7).astype(np.uint8),
    }  # fmt: skip

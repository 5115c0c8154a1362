"""Simulated scenes that the shipped classes of points are learned from: farmsteads with trees, hedges, walls,
vehicles and lines of wire on rough ground, as an aeroplane or a drone sees them. None of them is Harrow Moss.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from moss_step.model.cloud import (
    BUILDING,
    GROUND,
    HIGH_PLANTS,
    LOW_PLANTS,
    MEDIUM_PLANTS,
    UNASSIGNED,
    WIRE,
    Cloud,
)
from moss_step.model.units import METRE

View = Literal["air", "drone"]
SIDE = 120.0
"""Metres on a side of a scene."""
_NOISE = {"air": 0.03, "drone": 0.02}
_UNDER = 0.55
"""Share of the pulses through leaves that reach the ground."""


@dataclass(frozen=True, eq=False)
class Hits:
    """What pulses meet first: height above the ground, class, and depth of leaves below."""

    top: np.ndarray
    code: np.ndarray
    leaves: np.ndarray

    def raised(self, where: np.ndarray, top: np.ndarray, code: int, leaves: np.ndarray | float = 0.0) -> None:
        """Put something where it stands above what was met so far."""
        higher = where & (top > self.top)
        self.top[higher], self.code[higher] = top[higher], code
        self.leaves[higher] = np.broadcast_to(leaves, top.shape)[higher]


def scene(seed: int, density: float, view: View = "air") -> Cloud:
    """Points of a scene; the attribute ``truth`` holds true classes.

    ``density`` is pulses, or matched places, for each square metre. A drone's picture has walls of houses and
    the outside of crowns, and no returns.
    """
    rng = np.random.default_rng(seed)
    n = int(SIDE * SIDE * density)
    u, v = SIDE * rng.random(n), SIDE * rng.random(n)
    hits = Hits(np.zeros(n), np.full(n, GROUND), np.zeros(n))
    _grow(hits, u, v, rng)
    _build(hits, u, v, rng)
    held = _returned(hits, u, v, rng) if view == "air" else _matched(hits, u, v, rng)
    parts = [held, _wires(rng, density, view)]
    if view == "drone":
        parts.append(_sides(hits, u, v, rng))
    u, v, above, truth, number, of = (np.concatenate([p[k] for p in parts]) for k in range(6))
    green = (truth >= LOW_PLANTS) & (truth <= HIGH_PLANTS)
    truth[green] = np.select(
        [above[green] < 0.5, above[green] < 2.0], [LOW_PLANTS, MEDIUM_PLANTS], HIGH_PLANTS
    )
    noise = _NOISE[view]
    z = _floor(u, v, seed) + above + rng.normal(0.0, noise, len(u))
    attributes = {"truth": truth.astype(np.uint8)}
    if view == "air":
        attributes |= {"return_number": number.astype(np.uint8), "number_of_returns": of.astype(np.uint8)}
    x, y = (w + rng.normal(0.0, noise / 2.0, len(w)) for w in (u, v))
    return Cloud(x, y, z, attributes, "EPSG:32628", METRE)


def _floor(u: np.ndarray, v: np.ndarray, seed: int) -> np.ndarray:
    """Ground of gentle waves, steeper from scene to scene."""
    lean = 0.03 * (seed % 6)
    return np.asarray(
        200.0
        + lean * u
        + 3.0 * np.sin(u / 31.0 + seed) * np.cos(v / 23.0)
        + 0.25 * np.sin(u / 3.7) * np.sin(v / 4.1)
    )


def _grow(hits: Hits, u: np.ndarray, v: np.ndarray, rng: np.random.Generator) -> None:
    """Heath, bushes, a hedge and trees."""
    tufts = rng.random(len(u)) < 0.05
    hits.raised(tufts, rng.uniform(0.15, 0.7, len(u)), LOW_PLANTS, 0.1)
    for _ in range(25):
        x, y, height, wide = *(SIDE * rng.random(2)), rng.uniform(0.6, 1.9), rng.uniform(0.6, 2.0)
        off = np.hypot(u - x, v - y) / wide
        hits.raised(off < 1.0, height * (1.0 - 0.5 * off**2), MEDIUM_PLANTS, height * 0.7)
    y, height = SIDE * rng.random(), rng.uniform(1.2, 2.5)
    hedge = (np.abs(v - y - 6.0 * np.sin(u / 17.0)) < 0.8) & (u < 70.0)
    hits.raised(hedge, height * rng.uniform(0.8, 1.0, len(u)), HIGH_PLANTS, height * 0.6)
    for _ in range(70):
        x, y, height = *(SIDE * rng.random(2)), rng.uniform(3.0, 20.0)
        wide = (0.10 + 0.08 * rng.random()) * height + 0.8
        off = np.hypot(u - x, v - y) / wide
        pointed = rng.random() < 0.4
        crown = height * (1.0 - (0.75 * off if pointed else 0.4 * off**2))
        crown = crown * (1.0 - 0.08 * rng.random(len(u)))
        hits.raised(off < 1.0, crown, HIGH_PLANTS, height * 0.65)


def _build(hits: Hits, u: np.ndarray, v: np.ndarray, rng: np.random.Generator) -> None:
    """Houses and barns of several roofs, a wall, and vehicles."""
    for k in range(7):
        x, y, turn = *(10.0 + (SIDE - 20.0) * rng.random(2)), np.pi * rng.random()
        length, width = rng.uniform(6.0, 30.0), rng.uniform(5.0, 14.0)
        eaves, rise = rng.uniform(2.4, 9.0), rng.uniform(1.0, 4.5)
        s = (u - x) * np.cos(turn) + (v - y) * np.sin(turn)
        t = -(u - x) * np.sin(turn) + (v - y) * np.cos(turn)
        inside = (np.abs(s) < length / 2) & (np.abs(t) < width / 2)
        gable = eaves + rise * (1.0 - np.abs(t) / (width / 2))
        hip = eaves + rise * np.minimum(1.0 - np.abs(t) / (width / 2), (length / 2 - np.abs(s)) / (width / 2))
        lean = eaves + rise * (0.5 + t / width)
        roof = (gable, hip, lean, np.full(len(u), eaves))[k % 4]
        hits.raised(inside, roof, BUILDING)
    y, x = SIDE * rng.random(2)
    hits.raised(np.abs(v - y - 0.2 * u) < 0.35, np.full(len(u), rng.uniform(0.9, 1.5)), UNASSIGNED)
    hits.raised(np.abs(u - x + 0.1 * v) < 0.35, np.full(len(u), rng.uniform(0.9, 1.5)), UNASSIGNED)
    for _ in range(5):
        x, y = SIDE * rng.random(2)
        inside = (np.abs(u - x) < 2.2) & (np.abs(v - y) < 0.9)
        hits.raised(inside, np.where(np.abs(u - x - 0.3) < 1.2, 1.45, 0.9), UNASSIGNED)


Found = tuple[np.ndarray, ...]


def _returned(hits: Hits, u: np.ndarray, v: np.ndarray, rng: np.random.Generator) -> Found:
    """Returns of an aeroplane's pulses: several through leaves."""
    n = len(u)
    leafy = hits.leaves > 0.0
    inner = np.where(leafy & (hits.leaves > 1.0), rng.integers(0, 3, n), 0)
    reached = leafy & (rng.random(n) < _UNDER)
    of = np.where(leafy, 1 + inner + reached, 1)
    pulse = np.repeat(np.arange(n), of)
    number = np.arange(len(pulse)) - np.repeat(np.cumsum(of) - of, of) + 1
    deeper = np.where(number > 1, rng.random(len(pulse)), 0.0)
    above = hits.top[pulse] - deeper * hits.leaves[pulse]
    truth = hits.code[pulse].copy()
    last = (number == of[pulse]) & reached[pulse]
    above[last], truth[last] = 0.0, GROUND
    return u[pulse], v[pulse], above, truth, number, of[pulse]


def _matched(hits: Hits, u: np.ndarray, v: np.ndarray, rng: np.random.Generator) -> Found:
    """Places matched between pictures: the outside of things, rough on leaves."""
    leafy = hits.leaves > 0.0
    above = hits.top - np.where(leafy, rng.random(len(u)) ** 2 * 0.25 * hits.leaves, 0.0)
    one = np.ones(len(u))
    return u, v, above, hits.code, one, one


def _sides(hits: Hits, u: np.ndarray, v: np.ndarray, rng: np.random.Generator) -> Found:
    """Walls of houses and sides of crowns: below the places that lie highest beside lower ones."""
    from scipy.spatial import cKDTree  # loaded where it is used: it takes a while

    some = rng.permutation(len(u))[: len(u) // 3]
    _, near = cKDTree(np.column_stack([u, v])).query(np.column_stack([u, v])[some], 8)
    lowest = hits.top[near].min(axis=1)
    edge = hits.top[some] - lowest > 1.0
    rows, low = some[edge], lowest[edge]
    again = np.repeat(np.arange(len(rows)), 4)
    share = rng.random(len(again))
    above = low[again] + share * (hits.top[rows][again] - low[again])
    truth, one = hits.code[rows][again], np.ones(len(again))
    return u[rows][again], v[rows][again], above, truth, one, one


def _wires(rng: np.random.Generator, density: float, view: View) -> Found:
    """Three wires over the scene, which sag between their poles."""
    parts = []
    y, lean, high = SIDE * rng.uniform(0.2, 0.8), rng.uniform(-0.3, 0.3), rng.uniform(8.0, 13.0)
    for k in range(3):
        count = rng.poisson(SIDE * (0.5 + 0.25 * density if view == "air" else 4.0))
        u = SIDE * rng.random(count)
        v = y + lean * (u - SIDE / 2.0) + 1.1 * k
        span = (u % 60.0) / 60.0
        parts.append((u, v, high - 6.0 * span * (1.0 - span)))
    u, v, above = (np.concatenate([p[k] for p in parts]) for k in range(3))
    kept = (v > 0.0) & (v < SIDE)
    one = np.ones(int(kept.sum()))
    return u[kept], v[kept], above[kept], np.full(len(one), WIRE), one, one + (view == "air")

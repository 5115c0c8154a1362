"""A boat that runs lines over the tarn of Harrow Moss, and what its receiver and echo sounder tell."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from moss_step.demo.lidar import TARN
from moss_step.demo.soundings import SYSTEM, depth_at, middle
from moss_step.formats.nmea import sentence
from moss_step.model.frame import carried

_KNOT = 1852.0 / 3600.0
_SPACING, _TURN = 3.0, 1.5
"""Metres between two lines, and from the shore that the boat keeps."""
_BEGIN = 9.0 * 3600.0
_WRONG = 40
"""One in so many sentences has a wrong checksum."""


@dataclass(frozen=True)
class Sounder:
    """How the boat runs and what its sounder does: soundings a second, metres a second, spread of the noise
    in metres, and the share of soundings that get no echo.
    """

    rate: float = 2.0
    speed: float = 1.2
    noise: float = 0.05
    dropouts: float = 0.03
    seed: int = 1

    def track(self) -> np.ndarray:
        """Places of the boat (n, 2) in metres, one for each sounding: line after line over the whole tarn."""
        cx, cy = middle()
        a, b = TARN[2] - _TURN, TARN[3] - _TURN
        corners = []
        for number, x in enumerate(np.arange(-a, a + 1e-9, _SPACING)):
            half = b * math.sqrt(max(1.0 - (x / a) ** 2, 0.0))
            ends = [(cx + x, cy - half), (cx + x, cy + half)]
            corners += ends if number % 2 == 0 else ends[::-1]
        path = np.array(corners)
        along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(path, axis=0).T))])
        at = np.arange(0.0, along[-1], self.speed / self.rate)
        return np.column_stack([np.interp(at, along, path[:, 0]), np.interp(at, along, path[:, 1])])

    def sentences(self) -> Iterator[list[str]]:
        """The sentences of each sounding; now and then one has a wrong checksum."""
        rng, track = np.random.default_rng(self.seed), self.track()
        lon, lat = carried(SYSTEM, "EPSG:4326", track[:, 0], track[:, 1])
        told = 0
        for k in range(len(track)):
            clock = _clock(_BEGIN + k / self.rate)
            before, after = track[max(k - 1, 0)], track[min(k + 1, len(track) - 1)]
            course = math.degrees(math.atan2(*(after - before))) % 360.0
            north, east = "N" if lat[k] >= 0 else "S", "E" if lon[k] >= 0 else "W"
            place = f"{_angle(lat[k], 2)},{north},{_angle(lon[k], 3)},{east}"
            knots = self.speed / _KNOT
            bodies = [f"GPGGA,{clock},{place},4,12,0.8,512.4,M,50.0,M,1.0,0001"]
            if k % max(round(self.rate), 1) == 0:
                bodies.append(f"GPRMC,{clock},A,{place},{knots:.2f},{course:.1f},271126,,,A")
                bodies.append(f"GPVTG,{course:.1f},T,,M,{knots:.2f},N,{self.speed * 3.6:.2f},K,A")
                bodies.append(f"GPZDA,{clock},27,11,2026,00,00")
            if rng.random() >= self.dropouts:
                deep = max(float(depth_at(*track[k])) + rng.normal(0.0, self.noise), 0.05)
                bodies.append(f"SDDPT,{deep:.2f},0.0,100.0")
                bodies.append(f"SDDBT,{deep / 0.3048:.1f},f,{deep:.2f},M,{deep / 1.8288:.1f},F")
            made = []
            for body in bodies:
                told += 1
                text = sentence(body)
                made.append(text if told % _WRONG else text.replace("*", "*0", 1)[: len(text) - 2] + "\r\n")
            yield made


def _clock(second: float) -> str:
    hours, rest = divmod(second, 3600.0)
    minutes, left = divmod(rest, 60.0)
    return f"{int(hours) % 24:02d}{int(minutes):02d}{left:05.2f}"


def _angle(value: float, width: int) -> str:
    whole = math.floor(abs(value))
    return f"{whole:0{width}d}{(abs(value) - whole) * 60.0:09.6f}"

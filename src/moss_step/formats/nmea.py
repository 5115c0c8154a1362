"""NMEA 0183: sentences of receivers and echo sounders, with their checksums, and soundings made of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

import numpy as np

from moss_step.formats.table import number

_LONGEST = 82
"""Characters of a sentence with its marks (NMEA 0183)."""
_FATHOM, _FOOT, _KNOT = 1.8288, 0.3048, 1852.0 / 3600.0
_DAY, _SET_BACK = 86_400.0, 2.0
"""Seconds of a day, and those by which a clock goes back when another begins: places told late go less."""
MOST_HELD = 4096
"""Bytes without an end of line that are kept: a device that floods takes no memory."""


@dataclass(frozen=True)
class Sentence:
    """One sentence: its talker and type, such as GPGGA, and its fields."""

    kind: str
    fields: tuple[str, ...]

    @property
    def type(self) -> str:
        """The last three letters: GGA, RMC, DPT, DBT, VTG, ZDA."""
        return self.kind[-3:]


def checksum(body: str) -> str:
    """The exclusive or of all characters between ``$`` and ``*``, as two hexadecimal digits."""
    total = 0
    for byte in body.encode("ascii", "replace"):
        total ^= byte
    return f"{total:02X}"


def sentence(body: str) -> str:
    """A body with its marks, checksum and end of line."""
    return f"${body}*{checksum(body)}\r\n"


def parsed(line: str) -> Sentence | None:
    """A sentence; None for what is none, or whose checksum is missing or wrong: it is never used."""
    line = line.strip()
    if not line.startswith("$") or len(line) > _LONGEST or not line.isascii():
        return None
    body, mark, said = line[1:].partition("*")
    if not mark or said.upper() != checksum(body):
        return None
    kind, *fields = body.split(",")
    return Sentence(kind, tuple(fields)) if len(kind) >= 5 and kind.isalnum() else None


@dataclass
class Lines:
    """Text that arrives in pieces, cut into whole lines; what has no end is dropped beyond a bound."""

    rest: bytes = b""

    def take(self, piece: bytes) -> Iterator[str]:
        """Give the lines that a further piece ends."""
        self.rest += piece
        *whole, self.rest = self.rest.replace(b"\r", b"\n").split(b"\n")
        if len(self.rest) > MOST_HELD:
            self.rest = b""
        for line in whole:
            if line.strip():
                yield line.decode("ascii", "replace")


def degrees(text: str, quarter: str) -> float:
    """Degrees of a coordinate as ``dddmm.mmmm`` and its quarter of the sky; NaN for what is none."""
    value = number(text)
    if not math.isfinite(value) or value < 0.0 or quarter not in ("N", "S", "E", "W"):
        return math.nan
    whole = math.floor(value / 100.0)
    minutes = value - 100.0 * whole
    result = whole + minutes / 60.0
    if minutes >= 60.0 or result > (90.0 if quarter in "NS" else 180.0):
        return math.nan
    return -result if quarter in ("S", "W") else result


def seconds(text: str) -> float:
    """Seconds of the day of a time as ``hhmmss.ss``; NaN for what is none."""
    value = number(text)
    if not math.isfinite(value) or value < 0.0:
        return math.nan
    hours, rest = divmod(value, 10_000.0)
    minutes, second = divmod(rest, 100.0)
    return (
        hours * 3600.0 + minutes * 60.0 + second if hours < 24 and minutes < 60 and second < 61 else math.nan
    )


@dataclass(frozen=True)
class Fix:
    """A place at a time: seconds since the first midnight, degrees, speed in m/s and course where told."""

    time: float
    lon: float
    lat: float
    speed: float = math.nan
    course: float = math.nan


@dataclass(frozen=True)
class Depth:
    """A depth below the transducer in metres, at the time of the last place before it."""

    time: float
    depth: float


@dataclass
class Sounded:
    """What sentences said so far: places, depths, and how many were of no use.

    A depth arrives after the place that it belongs to, or between two: ``soundings`` puts it where the boat
    was ``latency`` seconds before it was told.
    """

    fixes: list[Fix] = field(default_factory=list)
    depths: list[Depth] = field(default_factory=list)
    sentences: int = 0
    wrong: int = 0
    others: int = 0
    _midnight: float = 0.0
    _speed: float = math.nan
    _course: float = math.nan

    def take(self, line: str) -> Sentence | None:
        """Use a line; counts what is none, and gives the sentence that was used."""
        self.sentences += 1
        found = parsed(line)
        if found is None:
            self.wrong += 1
            return None
        uses: dict[str, Callable[[tuple[str, ...]], bool]] = {
            "GGA": self._gga, "RMC": self._rmc, "VTG": self._vtg, "DPT": self._dpt, "DBT": self._dbt,
        }  # fmt: skip
        use = uses.get(found.type)
        if use is None:
            self.others += 1
            return None
        if not use((*found.fields, *[""] * 14)):
            self.wrong += 1
            return None
        return found

    def _place(self, time: float, lon: float, lat: float) -> bool:
        if not all(map(math.isfinite, (time, lon, lat))):
            return False
        time += self._midnight
        if self.fixes and time < self.fixes[-1].time - _SET_BACK:  # past midnight, or started again
            self._midnight += _DAY
            time += _DAY
        if self.fixes and time <= self.fixes[-1].time:
            return True  # told by another sentence already
        self.fixes.append(Fix(time, lon, lat, self._speed, self._course))
        return True

    def _gga(self, f: tuple[str, ...]) -> bool:
        return f[5] not in ("", "0") and self._place(seconds(f[0]), degrees(f[3], f[4]), degrees(f[1], f[2]))

    def _rmc(self, f: tuple[str, ...]) -> bool:
        if f[1] != "A":
            return False
        self._speed, self._course = number(f[6]) * _KNOT, number(f[7])
        return self._place(seconds(f[0]), degrees(f[4], f[5]), degrees(f[2], f[3]))

    def _vtg(self, f: tuple[str, ...]) -> bool:
        self._course, self._speed = number(f[0]), number(f[4]) * _KNOT
        return True

    def _deep(self, depth: float) -> bool:
        if not math.isfinite(depth) or depth < 0.0 or not self.fixes:
            return math.isfinite(depth) and depth >= 0.0
        time = self.fixes[-1].time
        if not self.depths or self.depths[-1] != Depth(time, depth):  # DPT and DBT say the same twice
            self.depths.append(Depth(time, depth))
        return True

    def _dpt(self, f: tuple[str, ...]) -> bool:
        return self._deep(number(f[0]))

    def _dbt(self, f: tuple[str, ...]) -> bool:
        for text, unit in ((f[2], 1.0), (f[0], _FOOT), (f[4], _FATHOM)):
            value = number(text)
            if math.isfinite(value):
                return self._deep(value * unit)
        return False

    def soundings(self, latency: float = 0.0, offset: float = 0.0) -> dict[str, np.ndarray]:
        """Longitude, latitude, depth in metres and time in seconds of each depth (n each): the place is found
        between the two around it, ``offset`` metres are added to the depth.
        """
        if not self.fixes or not self.depths:
            return {n: np.empty(0) for n in ("lon", "lat", "depth", "time")}
        time = np.array([f.time for f in self.fixes])
        lon, lat = np.array([f.lon for f in self.fixes]), np.array([f.lat for f in self.fixes])
        when = np.array([d.time for d in self.depths]) - latency
        deep = np.array([d.depth for d in self.depths]) + offset
        known = (when >= time[0]) & (when <= time[-1])
        when, deep = when[known], deep[known]
        return {
            "lon": np.interp(when, time, np.unwrap(lon, period=360.0)), "lat": np.interp(when, time, lat),
            "depth": deep, "time": when,
        }  # fmt: skip


def heard(pieces: Iterable[bytes]) -> Sounded:
    """All that some pieces of a recording, or of what a device sends, say."""
    result, lines = Sounded(), Lines()
    for piece in pieces:
        for line in lines.take(piece):
            result.take(line)
    for line in lines.take(b"\n"):
        result.take(line)
    return result

"""Gather: what a receiver and an echo sounder told, from a recording."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np
import shapely

from moss_step.formats.listening import Way
from moss_step.formats.nmea import Sounded, heard
from moss_step.formats.whole import check_readable, in_words
from moss_step.model.errors import MossError
from moss_step.model.findings import ASIDE, MAIN, USUAL, Finding, declared
from moss_step.model.frame import carried, reference_system
from moss_step.model.memory import check_memory
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.units import COUNT, METRE
from moss_step.science.interpolate.table_check import far_from_rest, metric_system
from moss_step.steps.declare import Inputs, ResultSpec, Settings, StepKind, setting
from moss_step.steps.fields import title_of

_SOUNDINGS = declared("soundings", "Soundings", MAIN)
_SENTENCES = declared("sentences", "Sentences", ASIDE)
_WRONG = declared("wrong_sentences", "Wrong, and not used", USUAL)
_SPIKES = declared("spikes", "Spikes", USUAL)
_REPEATS = declared("repeats", "Told again in one place", ASIDE)
_BYTES_A_CHARACTER = 20
_AT_ONCE = 65_536


class RecordingSettings(Settings):
    """Settings of open_recording."""

    source: str = setting(..., "Recording", "Sentences of NMEA 0183 as text.", control="file")
    latency: float = setting(
        0.0,
        "Latency",
        "Seconds from a sounding to its sentence: the boat was farther back.",
        unit="s",
        ge=-60,
        le=60,
        more=True,
    )
    offset: float = setting(
        0.0, "Transducer below the water", "Added to each depth.", unit="m", ge=-100, le=100, more=True
    )
    water_level: float = setting(
        0.0, "Level of the water", "Height of the water: heights of the bed follow.", unit="m"
    )
    spikes: bool = setting(
        False, "Keep spikes", "Depths far from their neighbours stay, too; they are marked.", more=True
    )


class ListenSettings(Settings):
    """How a device is heard that tells while it runs."""

    way: Way = setting(
        "tcp", "Way", "`tcp`: the device is asked; `udp`: it sends to this machine; `file`: another program "
        "writes what it tells.",
    )  # fmt: skip
    host: str = setting("127.0.0.1", "Host", "Name or address of the device.", when={"way": ("tcp", "udp")})
    port: int = setting(
        10110, "Port", "10110 is the one that is kept for NMEA 0183.", ge=1, le=65535,
        when={"way": ("tcp", "udp")},
    )  # fmt: skip
    file: str = setting("", "File", "Text with sentences; what is added is read on.", control="file",
                        when={"way": ("file",)})  # fmt: skip
    spacing: float = setting(
        5.0, "Spacing of lines", "Metres from one line to the next: a sounding covers half of it.", unit="m",
        gt=0,
    )  # fmt: skip


def _open_recording(settings: RecordingSettings, inputs: Inputs, progress: Progress) -> Outcome:
    path = Path(settings.source)
    check_readable(path)
    check_memory(path.stat().st_size * _BYTES_A_CHARACTER, f"Reading {path.name}", "Read a part of it.")
    progress.at(0.0, "Reading sentences")
    with in_words(path, "read as sentences"), path.open("rb") as file:
        said = heard(iter(lambda: file.read(_AT_ONCE), b""))
    held = said.soundings(settings.latency, settings.offset)
    if not len(held["depth"]):
        raise MossError(
            f"{path} tells no depth with a place.",
            "It takes GGA or RMC with DPT or DBT, and right checksums.",
        )
    return _told(settings, said, held)


def told_again(x: np.ndarray, y: np.ndarray, depth: np.ndarray) -> np.ndarray:
    """Which soundings (n) say the same as the one before, in the same place."""
    again = np.zeros(len(x), bool)
    again[1:] = (np.diff(x) == 0) & (np.diff(y) == 0) & (np.diff(depth) == 0)
    return again


def _told(settings: RecordingSettings, said: Sounded, held: Mapping[str, np.ndarray]) -> Outcome:
    crs = metric_system(held["lon"], held["lat"])
    x, y = carried("EPSG:4326", crs, held["lon"], held["lat"])
    spike = far_from_rest(x, y, held["depth"])
    again = told_again(x, y, held["depth"])
    kept = ~again & (settings.spikes | ~spike)
    if not kept.any():
        raise MossError("No sounding is left.", "Keep spikes, too.")
    depth = held["depth"][kept]
    columns = {
        "depth": depth, "height": settings.water_level - depth, "time_s": held["time"][kept],
        "spike": spike[kept],
    }  # fmt: skip
    shapes = Shapes(
        np.asarray(shapely.points(x[kept], y[kept])),
        columns,
        crs,
        {"depth": "m", "height": "m", "time_s": "s"},
    )
    findings = (
        Finding(_SOUNDINGS, int(kept.sum()), COUNT), Finding("lowest", float(depth.min()), METRE),
        Finding("highest", float(depth.max()), METRE), Finding("mean", float(depth.mean()), METRE),
        Finding(_WRONG, said.wrong, COUNT), Finding(_SPIKES, int(spike.sum()), COUNT),
        Finding(_REPEATS, int(again.sum()), COUNT), Finding(_SENTENCES, said.sentences, COUNT),
    )  # fmt: skip
    remarks = [f"Carried over to metres: {reference_system(crs).name} ({crs})."]
    if said.wrong:
        counted = f"{said.wrong:,} of {said.sentences:,} sentences"
        remarks.append(f"{counted} are cut short or have a wrong checksum: not used.")
    if spike.any() and not settings.spikes:
        remarks.append(f"{int(spike.sum()):,} spikes are left out.")

    def track() -> Outcome:
        u, v = carried(
            "EPSG:4326", crs, *(np.array([getattr(f, n) for f in said.fixes]) for n in ("lon", "lat"))
        )
        way = np.array([shapely.LineString(np.column_stack([u, v]))] if len(u) > 1 else [], object)
        line = Shapes(way, {"fixes": np.full(len(way), len(u))}, crs)
        return Outcome(line, f"{len(u):,} places", findings)

    return Outcome(
        shapes, f"{int(kept.sum()):,} soundings", findings, tuple(remarks), beside={"track": track}
    )


open_recording = StepKind(
    kind="open_recording",
    example="source=run.nmea",
    bench="gather",
    group="Bring in",
    title="Open a recording",
    question="What did the sounder tell?",
    help=(
        "Soundings from the sentences of a receiver and an echo sounder (NMEA 0183): GGA, RMC, VTG, ZDA, "
        "DPT, DBT. Wrong checksums are counted and never used; spikes and repeats are marked."
    ),
    words=(
        "listen", "nmea", "echo sounder", "sonar", "gnss", "gps log", "depth log", "bathymetry", "dpt", "dbt",
    ),
    inputs=(),
    settings=RecordingSettings,
    gives="shapes",
    run=_open_recording,
    label=lambda s, names: title_of(s.source),
    opens=(".nmea",),
    hears=True,
    main="Soundings",
    beside=(ResultSpec("track", "shapes", "Track", "The way of the boat."),),
    staple=9,
)  # fmt: skip

"""NMEA 0183: checksums of sentences worked out by hand, what each says, and rubbish."""

import numpy as np
import pytest

from moss_step.demo.sounder import Sounder
from moss_step.demo.soundings import depth_at
from moss_step.formats.nmea import (
    MOST_HELD,
    Lines,
    Sounded,
    checksum,
    degrees,
    heard,
    parsed,
    seconds,
    sentence,
)
from moss_step.model.frame import carried

# Sentences as manuals of receivers print them, from memory; their checksums are worked out below, character by character.
GGA = "$GPGGA,123519,4807.038,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,*47"
RMC = "$GPRMC,123519,A,4807.038,N,01131.000,E,022.4,084.4,230394,003.1,W*6A"


def by_hand(line):
    total = 0
    for letter in line[1 : line.index("*")]:
        total = total ^ ord(letter)
    return f"{total:02X}"


@pytest.mark.parametrize("line", [GGA, RMC])
def test_checksums_are_the_exclusive_or_of_all_characters(line):
    assert by_hand(line) == line[-2:] == checksum(line[1:-3])
    assert (
        parsed(line) is not None
        and parsed(line[:-1] + "0") is None
        and parsed(line.replace("4807", "4817")) is None
    )


def test_degrees_and_times():
    assert degrees("4807.038", "N") == pytest.approx(48.0 + 7.038 / 60.0)
    assert degrees("01131.000", "W") == pytest.approx(-11.0 - 31.0 / 60.0)
    assert seconds("123519.5") == 12 * 3600 + 35 * 60 + 19.5
    for text, quarter in (("4867.0", "N"), ("9907.0", "N"), ("", "N"), ("4807.0", "X"), ("-4807", "N")):
        assert np.isnan(degrees(text, quarter))
    assert np.isnan(seconds("246000")) and np.isnan(seconds("half past"))


@pytest.mark.parametrize(
    ("body", "depth"),
    [
        ("SDDPT,4.20,0.5,100.0", 4.2), ("SDDBT,13.8,f,4.20,M,2.3,F", 4.2), ("SDDBT,10.0,f,,M,,F", 3.048),
        ("SDDBT,,f,,M,2.0,F", 3.6576), ("SDDPT,,0.5", None), ("SDDPT,-3.0,0.5", None), ("SDDBT,x,f,y,M,z,F", None),
    ],
)  # fmt: skip
def test_depths_in_metres_feet_and_fathoms(body, depth):
    said = heard([(GGA + "\n" + sentence(body)).encode()])
    assert [d.depth for d in said.depths] == ([] if depth is None else [pytest.approx(depth)])
    assert said.wrong == (depth is None)


def test_a_place_lies_between_those_around_the_depth():
    lines = [
        sentence("GPGGA,120000,5200.0000,N,01600.0000,W,1,08,0.9,1,M,1,M,,"), sentence("SDDPT,5.0,0"),
        sentence("GPGGA,120002,5200.0020,N,01600.0000,W,1,08,0.9,1,M,1,M,,"), sentence("SDDPT,6.0,0"),
    ]  # fmt: skip
    late = heard(t.encode() for t in lines).soundings(latency=1.0, offset=0.4)
    assert late["depth"].tolist() == [6.4] and late["lat"][0] == pytest.approx(52.0 + 0.001 / 60.0)
    plain = heard(t.encode() for t in lines).soundings()
    assert plain["lat"].tolist() == pytest.approx([52.0, 52.0 + 0.002 / 60.0])


def test_midnight_goes_on():
    lines = []
    for clock in ("235959", "000001"):
        lines += [sentence(f"GPGGA,{clock},5200.0,N,01600.0,W,1,08,0.9,1,M,1,M,,"), sentence("SDDPT,5.0,0")]
    assert np.diff(heard(t.encode() for t in lines).soundings()["time"]).tolist() == [2.0]


def test_a_clock_that_goes_back_begins_a_day_of_its_own():
    """A device that was started again tells its places anew: none of its depths lands on the last place before."""
    lines = []
    for clock, minutes in (("120000", "00.0"), ("120010", "01.0"), ("120000", "02.0"), ("120010", "03.0")):
        lines += [
            sentence(f"GPGGA,{clock},52{minutes},N,01600.0,W,1,08,0.9,1,M,1,M,,"),
            sentence("SDDPT,5.0,0"),
        ]
    held = heard(t.encode() for t in lines).soundings()
    assert held["lat"] == pytest.approx(52.0 + np.arange(4) / 60.0)
    assert np.diff(held["time"]).tolist() == [10.0, 86_390.0, 10.0]


def test_what_the_practice_sounder_tells_is_its_true_bed():
    """With no noise every depth is that of the bed where the boat was, to the digits of the sentences."""
    lines = [t for made in Sounder(noise=0.0, dropouts=0.0).sentences() for t in made]
    said = heard(t.encode() for t in lines)
    held = said.soundings()
    x, y = carried("EPSG:4326", "EPSG:32628", held["lon"], held["lat"])
    off = np.abs(held["depth"] - np.maximum(depth_at(x, y), 0.05))
    assert len(off) > 500 and np.quantile(off, 0.99) < 0.011
    assert 0.015 < said.wrong / said.sentences < 0.035, "one in forty has a wrong checksum"


def test_pieces_are_put_together_and_a_flood_takes_no_memory():
    lines = Lines()
    whole = (GGA + "\r\n" + RMC + "\r\n").encode()
    found = [t for k in range(0, len(whole), 7) for t in lines.take(whole[k : k + 7])]
    assert found == [GGA, RMC]
    for _ in range(50):
        assert list(lines.take(b"\x80" * 1000)) == [] and len(lines.rest) <= MOST_HELD + 1000
    assert list(lines.take(b"\n" + GGA.encode()))[:1] != [GGA]
    assert list(lines.take(b"\n")) == [GGA]


@pytest.mark.parametrize(
    "rubbish",
    ["", "$", "*", "$GPGGA", "$GPGGA*", "$*00", "GPGGA,1*00", "$GPGGA," + "9" * 200 + "*00", "ä" * 30],
)
def test_rubbish_is_counted_and_never_used(rubbish):
    said = Sounded()
    said.take(rubbish)
    assert said.wrong == 1 and not said.fixes and not said.depths

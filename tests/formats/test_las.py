"""Clouds in LAS and LAZ: real ones read, written and read again; damaged and hostile ones end in words.

Sources: the test data of laspy 2.7.0 (BSD 2-Clause), kept in tests/data; ASPRS LAS 1.4 R15 for names of classes.
"""

from pathlib import Path

import laspy
import numpy as np
import pytest
from pyproj import CRS

from moss_step.formats.las import Wanted, describe, read_cloud
from moss_step.formats.las_write import write_cloud
from moss_step.model.cloud import Cloud, class_name
from moss_step.model.errors import MossError
from moss_step.model.units import FOOT, METRE, UNKNOWN
from tests.conftest import UTM

DATA = Path(__file__).parents[1] / "data"
REAL = ("autzen_trim.laz", "lambert93.laz", "simple.copc.laz", "plane.laz")


@pytest.mark.parametrize("name", REAL)
def test_a_real_cloud_is_read_as_the_library_reads_it(name):
    cloud, _ = read_cloud(DATA / name)
    held = laspy.read(DATA / name)
    assert len(cloud) == len(held.points)
    for axis in "xyz":
        np.testing.assert_array_equal(getattr(cloud, axis), np.asarray(getattr(held, axis)))
    names = [n for n in held.point_format.dimension_names if n not in "XYZ"]
    assert list(cloud.attributes) == names
    for n in names:
        np.testing.assert_array_equal(cloud.attributes[n], np.asarray(held[n]))


@pytest.mark.parametrize("ending", [".laz", ".las"])
@pytest.mark.parametrize("name", REAL)
def test_read_write_read_is_equal_in_every_attribute(tmp_path, name, ending):
    cloud, _ = read_cloud(DATA / name)
    path = tmp_path / f"again{ending}"
    write_cloud(path, cloud)
    before, after = laspy.read(DATA / name), laspy.read(path)
    assert after.point_format.id == before.point_format.id and after.header.version == before.header.version
    assert [d.name for d in after.point_format.dimensions] == [d.name for d in before.point_format.dimensions]
    for n in before.point_format.dimension_names:
        np.testing.assert_array_equal(np.asarray(after[n]), np.asarray(before[n]), err_msg=n)
    np.testing.assert_array_equal(after.header.scales, before.header.scales)
    kept = [
        (v.user_id, v.record_id) for v in before.header.vlrs if v.user_id not in ("laszip encoded", "copc")
    ]
    assert {(v.user_id, v.record_id) for v in after.header.vlrs} >= set(kept)
    again, _ = read_cloud(path)
    assert (again.crs, again.unit) == (cloud.crs, cloud.unit)
    if ending == ".laz":
        assert path.stat().st_size < (tmp_path / "again.laz").stat().st_size * 1.01


def test_what_the_real_clouds_state(tmp_path):
    autzen, lambert, plane = (describe(DATA / n) for n in ("autzen_trim.laz", "lambert93.laz", "plane.laz"))
    assert (autzen.count, autzen.unit) == (110_000, FOOT) and any(
        "heights is not stated" in r for r in autzen.remarks
    )
    assert CRS.from_wkt(autzen.crs).axis_info[0].unit_name == "foot"
    assert (lambert.count, lambert.unit) == (37_805, METRE) and CRS.from_wkt(lambert.crs).to_epsg() in (
        2154,
        None,
    )
    assert [e.name for e in lambert.head.extra] == ["Deviation", "ExtraBytes"]
    assert plane.crs is None or plane.unit in (METRE, FOOT, UNKNOWN)
    assert (class_name(2), class_name(18), class_name(65)) == ("Ground", "High noise", "Own class 65")


def test_only_what_is_wanted_is_read():
    whole, _ = read_cloud(DATA / "lambert93.laz")
    (west, east), (south, north) = (np.quantile(v, (0.2, 0.7)) for v in (whole.x, whole.y))
    box = (west, south, east, north)
    part, _ = read_cloud(DATA / "lambert93.laz", Wanted(box=box))
    inside = (whole.x >= box[0]) & (whole.x <= box[2]) & (whole.y >= box[1]) & (whole.y <= box[3])
    assert len(part) == inside.sum() > 0
    ground, _ = read_cloud(DATA / "lambert93.laz", Wanted(classes=(2,)))
    assert len(ground) == 22_859
    first, _ = read_cloud(DATA / "lambert93.laz", Wanted(returns="first"))
    assert len(first) == (whole.attributes["return_number"] == 1).sum()
    tenth, _ = read_cloud(DATA / "lambert93.laz", Wanted(every=10))
    np.testing.assert_array_equal(tenth.z, whole.z[::10])
    with pytest.raises(MossError, match="No point is left"):
        read_cloud(DATA / "lambert93.laz", Wanted(classes=(200,)))


def test_a_copc_file_is_read_by_its_index_within_a_box():
    whole, _ = read_cloud(DATA / "simple.copc.laz")
    xmin, ymin, xmax, ymax = whole.bounds[0]
    box = (xmin, ymin, (xmin + xmax) / 2, (ymin + ymax) / 2)
    part, _ = read_cloud(DATA / "simple.copc.laz", Wanted(box=box))
    inside = (whole.x <= box[2]) & (whole.y <= box[3])
    assert sorted(part.z.tolist()) == sorted(whole.z[inside].tolist()) and 0 < len(part) < len(whole)


def test_a_cloud_of_our_own_is_written_to_the_millimetre_with_its_attributes(tmp_path):
    rng = np.random.default_rng(2)
    cloud = Cloud(
        rng.uniform(412_000, 412_100, 500), rng.uniform(5_870_000, 5_870_100, 500), rng.uniform(300, 400, 500),
        {"classification": rng.integers(0, 7, 500).astype(np.uint8), "height_above": rng.random(500).astype(np.float32),
         "keep": rng.random(500) > 0.5}, UTM, METRE,
    )  # fmt: skip
    write_cloud(tmp_path / "own.laz", cloud)
    back, _ = read_cloud(tmp_path / "own.laz")
    np.testing.assert_allclose(back.x, cloud.x, atol=5.1e-4)
    np.testing.assert_array_equal(back.attributes["height_above"], cloud.attributes["height_above"])
    np.testing.assert_array_equal(back.attributes["keep"], cloud.attributes["keep"])
    assert CRS.from_wkt(back.crs).to_epsg() == 32628 and back.unit == METRE


def hostile(folder: Path) -> dict[str, Path]:
    """Files that claim what they do not hold."""
    good = (DATA / "plane.laz").read_bytes()
    las = folder / "good.las"
    laspy.read(DATA / "plane.laz").write(las)
    plain = las.read_bytes()
    made = {
        "cut short": good[: len(good) // 2],
        "a text": b"not a cloud at all\n" * 20,
        "empty": b"",
        "only a head": good[:227],
        "head cut": good[:100],
        "a head that claims ten thousand million points": plain[:107]
        + (2**32 - 1).to_bytes(4, "little")
        + plain[111:],
        "las cut short": plain[: len(plain) - 1000],
        "scales of NaN": plain[:131] + b"\xff" * 24 + plain[155:],
        "scales of zero": plain[:131] + b"\0" * 24 + plain[155:],
        "huge offset": plain[:155] + np.array([1e300, 0, 0]).tobytes() + plain[179:],
        "other point size": plain[:105] + (3).to_bytes(2, "little") + plain[107:],
        "point format unknown": plain[:104] + b"\x3f" + plain[105:],
    }
    paths = {}
    for k, (name, content) in enumerate(made.items()):
        paths[name] = folder / f"{k}.{'laz' if content[:4] == good[:4] and k < 5 else 'las'}"
        paths[name].write_bytes(content)
    return paths


def test_hostile_files_end_in_a_line(tmp_path):
    for name, path in hostile(tmp_path).items():
        with pytest.raises(MossError) as error:
            read_cloud(path)
        assert path.name in str(error.value) and "Traceback" not in str(error.value), name


@pytest.mark.parametrize("name", ["plane.laz", "simple.copc.laz"])
def test_damaged_bytes_give_points_or_words(tmp_path, name):
    raw = (DATA / name).read_bytes()
    rng = np.random.default_rng(7)
    refused = 0
    for k in range(60):
        bad = bytearray(raw)
        for at in rng.integers(4, 600 if k % 2 else len(bad), rng.choice([1, 3, 20])):
            bad[at] = rng.integers(256)
        path = tmp_path / f"bad{k}.laz"
        path.write_bytes(bytes(bad))
        try:
            read_cloud(path)
        except MossError as error:
            refused += 1
            assert "Traceback" not in str(error)
    assert refused > 5


def test_nothing_half_written_is_left(tmp_path, monkeypatch):
    cloud, _ = read_cloud(DATA / "plane.laz")
    (tmp_path / "p.laz").write_bytes(b"older")
    monkeypatch.setattr(
        "moss_step.formats.las_write._points", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left"))
    )
    with pytest.raises(MossError):
        write_cloud(tmp_path / "p.laz", cloud)
    assert (tmp_path / "p.laz").read_bytes() == b"older" and len(list(tmp_path.iterdir())) == 1

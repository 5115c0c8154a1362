"""Clouds: points with attributes, in memory or mapped from a file."""

import numpy as np
import pytest
from numpy.testing import assert_allclose, assert_array_equal

from moss_step.kinds.registry import kind_named, kind_of
from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import silent
from moss_step.model.units import METRE
from moss_step.scene.pictures import picture_of
from moss_step.study.shelf import Shelf

N = 1_234


def points(folder=None) -> Cloud:
    """A thousand points; with a folder, mapped from files in it."""
    rng = np.random.default_rng(3)
    arrays = {
        "x": rng.uniform(4e5, 4e5 + 100, N),
        "y": rng.uniform(5e6, 5e6 + 80, N),
        "z": rng.normal(300.0, 5.0, N),
    }
    arrays |= {
        "intensity": rng.integers(0, 65_000, N).astype(np.uint16),
        "classification": rng.integers(0, 3, N).astype(np.uint8),
    }
    if folder is not None:
        for name in arrays:
            np.save(folder / f"{name}.npy", arrays[name])
            arrays[name] = np.load(folder / f"{name}.npy", mmap_mode="r")
    return Cloud(arrays.pop("x"), arrays.pop("y"), arrays.pop("z"), arrays, "EPSG:32628", METRE)


def test_a_cloud_goes_through_in_chunks_without_a_copy():
    cloud = points()
    parts = list(cloud.chunks(500))
    assert [len(p) for p in parts] == [500, 500, 234] and parts[1].x.base is cloud.x
    assert_array_equal(
        np.concatenate([p.attributes["intensity"] for p in parts]), cloud.attributes["intensity"]
    )
    ground = cloud.part(cloud.attributes["classification"] == 2)
    assert len(ground) == (cloud.attributes["classification"] == 2).sum() and ground.crs == cloud.crs


def test_what_is_mapped_takes_no_memory_and_is_the_same_cloud(tmp_path):
    mapped, held = points(tmp_path), points()
    assert mapped.nbytes == 0 and held.nbytes == N * (3 * 8 + 2 + 1)
    assert mapped.bounds == held.bounds and kind_of(mapped).facts(mapped) == kind_of(held).facts(held)
    (west, south, east, north), heights = held.bounds
    assert (
        (west, east) == (held.x.min(), held.x.max())
        and (south, north) == (held.y.min(), held.y.max())
        and heights[1] == held.z.max()
    )
    assert Cloud(np.empty(0), np.empty(0), np.empty(0)).bounds is None


def test_a_cloud_comes_back_from_its_file_and_from_the_shelf(tmp_path):
    cloud, kind = points(tmp_path), kind_named("cloud")
    kind.write(Outcome(cloud, ""), "Points", tmp_path / "p.csv", None)
    back, remarks = kind.read(str(tmp_path / "p.csv"), silent())
    assert "No reference system" in remarks[0] and list(back.attributes) == ["intensity", "classification"]
    assert_allclose(back.z, cloud.z, rtol=1e-9)
    shelf = Shelf(tmp_path / "shelf")
    assert shelf.write("k", Outcome(cloud, "1,234 points"))
    kept = shelf.read("k").value
    assert kept.crs == cloud.crs and kept.unit == METRE and kept.attributes["intensity"].dtype == np.uint16
    assert_array_equal(kept.x, cloud.x)
    assert picture_of(kept).on_plan and picture_of(kept).frame == kept.frame


def test_what_is_no_cloud_is_refused(tmp_path):
    with pytest.raises(MossError, match="intensity has 3 values for 2 points"):
        Cloud(np.zeros(2), np.zeros(2), np.zeros(2), {"intensity": np.zeros(3)})
    (tmp_path / "p.csv").write_text("x,y,depth\n1,2,3\n")
    with pytest.raises(MossError, match="no column z"):
        kind_named("cloud").read(str(tmp_path / "p.csv"), silent())
